"""The tap's side of a pseudo-terminal at whose other end firmware runs.

The rule: bytes that come at another rate than the tap's are garbled, as on a wire.
"""

from __future__ import annotations

import contextlib
import os
import select
from typing import Self

from wexicon.core.faults import LinkFault
from wexicon.core.standards.waveform import heard_at
from wexicon.core.tuning import Tuning
from wexicon.links.clock import RealClock
from wexicon.system import open_terminal, terminal_rate


class HostEnd:
    """A link to firmware that opens `port`."""

    def __init__(self, tuning: Tuning) -> None:
        self._fd, self._theirs, self.port = open_terminal()
        self.name, self.clock, self.tuning = self.port, RealClock(), tuning
        self._open = True

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def _other(self) -> Tuning:
        """The firmware's rate; a pseudo-terminal keeps no frame."""
        rate = terminal_rate(self._theirs)
        return Tuning.of(rate or self.tuning.rate, self.tuning.frame)

    def write(self, data: bytes) -> None:
        """Sends; what the firmware does not read in time is lost."""
        if not self._open:
            raise LinkFault("the link is closed", where=self.name)
        other = self._other()
        with contextlib.suppress(BlockingIOError):
            os.write(self._fd, data if other.rate == self.tuning.rate else heard_at(data, self.tuning, other))

    def read(self, until: float) -> bytes:
        """All that has come."""
        if not self._open:
            raise LinkFault("the link is closed", where=self.name)
        if not select.select([self._fd], [], [], max(0.0, until - self.clock.now()))[0]:
            return b""
        data, other = os.read(self._fd, 65_536), self._other()
        return data if other.rate == self.tuning.rate else heard_at(data, other, self.tuning)

    def tune(self, tuning: Tuning) -> None:
        """Our side's rate and frame."""
        self.tuning = tuning

    def signal(self, *, dtr: bool | None = None, rts: bool | None = None) -> None:
        """Does nothing: a pseudo-terminal has no lines."""

    def lines(self) -> dict[str, bool]:
        """Raises LinkFault: a pseudo-terminal has no lines."""
        raise LinkFault("a pseudo-terminal has no control lines", where=self.name)

    def hold_break(self, on: bool) -> None:
        """Does nothing."""

    def close(self) -> None:
        """Closes both ends."""
        if self._open:
            self._open = False
            os.close(self._fd)
            os.close(self._theirs)
