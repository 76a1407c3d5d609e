"""Stand-ins on serial devices: a pseudo-terminal takes the place of the device, its other end that of a microcontroller."""

from __future__ import annotations

import os
import termios
import time
import tty
from pathlib import Path

import pytest

from tests.conftest import bench, wexicon
from wexicon.core.faults import LinkFault


def answer(end: int, said: bytes, until: bytes) -> bytes:
    """What comes after a line was said, up to these bytes."""
    os.write(end, said)
    heard, limit = b"", time.monotonic() + 5
    while until not in heard and time.monotonic() < limit:
        try:
            heard += os.read(end, 1024)
        except BlockingIOError:
            time.sleep(0.001)
    return heard


def test_a_stand_in_answers_on_a_device_and_moves_its_rate() -> None:
    ours, theirs = os.openpty()
    tty.setraw(theirs)
    os.set_blocking(ours, False)
    device = os.ttyname(theirs)
    with bench(f'[unit.cap]\nstandin = "brisca-w1"\nserve = "{device}"\n') as server:
        assert server.ports["cap"] == device
        answer(ours, b"", b"READY\r\n")
        assert b"+WHO BRISCA-W1" in answer(ours, b"AT+WHO?\r\n", b"OK\r\n")
        assert termios.tcgetattr(ours)[4:6] == [termios.B115200] * 2
        # The answer still comes at the old rate; then the device moves.
        assert b"OK" in answer(ours, b"AT+RATE=57600\r\n", b"OK\r\n")
        limit = time.monotonic() + 60
        while termios.tcgetattr(ours)[5] != termios.B57600 and time.monotonic() < limit:
            time.sleep(0.001)
        assert termios.tcgetattr(ours)[4:6] == [termios.B57600] * 2
        assert b"+RATE 57600" in answer(ours, b"AT+RATE?\r\n", b"OK\r\n")
    os.close(ours)
    os.close(theirs)


def test_the_frame_of_a_stand_in_is_that_of_its_device() -> None:
    """Linux keeps no parity for a pseudo-terminal, but whether it would be odd, and the stop bits."""
    ours, theirs = os.openpty()
    tty.setraw(theirs)
    unit = f'[unit.sky]\nstandin = "polmar-p1"\nserve = "{os.ttyname(theirs)}"\nsettings = {{ port = [9600, 8, "O", 2] }}\n'
    with bench(unit):
        limit = time.monotonic() + 60
        wanted = termios.PARODD | termios.CSTOPB
        while termios.tcgetattr(ours)[2] & wanted != wanted and time.monotonic() < limit:
            time.sleep(0.001)
        assert termios.tcgetattr(ours)[2] & wanted == wanted
    os.close(ours)
    os.close(theirs)


def test_a_device_that_is_not_there_is_told() -> None:
    with (
        pytest.raises(LinkFault, match="cannot be opened for a stand-in"),
        bench('[unit.cap]\nstandin = "brisca-w1"\nserve = "/dev/ttyNONE"\n'),
    ):
        pass


def test_the_command_tells_it_too() -> None:
    Path("rig.toml").write_text('format = 1\n[unit.cap]\nstandin = "brisca-w1"\nserve = "/dev/ttyNONE"\n')
    assert "/dev/ttyNONE: cannot be opened for a stand-in" in wexicon("rig", "start", "rig.toml", status=3).stderr
