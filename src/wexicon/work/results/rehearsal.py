"""The result of rehearsing a sheet of many units.

The rule: only the time for a swap is an assumption, and it is reported as one.
"""

from __future__ import annotations

import msgspec

from wexicon.work.results.unit import StepTime, UnitResult


class AskedFor(msgspec.Struct):
    """A request to the operator, and how often it comes."""

    text: str
    times: int


class Rehearsal(msgspec.Struct):
    """What a sheet will take: its units, the number of `ports`, the time (seconds, in real time), `swap`, the time assumed for
    each of the `swaps`; the steps, summed over all units; the requests to the operator."""

    units: list[UnitResult]
    ports: int
    seconds: float
    swap: float
    swaps: int
    steps: list[StepTime]
    asked: list[AskedFor]
