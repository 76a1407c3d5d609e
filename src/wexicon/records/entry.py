"""One record of the register, as it waits on disk and as it is shown; where the time of a unit went; two units compared.

The rule: it says who it was, what was done, and on what that rests; nothing secret is in it. Times are sums, in seconds. A
compared value was read from that module; a setting that only one of them has differs.
"""

from __future__ import annotations

import os
from collections.abc import Iterable
from datetime import UTC, datetime

import msgspec

from wexicon.core.results.unit import StepTime, UnitResult
from wexicon.core.text import spoken, visible
from wexicon.settings_file import value_of
from wexicon.system import host_name


def bench_name() -> str:
    """What this bench is called: by its settings, or the machine's name."""
    return value_of("bench") or host_name()


class RecordedResult(UnitResult):
    """The result of a unit as it is recorded; `digests` are those of its secrets, and the name of the key that made them."""

    digests: dict[str, str] = msgspec.field(default_factory=dict)


class Entry(msgspec.Struct):
    """One record: which unit it was (its family and its identity), what it is called in the sheet, what was done (`did`), the
    verdict and its evidence, the sheet's title and digest, the row of the table, the bench, when (UTC), the whole result;
    `task` is the unit of a sheet that it finishes, where benches share those; `replaces` the id of the record whose place it
    takes: one of the same unit, made before its tests had run."""

    unit: str
    name: str
    lexicon: str
    did: str
    verdict: str
    evidence: str
    sheet: str
    digest: str
    row: dict[str, str]
    result: RecordedResult
    id: str = msgspec.field(default_factory=lambda: os.urandom(16).hex())
    bench: str = msgspec.field(default_factory=bench_name)
    at: str = msgspec.field(default_factory=lambda: datetime.now(UTC).isoformat(timespec="milliseconds"))
    task: str = ""
    replaces: str = ""

    @property
    def when(self) -> str:
        """When and where, as it is reported."""
        return f"on {self.at[:16].replace('T', ' ')} UTC at {self.bench}"


# Of a long list of steps, those that took longest.
MOST_TOLD = 5


def step_name(step: str) -> str:
    """A step without what it is about."""
    return "write" if step.startswith("write ") else visible(step)[:24]


def times_by_step(steps: Iterable[StepTime]) -> dict[str, float]:
    """How long each step took, in the order of the run."""
    taken: dict[str, float] = {}
    for one in steps:
        name = step_name(one.step)
        taken[name] = taken.get(name, 0.0) + one.seconds
    return taken


def told_times(steps: Iterable[StepTime]) -> str:
    """The longest steps, the longest first, and the rest as one; empty if nothing took any time."""
    taken = sorted(times_by_step(steps).items(), key=lambda one: -one[1])
    told = [f"{name} {spoken(round(seconds, 3))}" for name, seconds in taken[:MOST_TOLD] if seconds >= 0.001]
    rest = sum(seconds for _, seconds in taken[MOST_TOLD:])
    return ", ".join(told + ([f"other steps {spoken(round(rest, 3))}"] if rest >= 0.001 else []))


class SettingPair(msgspec.Struct, frozen=True):
    """One setting of two units, as text; empty where it was not read."""

    setting: str
    first: str
    second: str
    same: bool


def compare_settings(first: Iterable[Entry], second: Iterable[Entry]) -> list[SettingPair]:
    """The settings of two units, from the history of each, the oldest record first."""
    a, b = _last_read(first), _last_read(second)
    names = dict.fromkeys([*a, *b])
    return [SettingPair(name, a.get(name, ""), b.get(name, ""), a.get(name) == b.get(name)) for name in names]


def _last_read(history: Iterable[Entry]) -> dict[str, str]:
    values: dict[str, str] = {}
    for one in history:
        values |= {name: shown.shown for name, shown in one.result.prior.items()}
        values |= {line.name: line.after.shown for line in one.result.settings if line.after}
    return values
