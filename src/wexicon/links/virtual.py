"""An in-memory link under a virtual clock: to wait is to do what the agenda holds, as fast as the processor goes.

The rule: time passes only during reads. It behaves like a serial port, but that an
hour takes milliseconds.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Protocol, Self

from wexicon.core.agenda import Agenda
from wexicon.core.faults import LinkFault
from wexicon.core.tuning import Tuning
from wexicon.links.no_wire import NoWire

# A rehearsal has no wall time of its own; its traces all begin here.
WALL = datetime(2026, 3, 2, 8, 0, tzinfo=UTC)


class Wire(Protocol):
    """The host's end of a wire to a stand-in."""

    host: Tuning

    def from_host(self, data: bytes) -> None: ...

    def from_host_signals(self, *, dtr: bool | None = None, rts: bool | None = None) -> None: ...

    def from_host_break(self, on: bool) -> None: ...

    def driven(self) -> dict[str, bool]: ...


class VirtualClock:
    """The time of an agenda."""

    def __init__(self, agenda: Agenda) -> None:
        self.agenda = agenda

    def now(self) -> float:
        return self.agenda.now

    def wall(self, at: float) -> datetime:
        return WALL + timedelta(seconds=at)

    def next_event(self) -> float:
        due = self.agenda.due()
        return float("inf") if due is None else due


class SocketEnd(Protocol):
    """The other end of a simulated connection."""

    def arrived(self, data: bytes) -> None: ...

    def went(self) -> None: ...


class VirtualSocket(NoWire):
    """A socket in virtual time, until a stand-in is at its other end one that listens. It behaves as a SocketLink does."""

    def __init__(self, name: str, clock: VirtualClock) -> None:
        self.name = name
        self.clock = clock
        self._other: SocketEnd | None = None
        self._buffer = bytearray()
        self._gone = self._closed = False

    def connected(self, other: SocketEnd | None) -> bool:
        """The other end is there; whether there is room for it."""
        if other is None or self._other or self._closed:
            return False
        self._other = other
        return True

    def take(self, data: bytes) -> None:
        """Bytes have come from the other end."""
        self._buffer += data

    def hang_up(self) -> None:
        """The other end has closed the connection."""
        self._gone = True

    def write(self, data: bytes) -> None:
        if self._closed or self._gone:
            raise LinkFault("the other side has closed the connection", where=self.name)
        if self._other is None:
            raise LinkFault("no client is there to say this to", where=self.name, hint="Await what it says first.")
        self._other.arrived(data)

    def read(self, until: float) -> bytes:
        if self._closed:
            raise LinkFault("the socket was closed", where=self.name)
        agenda = self.clock.agenda
        while not self._buffer and not self._gone:
            due = agenda.due()
            if due is None or due > until:
                agenda.run_until(until)
                break
            agenda.run_until(due)
        data = bytes(self._buffer)
        self._buffer.clear()
        if not data and self._gone:
            raise LinkFault("the other side has closed the connection", where=self.name)
        return data

    def close(self) -> None:
        if not self._closed and self._other:
            self._other.went()
        self._closed = True


class VirtualLink:
    """The host's side of a wire. The wire's `to_host` must be set to `take`."""

    def __init__(self, name: str, clock: VirtualClock, wire: Wire, tuning: Tuning | None = None) -> None:
        self.name = name
        self.clock = clock
        self.tuning = tuning or Tuning()
        self._wire = wire
        self._wire.host = self.tuning
        self._buffer = bytearray()
        self._closed = False

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def _require_open(self) -> None:
        if self._closed:
            raise LinkFault("the link is closed", where=self.name)

    def take(self, data: bytes) -> None:
        """Bytes have come over the wire."""
        self._buffer += data

    def write(self, data: bytes) -> None:
        self._require_open()
        self._wire.from_host(data)

    def read(self, until: float) -> bytes:
        self._require_open()
        agenda = self.clock.agenda
        while not self._buffer:
            due = agenda.due()
            if due is None or due > until:
                agenda.run_until(until)
                break
            agenda.run_until(due)
        data = bytes(self._buffer)
        self._buffer.clear()
        return data

    def tune(self, tuning: Tuning) -> None:
        self._require_open()
        self.tuning = self._wire.host = tuning

    def signal(self, *, dtr: bool | None = None, rts: bool | None = None) -> None:
        self._require_open()
        self._wire.from_host_signals(dtr=dtr, rts=rts)

    def lines(self) -> dict[str, bool]:
        self._require_open()
        return self._wire.driven()

    def hold_break(self, on: bool) -> None:
        self._require_open()
        self._wire.from_host_break(on)

    def close(self) -> None:
        self._closed = True
