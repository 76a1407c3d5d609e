"""The example for firmware teams passes its own tests, in Python and, where there is a compiler, in C."""

from __future__ import annotations

import os
import select
import subprocess
import sys
import threading
import tty
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from tests.conftest import bench, clean, wexicon
from wexicon import api

EXAMPLE = Path(__file__).parents[2] / "examples" / "firmware-driver"


@pytest.mark.parametrize("language", ["python", pytest.param("c", marks=pytest.mark.long)])
def test_the_driver_passes(language: str, tmp_path: Path) -> None:
    words = ["-p", "no:cacheprovider", "-n", "4", "-k", f"[{language}", "--basetemp", str(tmp_path / "run")]
    ran = subprocess.run(
        [sys.executable, "-m", "pytest", *words, str(EXAMPLE)], capture_output=True, text=True, env=clean({})
    )
    assert "14 passed, 1 skipped" in ran.stdout, ran.stdout + ran.stderr


@contextmanager
def joined() -> Iterator[tuple[str, str]]:
    """Two ports, what is written to one comes out of the other."""
    ends = [os.openpty() for _ in range(2)]
    for master, slave in ends:
        tty.setraw(slave)
        os.set_blocking(master, False)
    (one, _), (other, _) = ends
    done = threading.Event()

    def carry() -> None:
        while not done.is_set():
            for end in select.select([one, other], [], [], 0.05)[0]:
                os.write(other if end == one else one, os.read(end, 4096))

    thread = threading.Thread(target=carry)
    thread.start()
    yield os.ttyname(ends[0][1]), os.ttyname(ends[1][1])
    done.set()
    thread.join()
    for end in ends:
        os.close(end[0])
        os.close(end[1])


def drive(port: str) -> int:
    """The driver's exit status."""
    words = [sys.executable, str(EXAMPLE / "driver.py"), port, "quay 3", "57600"]
    return subprocess.run(words, timeout=60, check=False, env=clean({})).returncode


def test_a_tapped_session_answers_in_the_modules_place_and_is_drafted(tmp_path: Path) -> None:
    """The driver is tapped; what the tap recorded then answers it in the place of the module, and becomes a draft."""
    trace = tmp_path / "tap.jsonl"
    with bench('[unit.wifi]\nstandin = "brisca-w1"\n') as server, joined() as (ours, taps):
        done = threading.Event()
        lexicon = api.find_lexicon("brisca-w1")
        ready = threading.Event()
        tap = threading.Thread(
            target=lambda: api.tap(
                taps, server.ports["wifi"], lexicon, stopping=done.is_set, trace=trace, ready=lambda text: ready.set()
            )
        )
        tap.start()
        assert ready.wait(10)
        assert drive(ours) == 0
        done.set()
        tap.join()
        assert server.rig.units["wifi"].standin.flash["name"] == "quay 3"
    (tmp_path / "again.toml").write_text('format = 1\n[unit.wifi]\nstandin = "recording"\ntrace = "tap.jsonl"\n')
    with api.rig(tmp_path / "again.toml") as server:
        assert drive(server.ports["wifi"]) == 0
    wexicon("lexicon", "draft", "--from", str(trace), "-o", "drafted.toml")
    drafted = Path("drafted.toml").read_text()
    assert 'write   = { say = "AT+NAME=\\"{value}\\"" }' in drafted and 'dialogue = "> AT+STORE"   # saves?' in drafted
