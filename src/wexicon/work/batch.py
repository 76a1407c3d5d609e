"""Many units from one sheet: on one port with modules swapped, or on many ports at once, a thread for each.

The rule: a unit that fails stops no other; a module is never made two units; what a unit waits for is known before anything
is written to it. What is shown and what is recorded is told to others; nothing is printed here.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager

import msgspec

from wexicon.core.faults import CallFault, Fault, ModuleFault, Stopped, Unreachable
from wexicon.core.formats.filling import NUMBER, OWN, ROW
from wexicon.core.formats.jobs import Job, disagreements, ring
from wexicon.core.formats.sheet import Sheet
from wexicon.core.protocol.observations import Began, Listener, Observation
from wexicon.core.text import visible
from wexicon.core.values import Value, ValueFault
from wexicon.work.dialogues import find_dialogue, run_dialogue
from wexicon.work.module import Module
from wexicon.work.ports import Place
from wexicon.work.provisioning import Order, provision, verify
from wexicon.work.results import Failure, Prove, UnitResult, Verdict
from wexicon.work.unfinished import Store

# How often a port is looked at while its module is being swapped (seconds).
LOOKS = 0.4
# After how long hands are told that the old module is still there.
REMINDS = 10.0


class Progressed(msgspec.Struct, frozen=True):
    """Where a unit stands: `waiting`, what is being done, or its verdict."""

    unit: str
    port: str
    step: str
    result: UnitResult | None = None


class Steps(Listener):
    """Tells the steps of one unit."""

    def __init__(self, unit: str, port: str, told: Callable[[Progressed], None]) -> None:
        self._unit, self._port, self._told = unit, port, told

    def note(self, seen: Observation) -> None:
        if isinstance(seen, Began):
            self._told(Progressed(self._unit, self._port, seen.step))


# Opens a job's module on a port, with a listener of its own.
Opens = Callable[[Job, str, Listener], AbstractContextManager[Module]]


class Batch:
    """One run over the units of a sheet. `opened` opens a module, `told` is shown each step, `keep` each result. With `write`
    false it compares only. `made_before` tells, of a job and a module, as what else that module was made before (empty: as
    nothing else); `swaps` is whether a port that is to take another unit needs hands."""

    def __init__(
        self,
        sheet: Sheet,
        jobs: Sequence[Job],
        opened: Opens,
        *,
        told: Callable[[Progressed], None] = lambda progressed: None,
        keep: Callable[[Job, UnitResult], None] = lambda job, result: None,
        stopping: Callable[[], bool] = lambda: False,
        stop_after: int = 0,
        prove: Prove = Prove.AUTO,
        write: bool = True,
        store: Store | None = None,
        patience: float = 60.0,
        made_before: Callable[[Job, str], str] = lambda job, unit: "",
        swaps: bool = True,
    ) -> None:
        self.swaps = swaps
        self.made_before = made_before
        self.sheet = sheet
        self.jobs = list(jobs)
        self.opened = opened
        self.told = told
        self.keep = keep
        self.stopping = stopping
        self.stop_after = stop_after
        self.prove = prove
        self.write = write
        self.store = store or Store()
        self.patience = patience
        self.results: dict[str, UnitResult] = {}
        self._left = list(jobs)
        self._known: dict[tuple[str, str], str] = {}
        self._seen: dict[str, str] = {}
        self._pinned: dict[str, str] = {}
        self._changed = threading.Condition()
        self._busy = 0

    def run(self, places: Sequence[Place]) -> list[UnitResult]:
        """Does all units; gives their results in the order of the jobs. Raises CallFault where that cannot be begun."""
        self._check(places)
        for job in self.jobs:
            self.told(Progressed(job.name, "", "waiting"))
        if len(places) >= len(self.jobs):
            self._pin(places)
        around = list(ring(self.jobs))
        if around:
            self._ask_who(around, places)
        workers = [threading.Thread(target=self._work, args=(place,), name=place.port, daemon=True) for place in places]
        for worker in workers:
            worker.start()
        for worker in workers:
            while worker.is_alive():
                worker.join(0.2)  # so that Ctrl-C is heard meanwhile
        for job in self.jobs:
            if job.name not in self.results:
                self._end(job, "", self._not_done(job))
        results = [self.results[job.name] for job in self.jobs]
        self._agree(results)
        return results

    def _check(self, places: Sequence[Place]) -> None:
        seats = {job.seat.name for job in self.jobs}
        for place in places:
            if place.seat and place.seat not in seats:
                raise CallFault(
                    f"no unit of seat {place.seat} is to be made", hint=f"There are: {', '.join(sorted(seats))}"
                )
        free = [place for place in places if not place.seat]
        lonely = seats - {place.seat for place in places}
        if lonely and not free:
            raise CallFault(f"no port is there for {', '.join(sorted(lonely))}", hint="Name one, as PORT or SEAT=PORT.")
        around = list(ring(self.jobs))
        if len(around) > len(places):
            names = ", ".join(job.name for job in around)
            what = f"{names} need each other's address: each must be on a port of its own"
            raise CallFault(what, where=self.sheet.path, hint=f"Name {len(around)} ports; there are {len(places)}.")

    def _pin(self, places: Sequence[Place]) -> None:
        """With a port for every unit each has its own, in the order in which both are named."""
        free = list(places)
        for job in sorted(self.jobs, key=lambda job: not any(place.seat == job.seat.name for place in places)):
            place = next((one for one in free if one.seat == job.seat.name), None)
            place = place or next((one for one in free if not one.seat), None)
            if place:
                free.remove(place)
                self._pinned[job.name] = place.port

    # -- one port -------------------------------------------------------------------------------------------------

    def _work(self, place: Place) -> None:
        first, last = True, ""
        while job := self._next(place):
            result, last = self._one(job, place.port, first=first, last=last)
            first = False
            self._end(job, place.port, result)

    def _next(self, place: Place) -> Job | None:
        """The next unit for a port; waits while another unit must be known first. None where nothing is left for it."""
        with self._changed:
            while not self._over():
                fitting = False
                for number, job in enumerate(self._left):
                    if self._fits(job, place):
                        fitting = True
                        if self._is_known(job):
                            self._busy += 1
                            return self._left.pop(number)
                if not fitting or not self._busy:
                    return None
                self._changed.wait(0.2)
        return None

    def _fits(self, job: Job, place: Place) -> bool:
        pinned = self._pinned.get(job.name)
        return pinned == place.port if pinned else not place.seat or place.seat == job.seat.name

    def _is_known(self, job: Job) -> bool:
        own = (job.seat.name, OWN, ROW, NUMBER)
        sources = [source for late in job.late.values() for source in late.sources]
        return all((one.whose, one.part) in self._known or one.whose in own for one in sources)

    def _over(self) -> bool:
        failed = sum(result.verdict is Verdict.FAILED for result in self.results.values())
        return self.stopping() or bool(self.stop_after and failed >= self.stop_after)

    def _end(self, job: Job, port: str, result: UnitResult) -> None:
        with self._changed:
            self.results[job.name] = result
            if port:
                self._busy -= 1
            self._changed.notify_all()
        self.keep(job, result)
        self.told(Progressed(job.name, port, str(result.verdict), result))

    def _not_done(self, job: Job) -> UnitResult:
        """A unit that nobody came to."""
        result = UnitResult(verdict=Verdict.STOPPED if self.stopping() else Verdict.SKIPPED, seat=job.name)
        missing = sorted(whose for whose in job.waits_for() if not any(one[0] == whose for one in self._known))
        what = f"{', '.join(missing)} did not say who it is" if missing else "stopped before it was its turn"
        result.failure = Failure("", what, status=130 if self.stopping() else 1)
        return result

    # -- one unit -------------------------------------------------------------------------------------------------

    def _one(self, job: Job, port: str, *, first: bool, last: str) -> tuple[UnitResult, str]:
        """Makes one unit; its result, and which module that was."""
        result, unit = UnitResult(), ""
        self.told(Progressed(job.name, port, "attention"))
        try:
            with self.opened(job, port, Steps(job.name, port, self.told)) as module:
                identity = self._met(job, module, asks=self.swaps and not first, last=last)
                unit = identity.get(job.seat.lexicon.unit, "")
                result = self._made(job, module, identity)
        except Stopped as fault:
            result.verdict, result.failure = Verdict.STOPPED, Failure.of(fault, "attention")
        except ValueFault as fault:
            result.failure = Failure("fill in", f"{fault.value!r} {fault.why}", next=f"Allowed: {fault.allowed}")
        except Fault as fault:
            result.failure = Failure.of(fault, "attention")
        except Exception as fault:
            result.failure = Failure.unforeseen(fault, "attention")
        result.seat, result.port = job.name, port
        result.lexicon, result.lexicon_digest = job.seat.lexicon.about.family, job.seat.lexicon.digest
        result.sheet = self.sheet.digest
        return result, unit

    def _met(self, job: Job, module: Module, *, asks: bool, last: str) -> dict[str, str]:
        """Who is on the port: a module that is no other unit of this batch. Asks for it to be put there where that is due."""
        session, operator = module.session, module.operator
        until = session.clock.now() + self.patience
        if asks:
            text = (
                f"Take {visible(last)} out and put in the module for {job.name}."
                if last
                else f"Put in the module for {job.name}."
            )
            self.told(Progressed(job.name, session.link.name, "to be swapped"))
            session.asked("swap", text)
            operator.ask("swap", text)
        asked = session.clock.now()
        told = gone = False
        while True:
            session.heed_stop()
            try:
                module.attention.gain([*module.likely, module.lexicon.factory])
                identity = dict(module.identify())
                with self._changed:
                    before = self._seen.setdefault(_unit_of(job, identity), job.name)
                if before == job.name:
                    self._refuse_made_before(job, identity)
                    break
                # Hands need a while; one that went and came back is the same one put in again.
                if not told and (gone or session.clock.now() - asked > REMINDS):
                    told = True
                    operator.ask("swap", f"That is still the module that was {before}. {_swap(job)}")
                if session.clock.now() > until:
                    raise ModuleFault(f"this module is {before}, which was done in this run", hint=_swap(job))
            except Unreachable:
                gone = True
                if not asks or session.clock.now() > until:
                    raise
            module.attention.lose()
            session.quiet(LOOKS)
        if asks:
            operator.noticed()
        with self._changed:
            self._known.update(job.known_of(identity, job.wanted))
            self._changed.notify_all()
        return identity

    def _refuse_made_before(self, job: Job, identity: dict[str, str]) -> None:
        """A module that was made another unit before is not made this one."""
        made = self.made_before(job, _unit_of(job, identity)) if self.write else ""
        if made:
            hint = "Nothing was changed. Put in another module, or say --again to make it this one all the same."
            raise ModuleFault(f"this module was made before: {made}", hint=hint)

    def _made(self, job: Job, module: Module, identity: dict[str, str]) -> UnitResult:
        own = {("own", name): text for name, text in identity.items()}
        with self._changed:
            known = {**self._known, **own}
        wanted = job.resolved(known)
        for name in job.seat.before if self.write else ():
            if failure := self._run(name, job, module):
                return UnitResult(identity=identity, failure=failure)
        order = Order(wanted, self.prove, job.seat.trust, self.sheet.digest)
        result = provision(module, order, store=self.store) if self.write else verify(module, order)
        for name in job.seat.afterwards if self.write and not result.status else ():
            if failure := self._run(name, job, module):
                result.verdict, result.failure = Verdict.FAILED, failure
                break
        with self._changed:
            self._known.update(job.known_of(identity, wanted))
        return result

    def _run(self, name: str, job: Job, module: Module) -> Failure | None:
        """Runs one of the sheet's dialogues; why it failed, if it did."""
        from pathlib import Path

        program = find_dialogue(Path(self.sheet.path).parent / name)
        have = {**(job.row.cells if job.row else {}), **job.seat.given}
        needs = {need.name for need in program.needs()}
        values = {key: value for key, value in have.items() if key in needs}
        likely = [module.session.link.tuning]
        done = run_dialogue(module.session, program, values, job.seat.lexicon, module.operator, likely=likely)
        if done.failure:
            done.failure.step = f"{name}: {done.failure.step}" if done.failure.step else name
        return done.failure

    # -- all of them ----------------------------------------------------------------------------------------------

    def _ask_who(self, around: Sequence[Job], places: Sequence[Place]) -> None:
        """Units that need each other's address say who they are before any of them is made; each stays on its port."""
        taken = set(self._pinned.values())
        free = [place for place in places if place.port not in taken]
        for job in around:
            if job.name not in self._pinned:
                place = next((one for one in free if one.seat in ("", job.seat.name)), None)
                if place is None:
                    raise CallFault(f"no port is left for {job.name}", hint="Name one more.")
                free.remove(place)
                self._pinned[job.name] = place.port
            port = self._pinned[job.name]
            self.told(Progressed(job.name, port, "who is it"))
            with self.opened(job, port, Steps(job.name, port, self.told)) as module:
                self._met(job, module, asks=False, last="")

    def _agree(self, results: Sequence[UnitResult]) -> None:
        """What must agree is checked over what was read of the units that went well, at the last."""
        well = [one for one in results if one.verdict in (Verdict.CONFORMS, Verdict.UNPROVED)]
        read: list[tuple[str, dict[str, Value]]] = []
        for result in well:
            after = {line.name: line.after for line in result.settings if line.after}
            told = {name: one.shown for name, one in after.items() if one.value is not None or one.shown == "unset"}
            read.append((result.seat, dict(told)))
        for complaint in disagreements(self.sheet, read):
            for job, result in zip(self.jobs, results, strict=True):
                if result in well and f" {result.seat} " in f" {complaint.what} ":
                    result.verdict, result.failure = Verdict.FAILED, Failure("agree", complaint.what)
                    self.keep(job, result)


def _unit_of(job: Job, identity: dict[str, str]) -> str:
    unit = job.seat.lexicon.unit
    return f"{job.seat.lexicon.about.family} {identity.get(unit) or ' '.join(identity.values())}"


def _swap(job: Job) -> str:
    return f"Put in the module for {job.name}."
