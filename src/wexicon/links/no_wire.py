"""What all sockets share: there is no wire, and so no rate, no control lines and no break.

The rule: what a socket does not have is a clear fault, not passed over.
"""

from __future__ import annotations

from typing import Self

from wexicon.core.faults import CannotTune
from wexicon.core.tuning import Tuning


class NoWire:
    """A link without a wire; it closes at the end of its block."""

    name: str
    # No byte takes any time worth counting.
    tuning = Tuning(12_000_000)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def close(self) -> None:
        """Closes it; any later use raises LinkFault."""
        raise NotImplementedError

    def tune(self, tuning: Tuning) -> None:
        if tuning.wired_as(self.tuning):
            self.tuning = tuning
            return
        raise CannotTune("a socket has no rate", where=self.name)

    def signal(self, *, dtr: bool | None = None, rts: bool | None = None) -> None:
        raise CannotTune("a socket has no control lines", where=self.name)

    def lines(self) -> dict[str, bool]:
        raise CannotTune("a socket has no control lines", where=self.name)

    def hold_break(self, on: bool) -> None:
        raise CannotTune("a socket has no break", where=self.name)
