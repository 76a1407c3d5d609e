"""Real ports: serial devices by path, and serial URLs (rfc2217://, socket://, loop://), through pyserial.

The rule: reading waits for bytes and for nothing else, and gives what is there; a port that is lost is a LinkFault that
says so. A device is read straight from its file descriptor, where the system has one; all others by a thread of their own.
A new kind of link is a function from a name and a tuning to a link, in LINKS or under the entry point `wexicon.links`.
"""

from __future__ import annotations

import contextlib
import os
import queue
import threading
import time
from collections.abc import Callable, Mapping
from typing import Self, cast

import serial

from wexicon.core.faults import CannotTune, LinkFault
from wexicon.core.protocol.link import Link
from wexicon.core.registry import Registry
from wexicon.core.tuning import Tuning
from wexicon.links.clock import RealClock
from wexicon.links.lock import PortLock, Shared, in_use, split_station, turn_at
from wexicon.system import TERMINAL_FAULTS, waiter

LINKS: Registry[Callable[[str, Tuning], Link]] = Registry("wexicon.links", {})
# The units that are on ports in virtual time: each is named before anything else of that name.
VIRTUAL: dict[str, str] = {}
# What pyserial opens by itself.
SERIAL_URLS = ("rfc2217", "socket", "loop")
NO_LINES: Mapping[str, bool] = {}
LARGEST_READ = 65_536
MOST_WAITING = 64
# What a port raises if it is gone, or cannot do what is asked of it.
_FAULTS = (serial.SerialException, OSError, ValueError, *TERMINAL_FAULTS)


def open_port(name: str, tuning: Tuning, flow: str = "none", idle: Mapping[str, bool] = NO_LINES) -> Link:
    """Opens a port, with flow control (see FLOWS). `idle` are the levels that `dtr` and `rts` have from the opening on; a
    system that raises them as it opens leaves a short pulse. Of several modules behind one device, as in `/dev/ttyUSB0#2`, the
    others are waited for. Raises LinkFault that says why it cannot be."""
    device, station = split_station(name)
    if station is not None:
        turn = turn_at(device)
        turn.acquire()
        try:
            link = open_port(device, tuning, flow, idle)
        except BaseException:
            turn.release()
            raise
        return cast(Link, Shared(link, name, station, turn.release))
    scheme = name.partition("://")[0] if "://" in name else ""
    if scheme and scheme not in SERIAL_URLS:
        if scheme not in LINKS:
            known = ", ".join(f"{one}://" for one in (*SERIAL_URLS, *LINKS))
            raise LinkFault(f"{scheme}:// is not a kind of port", where=name, hint=f"A path, or one of {known}")
        return LINKS[scheme](name, tuning)
    lock = PortLock(name) if scheme != "loop" else None
    try:
        port = serial.serial_for_url(name, do_not_open=True)
        _apply(port, tuning)
        _apply_flow(port, flow)
        for line, on in idle.items():
            setattr(port, line, on)
        if not scheme:
            port.exclusive = True
        port.timeout = 0.05 if scheme else 0
        port.open()
    except Exception as fault:  # a URL's driver may raise anything
        if lock:
            lock.release()
        raise _cannot_open(name, fault) from None
    if scheme or _descriptor(port) is None:
        port.timeout = 0.05
        return ThreadLink(name, port, tuning, lock)
    return DeviceLink(name, port, tuning, lock)


def _descriptor(port: serial.SerialBase) -> int | None:
    """The file descriptor, or None where the system has none that can be waited for."""
    try:
        number = int(port.fileno())
    except (AttributeError, OSError, ValueError):
        return None
    return number if waiter(number) else None


def _cannot_open(name: str, fault: Exception) -> LinkFault:
    number = getattr(fault, "errno", None)
    text = str(fault)
    if number == 2 or "FileNotFound" in text:
        return LinkFault(
            "there is no such port", where=name, hint="Is the cable in? `wexicon ports` lists what there is."
        )
    if number == 13:
        return LinkFault(
            "no permission to open the port", where=name, hint="Add yourself to the group that owns it (often dialout)."
        )
    if number in (11, 16) or "exclusively lock" in text:
        return in_use(name)
    if number == 25 or "Could not configure port" in text:
        return LinkFault("this is not a serial port", where=name, hint="`wexicon ports` lists what there is.")
    if name.startswith("rfc2217:") and any(
        one in text.lower() for one in ("broken pipe", "reset", "closed", "does not seem")
    ):
        return LinkFault(
            "the server hung up, or is another service: the port is probably in use",
            where=name,
            hint="Close what holds it and try again.",
        )
    if "://" in name:
        return LinkFault(
            f"cannot be reached: {text}", where=name, hint="Is the server running, and is this its address and port?"
        )
    return LinkFault(f"cannot be opened: {text}", where=name, hint="`wexicon ports` lists what there is.")


def _apply(port: object, tuning: Tuning) -> None:
    """Sets only what differs: over RFC 2217 each setting is a round trip of its own."""
    wanted = {
        "baudrate": tuning.rate,
        "bytesize": tuning.bits,
        "parity": tuning.parity,
        "stopbits": tuning.stop,
    }
    for name, value in wanted.items():
        if getattr(port, name) != value:
            setattr(port, name, value)


def _apply_flow(port: object, flow: str) -> None:
    for name, wanted in (("rtscts", flow == "rts-cts"), ("xonxoff", flow == "xon-xoff")):
        if getattr(port, name) != wanted:
            setattr(port, name, wanted)


