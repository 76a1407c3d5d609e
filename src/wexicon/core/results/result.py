"""What all results have in common: the words of verdict, outcome and evidence, why something failed, measurements with their
limits, and the masking of secrets in a finished result.

The rule: a verdict has one exit status, the same for every command, and every exception becomes a failure here. A number
outside its limits fails the test that took it. A text that holds a secret is masked, a number that is one becomes null.
"""

from __future__ import annotations

from datetime import datetime
from enum import Enum, StrEnum
from typing import TYPE_CHECKING, Self

import msgspec

from wexicon.core.faults import Fault, ModuleFault, Part, Skipped, Stopped, Unreachable
from wexicon.core.text import HIDDEN, Secret, written

if TYPE_CHECKING:
    from wexicon.core.protocol.masking import Secrets
    from wexicon.core.protocol.session import Session


class Outcome(StrEnum):
    """The outcome of a setting: `unchanged` (read, was right), `changed` (written, reads back right), `accepted` (written,
    acknowledged, cannot be read), `unverified` (cannot be read, was not written), `refused`, `differs`, `not read` (a
    failure or a stop came first), `read` (no value was wanted), `to be written` (a plan: nothing was written yet),
    `side effect` (no value was wanted, something was written, and it is another one than before), `allowed side effect` (one
    that sheet or lexicon allow)."""

    UNCHANGED = "unchanged"
    CHANGED = "changed"
    ACCEPTED = "accepted"
    UNVERIFIED = "unverified"
    REFUSED = "refused"
    DIFFERS = "differs"
    NOT_READ = "not read"
    READ = "read"
    TO_WRITE = "to be written"
    SIDE_EFFECT = "side effect"
    ALLOWED = "allowed side effect"


class Evidence(StrEnum):
    """The strongest evidence that was observed in this run for the final reading; see docs/proof.md. After a `warm-restart` it
    is not known whether the module had loaded the saved values, or kept those in its working memory."""

    NONE = ""
    READING = "reading"
    WARM = "warm-restart"
    RESTART = "restart"
    POWER = "power-cycle"

    def at_least(self, other: Evidence) -> bool:
        """Whether this evidence is as strong as another."""
        return _STRENGTH.index(self) >= _STRENGTH.index(other)


_STRENGTH = list(Evidence)


class Tests(StrEnum):
    """Which tests are run: all, those that write nothing, or none."""

    ALL = "all"
    HARMLESS = "harmless"
    NONE = "none"


class Prove(StrEnum):
    """The evidence that is required; `auto` is the strongest that needs no operator action beyond attention; `twice`, the same
    after a second start too."""

    AUTO = "auto"
    POWER = "power"
    RESTART = "restart"
    READING = "reading"
    TWICE = "twice"

    @property
    def requires(self) -> Evidence:
        """The weakest evidence that is enough."""
        return {Prove.POWER: Evidence.POWER, Prove.RESTART: Evidence.WARM, Prove.TWICE: Evidence.WARM}.get(
            self, Evidence.READING
        )

    @property
    def starts(self) -> int:
        """How many starts must be observed, with a reading after each."""
        return 2 if self is Prove.TWICE else 0


class Verdict(StrEnum):
    """The verdict of a result. Of a unit: `conforms` (every wanted setting is unchanged or changed), `unproved` (nothing is
    wrong, but a setting is accepted or unverified, or the evidence is weaker than required), `failed`, `stopped`,
    `skipped`, `read` (no values were wanted and all were read), `planned` (a dry run). Of an action: `done`. Of a dialogue,
    of traffic and of a measurement: `passed`."""

    CONFORMS = "conforms"
    UNPROVED = "unproved"
    FAILED = "failed"
    STOPPED = "stopped"
    SKIPPED = "skipped"
    READ = "read"
    PLANNED = "planned"
    DONE = "done"
    PASSED = "passed"


# The exit status of a verdict; of a failed or skipped one its failure has it.
STATUS = {
    Verdict.CONFORMS: 0,
    Verdict.UNPROVED: 4,
    Verdict.FAILED: 1,
    Verdict.STOPPED: 130,
    Verdict.SKIPPED: 0,
    Verdict.READ: 0,
    Verdict.PLANNED: 0,
    Verdict.DONE: 0,
    Verdict.PASSED: 0,
}
EVIDENCE_TEXT = {
    Evidence.POWER: "read back after a power cycle",
    Evidence.RESTART: "read back after a restart",
    Evidence.WARM: "kept over a restart; power not cycled",
    Evidence.READING: "read without a restart; persistence not tested",
}


REPORT = "This is a bug in Wexicon, not in your module. Please report it, with the trace and the command that you ran."


