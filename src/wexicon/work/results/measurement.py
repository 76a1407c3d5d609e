"""A measurement: a number with its unit, the limits that it must keep, and whether it does.

The rule: a measurement that has no limit passes; one outside its limits fails, and with it the test that took it.
"""

from __future__ import annotations

import msgspec

from wexicon.work.results.verdicts import Verdict


class Measurement(msgspec.Struct, frozen=True):
    """`value` in `unit` (empty: a plain number); `low` and `high` are the limits, null where there is none."""

    name: str
    value: float
    unit: str = ""
    low: float | None = None
    high: float | None = None
    verdict: Verdict = Verdict.PASSED

    @classmethod
    def of(
        cls, name: str, value: float, unit: str = "", low: float | None = None, high: float | None = None
    ) -> Measurement:
        """A measurement, judged by its limits; each limit is itself allowed."""
        kept = (low is None or value >= low) and (high is None or value <= high)
        return cls(name, value, unit, low, high, Verdict.PASSED if kept else Verdict.FAILED)

    @property
    def limits(self) -> str:
        """The limits as a person reads them: `5 to 80`, `at most 80`, `at least 5`, or nothing."""
        if self.low is not None and self.high is not None:
            return f"{self.low:g} to {self.high:g}"
        if self.high is not None:
            return f"at most {self.high:g}"
        return f"at least {self.low:g}" if self.low is not None else ""
