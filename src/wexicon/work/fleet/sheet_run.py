"""A sheet provisioned or verified on ports: which of its units, one unit by itself or a batch with claims, swaps and records.

The rule: a unit that is named and is not there is a fault. The register is checked before any port is opened; each result is
recorded, and what could not be is reported.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager, suppress
from functools import cached_property
from typing import TYPE_CHECKING

import msgspec

from wexicon.core.faults import CallFault, Fault, FileFault, RegisterAway
from wexicon.core.formats.jobs import Job, jobs_of
from wexicon.core.formats.sheet import Sheet
from wexicon.core.protocol.observations import Listener
from wexicon.core.results.result import Tests
from wexicon.core.results.unit import PlannedLine, UnitResult
from wexicon.core.text import counted, encodable, meant
from wexicon.core.values import Value
from wexicon.files import state_folder
from wexicon.links.lock import look_at_all
from wexicon.work.contact.ports import NewPorts, PortAssignment
from wexicon.work.contact.sessions import Opening, Setup, dated_trace
from wexicon.work.fleet.claims import Known, SharedClaims, known_of
from wexicon.work.fleet.generated import GeneratedSecrets, KeptSecrets
from wexicon.work.fleet.recording import compare_with_left, done_by, record, the_register, used_before
from wexicon.work.fleet.scheduler import ProgressCallback, RunProgress, UnitProgress, UnitSteps
from wexicon.work.fleet.sheet_tests import DueTest, SheetTests
from wexicon.work.module.module import Module
from wexicon.work.module.opening import module_on_port
from wexicon.work.provisioning.policy import SheetOrder
from wexicon.work.provisioning.run import provision, verify
from wexicon.work.provisioning.unfinished import RegisterStore, Store

if TYPE_CHECKING:
    from wexicon.records.register import Register


class Report(msgspec.Struct, frozen=True, kw_only=True):
    """Where a run reports: `progress` for each unit; `request` reads what the operator types instead of swapping modules, None
    without a terminal."""

    progress: ProgressCallback = lambda progress: None
    request: Callable[[], str] | None = None


class SheetRun:
    """One run. `note` says why a result could not be recorded, if any could not; `done` are units that were left out."""

    def __init__(
        self,
        sheet: Sheet,
        jobs: Sequence[Job],
        ports: Sequence[PortAssignment],
        order: SheetOrder,
        register_at: str | None,
    ) -> None:
        self.sheet, self.ports, self.order = sheet, ports, order
        self.jobs = list(jobs)
        self.note = ""
        self._register_at = register_at
        self._known: Known = {}
        self._traces: dict[str, str] = {}
        self._results: dict[str, UnitResult] = {}
        # The record of each unit: what came of its tests takes its place.
        self._recorded: dict[str, str] = {}

    @cached_property
    def register(self) -> Register:
        """The register; a database takes long to import, so it is opened when it is first needed."""
        return the_register(self._register_at)

    @cached_property
    def _generated(self) -> GeneratedSecrets:
        """The generated secrets of the sheet. Raises CallFault if its hand-over file cannot be opened."""
        drawn = any(job.seat.generated for job in self.jobs)
        return KeptSecrets(self.sheet, write=self.order.write) if drawn else GeneratedSecrets()

    @property
    def single(self) -> bool:
        """Whether there is one unit that needs nothing of others."""
        job = self.jobs[0]
        drawn = job.seat.generated and not self.order.plan
        return len(self.jobs) == 1 and not (job.deferred or job.seat.before or job.seat.afterwards or drawn)

    @property
    def is_batch(self) -> bool:
        """Whether claims and records are needed for each unit."""
        several = self.sheet.has_fixed_units or len(self.sheet.seats) > 1
        return not self.single or self.order.new_ports or self.order.scan or (several and not self.order.plan)

    @property
    def swaps(self) -> bool:
        """Whether an operator has to swap modules."""
        return len(self.jobs) > len(self.ports) and not self.order.new_ports

    def leave_out_done(self) -> int:
        """Leaves out the units that the register has as provisioned with this sheet and row; how many."""
        done = done_by(self.register, self.sheet, self.jobs)
        for job in self.jobs:
            if job.name in done:
                self._known |= known_of(job, done[job.name])
        self.jobs = [job for job in self.jobs if job.name not in done]
        return len(done)

    def check(self, setup: Setup) -> None:
        """Raises Fault if the call is wrong, before any port is opened."""
        if not self.ports and not self.order.new_ports:
            hint = "`wexicon ports` lists them; --new-ports waits for new ones."
            raise CallFault("no port is named", hint=hint)
        if self.order.scan and (len(self.ports) != 1 or self.order.new_ports or self.order.plan or len(self.jobs) < 2):
            raise CallFault("--scan needs one port and a sheet of several units", hint="Name one PORT.")
        if self.order.plan and not self.single:
            raise CallFault("--plan needs a single unit", hint="Name it by --seat and --row.")
        if self._register_at:
            self.register.check()
        if not self.is_batch:
            if len(self.ports) > 1:
                raise CallFault(f"the sheet has one unit, and {len(self.ports)} ports are named", hint="Name one.")
            return
        if setup.trace:
            raise CallFault("--trace cannot be used here: each unit gets a dated trace", hint="Remove --trace.")
        if self.swaps and self.ports and not setup.operator(self.ports[0].port).there:
            what = f"there are {len(self.jobs)} units and {counted(len(self.ports), 'port')}"
            raise CallFault(
                f"{what}: an operator must swap modules", hint="Remove --operator nobody, or name more ports."
            )
        self._generated  # noqa: B018 - opened now, so that a wrong password is found before any module is asked
        for place in self.ports[:1]:
            setup.links(self.jobs[0].seat.lexicon, place.port)
        self.register.check()
        if self.order.write and not self.order.again:
            with suppress(RegisterAway):
                used = used_before(self.register, self.sheet, self.jobs)
                if used.complaints:
                    raise FileFault(self.sheet.path, used.complaints[:50])
                if used.not_compared:
                    names = ", ".join(sorted(used.not_compared))
                    self.note = f"{names}: not compared with units that were made with another bench's key"

    def run(self, setup: Setup, report: Report | None = None) -> list[UnitResult]:
        """Runs all units; their results in the order of the sheet. Raises Fault if the run cannot start."""
        report = report or Report()
        if self.order.plan:
            return self._batch(setup, report) if self.is_batch else [self._one(setup, report)]
        progress = RunProgress(lambda: self.register, self.sheet.called, len(self.jobs), report.progress)
        with progress:
            report = msgspec.structs.replace(report, progress=progress.told)
            if self.is_batch:
                return self._batch(setup, report)
            job, port = self.jobs[0].name, self.ports[0].port
            result = self._one(setup.heard_by(UnitSteps(job, port, progress.told)), report)
            progress.told(UnitProgress(job, port, str(result.verdict), result))
            return [result]

    def _tests(
        self, setup: Setup, report: Report, store: Store, wanted: Mapping[str, Mapping[str, Value]]
    ) -> SheetTests:
        """The sheet's tests, to be run on the ports of this run; `wanted` are the values of each unit, as they become known."""
        which = Tests.NONE if self.order.plan else self.order.tests
        if not self.sheet.tests or which is Tests.NONE:
            return SheetTests(self.sheet, self.jobs, None, Tests.NONE)
        # What tests need takes a while to import.
        from wexicon.work.fleet.port_tests import TestsOnPorts

        results = self._results

        def started(due: DueTest) -> None:
            for job in due.jobs.values():
                report.progress(UnitProgress(job.name, results[job.name].port, f"test {due.test.name}"))

        def unit_of(job: Job) -> str:
            return job.seat.lexicon.unit_of(results[job.name].identity)

        bench = TestsOnPorts(self.sheet, setup, store, self.order.prove, self._opens(setup), wanted, unit_of)
        return SheetTests(self.sheet, self.jobs, bench, which, started, setup.stopping)

    def _opens(self, setup: Setup) -> Callable[[Job, str, Listener], AbstractContextManager[Module]]:
        """Opens the module of a unit on a port, with a trace of its own."""

        @contextmanager
        def opened(job: Job, port: str, listener: Listener) -> Iterator[Module]:
            trace = dated_trace(job.name)
            self._traces[job.name] = str(trace)
            own = msgspec.structs.replace(setup.heard_by(listener), trace=trace)
            opening = Opening(title=job.name, secrets=job.secrets())
            with module_on_port(port, job.seat.lexicon, own, opening, job.given(self.sheet.secret)) as module:
                yield module

        return opened

    def _one(self, setup: Setup, report: Report) -> UnitResult:
        job, port, order = self.jobs[0], self.ports[0].port, self.order
        seat = job.seat
        # Only a plan comes here with secrets to be generated: it says that there are some.
        wanted = {**job.wanted, **GeneratedSecrets().of(job, "")}
        asked = order.for_unit(seat, wanted, self.sheet.digest)
        opening = Opening(title=job.name, secrets=job.secrets())
        store = RegisterStore(state_folder() / "unfinished", lambda: self.register)
        with module_on_port(port, seat.lexicon, setup, opening, job.given(self.sheet.secret)) as module:
            result = provision(module, asked, store=store) if order.write else verify(module, asked)
        result.about(job.name, port, seat.lexicon, module.trace, self.sheet.digest)
        if order.plan:
            result.plan = [*(PlannedLine("secret", f"({one})") for one in job.secret_sources()), *result.plan]
        else:
            self._results[job.name] = result
            self._tests(setup, report, store, {job.name: wanted}).alone(job, result)
            # A module that is not the one to be restored was not touched.
            if order.restores in ("", seat.lexicon.unit_of(result.identity)):
                self._record(job, result)
            self._after(setup, result)
        return result

    def _batch(self, setup: Setup, report: Report) -> list[UnitResult]:
        from wexicon.work.fleet.batch import Batch
        from wexicon.work.fleet.swapping import Means

        order = self.order
        store = RegisterStore(state_folder() / "unfinished", lambda: self.register)
        claims = SharedClaims(
            self.register,
            self.sheet,
            self.jobs,
            state_folder(),
            write=order.write,
            again=order.again,
            flush=store.flush_ended,
        )

        wanted: dict[str, dict[str, Value]] = {}
        tests = self._tests(setup, report, store, wanted)

        def tested(job: Job, result: UnitResult) -> None:
            self._results[job.name] = result
            tests.alone(job, result)

        def kept(job: Job, result: UnitResult) -> None:
            self._keep(job, result)
            if not tests.waits(job):
                self._after(setup, result)

        look_at_all(place.port for place in self.ports)
        with claims:
            means = Means(
                claims=claims,
                store=store,
                known=self._known,
                generated=self._generated,
                wanted=wanted,
                progress=report.progress,
                keep=kept,
                tested=tested,
                request=report.request or (lambda: ""),
                stopping=setup.stopping,
                patience=setup.patience,
            )
            batch = Batch(self.sheet, self.jobs, self._opens(setup), order, means)
            results = batch.run(self.ports, NewPorts(self.ports) if order.new_ports else None)
            for job in tests.together(batch.results):
                result = batch.results[job.name]
                self._keep(job, result, tested=True)
                self._after(setup, result)
                report.progress(UnitProgress(job.name, result.port, str(result.verdict), result))
            return results

    def _keep(self, job: Job, result: UnitResult, *, tested: bool = False) -> None:
        result.trace = self._traces.get(job.name, "")
        # A unit that was not reached has nothing to record.
        if result.settings:
            self._record(job, result, self._recorded.get(job.name, "") if tested else "")

    def _after(self, setup: Setup, result: UnitResult) -> None:
        """Runs the fixture's command for a unit that was worked on; that it failed is remarked, and changes no verdict."""
        if not setup.fixture.after or not result.port:
            return
        from wexicon.work.contact.power import LONGEST_AFTER, run_command

        told = {"action": self.order.did, **encodable(msgspec.to_builtins(result, enc_hook=str))}
        try:
            run_command(setup.fixture.after, msgspec.json.encode(told), LONGEST_AFTER)
        except Fault as fault:
            result.remarks.append(fault.what)

    def _record(self, job: Job, result: UnitResult, before: str = "") -> None:
        if not self.order.write:
            compare_with_left(self.register, job, self.sheet, result)
        self._recorded[job.name], wrong = record(self.register, job, self.sheet, result, self.order.did, before)
        self.note = wrong or self.note


