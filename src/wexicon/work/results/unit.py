"""The result of one unit: each setting with before, wanted, after and its outcome, the evidence, the verdict.

The rule: "after" is only ever a value that was read; nothing secret is in a result. `judge` alone decides the verdict.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from decimal import Decimal
from typing import Any

import msgspec

from wexicon.core.formats.lexicon import Lexicon, Setting
from wexicon.core.text import encodable
from wexicon.core.values import UNSET, FileContent, Value, ValueFault
from wexicon.version import __version__
from wexicon.work.results.measurement import Measurement
from wexicon.work.results.result import Result
from wexicon.work.results.sheet_test import SheetTestResult
from wexicon.work.results.verdicts import Evidence, Outcome, Prove, Verdict


class Shown(msgspec.Struct):
    """A value: as its type (null if it is a secret, or was not understood), its unit, and its text for people. Text from a
    module is as it was sent: printing it must escape it."""

    value: str | int | float | bool | dict[str, object] | list[object] | None
    unit: str
    shown: str

    @classmethod
    def of(cls, setting: Setting, value: Value | None) -> Shown | None:
        """A setting's value; None if there is none."""
        if value is None:
            return None
        if isinstance(value, FileContent):
            value = str(value)
        unit = str(getattr(setting.kind, "unit", "")) or ("baud" if setting.kind.rates() else "")
        if setting.secret:
            return cls(None, "", setting.show(value))
        if value is UNSET:
            return cls(None, unit, "unset")
        plain: Any = _plain(value)
        return cls(plain, unit, setting.show(value))

    def storable(self) -> Shown:
        """The same where it is stored: without the value if that is text that is no UTF-8."""
        return self if encodable(self.value) == self.value else Shown(None, self.unit, encodable(self.shown))

    def value_for(self, setting: Setting) -> Value:
        """The value again, as a sheet would have it. Raises ValueFault if the setting cannot take it."""
        if self.value is None and self.shown != "unset":
            raise ValueFault(self.shown, "was not understood", setting.kind.allowed())
        return setting.check("unset" if self.value is None else self.value)


def _plain(value: object) -> object:
    """A value as JSON can hold it."""
    if isinstance(value, list):
        return [_plain(one) for one in value]
    return float(value) if isinstance(value, Decimal) else value


class SettingResult(msgspec.Struct):
    """The result of one setting; before, wanted and after are null if there is no value. `raw` is the module's own text of
    the last reading, `factory` the factory default if the lexicon has it; `pending`: stored, active after a restart;
    `granted` is what the network granted, in its own text `granted_raw`."""

    name: str
    outcome: Outcome
    before: Shown | None = None
    wanted: Shown | None = None
    after: Shown | None = None
    note: str = ""
    raw: str = ""
    factory: Shown | None = None
    pending: bool = False
    granted: Shown | None = None
    granted_raw: str = ""


class PlannedLine(msgspec.Struct):
    """One line of a dry run, and the step that it belongs to; empty if the operator does the step."""

    step: str
    says: str


class StepTime(msgspec.Struct):
    """How many seconds a step took."""

    step: str
    seconds: float


class UnitResult(Result):
    """The result of one unit. `link` is our side's rate and frame at the end; `started` is UTC; `sheet` and `lexicon_digest`
    are SHA-256 digests of the files; `trusted` are settings whose acknowledgement was enough, `also_changed` settings outside
    the sheet that changed; `kept` and `measurements` come from the sheet's dialogues; `starts` counts the
    starts that were observed since the last write, with a reading after each; `lexicon_from` is the lexicon's file;
    `said_by_dialogues` counts the lines that the sheet's dialogues said; `tests` are the sheet's tests of this unit; `unit` is
    what tells this module from others of its family; `prior` is what all readable settings were before the first write, by
    the run that made it, secrets left out; empty if nothing was written; `trust` are the settings whose acknowledgement the
    sheet says is enough."""

    evidence: Evidence = Evidence.NONE
    seat: str = ""
    port: str = ""
    link: str = ""
    lexicon: str = ""
    identity: dict[str, str] = {}
    unit: str = ""
    settings: list[SettingResult] = []
    measurements: list[Measurement] = []
    kept: dict[str, object] = {}
    plan: list[PlannedLine] = []
    trusted: list[str] = []
    also_changed: list[str] = []
    trust: list[str] = []
    remarks: list[str] = []
    written: int = 0
    said_by_dialogues: int = 0
    starts: int = 0
    steps: list[StepTime] = []
    started: datetime | None = None
    wexicon: str = __version__
    sheet: str = ""
    lexicon_digest: str = ""
    lexicon_from: str = ""
    tests: list[SheetTestResult] = []
    prior: dict[str, Shown] = {}

    @property
    def status(self) -> int:
        """The exit status: of the settings, or of the tests if those are right."""
        own = super().status
        tests = [test.status for test in self.tests]
        return next((one for one in (130, 2, 3, 1, 4) if one == own or one in tests), 0)

    def about(self, seat: str, port: str, lexicon: Lexicon, trace: str, sheet: str = "") -> UnitResult:
        """The same, with its seat, port, lexicon and files."""
        self.seat, self.port, self.trace, self.sheet = seat, port, trace, sheet
        self.lexicon, self.lexicon_digest = lexicon.about.family, lexicon.digest
        return self


def judge(
    settings: Iterable[SettingResult], evidence: Evidence, required: Prove, trust: Iterable[str] = (), starts: int = 0
) -> tuple[Verdict, list[str]]:
    """The verdict of settings and evidence, and the settings among them that rest on an acknowledgement. `trust` are those
    whose acknowledgement is enough; `starts` counts the starts that were observed with a reading after each."""
    trusted: list[str] = []
    verdict = Verdict.CONFORMS
    allowed = set(trust)
    if not evidence.at_least(required.requires) or starts < required.starts:
        verdict = Verdict.UNPROVED
    for line in settings:
        if line.outcome in (Outcome.REFUSED, Outcome.DIFFERS, Outcome.NOT_READ):
            return Verdict.FAILED, []
        if line.outcome is Outcome.ACCEPTED and line.name in allowed:
            trusted.append(line.name)
        elif line.outcome in (Outcome.ACCEPTED, Outcome.UNVERIFIED):
            verdict = Verdict.UNPROVED
    return verdict, trusted
