"""Real ports: opened, read without loss, lost, refused, and read by a thread where there is nothing to wait for."""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import threading
import time
import tty
from collections.abc import Iterator
from pathlib import Path

import pytest
import serial

from tests.conftest import bench, clean, k5, wexicon
from wexicon.core.faults import CannotTune, LinkFault
from wexicon.core.protocol.dialect import OK, Dialect
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import Speech
from wexicon.core.registry import Registry
from wexicon.core.tuning import Tuning
from wexicon.links import port as ports
from wexicon.links.lock import PortLock, holder_of
from wexicon.links.port import LINKS, DeviceLink, ThreadLink, open_port


@pytest.fixture
def pair() -> Iterator[tuple[int, str]]:
    """A pseudo-terminal: our end, and the name of the other."""
    master, slave = os.openpty()
    tty.setraw(slave)
    yield master, os.ttyname(slave)
    for fd in (master, slave):
        with contextlib.suppress(OSError):
            os.close(fd)


def answering(master: int, answer: bytes = b"OK\r\n") -> threading.Thread:
    def answer_lines() -> None:
        try:
            while data := os.read(master, 4096):
                os.write(master, answer * data.count(b"\n"))
        except OSError:
            return

    thread = threading.Thread(target=answer_lines, daemon=True)
    thread.start()
    return thread


