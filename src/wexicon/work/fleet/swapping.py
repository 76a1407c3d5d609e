"""Who is at a port, and what a batch works with: waits for a swap or a scan, and asks the module who it is.

The rule: a module that is another unit of the batch is not taken; operators are told once what to do, and heard all the time.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress

import msgspec

from wexicon.core.faults import Fault, ModuleFault, RegisterAway, Unreachable
from wexicon.core.formats.jobs import Job
from wexicon.core.results.unit import UnitResult
from wexicon.core.text import visible
from wexicon.core.values import Value
from wexicon.work.fleet.claims import Claims, Known
from wexicon.work.fleet.generated import GeneratedSecrets
from wexicon.work.fleet.scheduler import ProgressCallback, Scheduler, UnitProgress
from wexicon.work.module.module import Module
from wexicon.work.provisioning.unfinished import Store

# How often a port is looked at while its module is being swapped (seconds).
LOOKS = 0.4
# What operators may type while a module is being swapped: to leave this unit out, to do the one before again; any other line
# names the row or the unit that comes next. END: there is nothing more to be typed.
SKIP, AGAIN, END = "skip", "again", "\x04"
# After how long operators are reported that the old module is still there.
REMINDS = 10.0


class OperatorRequest(Fault):
    """The operator wants something else than the swap: `request`, or the unit `chosen`."""

    def __init__(self, request: str, chosen: Job | None = None) -> None:
        super().__init__("skipped on request")
        self.request, self.chosen = request, chosen


class Means(msgspec.Struct, kw_only=True):
    """What a batch works with: `claims` assign units to runs, `store` has unfinished work, `known` are values of units that
    were provisioned before, `generated` gives the secrets that are drawn for each unit, `wanted` is filled with the values of
    each. `progress` is shown each step, `keep` each result; `tested` runs the tests of a unit that is done; `request` returns
    what the operator wants instead of a swap: SKIP, AGAIN or nothing; `stopping` whether a stop was requested. `swaps`: a port
    that takes another unit needs the operator, who is waited for `patience` seconds."""

    claims: Claims
    store: Store = msgspec.field(default_factory=Store)
    known: Known = msgspec.field(default_factory=dict)
    generated: GeneratedSecrets = msgspec.field(default_factory=GeneratedSecrets)
    wanted: dict[str, dict[str, Value]] = msgspec.field(default_factory=dict)
    progress: ProgressCallback = lambda progress: None
    keep: Callable[[Job, UnitResult], None] = lambda job, result: None
    tested: Callable[[Job, UnitResult], None] = lambda job, result: None
    request: Callable[[], str] = lambda: ""
    stopping: Callable[[], bool] = lambda: False
    swaps: bool = True
    patience: float = 60.0


class Swapping:
    """The modules that come to the ports of a batch, one after the other; with `scan` a line names each."""

    def __init__(self, jobs: Sequence[Job], scheduler: Scheduler, means: Means, *, scan: bool) -> None:
        self.jobs, self.scheduler, self.means, self.scan = jobs, scheduler, means, scan
        # The unit that was named for a port.
        self._scanned: dict[str, str] = {}

    def forget(self, port: str) -> None:
        """The unit that was named for a port is none that can be made there."""
        self._scanned.pop(port, None)

    def met(self, job: Job, module: Module, *, asks: bool, last: str) -> dict[str, str]:
        """Who is on the port: a module that is no other unit of this batch. Asks for it to be put there where that is due."""
        session, operator = module.session, module.operator
        if self.scan and self._scanned.get(session.link.name) != job.name:
            self._await_scan(job, module, last)
        until = session.clock.now() + self.means.patience
        if asks and not self.scan:
            text = (
                f"Remove {visible(last)}. Insert the module for {job.name}."
                if last
                else f"Insert the module for {job.name}."
            )
            while self.means.request():
                pass  # nothing was requested
            self.means.progress(UnitProgress(job.name, session.link.name, "to be swapped"))
            session.asked("swap", text)
            operator.ask("swap", text)
        asked = session.clock.now()
        told = gone = False
        while True:
            session.heed_stop()
            if asks and (request := self.means.request()):
                self._requested(request, job, module)
            try:
                module.attention.gain([*module.likely, module.lexicon.factory])
                identity = dict(module.identify())
                unit = job.seat.lexicon.unit_of(identity)
                before = self.scheduler.seen(unit, job)
                if before == job.name:
                    break
                # A swap takes a while; a module that went and came back is the same one.
                if not told and (gone or session.clock.now() - asked > REMINDS):
                    told = True
                    operator.ask("swap", f"That is still the module that was {before}. {_swap(job)}")
                if session.clock.now() > until:
                    raise ModuleFault(f"this module is {before}, already done in this run", hint=_swap(job))
            except Unreachable:
                gone = True
                if not asks or session.clock.now() > until:
                    raise
            module.attention.lose()
            session.quiet(LOOKS)
        if asks:
            operator.noticed()
        return identity

    def _await_scan(self, job: Job, module: Module, last: str) -> None:
        """Waits until a line names a unit. Raises OperatorRequest unless it is this one."""
        session, port = module.session, module.session.link.name
        text = "Insert a module, and scan its row or unit."
        text = f"Remove {visible(last)}. {text}" if last else text
        self.means.progress(UnitProgress(job.name, port, "to be scanned"))
        session.asked("scan", text)
        module.operator.ask("scan", text)
        while self._scanned.get(port) != job.name:
            session.heed_stop()
            if request := self.means.request():
                self._requested(request, job, module)
            else:
                session.quiet(LOOKS)

    def _requested(self, line: str, job: Job, module: Module) -> None:
        """Heeds what the operator typed or scanned. Raises OperatorRequest unless it names the unit that is waited for."""
        port = module.session.link.name
        if line == AGAIN or (line == SKIP and not self.scan) or (line == END and self.scan):
            raise OperatorRequest(line)
        chosen = self._named(line) if line != END else None
        if chosen is job:
            self._scanned[port] = job.name
        elif chosen and self.scheduler.is_left(chosen):
            self._scanned[port] = chosen.name
            raise OperatorRequest("", chosen)
        elif line != END:
            what = f"{chosen.name} is not open any more" if chosen else f"No row or unit is called {visible(line)[:60]}"
            module.operator.ask("scan", f"{what}.")

    def _named(self, line: str) -> Job | None:
        """The unit that a line names: by its name, the key of its row, or the identity that its module has in the register."""
        for job in self.jobs:
            if line in (job.name, job.row.key if job.row else job.name):
                return job
        families = dict.fromkeys(job.seat.lexicon.about.family for job in self.jobs)
        owner = ""
        with suppress(RegisterAway):
            owner = next(filter(None, map(self.means.claims.owner, (line, *(f"{one} {line}" for one in families)))), "")
        return next((job for job in self.jobs if job.name == owner), None)


def _swap(job: Job) -> str:
    return f"Insert the module for {job.name}."
