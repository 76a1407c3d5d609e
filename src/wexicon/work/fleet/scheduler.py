"""Chooses the next unit for a port: which units are open, which need a certain port, which wait for another's address; and
writes into the register how far the run is, so that any bench can watch it.

The rule: a unit is on one port at a time; one that needs another's address starts only when that address is known. A module
already known as a unit of the sheet becomes that unit, on whichever port it is. Progress is written at most once a second, by
a thread of its own: a register that is away delays no unit.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from itertools import islice
from typing import TYPE_CHECKING

import msgspec

from wexicon.core.faults import CallFault, Fault, RegisterAway
from wexicon.core.formats.jobs import Job
from wexicon.core.formats.units import DRAWN, NUMBER, OWN, ROW
from wexicon.core.protocol.observations import Began, Listener, Observation
from wexicon.core.results.result import Failure
from wexicon.core.results.unit import UnitResult
from wexicon.work.contact.ports import PortAssignment
from wexicon.work.fleet.claims import Claims, Elsewhere, Known

if TYPE_CHECKING:
    from wexicon.records.claims import ProgressRow
    from wexicon.records.register import Register


# How many units are looked at to begin with when the next is chosen.
CHOICE = 64
AWAY = "waiting for the register"


class UnitProgress(msgspec.Struct, frozen=True):
    """Where a unit stands: `waiting`, what is being done, or its verdict."""

    unit: str
    port: str
    step: str
    result: UnitResult | None = None


ProgressCallback = Callable[[UnitProgress], None]


class Scheduler:
    """The units of one run, handed out to ports; what is known of them is in `known`. `over` tells whether nothing more is to
    be started. Threads share it."""

    def __init__(
        self, jobs: Sequence[Job], claims: Claims, known: Known, over: Callable[[], bool], progress: ProgressCallback
    ) -> None:
        self.jobs = list(jobs)
        self.claims = claims
        self.known: Known = dict(known)
        self.over = over
        self.progress = progress
        self.changed = threading.Condition()
        # One port chooses at a time; who waits for a change sees by the number of them that there was one.
        self._choosing = threading.Lock()
        self._changes = 0
        # Units that another bench has made meanwhile, and why a unit that no port could make was refused.
        self.elsewhere: dict[str, Elsewhere] = {}
        self.refusals: dict[str, Failure] = {}
        # Whether several ports are worked on.
        self.several = False
        self._left = list(jobs)
        # Taken by a port, and it is not known yet whether the module there is that unit.
        self._open: dict[str, Job] = {}
        self._pinned: dict[str, str] = {}
        self._refused: dict[str, set[str]] = {}
        self._seen: dict[str, str] = {}
        self._working: dict[str, PortAssignment] = {}
        # The unit that an operator has chosen for a port.
        self._preferred: dict[str, Job] = {}
        self._busy = 0

    @property
    def any_left(self) -> bool:
        """Whether a unit is not started yet, or may be given back."""
        with self.changed:
            return bool(self._left or self._open)

    # -- before any is started ------------------------------------------------------------------------------------------

    def pin(self, places: Iterable[PortAssignment]) -> None:
        """With a port for every unit each has its own, in the order in which both are named."""
        free = list(places)
        for job in sorted(self.jobs, key=lambda job: not any(place.seat == job.seat.name for place in free)):
            place = next((one for one in free if one.seat == job.seat.name), None)
            place = place or next((one for one in free if not one.seat), None)
            if place:
                free.remove(place)
                self._pinned[job.name] = place.port

    def port_for(self, job: Job, places: Iterable[PortAssignment]) -> str:
        """The port of a unit that is to stay on one. Raises CallFault where none is left."""
        if job.name not in self._pinned:
            taken = set(self._pinned.values())
            free = (one for one in places if one.port not in taken and one.seat in ("", job.seat.name))
            place = next(free, None)
            if place is None:
                raise CallFault(f"no port is left for {job.name}", hint="Name one more.")
            self._pinned[job.name] = place.port
        return self._pinned[job.name]

    def expect(self, place: PortAssignment) -> None:
        """A port is about to be worked on."""
        with self.changed:
            self._working[place.port] = place

    def learn(self, known: Known) -> None:
        """What others may fill in from a unit is known."""
        with self.changed:
            self.known.update(known)
            self._tell_all()

    # -- one after another --------------------------------------------------------------------------------------------

    def next(self, place: PortAssignment) -> Job | None:
        """The next unit for a port, claimed; waits while another unit must be known first, or another bench has the last ones.
        None where nothing is left for it."""
        most = CHOICE
        while not self.over():
            with self._choosing:
                with self.changed:
                    ready, seen = self._ready(place, most), self._changes
                    preferred = self._preferred.pop(place.port, None)
                    ready = [job for job in ready if job is preferred] or ready
                try:
                    job = self.claims.take(ready) if ready else None
                except RegisterAway:
                    self.progress(UnitProgress(ready[0].name, "", AWAY))
                else:
                    with self.changed:
                        if job:
                            self._left.remove(job)
                            self._open[job.name] = job
                            self._busy += 1
                            return job
                        if self._drop_done():
                            continue
                        if len(ready) == most:
                            most *= 4
                            continue
                        if not self._waits(place, ready):
                            break
            with self.changed:
                self.changed.wait_for(lambda seen=seen: self._changes != seen, 0.5)  # type: ignore[misc]
        return None

    def _waits(self, place: PortAssignment, ready: Sequence[Job]) -> bool:
        """Whether a port that can begin none of these now may yet begin one."""
        held = [job.name for job in ready if job.name in self.claims.held]
        for name in held:
            self.progress(UnitProgress(name, "", f"is being made at {self.claims.held[name]}"))
        mine = any(self._fits(job, place) for job in self._left)
        return (mine and bool(held or self._busy)) or self._may_come(place)

    def _tell_all(self) -> None:
        """Wakes all waiting threads: something has changed."""
        self._changes += 1
        self.changed.notify_all()

    def leave(self, place: PortAssignment) -> None:
        """A port is worked on no longer."""
        with self.changed:
            self._working.pop(place.port, None)
            self._tell_all()

    def _ready(self, place: PortAssignment, most: int) -> list[Job]:
        """The first units that could be started on a port now: its own, where it has any."""
        own = [job for job in self._left if self._pinned.get(job.name) == place.port]
        fitting = (job for job in own or self._left if self._fits(job, place) and self._is_known(job))
        return list(islice(fitting, most))

    def _may_come(self, place: PortAssignment) -> bool:
        """Whether a unit that is another port's may yet be left for this one: that port's module may not be for it."""
        for job in self._open.values():
            if self._suits(job, place):
                return True
        ports = self._working.keys() - {place.port}
        return any(
            self._pinned.get(job.name) in ports and self._suits(job, place) and self._is_known(job)
            for job in self._left
        )

    def _fits(self, job: Job, place: PortAssignment) -> bool:
        return self._suits(job, place) and self._pinned.get(job.name) in (None, place.port)

    def _suits(self, job: Job, place: PortAssignment) -> bool:
        return place.seat in ("", job.seat.name) and place.port not in self._refused.get(job.name, ())

    def _is_known(self, job: Job) -> bool:
        own = (job.seat.name, OWN, ROW, NUMBER, DRAWN)
        sources = [source for late in job.deferred.values() for source in late.sources]
        return all((one.whose, one.part) in self.known or one.whose in own for one in sources)

    def _drop_done(self) -> bool:
        """Leaves out what another bench has made meanwhile; whether there is any."""
        done = [job for job in self._left if job.name in self.claims.done]
        for job in done:
            self._left.remove(job)
            self.elsewhere[job.name] = self.claims.done[job.name]
            self.known.update(self.claims.done[job.name].known)
            self.progress(UnitProgress(job.name, "", self.claims.done[job.name].told))
        return bool(done)

    def give_back(self, job: Job) -> None:
        """A port that has taken a unit does not make it."""
        # Not while another port chooses: it would see the unit as neither left nor started, or take it twice.
        with self._choosing, self.changed:
            self.claims.release(job, None)
            self._left.insert(0, job)
            self._open.pop(job.name, None)
            self._busy -= 1
            self._tell_all()
        self.progress(UnitProgress(job.name, "", "waiting"))

    def requeue(self, job: Job) -> None:
        """Reopens a unit that has ended, to run next; does nothing while the register is away."""
        with suppress(RegisterAway):
            self.claims.take_again(job)
        with self._choosing, self.changed:
            self._left.insert(0, job)
            self._tell_all()

    def is_left(self, job: Job) -> bool:
        """Whether a unit is not started yet."""
        with self.changed:
            return job in self._left

    def prefer(self, place: PortAssignment, job: Job) -> None:
        """Makes a unit the next on this port, unless another port has it."""
        with self.changed:
            if job in self._left:
                self._left.remove(job)
                self._left.insert(0, job)
                self._preferred[place.port] = job

    def end(self, job: Job, result: UnitResult) -> None:
        """A unit that was started has ended."""
        self.claims.release(job, result)
        with self.changed:
            self._open.pop(job.name, None)
            self._busy -= 1
            self._tell_all()

    # -- whose module it is -------------------------------------------------------------------------------------------

    def seen(self, unit: str, job: Job) -> str:
        """As which unit of this run a module was seen first; as this one, where that is now."""
        with self.changed:
            return self._seen.setdefault(unit, job.name) if unit else job.name

    def was(self, unit: str, name: str) -> None:
        """A module was made this unit before: it is not to be taken for another one."""
        with self.changed:
            self._seen[unit] = name

    def is_anothers(self, job: Job, place: PortAssignment, unit: str, owner: str) -> bool:
        """Whether the module on a port is not for this unit: it is the `owner`, another one that is not started yet, which is
        then this port's; or this unit's own module has been found on another port."""
        with self.changed:
            theirs = self._pinned.get(job.name, place.port) != place.port
            other = next((one for one in (*self._left, *self._open.values()) if one.name == owner != job.name), None)
            if other and not theirs:
                same = other.seat.lexicon.digest == job.seat.lexicon.digest and place.seat in ("", other.seat.name)
                # A port that was named for a seat keeps to it.
                named = self._working.get(self._pinned.get(other.name, ""))
                same = same and not (named and named.seat)
                if same and (self.several or self._is_known(other)):
                    theirs, had = True, self._pinned.pop(other.name, "")
                    self._pinned[other.name] = place.port
                    # The two change places; with ports that take any unit, this one is free again.
                    self._pinned.pop(job.name, None)
                    if had:
                        self._pinned[job.name] = had
            if theirs:
                self._seen.pop(unit, None)
            return theirs

    def is_refused(self, job: Job, place: PortAssignment, unit: str, why: Failure, *, spare: bool = False) -> bool:
        """Whether a unit for which this port's module is not allowed can still be done on another port; with `spare`, on one
        that no other unit is to have."""
        with self.changed:
            self._refused.setdefault(job.name, set()).add(place.port)
            self.refusals[job.name] = why
            self._seen.pop(unit, None)
            others = set(self._pinned.values()) if spare else set()
            possible = [one for one in self._working.values() if self._suits(job, one) and one.port not in others]
            if possible and self._pinned.get(job.name) == place.port:
                # Its own module may have been found on another port meanwhile: then that one keeps it.
                del self._pinned[job.name]
            return bool(possible)

    def started(self, job: Job) -> None:
        """The module on its port is this unit."""
        with self.changed:
            self._open.pop(job.name, None)


# How often the row is written (seconds): after a change, and as a sign of life.
EVERY, ALIVE = 1.0, 5.0


class RunProgress:
    """One run of `total` units; a context. `told` takes the progress of its units and passes it on."""

    def __init__(self, register: Callable[[], Register], sheet: str, total: int, told: ProgressCallback) -> None:
        self._register, self._sheet, self._total, self._pass_on = register, sheet, total, told
        self._lock = threading.Lock()
        self._verdicts: dict[str, str] = {}
        self._doing: dict[str, tuple[str, str]] = {}
        self._failure = ""
        self._changed = True
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._tell, name="progress", daemon=True)

    def told(self, progress: UnitProgress) -> None:
        """A unit has proceeded."""
        with self._lock:
            self._changed = True
            if progress.result is not None:
                self._doing.pop(progress.unit, None)
                self._verdicts[progress.unit] = str(progress.result.verdict)
                if failure := progress.result.failure:
                    self._failure = f"{progress.unit}: {failure.step}: {failure.what}".replace(": : ", ": ")
            elif progress.port:
                self._doing[progress.unit] = (progress.port, progress.step)
            else:
                self._doing.pop(progress.unit, None)
        self._pass_on(progress)

    def __enter__(self) -> RunProgress:
        self._thread.start()
        return self

    def __exit__(self, *exc: object) -> None:
        self._over.set()
        self._thread.join()

    def _tell(self) -> None:
        row: ProgressRow | None = None
        quiet = 0.0
        while not self._over.wait(EVERY):
            quiet += EVERY
            if not self._changed and quiet < ALIVE:
                continue
            with suppress(Fault, OSError):
                row = row or self._row()
                self._write(row)
                quiet = 0.0
        if row and row.written:
            with suppress(Fault, OSError):
                self._write(row, ended=True)

    def _row(self) -> ProgressRow:
        from wexicon.records.claims import ProgressRow

        register = self._register()
        return ProgressRow(register.database, register.bench, self._sheet, self._total)

    def _write(self, row: ProgressRow, *, ended: bool = False) -> None:
        from wexicon.records.claims import Doing

        with self._lock:
            self._changed = False
            doing = [] if ended else [Doing(unit, *where) for unit, where in self._doing.items()]
            failed = sum(verdict == "failed" for verdict in self._verdicts.values())
            done = sum(verdict != "skipped" for verdict in self._verdicts.values())
            failure = self._failure
        row.write(done, failed, doing, failure, ended=ended)


class UnitSteps(Listener):
    """Reports the steps of one unit."""

    def __init__(self, unit: str, port: str, progress: ProgressCallback) -> None:
        self._unit, self._port, self._progress = unit, port, progress

    def note(self, seen: Observation) -> None:
        if isinstance(seen, Began):
            self._progress(UnitProgress(self._unit, self._port, seen.step))
