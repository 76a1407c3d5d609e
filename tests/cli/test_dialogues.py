"""`run`, `rehearse` and `trace dialogue`, as the built program; the samples and the guide's examples among them."""

from __future__ import annotations

import json
import re
from pathlib import Path
from shutil import copytree
from typing import Any

import pytest

from tests.conftest import SAMPLE, bench, clean, wexicon
from tests.core.test_dialogue import EVERY_STATEMENT

GUIDE = SAMPLE.parents[2] / "docs" / "write-a-dialogue.md"
KEY = "mud flats 7"
EXAMPLES = re.findall(r"```wex (\S+)\n(.*?)```", GUIDE.read_text(), re.DOTALL)


@pytest.fixture(autouse=True)
def _sample(tmp_path: Path) -> None:
    copytree(SAMPLE, tmp_path, dirs_exist_ok=True)


def rehearse(path: str, *words: str, lexicon: str = "brisca-w1", status: int = 0) -> dict[str, Any]:
    text = Path(path).read_text()
    key = ("--file", "passphrase=harbour-office.key") if "needs passphrase" in text else ()
    told = wexicon("rehearse", path, "-l", lexicon, "--rig", "rig.toml", "--json", *key, *words, status=status)
    assert KEY not in told.stdout + told.stderr
    report: dict[str, Any] = json.loads(told.stdout)
    return report


SAMPLES = {
    "first-words": {"firmware": "2.0.3", "model": "BRISCA-W1", "address": "02B1C0447A10"},
    "join-office": {},
    "tide-echo": {"echoed": "tide 1.204 m"},
    "move-rate": {},
    "plug-handover": {"plug": [{"model": "TAMSEL-K5", "firmware": "1.4", "name": "Withy Point"}]},
}


@pytest.mark.parametrize("name", SAMPLES)
def test_samples_pass(name: str) -> None:
    assert Path(f"{name}.wex").read_text().startswith(f"# {name}.wex: ")
    report = rehearse(f"{name}.wex", lexicon="tamsel-k5" if name.startswith("plug") else "brisca-w1")
    assert (report["verdict"], report["kept"]) == ("passed", SAMPLES[name])
    spent = report["on_wire"] + report["waiting"] + report["pauses"]
    assert 0 < report["on_wire"] < 1 and spent == pytest.approx(report["seconds"], abs=1e-4)


def test_the_networks_sample_keeps_a_table() -> None:
    rows = rehearse("networks.wex")["kept"]["networks"]
    assert [row["name"] for row in rows] == ["Harbour Office", "Gannet Quay visitors", "Chandler & Daughters"]
    weak = rehearse("networks.wex", "weakest=-40", status=1)
    assert weak["failure"]["what"] == "not so: max(signal) >= weakest (signal is [-48, -67, -81], weakest is -40)"


@pytest.mark.parametrize(("name", "text"), EXAMPLES, ids=[name for name, _ in EXAMPLES])
def test_the_guides_examples_do_what_it_says(name: str, text: str) -> None:
    Path(name).write_text(text)
    fails = name.startswith("fails-")
    report = rehearse(name, status=1 if fails else 0)
    assert report["verdict"] == ("failed" if fails else "passed")
    if fails:
        assert report["failure"]["next"] in GUIDE.read_text()


# RFC 2217 has control lines, which Linux gives no pseudo-terminal.
@pytest.mark.parametrize("serve", ["rfc2217"])
def test_a_dialogue_leaves_the_same_trace_on_a_port_and_in_virtual_time(serve: str) -> None:
    Path("every.wex").write_text(EVERY_STATEMENT)
    office = Path("rig.toml").read_text().replace("format = 1", "")
    office = office.replace('standin = "brisca-w1"', f'standin = "brisca-w1"\nserve = "{serve}"')
    key = ("--file", "passphrase=harbour-office.key", "-l", "brisca-w1")
    with bench(office) as rig:
        port = rig.ports["office-screen"]
        told = wexicon("run", "first-words.wex", port, "-l", "brisca-w1").stdout
        assert "> AT+WHO?" in told and "BRISCA-W1" in told and re.search(r"passed: \d+ exchanges in", told)
        real = wexicon("run", "every.wex", port, *key, "--as-is", "--trace", "real.jsonl", "--operator", "rig")
        assert KEY not in real.stdout + real.stderr
    wexicon("rehearse", "every.wex", *key, "--rig", "rig.toml", "--trace", "virtual.jsonl")
    traces = [_words(path) for path in ("real.jsonl", "virtual.jsonl")]
    assert traces[0] == traces[1] and len(traces[0]) > 25
    assert KEY not in Path("real.jsonl").read_text()


