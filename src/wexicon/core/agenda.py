"""Calls scheduled at given times, in order. It has no clock: its owner advances the time.

The rule: with a real clock a server asks `due()` how long it may sleep and calls `run_until(now)`; under the virtual
clock a link calls `run_until` with whatever time it wants it to be. What is scheduled cannot tell the difference.
"""

from __future__ import annotations

import heapq
import itertools
from collections.abc import Callable


class Agenda:
    """`now` is the time (seconds) up to which everything has been done."""

    def __init__(self, now: float = 0.0) -> None:
        self.now = now
        self._heap: list[tuple[float, int, Callable[[], object]]] = []
        self._count = itertools.count()

    def at(self, when: float, action: Callable[[], object]) -> None:
        """Does `action` at the time `when`, or at once when that has passed, after all that was put there before."""
        heapq.heappush(self._heap, (max(when, self.now), next(self._count), action))

    def after(self, delay: float, action: Callable[[], object]) -> None:
        """Does `action` in `delay` seconds."""
        self.at(self.now + delay, action)

    def due(self) -> float | None:
        """The time of the next call, or None."""
        return self._heap[0][0] if self._heap else None

    def run_until(self, now: float) -> None:
        """Does everything up to and with the time `now`."""
        heap = self._heap
        while heap and heap[0][0] <= now:
            when, _, action = heapq.heappop(heap)
            self.now = max(self.now, when)
            action()
        self.now = max(self.now, now)
