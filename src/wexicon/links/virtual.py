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

# A rehearsal has no wall time of its own; its traces all begin here.
WALL = datetime(2026, 3, 2, 8, 0, tzinfo=UTC)


class Wire(Protocol):
    """The host's end of a wire to a stand-in."""

    host: Tuning

    def from_host(self, data: bytes) -> None: ...

    def from_host_signals(self, *, dtr: bool | None = None, rts: bool | None = None) -> None: ...

    def from_host_break(self, on: bool) -> None: ...


class VirtualClock:
    """The time of an agenda."""

    def __init__(self, agenda: Agenda) -> None:
        self.agenda = agenda

    def now(self) -> float:
        return self.agenda.now

    def wall(self, at: float) -> datetime:
        return WALL + timedelta(seconds=at)


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

    def hold_break(self, on: bool) -> None:
        self._require_open()
        self._wire.from_host_break(on)

    def close(self) -> None:
        self._closed = True