def _words(path: str) -> list[tuple[Any, ...]]:
    """A trace without its times, from the first question on; polls are as many as time allows."""
    records = [json.loads(line) for line in Path(path).read_text().splitlines()]
    words = [
        (r["what"], r.get("text"), r.get("role"), r.get("dtr"))
        for r in records
        if r["what"] not in ("opened", "closed")
    ]
    start = words.index(("said", "AT+WHO?", None, None))
    return [word for word in words[start:] if word[1] not in ("AT+ACCESS?", "+ACCESS 1", "+ACCESS 2", "OK")]


def test_a_trace_becomes_a_dialogue_that_holds_against_its_recording() -> None:
    key = ("--file", "passphrase=harbour-office.key")
    wexicon("rehearse", "tide-echo.wex", "-l", "brisca-w1", "--rig", "rig.toml", *key, "--trace", "t.jsonl")
    wexicon("trace", "dialogue", "t.jsonl", "-o", "drafted.wex")
    assert "already exists" in wexicon("trace", "dialogue", "t.jsonl", "-o", "drafted.wex", status=2).stderr
    drafted = Path("drafted.wex").read_text()
    assert "needs secret1 secret" in drafted and KEY not in drafted
    told = wexicon("rehearse", "drafted.wex", "--recording", "t.jsonl", "--file", "secret1=harbour-office.key").stdout
    assert "passed: " in told
    rig = '[unit.was]\nstandin = "recording"\ntrace = "t.jsonl"\n'
    Path("was.toml").write_text("format = 1\n" + rig)
    words = ("rehearse", "drafted.wex", "--rig", "was.toml", "--file", "secret1=harbour-office.key")
    assert "passed: " in wexicon(*words).stdout


def test_whatever_a_module_sends_is_shown_escaped() -> None:
    text = (
        Path("tide-echo.wex")
        .read_text()
        .replace(">> {reading}", ">> \\xFF\\x1B[2J\\x00ab{{}}..")
        .replace("{reading|length}", "12")
    )
    text = text.replace("check echoed == reading\n", "").replace("size == length(reading)", "size == 12")
    Path("odd.wex").write_text(text + 'note "heard {echoed}"\noperator "look: {echoed}"\nfail "because {echoed}"\n')
    report = rehearse("odd.wex", status=1)
    assert report["kept"]["echoed"] == "\\xFF\\x1B[2J\\x00ab{}.."
    key = ("--file", "passphrase=harbour-office.key")
    told = wexicon("rehearse", "odd.wex", "-l", "brisca-w1", "--rig", "rig.toml", *key, status=1)
    assert "\x1b" not in told.stdout + told.stderr and "because \\xFF\\x1B[2J" in told.stderr


def test_values_come_in_many_ways_and_secrets_never_from_the_call() -> None:
    Path("v.wex").write_text("needs a int\nneeds b secret\nneeds c = a + 1\nkeep a, c\n")
    words = ("rehearse", "v.wex", "-l", "brisca-w1", "--json")
    told = wexicon(*words, "a=5", "--env", "b=B", env=clean({"B": "x"})).stdout
    assert json.loads(told)["kept"] == {"a": 5, "c": 6}
    assert "every process could read it" in wexicon(*words, "a=5", "b=x", status=2).stderr
    assert (
        "a: 'x' is not allowed; allowed: a whole number" in wexicon(*words, "a=x", "--env", "b=HOME", status=2).stderr
    )
    assert "b was not given" in wexicon(*words, "a=5", status=2).stderr
    assert "needs no d" in wexicon(*words, "d=5", status=2).stderr
    assert "MISSING is not set" in wexicon(*words, "a=5", "--env", "b=MISSING", status=2).stderr


def test_a_failure_explains_itself_and_a_faulty_dialogue_opens_nothing() -> None:
    told = wexicon("rehearse", "plug-handover.wex", "-l", "tamsel-k5", "label=" + "x" * 21, status=1).stderr
    assert "failed in plug-handover.wex, line 7: set name = label" in told and "21 bytes long" in told
    Path("f.wex").write_text("> AT\nchek 1\n")
    told = wexicon("run", "f.wex", "/dev/ttyNOT0", status=2).stderr
    assert "f.wex:2:1: there is no statement chek\n    chek 1\n    ^\n    did you mean check?" in told
    assert "no such port" in wexicon("run", "first-words.wex", "/dev/ttyNOT0", status=3).stderr
    assert "nothing answers" in wexicon("rehearse", "first-words.wex", status=2).stderr
