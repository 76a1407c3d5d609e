"""A lexicon's settings are tried on a module: what does not fit is told, and all is as it was afterwards."""

from __future__ import annotations

import copy
import json
from pathlib import Path

import pytest

from tests.conftest import Bench, bench, built, wexicon
from wexicon.core.formats.lexicon import read_lexicon
from wexicon.core.results.unit import Fits, WriteTrial
from wexicon.files import shipped_folder
from wexicon.work.drafting.trials import proof_of, try_settings

FAMILIES = (
    "brisca-w1",
    "fennick-z4",
    "lindle-l9",
    "lindle-r2",
    "marram-c2",
    "plover-j1",
    "samphire-f2",
    "saltern-m4",
    "teasel-d3",
)


def tried(one: Bench, *, beyond: bool = True) -> WriteTrial:
    one.agenda.run_until(3)
    flash, memory = copy.deepcopy(one.standin.flash), copy.deepcopy(one.standin.memory)
    result = try_settings(one.module(), one.store, beyond=beyond)
    assert one.standin.flash == flash and one.store._kept == {}, result.failure
    if one.standin.family != "plover-j1":
        assert one.standin.memory == memory
    return result


def wrong(result: WriteTrial) -> dict[tuple[str, str], str]:
    return {(one.setting, one.what): one.note for one in result.trials if one.fits is Fits.NO}


@pytest.mark.parametrize("name", FAMILIES)
def test_a_right_lexicon_fits_at_both_ends_and_beyond(name: str) -> None:
    result = tried(Bench(name))
    assert result.verdict == "done" and not wrong(result) and result.restored, wrong(result)
    assert {one.what for one in result.trials} >= {"read", "write back"}
    told = {one.setting for one in result.trials}
    assert told == set(Bench(name).lexicon.settings)


@pytest.mark.parametrize(
    ("old", "new", "trial", "note"),
    [
        (
            "min = 2, max = 20",
            "min = 2, max = 22",
            ("power", "highest"),
            "22 dBm is refused: error 3 (value not allowed)",
        ),
        ("min = 2, max = 20", "min = 2, max = 19", ("power", "above"), "20 dBm is accepted"),
        ("min = 0, max = 15", "min = 1, max = 15", ("network", "below"), "0 is accepted"),
        (
            'write   = { say = "@name={value}"',
            'write   = { say = "@name={value}x"',
            ("name", "write back"),
            "reads back as",
        ),
    ],
)
def test_what_the_lexicon_says_wrong_is_told(old: str, new: str, trial: tuple[str, str], note: str) -> None:
    one = Bench("lindle-l9", net=3)
    text = (shipped_folder() / "lindle-l9.toml").read_text()
    assert old in text
    one.lexicon = read_lexicon(text.replace(old, new).encode(), "x.toml")
    one.agenda.run_until(3)
    result = try_settings(one.module(), one.store, beyond=True)
    assert result.verdict == "failed" and note in wrong(result)[trial], wrong(result)
    # Nothing was saved, whatever was written.
    assert one.standin.flash == {**one.standin.factory, "net": 3}


def test_without_leave_nothing_beyond_a_range_is_said() -> None:
    one = Bench("lindle-l9")
    result = tried(one, beyond=False)
    assert not any(one.what in ("below", "above", "lowest") for one in result.trials)
    assert not any("=16" in said or "=-1" in said for said in one.trace.said())


def test_a_module_that_lowers_a_value_is_found_out() -> None:
    one = Bench("lindle-l9")
    line = one.standin.line  # type: ignore[attr-defined]
    one.standin.editor.line = lambda text: line(text.replace("@net=15", "@net=14"))  # type: ignore[attr-defined]
    result = tried(one)
    assert "15 reads back as 14" in wrong(result)["network", "highest"]


def test_a_trial_that_is_cut_short_is_put_back_by_the_next_run() -> None:
    one = Bench("lindle-l9", net=3)
    one.agenda.run_until(3)
    said = 0

    def stopping() -> bool:
        nonlocal said
        said = sum("@net=" in text for text in one.trace.said())
        return said >= 2

    from wexicon.work.module.module import Module

    result = try_settings(Module(one.open(stopping), one.lexicon, one.operator), one.store, beyond=True)
    assert result.verdict == "stopped" and one.store._kept
    assert one.standin.memory["net"] != 3
    assert one.provision(name="mast").verdict == "conforms"
    assert one.standin.memory["net"] == 3 and one.standin.flash["net"] == 3


def test_the_proof_is_kept_beside_the_lexicon_and_holds_for_that_file_only(tmp_path: Path) -> None:
    file = tmp_path / "mine.toml"
    file.write_text((shipped_folder() / "teasel-d3.toml").read_text())
    with bench('[unit.one]\nstandin = "teasel-d3"\n') as server:
        port = server.ports["one"]
        told = built("lexicon", "check", str(file), port, "--write", "--beyond").stdout
        assert "done: " in told and "nothing was saved" in told
        proof = json.loads((tmp_path / "mine.proof.json").read_text())
        assert (proof["firmware"], proof["restored"]) == ("2.2", True)
        assert "firmware 2.2" in wexicon("lexicon", "check", str(file)).stderr
        file.write_text(file.read_text().replace("max = 30", "max = 29"))
        assert "earlier version of this file" in wexicon("lexicon", "check", str(file)).stderr
        failed = wexicon("lexicon", "check", str(file), port, "--write", "--beyond", status=1)
        assert "30 dB is accepted" in failed.stdout and "did not fit the lexicon" in failed.stderr
        shipped = str(shipped_folder() / "teasel-d3.toml")
        assert "proof" not in wexicon("lexicon", "check", shipped, port, "--write").stderr
    for words in (["--beyond"], ["--write"], ["--prove"]):
        wexicon("lexicon", "check", str(file), *words, status=2)
    (tmp_path / "mine.proof.json").write_text("{}x")
    assert proof_of(read_lexicon(file.read_bytes(), str(file))) == ""
