"""Completion, in real shells: a person types the start of a word and presses the tab key."""

from __future__ import annotations

import os
import pty
import re
import select
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.conftest import SAMPLE, bench, clean, wexicon

RADIO = '[unit.mast]\nstandin = "lindle-l9"\n'
SHELLS = {
    "bash": ["bash", "-i"],
    "zsh": ["zsh", "-i"],
    "fish": ["fish", "-i"],
}


def suggested(line: str) -> list[str]:
    """What the program suggests behind a line, without a shell."""
    env = clean({"COMP_LINE": line, "_WEXICON_COMPLETE": "bash_complete"})
    done = subprocess.run([sys.executable, "-m", "wexicon"], capture_output=True, text=True, env=env, timeout=60)
    assert not done.stderr, done.stderr
    return [one.partition(",")[2] for one in done.stdout.splitlines() if one.startswith("plain,")]


@pytest.fixture
def radio() -> str:
    """A port with a module that was read, and a sheet, in this folder."""
    shutil.copytree(SAMPLE, ".", dirs_exist_ok=True)
    with bench(RADIO) as rig:
        wexicon("readout", rig.ports["mast"], "-l", "lindle-l9")
        yield rig.ports["mast"]  # type: ignore[misc]


def test_what_may_stand_next_is_suggested(radio: str) -> None:
    for line, wanted in (
        ("wexicon re", {"readout", "restore", "rehearse", "report"}),
        ("wexicon set --pat", {"--patience"}),
        ("wexicon readout ", {radio, "mast"}),
        ("wexicon set mast ", {"name=", "power=", "rate=", "network="}),
        ("wexicon set mast rate=", {"9600", "115200"}),
        ("wexicon set mast sync=y", set()),
        ("wexicon do mast ", {"save", "send", "restart"}),
        ("wexicon do mast send ", {"to=", "data="}),
        ("wexicon provision masts.toml --seat ", {"relay", "mast"}),
        ("wexicon provision masts.toml --row ", {"M1", "M2", "M3"}),
        ("wexicon provision masts.toml re", {"relay="}),
        ("wexicon provision masts.toml mast=", {"mast"}),
        ("wexicon lexicon show tam", {"tamsel-k5", "tamsel-k6"}),
        ("wexicon trace show ", {"last", radio}),
        ("wexicon rig power ", {"mast"}),
        ("wexicon listen mast --until ", {"awake", "air"}),
        ("wexicon set x --prove ", {"auto", "power", "twice"}),
        ("wexicon calc air", {"airtime"}),
        ("wexicon nonsense ", set()),
    ):
        assert wanted <= set(suggested(line)), line


def test_units_are_those_of_the_register(radio: str) -> None:
    Path("s.toml").write_text('format = 1\n[seat.quay]\nlexicon = "lindle-l9"\nsettings = { name = "quay 3" }\n')
    wexicon("provision", "s.toml", radio)
    assert "quay" in suggested("wexicon units show ") and "quay" in suggested("wexicon restore ")


def typed_in(shell: str, line: str, wanted: str, home: Path) -> str:
    """What a shell has on its screen after a line and two tabs."""
    programs = home / "bin"
    programs.mkdir(exist_ok=True)
    (programs / "wexicon").write_text(f'#!/bin/sh\nexec "{sys.executable}" -m wexicon "$@"\n')
    (programs / "wexicon").chmod(0o755)
    env = clean({"TERM": "xterm", "HOME": str(home), "PATH": f"{programs}:{os.environ['PATH']}", "COLUMNS": "100"})
    env |= {"ZDOTDIR": str(home), "XDG_CONFIG_HOME": str(home / ".config"), "SHELL": f"/bin/{shell}"}
    subprocess.run([str(programs / "wexicon"), "completion"], check=True, env=env, capture_output=True, timeout=60)
    pid, fd = pty.fork()
    if pid == 0:
        os.execvpe(SHELLS[shell][0], SHELLS[shell], env)
    seen, until, sent = "", time.monotonic() + 40, 0
    try:
        while time.monotonic() < until and wanted not in re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", seen):
            if select.select([fd], [], [], 0.5)[0]:
                seen += os.read(fd, 65536).decode(errors="replace")
                # A terminal answers when it is asked what it is and where its cursor stands.
                if "\x1b[c" in seen and sent < 3:
                    os.write(fd, b"\x1b[?62;c")
            elif sent == 0:
                os.write(fd, line.encode())
                sent = 1
            elif sent < 20:
                os.write(fd, b"\t")
                sent += 1
        return re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", seen)
    finally:
        os.close(fd)
        os.kill(pid, 9)
        os.waitpid(pid, 0)


@pytest.mark.parametrize(
    "shell", ["bash", pytest.param("zsh", marks=pytest.mark.long), pytest.param("fish", marks=pytest.mark.long)]
)
@pytest.mark.parametrize(
    ("line", "wanted"),
    [("wexicon lexicon sh", "wexicon lexicon show"), ("wexicon set x -l lindle-l9 rate=11", "rate=115200")],
)
def test_a_shell_completes(shell: str, line: str, wanted: str, tmp_path: Path) -> None:
    if not shutil.which(shell):
        pytest.skip(f"there is no {shell}")
    assert wanted in typed_in(shell, line, wanted, tmp_path)


def test_it_is_installed_once_and_taken_out_again(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setenv("HOME", str(tmp_path))
    rc = tmp_path / ".bashrc"
    rc.write_text("alias tide='echo 1.204'")
    rc.chmod(0o640)
    for _ in range(2):
        told = wexicon("completion", "bash").stdout
    assert ".bashrc" in told and rc.read_text().count("completion for wexicon") == 1
    assert rc.read_text().startswith("alias tide='echo 1.204'\n") and rc.stat().st_mode & 0o777 == 0o640
    wexicon("completion", "bash", "--remove")
    assert rc.read_text() == "alias tide='echo 1.204'\n"


def test_a_shell_that_is_not_known_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("SHELL", "/bin/csh")
    assert "Name one of bash, zsh, fish" in wexicon("completion", status=2).stderr
    assert "complete -F" in wexicon("completion", "bash", "--print").stdout