@pytest.mark.parametrize("by_thread", [False, True])
def test_a_port_is_read_by_its_descriptor_or_by_a_thread(
    pair: tuple[int, str], by_thread: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    master, name = pair
    if by_thread:
        # As on a system where a port has no descriptor that can be waited for.
        monkeypatch.setattr(ports, "_descriptor", lambda port: None)
    link = open_port(name, Tuning(9600))
    assert isinstance(link, ThreadLink if by_thread else DeviceLink)
    answering(master)
    session = Session(link, Dialect(Speech(closing="always", within="2s")))
    assert all(session.exchange("AT", OK).ok for _ in range(20))
    began = link.clock.now()
    assert link.read(began + 0.05) == b"" and 0.04 < link.clock.now() - began < 0.5
    assert link.read(link.clock.now()) == b""
    link.close()


@pytest.mark.parametrize("by_thread", [False, True])
def test_a_port_that_goes_in_the_middle_of_a_session_is_a_fault_that_says_so(
    pair: tuple[int, str], by_thread: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    master, name = pair
    if by_thread:
        monkeypatch.setattr(ports, "_descriptor", lambda port: None)
    link = open_port(name, Tuning(9600))
    session = Session(link, Dialect(Speech(within="3s")))
    threading.Timer(0.2, lambda: os.close(master)).start()
    with pytest.raises(LinkFault, match="the port was lost") as fault:
        for _ in range(3):
            session.exchange("AT", OK)
    assert fault.value.status == 3 and "cable" in fault.value.hint
    link.close()


def test_a_large_write_is_sent_whole_though_the_other_side_is_slow(pair: tuple[int, str]) -> None:
    master, name = pair
    link = open_port(name, Tuning(9600))
    got = bytearray()

    def slow() -> None:
        while len(got) < 100_000:
            time.sleep(0.001)
            got.extend(os.read(master, 4096))

    thread = threading.Thread(target=slow, daemon=True)
    thread.start()
    link.write(b"x" * 100_000)
    thread.join(timeout=60)
    assert len(got) == 100_000
    link.close()


def test_a_port_has_one_user(pair: tuple[int, str]) -> None:
    _, name = pair
    link = open_port(name, Tuning(9600))
    with pytest.raises(LinkFault, match=rf"in use by wexicon \(process {os.getpid()}\)"):
        open_port(name, Tuning(9600))
    link.close()
    open_port(name, Tuning(9600)).close()


def test_a_stranger_that_has_a_port_is_named_and_a_lock_dies_with_its_process(pair: tuple[int, str]) -> None:
    _, name = pair
    strange = "import sys,time; f=open(sys.argv[1]); print(1,flush=True); time.sleep(60)"
    ours = "import sys,time; from wexicon.links.port import open_port; from wexicon.core.tuning import Tuning"
    ours += "; x=open_port(sys.argv[1], Tuning()); print(1,flush=True); time.sleep(60)"
    for program, who in ((strange, "python"), (ours, "wexicon")):
        other = subprocess.Popen([sys.executable, "-c", program, name], stdout=subprocess.PIPE, env=clean({}))
        assert other.stdout and other.stdout.readline()
        with pytest.raises(LinkFault, match=rf"in use by {who}.* \(process {other.pid}\)"):
            open_port(name, Tuning(9600))
        assert str(other.pid) in str(holder_of(name))
        other.kill()
        other.wait()
        other.stdout.close()
        open_port(name, Tuning(9600)).close()
        assert holder_of(name) is None


@pytest.mark.parametrize(
    "url",
    [
        "socket://localhost:7007", "socket://127.0.0.1:7007/", "SOCKET://127.0.0.1:07007", "socket://127.1:7007",
        "socket://0x7f.0.0.1:7007", "socket://user@127.0.0.1:7007?logging=debug", "socket://[::1]:7007",
    ],
)  # fmt: skip
def test_however_a_url_is_written_it_has_one_lock(url: str) -> None:
    held = PortLock("socket://127.0.0.1:7007")
    with pytest.raises(LinkFault, match="in use by wexicon"):
        PortLock(url)
    PortLock("socket://127.0.0.1:7008").release()
    held.release()
    PortLock(url).release()


def test_a_program_that_serves_one_terminal_and_has_another_open_is_a_holder(pair: tuple[int, str]) -> None:
    # As a terminal multiplexer does: it is a server of its own terminals, and a client of a device.
    _, name = pair
    program = "import os,pty,sys,time; pty.openpty(); f=open(sys.argv[1]); print(1,flush=True); time.sleep(60)"
    other = subprocess.Popen([sys.executable, "-c", program, name], stdout=subprocess.PIPE)
    assert other.stdout and other.stdout.readline()
    assert f"(process {other.pid})" in str(holder_of(name))
    other.kill()
    other.wait()
    other.stdout.close()


def test_only_what_differs_is_set(pair: tuple[int, str], monkeypatch: pytest.MonkeyPatch) -> None:
    """Over RFC 2217 each setting is a round trip of its own."""
    _, name = pair
    link = open_port(name, Tuning(9600))
    set_: list[str] = []
    assert isinstance(link, DeviceLink)
    port = type(link._port)
    for attribute in ("baudrate", "bytesize", "parity", "stopbits"):
        known = getattr(port, attribute)
        one = property(
            known.fget, lambda self, value, known=known, a=attribute: (set_.append(a), known.fset(self, value))[1]
        )  # type: ignore[misc]
        monkeypatch.setattr(port, attribute, one)
    link.tune(Tuning(57600))
    assert set_ == ["baudrate"]
    link.close()


@pytest.mark.parametrize(
    ("raised", "told"),
    [
        (OSError(2, "no"), "there is no such port"),
        (OSError(13, "no"), "no permission"),
        (OSError(16, "busy"), "in use"),
        (OSError(25, "no tty"), "not a serial port"),
        (serial.SerialException("anything"), "cannot be opened: anything"),
    ],
)
def test_each_reason_why_a_port_cannot_be_opened_has_its_own_words(
    raised: Exception, told: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    def refuse(*given: object, **named: object) -> None:
        raise raised

    monkeypatch.setattr(serial.Serial, "open", refuse)
    with pytest.raises(LinkFault, match=told) as fault:
        open_port("/dev/ttyUSB7", Tuning(9600))
    assert fault.value.where == "/dev/ttyUSB7" and fault.value.hint


def test_control_lines_that_a_port_lacks_are_a_clear_fault(pair: tuple[int, str]) -> None:
    link = open_port(pair[1], Tuning(9600))
    with pytest.raises(LinkFault, match="control lines cannot be driven"):
        link.signal(dtr=True)
    link.close()


def test_another_package_may_bring_a_kind_of_link(monkeypatch: pytest.MonkeyPatch) -> None:
    made = object()
    monkeypatch.setattr(Registry, "find_more", staticmethod(lambda group: {"lab": lambda name, tuning: made}))
    monkeypatch.setattr(LINKS, "_complete", False)
    assert open_port("lab://bench/3", Tuning(9600)) is made


def test_a_port_lost_while_a_unit_is_worked_on_ends_with_what_was_not_read() -> None:
    """The built program: the rig ends in the middle of the writing."""
    sheet = 'format = 1\n[seat.m]\nlexicon = "lindle-l9"\nsettings = { address = 42, name = "mast 4", network = 6 }\n'
    Path("s.toml").write_text(sheet)
    with bench('[unit.x]\nstandin = "lindle-l9"\nfaults = { late = 0.2 }\n') as rig:

        def stop_in_the_middle() -> None:
            until = time.monotonic() + 60
            while time.monotonic() < until and (not Path("t").exists() or b"@addr=" not in Path("t").read_bytes()):
                time.sleep(0.02)
            rig.stop()

        threading.Thread(target=stop_in_the_middle, daemon=True).start()
        words = ("provision", "s.toml", rig.ports["x"], "--operator", "nobody", "--trace", "t")
        told = wexicon(*words, status=3)
    assert "the port was lost" in told.stderr and "Is the cable still in?" in told.stderr
    assert "not read" in told.stdout and "conforms" not in told.stdout


def test_a_port_in_use_is_said_to_be_so() -> None:
    with bench(k5()) as rig:
        held = open_port(rig.ports["plug"], Tuning(9600))
        told = wexicon("readout", rig.ports["plug"], "-l", "tamsel-k5", "--operator", "nobody", status=3).stderr
        held.close()
    assert f"in use by wexicon (process {os.getpid()})" in told


def test_a_port_that_could_not_be_opened_is_not_held(tmp_path: Path) -> None:
    name = str(tmp_path / "none")
    for _ in range(2):
        with pytest.raises(LinkFault, match="there is no such port"):
            open_port(name, Tuning(9600))


def test_a_closed_link_writes_to_nothing_that_was_opened_since(pair: tuple[int, str], tmp_path: Path) -> None:
    _, name = pair
    link = open_port(name, Tuning(9600))
    link.close()
    opened = [(tmp_path / f"record {number}").open("w+b") for number in range(8)]  # one of them has its descriptor now
    with pytest.raises(LinkFault, match="closed"):
        link.write(b"AT+WIPE\r\n")
    with pytest.raises(LinkFault, match="closed"):
        link.tune(Tuning(115200))
    for file in opened:
        file.seek(0)
        assert file.read() == b""
        file.close()


def test_a_frame_that_a_pseudo_terminal_does_not_have_is_refused_and_leaves_the_link_as_it_was() -> None:
    with bench(k5()) as rig, open_port(rig.ports["plug"], Tuning(9600)) as link:
        with pytest.raises(CannotTune, match="this port cannot do 19200 8E1"):
            link.tune(Tuning(19200, 8, "E"))
        assert link.tuning == Tuning(9600)
        link.tune(Tuning(57600))
        assert link.tuning == Tuning(57600)
