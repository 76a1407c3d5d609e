"""An in-memory link under a virtual clock: to wait is to do what the agenda holds, as fast as the processor goes.

The rule: time passes only while every thread that has a link open waits in a read. Only one of them runs at a time, so work on
several links gives the same result in each run. A link behaves like a serial port, but an hour takes milliseconds.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Protocol, Self

from wexicon.core.agenda import Agenda
from wexicon.core.faults import LinkFault
from wexicon.core.tuning import Tuning
from wexicon.links.sockets import NoWire

# A rehearsal has no wall time of its own; its traces all begin here.
WALL = datetime(2026, 3, 2, 8, 0, tzinfo=UTC)


class Wire(Protocol):
    """The host's end of a wire to a stand-in."""

    host: Tuning

    def from_host(self, data: bytes) -> None: ...

    def from_host_signals(self, *, dtr: bool | None = None, rts: bool | None = None) -> None: ...

    def from_host_break(self, on: bool) -> None: ...

    def driven(self) -> dict[str, bool]: ...


# How long a thread waits for its turn before it is looked whether the one that runs has ended (seconds, real time).
_LOOKS = 1.0


class VirtualClock:
    """The time of an agenda, for any number of links and threads that share this clock."""

    virtual = True

    def __init__(self, agenda: Agenda) -> None:
        self.agenda = agenda
        self._gate = threading.Condition()
        # How many links each thread has open; which of these threads runs; until when each other one waits, and for what.
        self._links: dict[int, int] = {}
        self._runs: int | None = None
        self._waits: dict[int, tuple[float, Callable[[], bool]]] = {}

    def now(self) -> float:
        return self.agenda.now

    def opened(self) -> int:
        """This thread has opened a link; waits until no other thread runs. Returns what `closed` wants to know."""
        me = threading.get_ident()
        with self._gate:
            first = me not in self._links
            self._links[me] = self._links.get(me, 0) + 1
            if first:
                self._pause(me, float("-inf"), lambda: True)
        return me

    def closed(self, who: int) -> None:
        """A link that this thread had opened is closed."""
        with self._gate:
            self._links[who] -= 1
            if not self._links[who]:
                del self._links[who]
                if self._runs == who:
                    self._runs = None
                    self._next()

    def wait(self, until: float, arrived: Callable[[], bool]) -> None:
        """Lets time pass until something has arrived, at most until then."""
        if arrived():
            return
        if len(self._links) < 2:
            self._pass(until, arrived)
            return
        with self._gate:
            self._pause(threading.get_ident(), until, arrived)

    def _pass(self, until: float, arrived: Callable[[], bool]) -> None:
        """The same for a thread that is alone."""
        agenda = self.agenda
        while not arrived():
            due = agenda.due()
            if due is None or due > until:
                agenda.run_until(until)
                return
            agenda.run_until(due)

    def _pause(self, me: int, until: float, arrived: Callable[[], bool]) -> None:
        """Lets others run, until it is this thread's turn again."""
        self._waits[me] = until, arrived
        if self._runs == me:
            self._runs = None
        self._next()
        try:
            while self._runs != me:
                if not self._gate.wait(_LOOKS) and self._runs not in {one.ident for one in threading.enumerate()}:
                    # It has ended with its link open.
                    self._runs = None
                    self._next()
        finally:
            self._waits.pop(me, None)

    def _next(self) -> None:
        """Chooses the thread that runs next, and lets time pass until one can."""
        while self._runs is None and self._waits:
            now = self.agenda.now
            for who, (until, arrived) in self._waits.items():
                if until <= now or arrived():
                    del self._waits[who]
                    self._runs = who
                    self._gate.notify_all()
                    return
            due, soonest = self.agenda.due(), min(until for until, _ in self._waits.values())
            self.agenda.run_until(soonest if due is None else min(due, soonest))

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
        self.clock.wait(until, lambda: bool(self._buffer or self._gone))
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
        self._opener = clock.opened()
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

    def _arrived(self) -> bool:
        return bool(self._buffer)

    def write(self, data: bytes) -> None:
        self._require_open()
        self._wire.from_host(data)

    def read(self, until: float) -> bytes:
        self._require_open()
        self.clock.wait(until, self._arrived)
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
        if not self._closed:
            self.clock.closed(self._opener)
        self._closed = True