class Failure(msgspec.Struct):
    """Why it failed: the step, the reason, what was sent, expected and received, the likely cause or next step, the exit
    status."""

    step: str
    what: str
    said: str = ""
    expected: str = ""
    heard: list[str] = []
    next: str = ""
    status: int = 1

    @classmethod
    def of(cls, fault: Fault, step: str) -> Failure:
        """The failure that a fault stands for."""
        part = fault.part
        return cls(step, fault.what, part.said, part.expected, part.heard, fault.hint, fault.status)

    def fault(self) -> Fault:
        """A fault that stands for this failure."""
        part = Part(self.said, self.expected, self.heard)
        kinds: dict[int, type[Fault]] = {one.status: one for one in (Stopped, Skipped, Unreachable, ModuleFault)}
        return kinds.get(self.status, Fault)(self.what, where=self.step, hint=self.next, part=part)


def verdict_of(fault: BaseException, step: str) -> tuple[Verdict, Failure]:
    """The verdict and the failure of any exception that ended a step."""
    from wexicon.core.values import ValueFault

    if isinstance(fault, Fault):
        ends = {Stopped: Verdict.STOPPED, Skipped: Verdict.SKIPPED}
        return ends.get(type(fault), Verdict.FAILED), Failure.of(fault, step)
    if isinstance(fault, ValueFault):
        return Verdict.FAILED, Failure(step, f"{fault.value!r} {fault.why}", next=f"Allowed: {fault.allowed}")
    if isinstance(fault, KeyboardInterrupt):
        again = "Run it again; it finishes the work."
        return Verdict.STOPPED, Failure(step, "stopped at once on request", next=again, status=130)
    return Verdict.FAILED, Failure(step, f"internal error ({type(fault).__name__}: {fault})", next=REPORT)


def is_bug(fault: BaseException) -> bool:
    """Whether no fault of ours stands for this exception."""
    from wexicon.core.values import ValueFault

    return not isinstance(fault, Fault | ValueFault | KeyboardInterrupt)


def status_of(verdict: Verdict, failure: Failure | None) -> int:
    """The exit status of a verdict and its failure."""
    if failure and verdict in (Verdict.FAILED, Verdict.SKIPPED):
        return failure.status
    return STATUS[verdict]


def traceback_of(fault: BaseException) -> str:
    """A bug with the places that led to it, for the trace."""
    from traceback import format_exception

    return "".join(format_exception(fault, limit=-6))


class Result(msgspec.Struct, kw_only=True):
    """`exchanges` counts the lines that were said and answered; `seconds` is how long it took; `trace` is the trace file."""

    verdict: Verdict = Verdict.FAILED
    failure: Failure | None = None
    exchanges: int = 0
    seconds: float = 0.0
    trace: str = ""

    @property
    def status(self) -> int:
        """The exit status."""
        return status_of(self.verdict, self.failure)

    def require(self) -> Self:
        """This result. If it failed, was stopped or was skipped, raises a Fault, with what was said and heard as its `part`."""
        if self.verdict in (Verdict.FAILED, Verdict.STOPPED, Verdict.SKIPPED):
            raise self.failure.fault() if self.failure else ModuleFault(f"the verdict is {self.verdict}")
        return self

    def ended_by(self, fault: BaseException, step: str, session: Session | None = None) -> None:
        """Takes the exception that ended the work; a bug goes to the session's trace with its places."""
        self.verdict, self.failure = verdict_of(fault, step)
        if session and is_bug(fault):
            session.log(f"internal error: {traceback_of(fault)}")

    def timed(self, session: Session, began: float) -> None:
        """Takes the count of exchanges and the time since `began` from a session."""
        self.exchanges, self.seconds = session.exchanges, round(session.clock.now() - began, 6)


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
    def text(self) -> str:
        """The value with its unit."""
        return f"{self.value:g} {self.unit}".rstrip()

    @property
    def limits(self) -> str:
        """The limits as a person reads them: `5 to 80`, `at most 80`, `at least 5`, or nothing."""
        if self.low is not None and self.high is not None:
            return f"{self.low:g} to {self.high:g}"
        if self.high is not None:
            return f"at most {self.high:g}"
        return f"at least {self.low:g}" if self.low is not None else ""


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
    "lexicon_from",
    "wexicon",
    "sheet",
    "trace",
)
_COUNTS = ("status", "written", "said_by_dialogues", "exchanges", "seconds", "on_wire", "waiting", "pauses")
_OURS = frozenset((*_NAMES, *_COUNTS))


def masked(data: object, secrets: Secrets) -> object:
    """A result without secrets; its structs are changed in place."""
    if isinstance(data, Secret):
        return HIDDEN
    if isinstance(data, msgspec.Struct):
        if data.__struct_config__.frozen:
            return type(data)(**{name: masked(getattr(data, name), secrets) for name in data.__struct_fields__})
        for field in data.__struct_fields__:
            if field not in _OURS:
                setattr(data, field, masked(getattr(data, field), secrets))
        return data
    if isinstance(data, dict):
        return {name: masked(value, secrets) for name, value in data.items()}
    if isinstance(data, (list, tuple)):
        return [masked(value, secrets) for value in data]
    if isinstance(data, Enum | bool | datetime) or data is None or not secrets.any:
        return data
    if isinstance(data, str):
        return secrets.mask(data)
    return None if secrets.mask(written(data)) == HIDDEN else data
