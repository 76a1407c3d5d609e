"""The result of a sweep: the traffic test at each of several settings.

The rule: what was lost at a point is what the sweep is for; it fails only where a point could not be measured, the settings not
be put back, or nothing was received.
"""

from __future__ import annotations

import msgspec

from wexicon.core.faults import ModuleFault
from wexicon.work.results.result import Result
from wexicon.work.results.traffic import Direction


class SweepPoint(msgspec.Struct):
    """One point: its settings as they are shown, what was sent and received each way, the share lost in percent, the median
    round trip (seconds), and what each port's module reported of the packets that it heard: least, median, greatest."""

    settings: dict[str, str]
    ways: list[Direction] = []
    lost: float = 100.0
    median: float | None = None
    signal: dict[str, dict[str, list[float]]] = {}


class SweepResult(Result):
    """The points in the order in which they were measured; `restored` is whether all settings were read back as before."""

    ports: list[str] = []
    points: list[SweepPoint] = []
    restored: bool = False
    traces: list[str] = []

    def require_something(self) -> None:
        """Fails if nothing was received at any point: that is no measurement."""
        if self.points and all(one.lost == 100 for one in self.points) and self.failure is None:
            hint = "Check that both modules share network, frequency and spreading, and how far apart they are."
            self.ended_by(ModuleFault("nothing was received at any point", hint=hint), "sweep")
