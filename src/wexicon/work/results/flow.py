"""The result of a flow control test.

The rule: it passes only if the sender was held back and nothing was lost; what was never held back shows nothing.
"""

from __future__ import annotations

import msgspec

from wexicon.work.results.result import Result


class FlowResult(Result):
    """`flow` is the kind of flow control; packets of `size` bytes were `sent`, `received`, `lost` and `damaged`. `holds` are
    the times for which the sender was held back (seconds)."""

    ports: list[str] = []
    links: list[str] = []
    flow: str = ""
    size: int = 0
    sent: int = 0
    received: int = 0
    lost: int = 0
    damaged: int = 0
    holds: list[float] = msgspec.field(default_factory=list)
    traces: list[str] = []

    @property
    def held(self) -> float:
        """For how long the sender was held back in all (seconds)."""
        return round(sum(self.holds), 3)
