"""The one shape of everything that talks on a link: exchanges, traffic, transfers, transparent data.

The rule: bytes and time go in, observations and bytes to send come out; a machine never waits, reads or writes. The driver
in the session does that, for one machine at a time.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

from wexicon.core.protocol.observations import Heard, Observation, Role
from wexicon.core.text import to_text


class Machine(Protocol):
    """Something that talks on a link. It is driven until it is `done`."""

    @property
    def done(self) -> bool:
        """Whether it has ended: it sends nothing more and waits for nothing."""

    def feed(self, data: bytes, now: float) -> Sequence[Observation]:
        """Takes bytes that came at the time `now`."""

    def elapse(self, now: float) -> Sequence[Observation]:
        """Takes the time `now`, at which no bytes came."""

    def next_time(self) -> float | None:
        """When to call `elapse` next; None if only bytes matter."""

    def outgoing(self, now: float) -> bytes:
        """The bytes to send now, each asked for once."""


# What a collector takes at most (bytes): enough to judge by, and a module that never pauses ends it.
COLLECTED = 16_384


class Collector:
    """Sends some bytes and collects whatever comes, as transparent data. Done at the time `until`, with COLLECTED bytes, or
    `gap` seconds after the last byte once `is_answer` accepts what has come; what it accepts it accepts with more."""

    def __init__(
        self,
        until: float,
        data: bytes = b"",
        *,
        gap: float | None = None,
        is_answer: Callable[[bytes], bool] = bool,
    ) -> None:
        self.data = bytearray()
        self.done = False
        self._until = until
        self._to_send = data
        self._gap = gap
        self._is_answer = is_answer
        # When the answer began.
        self.first: float | None = None
        self._last: float | None = None

    def feed(self, data: bytes, now: float) -> Sequence[Observation]:
        self.data += data[: COLLECTED - len(self.data)]
        if self.first is None and self._is_answer(bytes(self.data)):
            self.first = now
        self._last = now
        return self.elapse(now)

    def elapse(self, now: float) -> Sequence[Observation]:
        due = self.next_time()
        self.done = len(self.data) >= COLLECTED or (due is not None and now >= due)
        return [Heard(now, to_text(bytes(self.data)), Role.UNMATCHED)] if self.done and self.data else ()

    def next_time(self) -> float | None:
        if self._gap is not None and self._last is not None and self.first is not None:
            return min(self._until, self._last + self._gap)
        return self._until

    def outgoing(self, now: float) -> bytes:
        data, self._to_send = self._to_send, b""
        return data
