"""The machine's clock: monotonic seconds, and the wall time that belongs to them."""

from __future__ import annotations

import time
from datetime import UTC, datetime, timedelta

# How long one of several links is read before the others are (seconds): what arrives there is timed as exactly.
SLICE = 0.005


class RealClock:
    """The machine's monotonic clock, and the wall time that belongs to it."""

    virtual = False

    def __init__(self) -> None:
        self._wall = datetime.now(UTC) - timedelta(seconds=time.monotonic())
        # Called for each exchange several times: the function itself, not a wrapper.
        self.now = time.monotonic

    def wall(self, at: float) -> datetime:
        return self._wall + timedelta(seconds=at)

    def next_event(self) -> float:
        return self.now() + SLICE
