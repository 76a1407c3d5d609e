"""What a session needs from below: a link to send and receive bytes on, and a clock. Both are given to it.

The rule: a serial device under the real clock and a stand-in under the virtual one offer the same few methods, so the code
above is the same. A link that is closed refuses everything; closing it again does nothing.
"""

from __future__ import annotations

from datetime import datetime
from typing import Protocol, Self

from wexicon.core.tuning import Tuning


class Clock(Protocol):
    """Monotonic time in seconds, and the wall time that belongs to it."""

    def now(self) -> float: ...

    def wall(self, at: float) -> datetime:
        """The wall time (UTC) at monotonic time `at`."""


class LinkClock(Clock, Protocol):
    """The clock of a link, for work with several links. In `virtual` time one thread works all that belong together: it passes
    only while every thread waits for a link."""

    virtual: bool

    def next_event(self) -> float:
        """Until when one of several links may be read alone: something may arrive on another one then, not before."""


class Link(Protocol):
    """A port with its rate, frame and control lines; a context manager that closes it."""

    name: str
    tuning: Tuning

    @property
    def clock(self) -> LinkClock:
        """The clock of this link."""

    def write(self, data: bytes) -> None:
        """Queues all bytes for sending; does not wait until they are sent."""

    def read(self, until: float) -> bytes:
        """All that has come; waits for at least one byte, at most to the time `until`, then returns b""."""

    def tune(self, tuning: Tuning) -> None:
        """Changes our side's rate and frame, for what is sent and received from now on."""

    def signal(self, *, dtr: bool | None = None, rts: bool | None = None) -> None:
        """Drives control lines; None leaves a line as it is."""

    def lines(self) -> dict[str, bool]:
        """The levels of the lines that the other side drives: cts, dsr, dcd, ri. Raises CannotTune."""

    def hold_break(self, on: bool) -> None:
        """Holds our transmit line at break, or lets it go. Raises CannotTune."""

    def close(self) -> None:
        """Closes the port; any later use raises LinkFault."""

    def __enter__(self) -> Self: ...

    def __exit__(self, *exc: object) -> None: ...
