"""The result of one unit: each setting with before, wanted, after and its outcome, the tests, the evidence, the verdict; and
the results of a dialogue, an action, trials of a lexicon, and of a rehearsal of many units.

The rule: "after" is only ever a value that was read; nothing secret is in a result. `judge` alone decides a unit's verdict; a
test has a verdict of its own. What could not be tried is null, or says why.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from decimal import Decimal
from enum import StrEnum
from typing import Any

import msgspec

from wexicon.core.formats.lexicon import Lexicon, Setting
from wexicon.core.results.result import Evidence, Measurement, Outcome, Prove, Result, Verdict
from wexicon.core.text import encodable
from wexicon.core.values import UNSET, FileContent, Value, ValueFault
from wexicon.version import __version__


class SheetTestResult(Result):
    """`parties` are the units that took part, by the names that the dialogue gives them; `wrote` is whether it may have changed
    settings, which were put back and read again; `kept` and `notes` come from its dialogue."""

    name: str
    parties: dict[str, str] = {}
    measurements: list[Measurement] = []
    kept: dict[str, object] = {}
    notes: list[str] = []
    wrote: bool = False


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
    are SHA-256 digests of the files; `trusted` are settings whose acknowledgement was enough; `kept` and `measurements` come
    from the sheet's dialogues; `starts` counts the starts that were observed since the last write, with a reading after each;
    `lexicon_from` is the lexicon's file; `said_by_dialogues` counts the lines that the sheet's dialogues said; `tests` are the
    sheet's tests of this unit; `unit` is what tells this module from others of its family; `prior` is what all readable
    settings were before the first write, by the run that made it, secrets left out; empty if nothing was written; `trust` are
    the settings whose acknowledgement the sheet says is enough; `missing` is the sign of an ordered start that did not come;
    `stronger` is what would have proved more, with what it takes."""

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
    missing: str = ""
    stronger: str = ""

    @property
    def status(self) -> int:
        """The exit status: of the settings, or of the tests if those are right."""
        own = super().status
        tests = [test.status for test in self.tests]
        return next((one for one in (130, 2, 3, 1, 4) if one == own or one in tests), 0)

    def read_again(self, again: UnitResult, required: Prove | None = None) -> None:
        """Something may have written after the proof, and all was read again: the first outcomes with the evidence of that
        reading. Where that only verified, which trusts no acknowledgement, the verdict is judged anew by what is `required`."""
        self.evidence, self.starts = again.evidence, again.starts
        self.exchanges += again.exchanges
        self.seconds = round(self.seconds + again.seconds, 6)
        self.written += again.written
        lines = {line.name: line for line in again.settings}
        for line in self.settings:
            now = lines.pop(line.name, None)
            if now is None or now.outcome in (Outcome.REFUSED, Outcome.DIFFERS, Outcome.NOT_READ):
                line.outcome, line.note = (now.outcome, now.note) if now else (Outcome.NOT_READ, "")
            if now and now.after:
                line.after = now.after
        self.settings += [line for line in lines.values() if line.outcome in (Outcome.SIDE_EFFECT, Outcome.ALLOWED)]
        self.missing, self.stronger = again.missing or self.missing, again.stronger
        if required and again.verdict is Verdict.UNPROVED:
            self.verdict, self.trusted = judge(self.settings, self.evidence, required, self.trust, self.starts)
        elif again.verdict is not Verdict.CONFORMS:
            self.verdict, self.failure = again.verdict, again.failure

    def about(self, seat: str, port: str, lexicon: Lexicon, trace: str, sheet: str = "") -> UnitResult:
        """The same, with its seat, port, lexicon and files."""
        self.seat, self.port, self.trace, self.sheet = seat, port, trace, sheet
        self.lexicon, self.lexicon_digest = lexicon.about.family, lexicon.digest
        return self


class Unfinished(msgspec.Struct):
    """What was started: on which unit, when, with which settings, by which sheet, in which process of which bench. `shared` is
    whether the register has it too; `ended` that it was seen through while the register was away. `planted` has a setting whose
    value was changed for a moment only, and what it was; `prior` what the settings were before the first write. Neither has a
    secret."""

    unit: str
    began: datetime
    settings: list[str]
    sheet: str = ""
    process: int = 0
    bench: str = ""
    shared: bool = False
    ended: bool = False
    planted: dict[str, str] = {}
    prior: dict[str, Shown] = {}


