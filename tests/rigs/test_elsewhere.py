"""What can be tried here of systems without pseudo-terminals, socket files, termios and user numbers."""

from __future__ import annotations

import json
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from tests.conftest import clean

ROOT = Path(__file__).parents[2]
RIG = 'format = 1\n[unit.mast]\nstandin = "lindle-l9"\n[unit.plug]\nstandin = "tamsel-k5"\n'


def elsewhere(*words: str, status: int = 0) -> str:
    env = clean({"PYTHONPATH": str(ROOT)})
    done = subprocess.run(
        [sys.executable, "-m", "tests.elsewhere", *words], capture_output=True, text=True, env=env, timeout=60
    )
    assert done.returncode == status, done.stdout + done.stderr
    assert "Traceback" not in done.stderr
    return done.stdout


@contextmanager
def rig() -> Iterator[tuple[dict[str, Any], subprocess.Popen[bytes]]]:
    """A rig that runs on such a system: its card, and its process."""
    Path("rig.toml").write_text(RIG)
    words = [sys.executable, "-m", "tests.elsewhere", "rig", "start", "rig.toml"]
    running = subprocess.Popen(words, env=clean({"PYTHONPATH": str(ROOT)}), stdout=subprocess.DEVNULL)
    try:
        until = time.monotonic() + 60
        while not (cards := list(Path("run").glob("*.json"))) and time.monotonic() < until:
            time.sleep(0.1)
        yield json.loads(cards[0].read_text()), running
    finally:
        running.kill()
        running.wait()


def test_a_rig_is_served_and_worked_and_its_modules_are_provisioned() -> None:
    with rig() as (card, _):
        assert card["socket"].startswith("127.0.0.1:") and card["token"]
        served = json.loads(elsewhere("rig", "ports", "--json"))
        assert served and all(one["port"].startswith("rfc2217://127.0.0.1:") for one in served)
        told = elsewhere("set", "mast", "-l", "lindle-l9", "name=quay 3", "rate=57600", "--operator", "rig")
        assert "conforms: 2 changed; read back after a power cycle" in told
        # Its key is held by the rig, over the port of this machine.
        assert "TAMSEL-K5" in elsewhere("readout", "plug", "-l", "tamsel-k5", "--operator", "rig")
        assert "quay 3" in elsewhere("readout", "mast")
        assert "mast" in elsewhere("ports") and "mast" in elsewhere()


def test_a_rig_is_stopped() -> None:
    with rig() as (_, running):
        elsewhere("rig", "stop")
        running.wait(20)
        assert not list(Path("run").glob("*.json"))


def test_a_request_without_the_token_of_the_card_is_refused() -> None:
    with rig() as (card, running):
        host, _, port = card["socket"].rpartition(":")
        with socket.create_connection((host, int(port)), 5) as line:
            line.sendall(b'{"do": "stop", "token": "guessed"}\n')
            assert b"token" in line.makefile("rb").readline()
        assert running.poll() is None