class PortLink:
    """What all real links share. A closed one refuses everything: its descriptor may be another file's by now."""

    def __init__(self, name: str, port: serial.SerialBase, tuning: Tuning, lock: PortLock | None = None) -> None:
        self.name = name
        self.clock = RealClock()
        self.tuning = tuning
        self._port = port
        self._lock = lock
        self._closed = False

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def lost(self, fault: Exception) -> LinkFault:
        if self._closed:
            return LinkFault("the link is closed", where=self.name)
        return LinkFault(f"the port was lost: {fault}", where=self.name, hint="Is the cable still in?")

    def _require_open(self) -> None:
        if self._closed:
            raise LinkFault("the link is closed", where=self.name)

    def read(self, until: float) -> bytes:
        raise NotImplementedError

    def write(self, data: bytes) -> None:
        self._require_open()
        try:
            self._port.write(data)
        except _FAULTS as fault:
            raise self.lost(fault) from None

    def tune(self, tuning: Tuning) -> None:
        self._require_open()
        if tuning.wired_as(self.tuning):
            # Another module on the same line is spoken to.
            self.tuning = tuning
            return
        try:
            self._port.flush()
            _apply(self._port, tuning)
        except _FAULTS as fault:
            with contextlib.suppress(*_FAULTS):
                _apply(self._port, self.tuning)
            hint = "The adapter may not have this rate or frame."
            raise CannotTune(
                f"this port cannot do {tuning.rate} {tuning.frame}: {fault}", where=self.name, hint=hint
            ) from None
        self.tuning = tuning

    def control_flow(self, flow: str) -> None:
        """Changes the flow control (see FLOWS). Raises CannotTune."""
        self._require_open()
        try:
            _apply_flow(self._port, flow)
        except _FAULTS as fault:
            raise CannotTune(f"this port cannot do flow control by {flow}: {fault}", where=self.name) from None

    def signal(self, *, dtr: bool | None = None, rts: bool | None = None) -> None:
        self._require_open()
        try:
            if dtr is not None:
                self._port.dtr = dtr
            if rts is not None:
                self._port.rts = rts
        except _FAULTS as fault:
            hint = "This port has no control lines; use an adapter that drives them, or RFC 2217."
            raise CannotTune(f"its control lines cannot be driven: {fault}", where=self.name, hint=hint) from None

    def lines(self) -> dict[str, bool]:
        self._require_open()
        try:
            return {"cts": self._port.cts, "dsr": self._port.dsr, "dcd": self._port.cd, "ri": self._port.ri}
        except _FAULTS as fault:
            hint = "This port has no such lines; use an adapter that has them, or RFC 2217."
            raise CannotTune(f"its control lines cannot be read: {fault}", where=self.name, hint=hint) from None

    def hold_break(self, on: bool) -> None:
        self._require_open()
        try:
            self._port.break_condition = on
        except _FAULTS as fault:
            raise CannotTune(f"it cannot hold its line at break: {fault}", where=self.name) from None

    def close(self) -> None:
        self._closed = True
        with contextlib.suppress(*_FAULTS):
            self._port.close()
        if self._lock:
            self._lock.release()


class DeviceLink(PortLink):
    """A serial device or a pseudo-terminal, written and read through its file descriptor."""

    def __init__(self, name: str, port: serial.SerialBase, tuning: Tuning, lock: PortLock | None = None) -> None:
        super().__init__(name, port, tuning, lock)
        self._fd: int = port.fileno()
        wait = waiter(self._fd)
        assert wait
        self._wait = wait

    def close(self) -> None:
        if not self._closed:
            # Another file may get the number: nothing is written to it.
            self._fd = -1
        super().close()

    def write(self, data: bytes) -> None:
        try:
            sent = os.write(self._fd, data)
        except BlockingIOError:
            sent = 0
        except OSError as fault:
            raise self.lost(fault) from None
        if sent < len(data):
            super().write(data[sent:])

    def read(self, until: float) -> bytes:
        if self._closed:
            self._require_open()
        try:
            if not self._wait(until - time.monotonic()):
                return b""
            data = os.read(self._fd, 65_536)
        except BlockingIOError:
            return b""
        except OSError as fault:
            raise self.lost(fault) from None
        if not data:
            raise self.lost(OSError("end of file"))
        return data


class ThreadLink(PortLink):
    """A port that cannot be waited for: a thread takes in what comes."""

    def __init__(self, name: str, port: serial.SerialBase, tuning: Tuning, lock: PortLock | None = None) -> None:
        super().__init__(name, port, tuning, lock)
        # Bounded: what is not read waits where it comes from.
        self._queue: queue.Queue[bytes | Exception] = queue.Queue(MOST_WAITING)
        self._open = True
        self._thread = threading.Thread(target=self._take_in, name=f"reads {name}", daemon=True)
        self._thread.start()

    def _take_in(self) -> None:
        try:
            while self._open:
                if data := self._port.read(max(1, min(self._port.in_waiting, LARGEST_READ))):
                    self._put(data)
        except Exception as fault:  # whatever a URL's driver raises must reach the one who reads
            self._put(fault)

    def _put(self, got: bytes | Exception) -> None:
        while self._open:
            with contextlib.suppress(queue.Full):
                self._queue.put(got, timeout=0.1)
                return

    def read(self, until: float) -> bytes:
        self._require_open()
        try:
            got = self._queue.get(timeout=max(0.0, until - time.monotonic()))
        except queue.Empty:
            return b""
        if isinstance(got, Exception):
            self._put(got)
            raise self.lost(got)
        return got

    def close(self) -> None:
        self._open = False
        self._thread.join(timeout=1)
        super().close()
