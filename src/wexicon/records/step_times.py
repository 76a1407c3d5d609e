"""Where the time of a unit went: by step, all writes together.

The rule: the steps are those of the unit's run, in their order; times are sums, in seconds.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from wexicon.core.durations import spoken
from wexicon.core.text import visible

# Of a long list of steps, those that took longest.
MOST_TOLD = 5


def step_name(step: str) -> str:
    """A step without what it is about."""
    return "write" if step.startswith("write ") else visible(step)[:24]


def times_by_step(steps: Iterable[Mapping[str, Any]]) -> dict[str, float]:
    """How long each step took, in the order of the run. Each is a record with `step` and `seconds`."""
    taken: dict[str, float] = {}
    for one in steps:
        name = step_name(str(one["step"]))
        taken[name] = taken.get(name, 0.0) + float(one["seconds"])
    return taken


def told_times(steps: Iterable[Mapping[str, Any]]) -> str:
    """The longest steps, the longest first, and the rest as one; empty if nothing took any time."""
    taken = sorted(times_by_step(steps).items(), key=lambda one: -one[1])
    told = [f"{name} {spoken(round(seconds, 3))}" for name, seconds in taken[:MOST_TOLD] if seconds >= 0.001]
    rest = sum(seconds for _, seconds in taken[MOST_TOLD:])
    return ", ".join(told + ([f"other steps {spoken(round(rest, 3))}"] if rest >= 0.001 else []))
