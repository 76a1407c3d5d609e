"""What came of the work, as data: one shape for a unit and one for a dialogue, for people, programs, register and reports.

The rule: "after" is only ever what was read; a value stands as its type beside the words that show it; nothing secret
stands here. What decides a verdict is `judge`, and nothing else.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from decimal import Decimal
from enum import Enum, StrEnum
from typing import Any

import msgspec

from wexicon import __version__
from wexicon.core.faults import Fault, ModuleFault, Part
from wexicon.core.formats.lexicon import Lexicon, Setting
from wexicon.core.protocol.masking import Secrets
from wexicon.core.secret import HIDDEN, Secret
from wexicon.core.text import written
from wexicon.core.values import UNSET, Value


class Outcome(StrEnum):
    """What became of a setting: `unchanged` (read, was right), `changed` (written, read back right), `accepted` (written,
    acknowledged, cannot be read), `unverified` (cannot be read, was not written), `refused`, `differs`, `not read` (a
    failure or a stop came first), `read` (nothing was wanted), `to be written` (a plan: nothing was said yet)."""

    UNCHANGED = "unchanged"
    CHANGED = "changed"
    ACCEPTED = "accepted"
    UNVERIFIED = "unverified"
    REFUSED = "refused"
    DIFFERS = "differs"
    NOT_READ = "not read"
    READ = "read"
    TO_WRITE = "to be written"


class Evidence(StrEnum):
    """The strongest that this run saw for the final reading; see docs/proof.md."""

    NONE = ""
    READING = "reading"
    RESTART = "restart"
    POWER = "power-cycle"


class Prove(StrEnum):
    """What is asked for; `auto` is the strongest that needs no hands beyond those that attention needs anyway."""

    AUTO = "auto"
    POWER = "power"
    RESTART = "restart"
    READING = "reading"


class Verdict(StrEnum):
    """What became of a unit: `conforms` (every wanted setting is unchanged or changed), `unproved` (nothing is wrong, but
    something is accepted or unverified, or the evidence is weaker than was asked for), `failed`, `stopped`, `skipped`;
    `read` where nothing was wanted and all was read; `planned` where it was only worked out what would be said;
    `done` an action whose replies were right."""

    CONFORMS = "conforms"
    UNPROVED = "unproved"
    FAILED = "failed"
    STOPPED = "stopped"
    SKIPPED = "skipped"
    READ = "read"
    PLANNED = "planned"
    DONE = "done"


STATUS = {
    Verdict.CONFORMS: 0,
    Verdict.READ: 0,
    Verdict.PLANNED: 0,
    Verdict.SKIPPED: 0,
    Verdict.UNPROVED: 4,
    Verdict.STOPPED: 130,
}
REPORT = "This is a bug in Wexicon, not in your module. Please report it, with the trace and the command that you ran."
_STRENGTH = [Evidence.NONE, Evidence.READING, Evidence.RESTART, Evidence.POWER]
_ASKED = {Prove.POWER: Evidence.POWER, Prove.RESTART: Evidence.RESTART}
EXPLAINED = {
    Evidence.POWER: "read back after a power cycle",
    Evidence.RESTART: "read back after a restart",
    Evidence.READING: "read without a restart; persistence not tested",
}


def at_least(evidence: Evidence, other: Evidence) -> bool:
    """Whether evidence is as strong as another."""
    return _STRENGTH.index(evidence) >= _STRENGTH.index(other)


class Shown(msgspec.Struct):
    """A value: as its type (null where it is a secret, or not understood), its unit, and as it is shown. What a module sent
    stands as it was sent: whoever prints it escapes it."""

    value: str | int | float | bool | dict[str, Any] | None
    unit: str
    shown: str

    @classmethod
    def of(cls, setting: Setting, value: Value | None) -> Shown | None:
        """A setting's value; None where there is none."""
        if value is None:
            return None
        unit = str(getattr(setting.kind, "unit", "")) or ("baud" if setting.kind.rates() else "")
        if setting.secret:
            return cls(None, "", setting.show(value))
        if value is UNSET:
            return cls(None, unit, "unset")
        plain: Any = float(value) if isinstance(value, Decimal) else value
        return cls(plain, unit, setting.show(value))


class SettingResult(msgspec.Struct):
    """What became of one setting; before, wanted and after are null where there is none. `raw` are the module's own words
    for the last reading, `factory` its factory default where the lexicon tells it."""

    name: str
    outcome: Outcome
    before: Shown | None = None
    wanted: Shown | None = None
    after: Shown | None = None
    note: str = ""
    raw: str = ""
    factory: Shown | None = None


class PlannedLine(msgspec.Struct):
    """One line that would be said, and the step that it belongs to; empty where a step is done by hands."""

    step: str
    says: str


class Failure(msgspec.Struct):
    """Why it failed: the step, what went wrong, what was said and heard, what it points to, the exit status."""

    step: str
    what: str
    said: str = ""
    expected: str = ""
    heard: list[str] = []
    next: str = ""
    status: int = 1

    @classmethod
    def of(cls, fault: Fault, step: str) -> Failure:
        """The record of a fault."""
        part = fault.part if isinstance(fault, ModuleFault) else Part()
        return cls(step, fault.what, part.said, part.expected, part.heard, fault.hint, fault.status)

    @classmethod
    def unforeseen(cls, fault: BaseException, step: str) -> Failure:
        """The record of what no Fault stands for: a second Ctrl-C, or a mistake in Wexicon itself."""
        if isinstance(fault, KeyboardInterrupt):
            return cls(step, "stopped at once on request", next="Run it again; it finishes the work.", status=130)
        return cls(step, f"internal error ({type(fault).__name__}: {fault})", next=REPORT)


