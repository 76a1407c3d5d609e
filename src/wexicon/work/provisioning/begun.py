"""The record of one unit's work while it is done: what an earlier run has left, what is begun now, and when it is finished.

The rule: a record is closed only by an order that covers all of its settings; after an exchange of modules both are unfinished.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime

from wexicon.work.provisioning.unfinished import Store, Unfinished
from wexicon.work.results.unit import Shown


class BegunWork:
    """The work on one unit by an order of these settings. `before` is what an earlier run has left."""

    def __init__(self, store: Store, unit: str, settings: Sequence[str], sheet: str) -> None:
        self.store = store
        self.unit = unit
        self.settings = list(settings)
        self.sheet = sheet
        self.before = store.find(unit)
        # What the settings were before the first write, by an earlier run where that has left work.
        self.prior: dict[str, Shown] = dict(self.before.prior) if self.before else {}

    @property
    def resumes(self) -> bool:
        """Whether an earlier run has left work, and this order covers it."""
        return self.before is not None and set(self.before.settings) <= set(self.settings)

    def told(self) -> str:
        """What an earlier run has left, in words; empty if nothing."""
        before = self.before
        if before is None:
            return ""
        when = f"{before.began:%Y-%m-%d %H:%M} UTC" + (f" at {before.bench}" if before.bench else "")
        if self.resumes:
            return f"resuming work started on {when}"
        others = ", ".join(name for name in before.settings if name not in self.settings)
        return f"work started on {when} stays unfinished: {others} not covered here. Run its sheet again."

    def remember(self, planted: dict[str, str]) -> None:
        """Writes down what is about to be done, with what an earlier run has left."""
        before = self.before if self.before and not self.resumes else None
        names = self.settings + [name for name in (before.settings if before else ()) if name not in self.settings]
        began, sheet = (before.began, before.sheet) if before else (datetime.now(UTC), self.sheet)
        self.store.open(Unfinished(self.unit, began, names, sheet, planted=planted, prior=self.prior))

    def suspect(self, other: str) -> str:
        """Another module answers, and nobody knows which one had what was written: both are unfinished. In words."""
        earlier = self.store.find(other)
        names = self.settings + [name for name in (earlier.settings if earlier else ()) if name not in self.settings]
        prior = earlier.prior if earlier else {}
        self.store.open(Unfinished(other, datetime.now(UTC), names, self.sheet, prior=prior))
        return f"{self.unit} and {other} are both unfinished: what was written may be in either"

    def close(self) -> None:
        """The work is finished; what an earlier run has left is not, unless this one covers it."""
        if self.before is None or self.resumes:
            self.store.close(self.unit)
        else:
            self.before.planted = {}
            self.store.open(self.before)