def judge(
    settings: Iterable[SettingResult],
    evidence: Evidence,
    required: Prove,
    trust: Iterable[str] = (),
    starts: int = 0,
    *,
    ordered: bool = False,
) -> tuple[Verdict, list[str]]:
    """The verdict of settings and evidence, and the settings among them that rest on an acknowledgement. `trust` are those
    whose acknowledgement is enough; `starts` counts the starts that were observed with a reading after each; `ordered` is
    whether a start was to be made."""
    trusted: list[str] = []
    verdict = Verdict.CONFORMS
    allowed = set(trust)
    missing = ordered and not evidence.at_least(Evidence.WARM)
    if missing or not evidence.at_least(required.requires) or starts < required.starts:
        verdict = Verdict.UNPROVED
    for line in settings:
        if line.outcome in (Outcome.REFUSED, Outcome.DIFFERS, Outcome.NOT_READ):
            return Verdict.FAILED, []
        if line.outcome is Outcome.ACCEPTED and line.name in allowed:
            trusted.append(line.name)
        elif line.outcome in (Outcome.ACCEPTED, Outcome.UNVERIFIED, Outcome.SIDE_EFFECT):
            verdict = Verdict.UNPROVED
    return verdict, trusted


class DialogueResult(Result):
    """The result of a dialogue. Times are seconds: in all, on the wire, waiting for the module, and pauses that the dialogue
    makes. `said` counts the lines that it said as part of a sheet; `parties` are those that took part, each with its port."""

    dialogue: str
    kept: dict[str, object] = {}
    notes: list[str] = []
    said: int = 0
    parties: dict[str, str] = {}
    measurements: list[Measurement] = []
    on_wire: float = 0.0
    waiting: float = 0.0
    pauses: float = 0.0


class ActionResult(Result):
    """The result of an action: `done` if its answers were right, `unproved` if a restart was not observed. `kept` is what its
    dialogue kept, `notes` what it told, `remarks` what else was noticed."""

    action: str
    port: str = ""
    lexicon: str = ""
    identity: dict[str, str] = {}
    plan: list[PlannedLine] = []
    kept: dict[str, object] = {}
    notes: list[str] = []
    remarks: list[str] = []


class StartTrial(Result):
    """`signs` are what showed that it started, `back_after` how long it took to answer again (seconds); `setting` is the one
    that was changed for it; `reloads` whether its unsaved change was gone; `saves_within` how long after its acknowledgement
    the save was done (seconds), of `longest` that was tried; `restored` whether the setting has its first value again, saved.
    `lines` are for the lexicon."""

    identity: dict[str, str] = {}
    signs: list[str] = []
    back_after: float | None = None
    setting: str = ""
    reloads: bool | None = None
    saves_within: float | None = None
    longest: float = 0.0
    restored: bool | None = None
    lines: list[str] = []
    remarks: list[str] = []


class Fits(StrEnum):
    """Whether the module did what the lexicon says: `fits`, `does not fit`, `not tried`."""

    YES = "fits"
    NO = "does not fit"
    NOT_TRIED = "not tried"


class Trial(msgspec.Struct):
    """One thing that was tried of a setting: `read`, `write back`, `lowest`, `highest`, `below`, `above`, `longest`, `too
    long`; `note` says what came instead, or why it was not tried."""

    setting: str
    what: str
    fits: Fits
    note: str = ""


class WriteTrial(Result):
    """`digest` is the SHA-256 of the lexicon, `firmware` the module's; `beyond` whether values outside of the ranges were
    tried; `restored` whether all settings are as they were."""

    identity: dict[str, str] = {}
    firmware: str = ""
    digest: str = ""
    beyond: bool = False
    restored: bool | None = None
    trials: list[Trial] = []
    remarks: list[str] = []
    tried: datetime | None = None
    wexicon: str = __version__

    def count(self, fits: Fits) -> int:
        """How many came out so."""
        return sum(one.fits is fits for one in self.trials)


def told_counts(result: WriteTrial) -> list[str]:
    """How many fit, do not fit, and were not tried, in words."""
    words = {Fits.YES: "fit", Fits.NO: "do not fit", Fits.NOT_TRIED: "not tried"}
    return [f"{result.count(one)} {word}" for one, word in words.items() if result.count(one)]


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