class StepTime(msgspec.Struct):
    """How many seconds a step took."""

    step: str
    seconds: float


class UnitResult(msgspec.Struct):
    """What came of one unit. `link` is our side's rate and frame at the end; `started` is UTC; `sheet` and `lexicon_digest`
    are SHA-256 digests of the files; `trusted` are the settings taken on the module's word, `also_changed` those that no sheet
    named and that are not as they were."""

    verdict: Verdict = Verdict.FAILED
    evidence: Evidence = Evidence.NONE
    seat: str = ""
    port: str = ""
    link: str = ""
    lexicon: str = ""
    identity: dict[str, str] = {}
    settings: list[SettingResult] = []
    plan: list[PlannedLine] = []
    failure: Failure | None = None
    trusted: list[str] = []
    also_changed: list[str] = []
    remarks: list[str] = []
    written: int = 0
    exchanges: int = 0
    seconds: float = 0.0
    steps: list[StepTime] = []
    started: datetime | None = None
    wexicon: str = __version__
    sheet: str = ""
    lexicon_digest: str = ""
    trace: str = ""

    @property
    def status(self) -> int:
        """The exit status that it stands for."""
        if self.verdict is Verdict.SKIPPED and self.failure:
            return self.failure.status
        return STATUS.get(self.verdict, self.failure.status if self.failure else 1)

    def about(self, seat: str, port: str, lexicon: Lexicon, trace: str, sheet: str = "") -> UnitResult:
        """The same, with where it comes from."""
        self.seat, self.port, self.trace, self.sheet = seat, port, trace, sheet
        self.lexicon, self.lexicon_digest = lexicon.about.family, lexicon.digest
        return self


class DialogueVerdict(StrEnum):
    """What became of a dialogue."""

    PASSED = "passed"
    FAILED = "failed"
    STOPPED = "stopped"


class DialogueResult(msgspec.Struct):
    """What came of a dialogue. Times are seconds: in all, on the wire, waiting for the module,
    and pauses that the dialogue makes."""

    dialogue: str
    verdict: DialogueVerdict
    kept: dict[str, Any]
    notes: list[str]
    failure: Failure | None
    exchanges: int
    seconds: float
    on_wire: float
    waiting: float
    pauses: float
    trace: str = ""

    @property
    def status(self) -> int:
        """The exit status that it stands for."""
        return self.failure.status if self.failure else 0


def judge(
    settings: Iterable[SettingResult], evidence: Evidence, asked: Prove, trust: Iterable[str] = ()
) -> tuple[Verdict, list[str]]:
    """The verdict that settings and evidence stand for, and the settings among them that rest on the module's word.
    `trust` are those for which its word is enough."""
    trusted: list[str] = []
    verdict = Verdict.CONFORMS
    allowed = set(trust)
    if not at_least(evidence, _ASKED.get(asked, Evidence.READING)):
        verdict = Verdict.UNPROVED
    for line in settings:
        if line.outcome in (Outcome.REFUSED, Outcome.DIFFERS, Outcome.NOT_READ):
            return Verdict.FAILED, []
        if line.outcome is Outcome.ACCEPTED and line.name in allowed:
            trusted.append(line.name)
        elif line.outcome in (Outcome.ACCEPTED, Outcome.UNVERIFIED):
            verdict = Verdict.UNPROVED
    return verdict, trusted


def traceback_of(fault: BaseException) -> str:
    """An unforeseen fault with the places that led to it, for the trace."""
    from traceback import format_exception

    return "".join(format_exception(fault, limit=-6))


# Fields that hold our own words, names and paths.
_NAMES = (
    "name",
    "step",
    "unit",
    "seat",
    "port",
    "link",
    "dialogue",
    "lexicon",
    "lexicon_digest",
    "wexicon",
    "sheet",
    "trace",
)
_COUNTS = ("status", "written", "exchanges", "seconds", "on_wire", "waiting", "pauses")
_OURS = frozenset((*_NAMES, *_COUNTS))


def redacted(data: Any, secrets: Secrets) -> Any:
    """A result without secrets, its structs changed in place. A number that is one is null."""
    if isinstance(data, Secret):
        return HIDDEN
    if isinstance(data, msgspec.Struct):
        for field in data.__struct_fields__:
            if field not in _OURS:
                setattr(data, field, redacted(getattr(data, field), secrets))
        return data
    if isinstance(data, dict):
        return {name: redacted(value, secrets) for name, value in data.items()}
    if isinstance(data, (list, tuple)):
        return [redacted(value, secrets) for value in data]
    if isinstance(data, Enum | bool | datetime) or data is None or not secrets.any:
        return data
    if isinstance(data, str):
        return secrets.mask(data)
    return None if secrets.mask(written(data)) == HIDDEN else data