def chosen_jobs(sheet: Sheet, seat: str | None, row: str | None = None) -> list[Job]:
    """The units of a sheet that were named by their seat, their row, or both. Raises Fault."""
    jobs = jobs_of(sheet)
    if seat is not None:
        if seat not in sheet.seats:
            raise CallFault(f"the sheet has no seat {seat}", where=sheet.path, hint=meant(seat, sheet.seats))
        jobs = [job for job in jobs if job.seat.name == seat]
    if row is not None:
        keys = [job.row.key for job in jobs if job.row]
        if row not in keys:
            raise CallFault(f"the table has no row {row}", where=sheet.path, hint=meant(row, keys))
        jobs = [job for job in jobs if job.row and job.row.key == row]
    return jobs


def the_job(sheet: Sheet, seat: str | None, row: str | None = None) -> Job:
    """The one unit of a sheet that was named, or its only one. Raises CallFault."""
    jobs = chosen_jobs(sheet, seat, row)
    if len(jobs) > 1:
        seats = list(dict.fromkeys(job.seat.name for job in jobs))
        hint = f"say which: --seat {' or '.join(seats)}" if len(seats) > 1 else "say which: --row KEY"
        raise CallFault("the sheet has several units", where=sheet.path, hint=hint)
    if jobs[0].deferred:
        what = f"{', '.join(jobs[0].deferred)} of {jobs[0].name} is filled in by what a module says of itself"
        raise CallFault(what, where=sheet.path, hint="Only wexicon provision and verify can ask for that.")
    return jobs[0]
