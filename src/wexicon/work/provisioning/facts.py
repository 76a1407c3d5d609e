"""What is known of one setting while a unit is worked on, and what it comes to.

The rule: "after" is the last reading, and counts only where nothing was written, and the module did not start, since.
"""

from __future__ import annotations

from wexicon.core.formats.lexicon import Setting
from wexicon.core.results.result import Outcome
from wexicon.core.results.unit import SettingResult, Shown
from wexicon.core.text import HIDDEN, visible
from wexicon.core.values import UNSET, Value
from wexicon.work.module.readings import Reading


class SettingFacts:
    """What is known of one setting during the walk."""

    def __init__(self, setting: Setting, wanted: Value | None) -> None:
        self.setting = setting
        self.wanted = wanted
        self.before: Reading | None = None
        self.granted: Reading | None = None
        self.after: Reading | None = None
        self.written = False
        self.refused = ""
        # Stored, and not in use: the module has yet to start with it.
        self.pending = False
        self.note = ""
        # The part of the value that the module answers, if it shows no more of it.
        self.part: str | None = None

    def right(self) -> bool:
        """Whether the last reading equals the wanted value."""
        latest = self.after or self.before
        return latest is not None and latest.value is not None and self.setting.matches(latest.value, self.wanted)

    def part_right(self) -> bool | None:
        """Whether the part that the module answers is right; None if it answers none."""
        if self.part is None or self.wanted is None or self.wanted is UNSET:
            return None
        return self.setting.shown_right(self.part, self.wanted)

    def misread(self) -> str:
        """Why the last reading is not understood; empty if it is."""
        reading = self.after
        return f"not understood: it {reading.why}" if reading is not None and reading.value is None else ""

    def rounded(self) -> bool:
        """Whether the module made another value of the wanted one, within the tolerance."""
        return self.setting.tolerance is not None and self.after is not None and self.after.value != self.wanted

    def outcome(self, *, final: bool) -> Outcome:
        """What became of it; `final` where the last reading came after all writing."""
        if self.refused:
            return Outcome.REFUSED
        if not self.setting.readable:
            if final and self.part_right() is False:
                return Outcome.DIFFERS
            return Outcome.ACCEPTED if self.written else Outcome.UNVERIFIED
        if not final or self.after is None:
            return Outcome.NOT_READ
        if self.after.value is None and self.setting.from_link:
            return Outcome.UNVERIFIED
        if not self.right():
            return Outcome.DIFFERS
        if self.pending:
            return Outcome.UNVERIFIED
        return Outcome.CHANGED if self.written else Outcome.UNCHANGED

    def result(self, *, final: bool, failed: str = "") -> SettingResult:
        """What became of it, as data; `failed` says why it could not be read, where nothing was wanted."""
        setting = self.setting
        before, after = self._shown(self.before), self._shown(self.after) if final else None
        reading = self.after or self.before
        raw = HIDDEN if setting.secret and reading else reading.text if reading else ""
        factory = Shown.of(setting, setting.factory)
        granted, granted_raw = self._shown(self.granted), self.granted.text if self.granted else ""
        if self.wanted is None:
            outcome = Outcome.READ if self.before is not None else Outcome.NOT_READ
            note = self.misread() or self.note or failed or ("" if setting.readable else "cannot be read")
            return SettingResult(
                setting.name, outcome, before, None, after, note, raw, factory, False, granted, granted_raw
            )
        outcome, note = self.outcome(final=final), self.misread() or self.note
        if final and (fits := self.part_right()) is not None:
            shown = f"{abs(setting.shows)} characters of it are answered, "
            note = note or shown + ("and these are right" if fits else "and these differ")
        if outcome is Outcome.DIFFERS and self.written and after:
            note = note or f"acknowledged, but reads back as {visible(after.shown)}"
        elif outcome in (Outcome.ACCEPTED, Outcome.UNVERIFIED):
            note = note or "cannot be read"
        elif outcome in (Outcome.CHANGED, Outcome.UNCHANGED) and self.after and self.rounded():
            made = f"the module made {visible(setting.show(self.after.value))} of it, " if self.written else ""
            note = note or f"{made}within the tolerance"
        wanted = Shown.of(setting, self.wanted)
        return SettingResult(
            setting.name, outcome, before, wanted, after, note, raw, factory, self.pending, granted, granted_raw
        )

    def planned(self) -> SettingResult:
        """What would become of it: nothing was written."""
        made = self.result(final=True)
        if self.right() and not self.pending:
            made.outcome = Outcome.UNCHANGED
        else:
            made.outcome = Outcome.TO_WRITE if self.setting.writable else Outcome.DIFFERS
        if self.setting.readable and self.setting.writable:
            made.note = self.misread() or self.note
        made.after = None
        return made

    def _shown(self, reading: Reading | None) -> Shown | None:
        if reading is None:
            return None
        if reading.value is None:
            return Shown(None, "", reading.shown(self.setting))
        return Shown.of(self.setting, reading.value)
