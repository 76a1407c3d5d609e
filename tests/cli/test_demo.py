"""The full demo: each step shows what its modules do, and fails if they do not."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path
from shutil import copytree

import click
import pytest

from tests.conftest import SAMPLE
from wexicon.cli.demo import STEPS, _run, estuary
from wexicon.rigs.standins.fennick_z4 import FennickZ4

# Of each step what is broken in the rig, and what the step says then.
BROKEN = {
    "wifi": ('passphrase = "mud flats 7"', 'passphrase = "other tide"', "the access point refused the passphrase"),
    "messages": ('[unit.office]\nstandin = "cordal-g2"', '[unit.office]\nstandin = "cordal-g2"\nsettings = { sim = false }',
                 "there is no SIM: insert one"),
    "sockets": ('"127.0.0.1"', '"refuses"', "the server cannot be reached"),
    "echo": ('= "echo"', '= "refuses"', "the echo server cannot be reached"),
    "fix": ("[air.sky]\n", "[air.sky]\nsatellites = 0\n", "fix did not come within 2.0 s"),
    "saving": ("saving = 1, periodic", "restless = 120, saving = 1, periodic", "periodic: sleep awake came early"),
    "range": ("settings = { addr = 7 }", "settings = { addr = 7, net = 9 }", "nothing was received at any point"),
}  # fmt: skip


@pytest.mark.parametrize("name", BROKEN)
def test_each_step_fails_if_its_module_is_broken(
    name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    copytree(SAMPLE, tmp_path, dirs_exist_ok=True)
    whole, broken, told = BROKEN[name]
    rig = tmp_path / "estuary.toml"
    assert rig.read_text().count(whole) == 1
    rig.write_text(rig.read_text().replace(whole, broken))
    monkeypatch.setenv("WEXICON_RUN", str(tmp_path / "run"))
    monkeypatch.setenv("WEXICON_STATE", str(tmp_path))
    words = [word.replace("40s", "2s") for word in STEPS[name].arguments(str(tmp_path))]
    with estuary(tmp_path), pytest.raises(click.exceptions.Exit) as end:
        _run(*words)
    heard = capsys.readouterr()
    assert end.value.exit_code in (1, 3), heard
    assert told in heard.out + heard.err


def test_the_load_of_an_image_fails_if_the_module_only_says_that_it_has_it(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    copytree(SAMPLE, tmp_path, dirs_exist_ok=True)
    monkeypatch.setenv("WEXICON_RUN", str(tmp_path / "run"))
    monkeypatch.setenv("WEXICON_STATE", str(tmp_path))

    def pretend(one: FennickZ4, size: int | None, why: str) -> None:
        one.flash["image"] = 0
        one.say("stored\r", 0.3)

    monkeypatch.setattr(FennickZ4, "received", pretend)
    with estuary(tmp_path), pytest.raises(click.exceptions.Exit):
        _run(*STEPS["image"].arguments(str(tmp_path)))
    heard = capsys.readouterr()
    assert "firmware is 0B31, version is 0C10" in heard.out + heard.err, heard.out + heard.err
    assert set(STEPS) == {*BROKEN, "image"}


@pytest.mark.long
def test_the_whole_demo_runs_unattended() -> None:
    done = subprocess.run(
        [sys.executable, "-m", "wexicon", "demo", "--full"], capture_output=True, text=True, timeout=300, check=False
    )
    assert done.returncode == 0, done.stdout[-3000:] + done.stderr[-2000:]
    *table, blank, last = done.stdout.splitlines()
    assert not blank and "wexicon demo --sample" in last
    end = table[-len(STEPS) :]
    assert [line.split()[0] for line in end] == list(STEPS) and all(line.endswith("passed") for line in end)
    virtual = {line.split()[0] for line in end if "in virtual time" in line}
    assert virtual == {name for name, step in STEPS.items() if step.virtual} == {"saving", "range"}
    assert re.search(r"periodic: observed 1[12] times, each within 1 s", done.stdout)
