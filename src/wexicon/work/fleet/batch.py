"""Many units from one sheet: on one port with modules swapped, or on many ports at once, a thread for each.

The rule: a unit that fails stops no other; a module is never made two units; what a unit waits for is known before anything
is written to it. What is shown and what is recorded is reported to others; nothing is printed here.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Sequence
from contextlib import AbstractContextManager, suppress
from functools import partial
from pathlib import Path
from typing import TypeVar

import msgspec

from wexicon.core.faults import CallFault, Fault, RegisterAway
from wexicon.core.formats.jobs import AgreeingUnit, Job, dependency_cycle, disagreements
from wexicon.core.formats.sheet import Sheet
from wexicon.core.formats.units import DRAWN, OWN
from wexicon.core.protocol.observations import Listener
from wexicon.core.results.result import Failure, Verdict
from wexicon.core.results.unit import DialogueResult, UnitResult
from wexicon.links.lock import split_station
from wexicon.work.contact.catalog import find_dialogue
from wexicon.work.contact.ports import PortAssignment
from wexicon.work.fleet.claims import AnothersUnit, MadeBefore
from wexicon.work.fleet.scheduler import AWAY, Scheduler, UnitProgress, UnitSteps
from wexicon.work.fleet.swapping import AGAIN, END, Means, OperatorRequest, Swapping
from wexicon.work.fleet.switched import compare, done_first
from wexicon.work.function.dialogues import run_dialogue
from wexicon.work.module.module import Module
from wexicon.work.module.readings import Reading
from wexicon.work.module.side_effects import all_readings
from wexicon.work.provisioning.policy import SheetOrder
from wexicon.work.provisioning.run import provision, verify

Answer = TypeVar("Answer")
# Opens a job's module on a port, with a listener of its own.
Opens = Callable[[Job, str, Listener], AbstractContextManager[Module]]


class Batch:
    """One run over the units of a sheet; `opened` opens a module."""

    def __init__(self, sheet: Sheet, jobs: Sequence[Job], opened: Opens, order: SheetOrder, means: Means) -> None:
        self.sheet = sheet
        self.jobs = list(jobs)
        self.opened = opened
        self.order = order
        self.means = means
        self.results: dict[str, UnitResult] = {}
        self.scheduler = Scheduler(jobs, means.claims, means.known, self._over, means.progress)
        # What units behind a port with several were when they were done.
        self._left: dict[str, dict[str, Reading]] = {}
        self._failed = 0
        self._broken: Fault | None = None
        self._swaps = False
        self.swapping = Swapping(self.jobs, self.scheduler, means, scan=order.scan)

    def run(
        self, places: Sequence[PortAssignment], appearing: Callable[[], Iterable[PortAssignment]] | None = None
    ) -> list[UnitResult]:
        """Does all units; gives their results in the order of the jobs. `appearing` gives the ports that came since it was
        asked last: each brings one module with it. Raises CallFault where that cannot be started."""
        self.scheduler.several = len(places) > 1 or appearing is not None
        self._swaps = self.means.swaps and appearing is None and len(places) < len(self.jobs)
        around = list(dependency_cycle(self.jobs))
        if appearing is None:
            self._check(places, around)
        elif around:
            raise CallFault("--new-ports cannot be used: units need each other's address", where=self.sheet.path)
        for job in self.jobs:
            self.means.progress(UnitProgress(job.name, "", "waiting"))
        if appearing is None and len(places) >= len(self.jobs):
            self.scheduler.pin(places)
            with suppress(RegisterAway):
                self.means.claims.reserve(self.jobs)
        for job in around:
            self._ask_who(job, places)
        for place in places:
            self.scheduler.expect(place)
        workers = [self._worker(place) for place in places]
        while appearing is not None and self.scheduler.any_left and not self._over():
            for place in appearing():
                self.scheduler.expect(place)
                workers.append(self._worker(place, once=True))
            with self.scheduler.changed:
                self.scheduler.changed.wait(0.5)
        for worker in workers:
            while worker.is_alive():
                worker.join(0.2)  # so that Ctrl-C is heard meanwhile
        for job in self.jobs:
            if job.name not in self.results and not self.order.scan:
                self._end(job, self._not_done(job))
        results = [self.results[job.name] for job in self.jobs if job.name in self.results]
        self._read_done_first(results)
        self._agree(results)
        return results

    def _check(self, places: Sequence[PortAssignment], around: Sequence[Job]) -> None:
        seats = {job.seat.name for job in self.jobs}
        for place in places:
            if place.seat and place.seat not in seats:
                raise CallFault(
                    f"no unit of seat {place.seat} to provision", hint=f"There are: {', '.join(sorted(seats))}"
                )
        free = [place for place in places if not place.seat]
        lonely = seats - {place.seat for place in places}
        if lonely and not free:
            raise CallFault(f"no port for {', '.join(sorted(lonely))}", hint="Name one, as PORT or SEAT=PORT.")
        if len(around) > len(places):
            names = ", ".join(job.name for job in around)
            what = f"{names} need each other's address: give each its own port"
            raise CallFault(what, where=self.sheet.path, hint=f"Name {len(around)} ports; there are {len(places)}.")

    def _ask_who(self, job: Job, places: Sequence[PortAssignment]) -> None:
        """Units that need each other's address say who they are before any of them is made; each stays on its port."""
        port = self.scheduler.port_for(job, places)
        self.means.progress(UnitProgress(job.name, port, "who is it"))
        with self.opened(job, port, UnitSteps(job.name, port, self.means.progress)) as module:
            identity = self.swapping.met(job, module, asks=False, last="")
        self.scheduler.learn(job.known_of(identity, job.wanted))

    # -- one port -------------------------------------------------------------------------------------------------

    def _worker(self, place: PortAssignment, *, once: bool = False) -> threading.Thread:
        made = threading.Thread(target=self._work, args=(place, once), name=place.port, daemon=True)
        made.start()
        return made

    def _work(self, place: PortAssignment, once: bool) -> None:
        try:
            self._one_after_another(place, once)
        except Fault as fault:
            # The register, which cannot be worked with any more: nothing more is started.
            self._broken = fault
        finally:
            self.scheduler.leave(place)

    def _one_after_another(self, place: PortAssignment, once: bool) -> None:
        asks, last = False, ""
        before: Job | None = None
        while job := self.scheduler.next(place):
            try:
                result, last = self._one(job, place, asks=asks, last=last)
            except OperatorRequest as asked:
                if asked.request == END or asked.request == AGAIN or asked.chosen:
                    self.scheduler.give_back(job)
                    if asked.request == END:
                        return
                    if asked.chosen:
                        self.scheduler.prefer(place, asked.chosen)
                    elif before:
                        self.scheduler.requeue(before)
                        asks = False
                    continue
                result = UnitResult(verdict=Verdict.SKIPPED, seat=job.name, port=place.port)
                result.failure = Failure("", asked.what)
                self._end(job, result)
                self.scheduler.end(job, result)
                asks = True
                continue
            # A module that is not for this unit stays where it is.
            asks = result is not None and self.means.swaps
            if result is None:
                self.scheduler.give_back(job)
                continue
            before = job
            self.means.tested(job, result)
            self._end(job, result)
            self.scheduler.end(job, result)
            if once:
                return

    def _over(self) -> bool:
        enough = bool(self.order.stop_after and self._failed >= self.order.stop_after)
        return self.means.stopping() or enough or self._broken is not None

    def _end(self, job: Job, result: UnitResult) -> None:
        self.results[job.name] = result
        self._failed += result.verdict is Verdict.FAILED
        self.means.keep(job, result)
        self.means.progress(UnitProgress(job.name, result.port, str(result.verdict), result))

    def _not_done(self, job: Job) -> UnitResult:
        """A unit that was not started here."""
        result = UnitResult(verdict=Verdict.STOPPED if self.means.stopping() else Verdict.SKIPPED, seat=job.name)
        if job.name in self.scheduler.elsewhere:
            result.verdict = Verdict.SKIPPED
            result.remarks.append(self.scheduler.elsewhere[job.name].told)
            return result
        if self._broken:
            result.verdict, result.failure = Verdict.FAILED, Failure.of(self._broken, "register")
            return result
        if job.name in self.scheduler.refusals and not self.means.stopping():
            result.verdict, result.failure = Verdict.FAILED, self.scheduler.refusals[job.name]
            return result
        missing = sorted(whose for whose in job.waits_for() if not any(one[0] == whose for one in self.scheduler.known))
        over = self.means.stopping() or bool(self.order.stop_after)
        what = f"{', '.join(missing)} was not identified" if missing else "no port available"
        if over and not missing:
            what = "stopped before it started"
        result.failure = Failure("", what, status=130 if self.means.stopping() else 1)
        return result

    # -- one unit -------------------------------------------------------------------------------------------------

    def _one(self, job: Job, place: PortAssignment, *, asks: bool, last: str) -> tuple[UnitResult | None, str]:
        """Makes one unit; its result, and which module that was. No result where the module is not for this unit: then the unit
        is given back."""
        port, result, own, step = place.port, UnitResult(), last, "attention"
        self.means.progress(UnitProgress(job.name, port, "attention"))
        try:
            with self.opened(job, port, UnitSteps(job.name, port, self.means.progress)) as module:
                started = False
                while not started:
                    identity = self.swapping.met(job, module, asks=asks, last=own)
                    own, unit = identity.get(job.seat.lexicon.unit, ""), job.seat.lexicon.unit_of(identity)
                    owner = self._asked(job, module, partial(self.means.claims.owner, unit)) if unit else ""
                    if self.scheduler.is_anothers(job, place, unit, owner):
                        return None, own
                    try:
                        if self.order.write and unit:
                            self._asked(job, module, partial(self.means.claims.begin_on, job, unit))
                        started = True
                    except AnothersUnit as fault:
                        if self.scheduler.is_refused(job, place, unit, Failure.of(fault, "identify")):
                            return None, own
                        raise
                    except MadeBefore as fault:
                        if not self._swaps:
                            if self.scheduler.is_refused(job, place, unit, Failure.of(fault, "identify"), spare=True):
                                return None, own
                            raise
                        # It is the previous module, or the wrong one: ask for another.
                        self.scheduler.was(unit, fault.name)
                        self.swapping.forget(port)
                        asks = True
                self.scheduler.started(job)
                self.scheduler.learn(job.known_of(identity, job.wanted))
                step = "fill in"
                result = self._made(job, module, identity)
        except OperatorRequest:
            raise
        except Exception as fault:
            result.ended_by(fault, step)
        result.seat, result.port = job.name, port
        result.lexicon, result.lexicon_digest = job.seat.lexicon.about.family, job.seat.lexicon.digest
        result.sheet = self.sheet.digest
        return result, own

    def _asked(self, job: Job, module: Module, ask: Callable[[], Answer]) -> Answer:
        """Asks the register; while that is away, waits, and what the module sends is read. Raises Stopped."""
        while True:
            try:
                return ask()
            except RegisterAway:
                self.means.progress(UnitProgress(job.name, module.session.link.name, AWAY))
                module.session.heed_stop()
                module.session.quiet(1.0)

    def _made(self, job: Job, module: Module, identity: dict[str, str]) -> UnitResult:
        own = {(OWN, name): text for name, text in identity.items()}
        unit = job.seat.lexicon.unit_of(identity)
        drawn = {
            (DRAWN, part): str(self._asked(job, module, partial(self.means.claims.draw, job, part, unit)))
            for part in job.series()
        }
        secret = self.means.generated.of(job, unit)
        job.seat.secrets(secret, into=module.session.secrets)
        wanted = {**job.resolved({**self.scheduler.known, **own, **drawn}), **secret}
        self.means.wanted[job.name] = wanted
        ran: list[DialogueResult] = []
        said, wrote = module.session.changes, set(module.state.wrote)
        # What the module was before the sheet's own dialogues.
        earlier = all_readings(module) if self.order.write and job.seat.before else {}
        for name in job.seat.before if self.order.write else ():
            ran.append(self._run(name, job, module))
            if ran[-1].failure:
                return _with_output(UnitResult(identity=identity, failure=ran[-1].failure), ran)
        touched = module.session.changes != said
        order = self.order.for_unit(job.seat, wanted, self.sheet.digest, touched=touched)
        if touched:
            # What the sheet's own dialogues write is ordered by them.
            by_them = sorted(module.state.wrote - wrote)
            order = msgspec.structs.replace(order, side_effects=(*order.side_effects, *by_them))
        result = (
            provision(module, order, store=self.means.store, earlier=earlier)
            if self.order.write
            else verify(module, order)
        )
        said = module.session.changes
        for name in job.seat.afterwards if self.order.write and not result.status else ():
            ran.append(self._run(name, job, module))
            if ran[-1].failure:
                result.verdict, result.failure = ran[-1].verdict, ran[-1].failure
                break
        if module.session.changes != said and not result.status:
            # They may have written after the proof.
            result.read_again(verify(module, msgspec.structs.replace(order, image=None)), order.prove)
        if self.order.write:
            self.means.generated.done(job, unit, result)
        if self.order.write and module.session.bound is not None and not result.status:
            self._left[job.name] = all_readings(module)
        self.scheduler.learn(job.known_of(identity, wanted))
        return _with_output(result, ran)

    def _run(self, name: str, job: Job, module: Module) -> DialogueResult:
        """Runs one of the sheet's dialogues; the step of a failure names it."""
        program = find_dialogue(Path(self.sheet.path).parent / name)
        have = {**(job.row.cells if job.row else {}), **job.given(self.sheet.secret)}
        needs = {need.name for need in program.needs()}
        values = {key: value for key, value in have.items() if key in needs}
        likely, before = [module.session.link.tuning], module.session.changes
        done = run_dialogue(
            module.session,
            program,
            values,
            job.seat.lexicon,
            module.operator,
            likely=likely,
            fixture=module.attention.fixture,
            given=module.given,
        )
        if done.failure:
            done.failure.step = f"{name}: {done.failure.step}" if done.failure.step else name
        done.dialogue, done.said = name, module.session.changes - before
        return done

    # -- all of them ----------------------------------------------------------------------------------------------

    def _read_done_first(self, results: Sequence[UnitResult]) -> None:
        """Units that were done before others behind the same port are read again."""
        for result in done_first(results) if self.order.write and not self.means.stopping() else ():
            job = next(job for job in self.jobs if job.name == result.seat)
            wanted = self.means.wanted[job.name]
            order = self.order.for_unit(job.seat, wanted, self.sheet.digest)
            order = msgspec.structs.replace(order, image=None, unit=job.seat.lexicon.unit_of(result.identity))
            device = split_station(result.port)[0]
            later = [one.seat for one in results if one is not result and split_station(one.port)[0] == device]
            try:
                with self.opened(job, result.port, UnitSteps(job.name, result.port, self.means.progress)) as module:
                    told = compare(module, order, result, self._left.get(job.name, {}), later)
            except Exception as fault:
                result.ended_by(fault, "read again")
                told = True
            if told:
                self.means.keep(job, result)
                self.means.progress(UnitProgress(job.name, result.port, str(result.verdict), result))

    def _agree(self, results: Sequence[UnitResult]) -> None:
        """What must agree is checked over what was read of the units that went well, at the last."""
        well = [one for one in results if one.verdict in (Verdict.CONFORMS, Verdict.UNPROVED)]
        read: list[AgreeingUnit] = []
        for result in well:
            after = {line.name: line.after for line in result.settings if line.after}
            told = {name: one.shown for name, one in after.items() if one.value is not None or one.shown == "unset"}
            read.append((result.seat, dict(told), lambda name, value: str(value)))
        for one in disagreements(self.sheet, read):
            for result in (well[one.first], well[one.second]):
                job = next(job for job in self.jobs if self.results[job.name] is result)
                result.verdict, result.failure = Verdict.FAILED, Failure("agree", one.complaint.what)
                self.means.keep(job, result)


def _with_output(result: UnitResult, ran: Sequence[DialogueResult]) -> UnitResult:
    """The same, with what the sheet's dialogues kept and measured."""
    result.kept = {one.dialogue: one.kept for one in ran if one.kept}
    result.measurements = [measured for one in ran for measured in one.measurements]
    result.said_by_dialogues = sum(one.said for one in ran)
    return result
