"""The tests of a sheet: which are due for which units, and what came of them.

The rule: a test runs after the units that it needs conform. One that may write settings voids the evidence: it is unfinished
work until they were put back, and the start and the reading were repeated.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Protocol

import msgspec

from wexicon.core.dialogue import Program
from wexicon.core.dialogue.blocks import Say
from wexicon.core.dialogue.lines import Body
from wexicon.core.dialogue.parties import At
from wexicon.core.dialogue.statements import Do, Set
from wexicon.core.faults import CallFault
from wexicon.core.formats.jobs import Job
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.formats.lexicon.model import Action
from wexicon.core.formats.sheet import Sheet
from wexicon.core.formats.sheet_tests import SheetTest
from wexicon.core.results.result import Evidence, Failure, Outcome, Tests, Verdict
from wexicon.core.results.unit import DialogueResult, SheetTestResult, UnitResult
from wexicon.work.module.readings import Reading


class DueTest(msgspec.Struct, frozen=True):
    """A test for some units: one for each party, the first is the unit whose test it is."""

    test: SheetTest
    jobs: dict[str, Job]

    @property
    def owner(self) -> Job:
        """The unit whose test it is."""
        return next(iter(self.jobs.values()))

    @property
    def alone(self) -> bool:
        """Whether it needs no other unit."""
        return len({job.name for job in self.jobs.values()}) == 1

    @property
    def written(self) -> list[Job]:
        """The units of which it may change a setting: of a sweep, all."""
        if self.test.points:
            return list(self.jobs.values())
        return [job for party, job in self.jobs.items() if writes(self.test.program, party, job.seat.lexicon)]

    def values(self, results: Mapping[str, UnitResult]) -> dict[str, object]:
        """What its dialogue needs. Raises CallFault."""
        by_row = next((job for job in self.jobs.values() if job.row), self.owner)
        known: dict[tuple[str, str], str] = {}
        for job in self.jobs.values():
            result = results[job.name]
            read = {
                line.name: line.after.shown for line in result.settings if line.after and line.after.value is not None
            }
            known |= {(job.seat.name, name): text for name, text in {**read, **result.identity}.items()}
        return self.test.values(by_row.row, by_row.number, known)


def writes(program: Program, party: str, lexicon: Lexicon) -> bool:
    """Whether a dialogue may change a setting of a party ("" if it has none): it sets one, or says a line that writes one, or
    has an action that does."""
    own = (one.body for one in program.walk() if isinstance(one, At) and one.name == party)
    return any(_writes(block, lexicon) for block in (own if party else [program.statements]))


def _writes(block: Body, lexicon: Lexicon) -> bool:
    for statement in Program(block).walk():
        if isinstance(statement, Set):
            return True
        if isinstance(statement, Say) and _is_write(statement.template.source, lexicon):
            return True
        action = lexicon.actions.get(statement.name) if type(statement) is Do else None
        if action and (_changes(action, lexicon) or _writes(action.program.statements, lexicon)):
            return True
    return False


def _is_write(said: str, lexicon: Lexicon) -> bool:
    """Whether a line begins as one that writes a setting, or is one that saves or resets all of them."""
    squeezed = "".join(said.split()).casefold()
    for action in lexicon.actions.values():
        if _changes(action, lexicon):
            lines = (one.template.source for one in action.program.walk() if isinstance(one, Say))
            if squeezed in ("".join(line.split()).casefold() for line in lines):
                return True
    for setting in lexicon.settings.values():
        for phrase in (setting.write, setting.in_group.write if setting.in_group else None):
            for template in (phrase.say, *phrase.cases.values()) if phrase else ():
                if (start := "".join(template.lead.split()).casefold()) and squeezed.startswith(start):
                    return True
    return False


def _changes(action: Action, lexicon: Lexicon) -> bool:
    """Whether an action changes what is stored: it saves, or resets."""
    saves = any(action.name in setting.then for setting in lexicon.settings.values()) and not action.restarts
    return action.resets or saves


def due_tests(sheet: Sheet, jobs: Sequence[Job]) -> list[DueTest]:
    """The tests of a sheet whose units are all among these: once, or for each row."""
    by_seat: dict[str, list[Job]] = {}
    for job in jobs:
        by_seat.setdefault(job.seat.name, []).append(job)
    found = []
    for test in sheet.tests.values():
        if any(seat not in by_seat for seat in test.seats.values()):
            continue
        rows = [job.row.key for seat in test.seats.values() for job in by_seat[seat] if job.row]
        for key in dict.fromkeys(rows) or [""]:
            one = {
                party: next((job for job in by_seat[seat] if not job.row or job.row.key == key), None)
                for party, seat in test.seats.items()
            }
            if all(one.values()):
                found.append(DueTest(test, {party: job for party, job in one.items() if job}))
    return found


class TestBench(Protocol):
    """Where tests are run: ports, or stand-ins in virtual time."""

    def run(self, due: DueTest, values: Mapping[str, object], ports: Mapping[str, str]) -> DialogueResult:
        """Runs a test with these values; `ports` are those of its units, by their names."""

    def readings(self, job: Job, port: str) -> dict[str, Reading]:
        """All readable settings of a unit, before a test that writes."""

    def restore(self, job: Job, port: str, earlier: Mapping[str, Reading]) -> UnitResult:
        """Provisions a unit again, so that its settings and its evidence are as before; what else is not as `earlier` is
        told."""


class SheetTests:
    """The tests of one run, on a `bench` if there are any. `started` is called as each begins; `stopping` is
    whether a stop was requested."""

    def __init__(
        self,
        sheet: Sheet,
        jobs: Sequence[Job],
        bench: TestBench | None,
        which: Tests,
        started: Callable[[DueTest], None] = lambda due: None,
        stopping: Callable[[], bool] = lambda: False,
    ) -> None:
        self.bench = bench
        self.stopping = stopping
        self.started = started
        self.due = due_tests(sheet, jobs) if which is not Tests.NONE else []
        if which is Tests.HARMLESS:
            self.due = [one for one in self.due if not one.written]

    def alone(self, job: Job, result: UnitResult) -> None:
        """Runs the tests that need this unit only, now that it is provisioned."""
        for one in self.due:
            if one.alone and one.owner is job:
                self._run(one, {job.name: result})

    def waits(self, job: Job) -> bool:
        """Whether a test that needs other units too may yet change what came of this one."""
        return any(not one.alone and (one.owner is job or job in one.written) for one in self.due)

    def together(self, results: Mapping[str, UnitResult]) -> list[Job]:
        """Runs the tests that need several units, once all are done; the units whose results changed."""
        changed: dict[str, Job] = {}
        for one in self.due:
            # A unit that was left out has no result to hold a test.
            if not one.alone and one.owner.name in results:
                self._run(one, results)
                changed |= {job.name: job for job in (one.owner, *one.written)}
        return list(changed.values())

    def _run(self, due: DueTest, results: Mapping[str, UnitResult]) -> None:
        jobs = {job.name: job for job in due.jobs.values()}
        made = SheetTestResult(name=due.test.name, parties={party: job.name for party, job in due.jobs.items()})
        results[due.owner.name].tests.append(made)
        if why := _prevented([results.get(name) for name in jobs], results):
            made.verdict, made.failure = Verdict.SKIPPED, Failure("", why, status=4)
            return
        if self.stopping():
            made.verdict, made.failure = Verdict.STOPPED, Failure("", "stopped before it started", status=130)
            return
        assert self.bench
        self.started(due)
        ports = {name: results[name].port for name in jobs}
        earlier = {job.name: self.bench.readings(job, ports[job.name]) for job in due.written}
        try:
            ran = self.bench.run(due, due.values(results), ports)
        except CallFault as fault:
            made.failure = Failure.of(fault, "")
            return
        for name in ("verdict", "failure", "exchanges", "seconds", "trace", "measurements", "kept", "notes"):
            setattr(made, name, getattr(ran, name))
        made.wrote = bool(due.written)
        for job in due.written:
            if made.verdict is Verdict.STOPPED:
                _leave_open(results[job.name], due.test.name)
            else:
                again = self.bench.restore(job, ports[job.name], earlier.get(job.name, {}))
                _put_back(results[job.name], again, due.test.name)


def _prevented(units: Sequence[UnitResult | None], all_: Mapping[str, UnitResult]) -> str:
    """Why a test cannot be run; empty if it can."""
    for unit in units:
        if unit is None or unit.verdict not in (Verdict.CONFORMS, Verdict.UNPROVED):
            return f"{unit.seat if unit else 'one of its units'} does not conform"
        if sum(other.port == unit.port for other in all_.values()) > 1:
            return f"the module of {unit.seat} was taken from its port"
    return ""


def _leave_open(result: UnitResult, test: str) -> None:
    """A test that writes was stopped: what the settings are now was not read."""
    again = "Run it again to finish."
    result.verdict, result.evidence = Verdict.STOPPED, Evidence.NONE
    result.failure = Failure(f"test {test}", "stopped before the settings were put back", next=again, status=130)


def _put_back(result: UnitResult, again: UnitResult, test: str) -> None:
    """What a unit is after a test that wrote: its first outcomes, with the evidence of the second reading."""
    result.read_again(again)
    changed = [line.name for line in again.settings if line.outcome is Outcome.CHANGED]
    if again.failure is None and changed:
        result.remarks.append(f"test {test} changed {', '.join(changed)}; written back and read again")
