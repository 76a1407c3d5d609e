"""What all results have in common.

The rule: a result carries its verdict and, if it failed, why; the exit status follows from these two and from nothing else.
"""

from __future__ import annotations

from typing import Self

import msgspec

from wexicon.core.faults import ModuleFault
from wexicon.core.protocol.session import Session
from wexicon.work.results.failure import Failure, is_bug, status_of, traceback_of, verdict_of
from wexicon.work.results.verdicts import Verdict


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
