"""Why something failed, and the one way from an exception to a verdict.

The rule: every result gets its failure here, so that a stop, a fault and a bug have the same verdict and status everywhere.
"""

from __future__ import annotations

import msgspec

from wexicon.core.faults import Fault, ModuleFault, Part, Skipped, Stopped, Unreachable
from wexicon.core.values import ValueFault
from wexicon.work.results.verdicts import STATUS, Verdict

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
