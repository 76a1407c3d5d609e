"""Claims on units, alone with a sheet or shared with other benches through the register.

The rule: a unit is claimed before its module is spoken to, and it is written down which module it is made on before anything
is written to that.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from wexicon.core.faults import CallFault, Fault, ModuleFault, RegisterAway
from wexicon.core.formats.jobs import Job
from wexicon.core.formats.sheet import Sheet
from wexicon.core.results.result import Verdict
from wexicon.core.results.unit import UnitResult
from wexicon.links.lock import LifeLock, is_alive
from wexicon.records.entry import Entry

if TYPE_CHECKING:
    from wexicon.records.register import Register


Known = dict[tuple[str, str], str]


_ALL_THE_SAME = "or use --again to accept this one."


class AnothersUnit(ModuleFault):
    """A unit of the sheet is another module than the one on the port."""


class MadeBefore(ModuleFault):
    """The module on a port is already another unit: `name`."""

    name = ""


class Elsewhere(msgspec.Struct, frozen=True):
    """A unit that another bench has made since this run began: how that is reported, and what others may fill in from it."""

    told: str
    known: Known


class Claims:
    """Claims of a run that is alone with its sheet: every unit is free, numbers are drawn from the first."""

    def __init__(self, sheet: Sheet) -> None:
        self.sheet = sheet
        # Seen while claiming: units that others have done, and units that they hold now, with their bench.
        self.done: dict[str, Elsewhere] = {}
        self.held: dict[str, str] = {}
        self._lock = threading.Lock()
        self._taken: set[str] = set()
        self._next: dict[str, int] = {}
        self._drawn: dict[tuple[str, str], int] = {}

    def take(self, jobs: Sequence[Job]) -> Job | None:
        """The first of these that is free, claimed; None where there is none. Raises RegisterAway."""
        with self._lock:
            job = next((job for job in jobs if job.name not in self._taken), None)
            if job:
                self._taken.add(job.name)
            return job

    def reserve(self, jobs: Sequence[Job]) -> None:
        """Claims all of these that are free, so that `take` need not ask for each. Raises RegisterAway."""

    def take_again(self, job: Job) -> None:
        """Reopens a job that has ended here."""
        with self._lock:
            self._taken.discard(job.name)

    def owner(self, unit: str) -> str:
        """Which unit of this sheet a module is, by what is known of it; empty where that is not known."""
        return ""

    def begin_on(self, job: Job, unit: str) -> None:
        """Writes down, before anything is written to it, that a job is made on this module. Raises AnothersUnit where another
        module is that unit, MadeBefore where this module is something else."""

    def draw(self, job: Job, series: str, unit: str) -> int:
        """The number that a unit, or this module, has of a series; the next one, where it has none. Raises Fault."""
        with self._lock:
            number = self._next.get(series, self.sheet.drawn[series].first)
            drawn = self._drawn.setdefault((series, job.name), number)
            self._next[series] = max(number, drawn + 1)
            return drawn

    def release(self, job: Job, result: UnitResult | None) -> None:
        """A job is no longer being made."""
        with self._lock:
            if result is None:
                self._taken.discard(job.name)


def task_of(sheet: Sheet, job: Job) -> str:
    """What a unit of a sheet is in the register: with another sheet or another row it is another one. Empty where its sheet
    is made again and again, for as many modules as there are."""
    if not sheet.has_fixed_units:
        return ""
    row = msgspec.json.encode(sorted(job.recorded_row.items()))
    return sha256(b"\0".join((sheet.digest.encode(), job.name.encode(), row))).hexdigest()


def known_of(job: Job, entry: Entry) -> Known:
    """What others may fill in from a unit that the register has."""
    known = {
        (job.seat.name, line.name): line.after.shown
        for line in entry.result.settings
        if line.after and line.after.value is not None
    }
    return known | {(job.seat.name, name): text for name, text in entry.result.identity.items()}


class SharedClaims(Claims):
    """Of a run that shares its sheet by the register; a context, in which a thread of its own gives signs of life and brings in
    what waits; `flush` reports finished work. With `write` false nothing is claimed. `again` takes a module for a unit
    whatever either was before."""

    def __init__(
        self,
        register: Register,
        sheet: Sheet,
        jobs: Iterable[Job],
        state: Path,
        *,
        write: bool,
        again: bool,
        flush: Callable[[], None] = lambda: None,
    ) -> None:
        from wexicon.records.claims import Run

        super().__init__(sheet)
        self.register = register
        self.again = again
        self._flush = flush
        self.shares = write and sheet.has_fixed_units
        self._write = write
        jobs = list(jobs)
        self._names = {job.name for job in jobs}
        self._jobs = {task_of(sheet, job): job for job in jobs}
        self._tasks = {job.name: task for task, job in self._jobs.items()}
        self._run = Run(register.database, register.bench, sheet.digest)
        self._runs = state / "runs"
        self._fresh: set[str] = set()
        self._kept: set[str] = set()
        # What modules were made, as it was when they were met.
        self._made: dict[str, Entry | None] = {}
        self._ended = threading.Event()
        self._beat = threading.Thread(target=self._keep_alive, name="register", daemon=True)
        self._life: LifeLock | None = None

    def __enter__(self) -> SharedClaims:
        if self.shares:
            # Runs of this machine that died are known at once; those of others when they are silent for too long.
            old = list(self._runs.glob("*.run")) if self._runs.is_dir() else []
            dead = [path for path in old if not is_alive(path)]
            self._life = LifeLock(self._runs / f"{self._run.run}.run")
            try:
                known = self._run.begin(
                    [(task, job.name) for task, job in self._jobs.items()], [path.stem for path in dead]
                )
            except RegisterAway as fault:
                self._life.release()
                hint = "Nothing was changed: each unit of a table is claimed in the register before it is made."
                raise RegisterAway(fault.what, where=fault.where, hint=hint) from None
            for path in dead:
                # Another register may have yet to hear of one that this one does not know.
                if path.stem in known:
                    path.unlink(missing_ok=True)
        self._beat.start()
        return self

    def __exit__(self, *exc: object) -> None:
        self._ended.set()
        self._beat.join()
        with suppress(Fault, OSError):
            self.register.flush_pending()
            self._flush()
        if self.shares:
            with suppress(Fault):
                self._run.end()
        if self._life:
            self._life.release()

    def _keep_alive(self) -> None:
        from wexicon.records.claims import BEAT

        while not self._ended.wait(BEAT):
            with suppress(Fault, OSError):
                if self.shares:
                    self._run.alive()
                self.register.flush_pending()
                self._flush()

    # -- units ------------------------------------------------------------------------------------------------------------

    def take(self, jobs: Sequence[Job]) -> Job | None:
        if not self.shares:
            return super().take(jobs)
        kept = next((job for job in jobs if job.name in self._kept), None)
        if kept:
            self._kept.discard(kept.name)
            return kept
        tasks = [self._tasks[job.name] for job in jobs]
        task = self._run.take(tasks)
        if task:
            return self._jobs[task]
        for one in self._run.of(tasks):
            job = self._jobs[one.task]
            if one.done is not None and one.done >= self._run.since:
                entry = self.register.last_provisioned(sheet=self.sheet.called, name=job.name)
                told = f"done at {one.bench}: {one.verdict}" + (f", {entry.unit}" if entry else "")
                self.done[job.name] = Elsewhere(told, known_of(job, entry) if entry else {})
                self.held.pop(job.name, None)
            elif one.run not in (None, self._run.run):
                self.held[job.name] = one.bench or ""
        return None

    def reserve(self, jobs: Sequence[Job]) -> None:
        if self.shares:
            taken = self._run.take_all([self._tasks[job.name] for job in jobs])
            self._kept |= {self._jobs[task].name for task in taken}

    def take_again(self, job: Job) -> None:
        super().take_again(job)
        if self.shares and self._run.take_again(self._tasks[job.name]):
            self._kept.add(job.name)

    def owner(self, unit: str) -> str:
        if self.again:
            return ""
        task = self._run.begun_on(unit) if self.sheet.has_fixed_units else None
        if task in self._jobs:
            return self._jobs[task].name
        made = self._made[unit] = self.register.last_provisioned(unit=unit)
        return made.name if made and made.sheet == self.sheet.called and made.name in self._names else ""

    def begin_on(self, job: Job, unit: str) -> None:
        if not self.again:
            self._refuse(job, unit)
        if not self.shares:
            return
        before, fresh = self._run.begin_on(self._tasks[job.name], unit, again=self.again)
        if before:
            what = f"{job.name} is unfinished on {before}"
            raise AnothersUnit(what, hint=f"Nothing was changed. Insert that module, {_ALL_THE_SAME}")
        if fresh:
            self._fresh.add(job.name)

    def _refuse(self, job: Job, unit: str) -> None:
        """Raises a fault where the register has the module as something else, or the unit as another module."""
        before = self._made[unit] if unit in self._made else self.register.last_provisioned(unit=unit)
        if before and (before.name, before.sheet) != (job.name, self.sheet.called):
            what = f"module already provisioned as {before.name} of “{before.sheet}”, {before.when}"
            fault = MadeBefore(what, hint=f"Nothing was changed. Insert another module, {_ALL_THE_SAME}")
            fault.name = before.name
            raise fault
        other = (
            self.register.last_provisioned(sheet=self.sheet.called, name=job.name)
            if self.sheet.has_fixed_units
            else None
        )
        if other and other.unit != unit:
            what = f"{job.name} is {other.unit}, {other.when}"
            raise AnothersUnit(what, hint=f"Nothing was changed. Insert that module, {_ALL_THE_SAME}")

    def release(self, job: Job, result: UnitResult | None) -> None:
        if not self.shares:
            super().release(job, result)
        elif result is None or result.verdict not in (Verdict.CONFORMS, Verdict.UNPROVED):
            forget = job.name in self._fresh and not (result and result.written)
            try:
                self._run.release(self._tasks[job.name], forget_unit=forget)
            except RegisterAway:
                if result is None:
                    # It is still ours.
                    self._kept.add(job.name)

    # -- numbers ------------------------------------------------------------------------------------------------------------

    def draw(self, job: Job, series: str, unit: str) -> int:
        table = self.sheet.drawn[series]
        # A sheet that is made again and again has as many units as there are modules.
        whose = job.name if self.sheet.has_fixed_units else unit
        if not whose:
            what = f"this module has no identity: cannot look up its number of {series}"
            raise CallFault(what, hint="Use a table, or count: then each unit has a number of its own.")
        name, holder = table.series or f"{self.sheet.called}: {series}", f"{self.sheet.called}: {whose}"
        if not self._write:
            number = self._run.drawn(name, holder)
            if number is None:
                raise CallFault(f"{whose} has no number of {name} yet", hint="wexicon provision draws it.")
            return number
        return self._run.draw(name, table.first, table.last, holder)
