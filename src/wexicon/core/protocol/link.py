"""What a session needs from below: a link to send and receive bytes on, and a clock. Both are given to it, never made by it.

The rule: whatever offers these few methods can be driven, be it a serial device under the real clock or a stand-in
under the virtual one; the code above is the same.
"""

from __future__ import annotations

from datetime import datetime
from typing import Protocol

from wexicon.core.tuning import Tuning


class Clock(Protocol):
    """Monotonic time in seconds, and the wall time that belongs to it."""

    def now(self) -> float: ...

    def wall(self, at: float) -> datetime:
        """The wall time (UTC) at monotonic time `at`."""


class Link(Protocol):
    """A port with its rate, frame and control lines."""

    name: str
    tuning: Tuning

    @property
    def clock(self) -> Clock:
        """The clock that the link's time is told by."""

    def write(self, data: bytes) -> None:
        """Hands all bytes over for sending; does not wait until they are sent."""

    def read(self, until: float) -> bytes:
        """Whatever has come; waits for at least one byte, at the longest to the time `until`, then gives b""."""

    def tune(self, tuning: Tuning) -> None:
        """Changes our side's rate and frame, for what is sent and received from now on."""

    def signal(self, *, dtr: bool | None = None, rts: bool | None = None) -> None:
        """Drives control lines; None leaves a line as it is."""

    def close(self) -> None: ...
