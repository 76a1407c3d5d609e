"""Which bench provisions which unit of a sheet, which numbers were drawn, and how far each run is, in the database that
benches share.

The rule: a unit is claimed under a row lock, and locked rows are skipped, so no two runs ever have the same one. A run that
gave no sign of life for LEASE seconds, on the database's clock, while the server was up, has lost its claims; a unit that was
started on a module stays that module's, whichever run claims it. A number is drawn in the transaction that records its holder.
What another bench wrote is text; a row that cannot be read still counts as a run.
"""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable, Mapping, Sequence
from functools import cached_property, partial
from typing import Any

import msgspec
import sqlalchemy as sql

from wexicon.core.faults import CallFault, ModuleFault
from wexicon.core.text import visible
from wexicon.records.database import DRAWN, PROGRESS, RUN, SERIES, TASK, Database

# How long a run may be silent before its claims are released (seconds), and how often it gives a sign of life.
LEASE = 20.0
BEAT = 4.0
_AT_ONCE = 64
# Databases limit the parameters of a statement.
_MOST_PARAMETERS = 500
_TASK: sql.BindParameter[str] = sql.bindparam("its_task")
_UNIT: sql.BindParameter[str] = sql.bindparam("its_unit")
_RUN: sql.BindParameter[str] = sql.bindparam("its_run")
_SERIES: sql.BindParameter[str] = sql.bindparam("its_series")


class Task(msgspec.Struct, frozen=True):
    """A unit of a sheet in the database: which run has claimed it, on which bench; the module on which it was started; when it
    was done."""

    task: str
    run: str | None
    bench: str | None
    unit: str | None
    done: float | None
    verdict: str


class _Statements:
    """The statements of a run, built once: building one takes longer than running it."""

    def __init__(self, database: Database, since: float) -> None:
        now, up_since = database.now(), database.up_since()
        sign = sql.case((RUN.c.seen > up_since, RUN.c.seen), else_=up_since)
        living = sql.select(RUN.c.run).where(RUN.c.ended.is_(None), sign > now - LEASE)
        free = sql.and_(
            sql.or_(TASK.c.run.is_(None), TASK.c.run.not_in(living)),
            sql.or_(TASK.c.done.is_(None), TASK.c.done < since),
        )
        among = TASK.c.task.in_(sql.bindparam("tasks", expanding=True))
        # A unit that was started on a module may have to wait for that one: the others come first.
        order = (sql.and_(TASK.c.unit.is_not(None), TASK.c.done.is_(None)), TASK.c.position)
        self.first_free = (
            sql.select(TASK.c.task).where(among, free).order_by(*order).limit(1).with_for_update(skip_locked=True)
        )
        self.all_free = sql.select(TASK.c.task).where(among, free).with_for_update(skip_locked=True)
        self.claim = (
            sql.update(TASK).where(among).values(run=sql.bindparam("claimed_by"), bench=sql.bindparam("claimed_at"))
        )
        columns = [TASK.c[name] for name in ("run", "bench", "unit", "done", "name")]
        self.locked = sql.select(*columns).where(TASK.c.task == _TASK).with_for_update()
        sheet = TASK.c.sheet == sql.bindparam("its_sheet")
        self.not_others = (
            sql.update(TASK)
            .where(TASK.c.unit == _UNIT, TASK.c.task != _TASK, sheet)
            .values(unit=None, done=None, verdict="")
        )
        started = {"unit": sql.bindparam("started_on"), "began": now, "done": None, "verdict": ""}
        self.start = sql.update(TASK).where(TASK.c.task == _TASK).values(**started)
        self.started_on = sql.select(TASK.c.task).where(TASK.c.unit == _UNIT, sheet)
        mine = sql.and_(TASK.c.task == _TASK, TASK.c.run == _RUN)
        self.release = sql.update(TASK).where(mine).values(run=None)
        self.release_unit = sql.update(TASK).where(mine).values(run=None, unit=None)
        holder = DRAWN.c.holder == sql.bindparam("its_holder")
        self.drawn = sql.select(DRAWN.c.number).where(DRAWN.c.series == _SERIES, holder)
        self.next = sql.select(SERIES.c.next).where(SERIES.c.series == _SERIES).with_for_update()
        self.used = sql.update(SERIES).where(SERIES.c.series == _SERIES).values(next=sql.bindparam("following"))


class Run:
    """One run of one bench over the tasks of a sheet, from its first sign of life to its end. Every method raises Fault."""

    def __init__(self, database: Database, bench: str, sheet: str, run: str = "") -> None:
        self.database = database
        self.bench = bench
        self.sheet = sheet
        self.run = run or os.urandom(16).hex()
        self.since = 0.0

    @cached_property
    def _sql(self) -> _Statements:
        return _Statements(self.database, self.since)

    def begin(self, tasks: Iterable[tuple[str, str]], dead: Collection[str] = ()) -> set[str]:
        """Registers the run and its tasks, each with its name. `dead` are runs that are known to have died; returns those of
        them that are in this register."""
        given = {task: (position, name) for position, (task, name) in enumerate(tasks)}
        listed = self.database.given([TASK.c.task], [[task] for task in given]).subquery()
        missing = sql.select(listed.c.task).where(~sql.exists().where(TASK.c.task == listed.c.task))
        work = partial(self._begin, given=given, missing=missing, dead=list(dead))
        while True:
            # Asked before anything is locked. If another run registers them meanwhile, it is asked again.
            with self.database.reading() as connection:
                one_missing = connection.execute(missing.limit(1)).scalar()
            found = self.database.write(partial(work, one_missing=one_missing))
            if found is not None:
                self.__dict__.pop("_sql", None)
                return found

    def _begin(
        self,
        connection: sql.Connection,
        given: Mapping[str, tuple[int, str]],
        missing: sql.Select[Any],
        dead: list[str],
        one_missing: str | None,
    ) -> set[str] | None:
        """None, and nothing is written, if the task that was missing is there by now."""
        if one_missing is not None:
            self.database.lock(connection, self.sheet)
            if connection.execute(sql.select(TASK.c.task).where(TASK.c.task == one_missing)).first():
                return None
            rows = []
            for task in connection.execute(missing).scalars().all():
                position, name = given[task]
                rows.append({"task": task, "name": name[:200], "position": position, "sheet": self.sheet})
            self.database.insert_all(connection, TASK, rows)
        gone = RUN.c.run.in_(dead)
        known = set(connection.execute(sql.select(RUN.c.run).where(gone)).scalars())
        connection.execute(sql.update(RUN).where(gone).values(ended=self.database.now()))
        self.since = float(connection.execute(sql.select(self.database.now())).scalar_one())
        connection.execute(RUN.insert().values(run=self.run, bench=self.bench, began=self.since, seen=self.since))
        return known

    def alive(self) -> None:
        """Gives a sign of life."""
        sign = sql.update(RUN).where(RUN.c.run == self.run).values(seen=self.database.now())
        self.database.write(lambda connection: connection.execute(sign) and None)

    def end(self) -> None:
        """Releases all claims."""

        def write(connection: sql.Connection) -> None:
            connection.execute(sql.update(TASK).where(TASK.c.run == self.run).values(run=None))
            connection.execute(sql.update(RUN).where(RUN.c.run == self.run).values(ended=self.database.now()))

        self.database.write(write)

    # -- units of the sheet ---------------------------------------------------------------------------------------------

    def take(self, tasks: Sequence[str]) -> str | None:
        """Claims the first of these tasks that is free and was not done since this run began; None if there is none."""
        for first in range(0, len(tasks), _AT_ONCE):
            found = self.database.write(partial(self._take, tasks=list(tasks[first : first + _AT_ONCE])))
            if found:
                return found
        return None

    def _take(self, connection: sql.Connection, tasks: list[str]) -> str | None:
        found: str | None = connection.execute(self._sql.first_free, {"tasks": tasks}).scalar()
        if found:
            self._claim(connection, [found])
        return found

    def take_all(self, tasks: Sequence[str]) -> list[str]:
        """Claims all of these tasks that are free and were not done since this run began, in one transaction."""

        def write(connection: sql.Connection) -> list[str]:
            found: list[str] = []
            for first in range(0, len(tasks), _MOST_PARAMETERS):
                some = {"tasks": list(tasks[first : first + _MOST_PARAMETERS])}
                free = list(connection.execute(self._sql.all_free, some).scalars())
                if free:
                    self._claim(connection, free)
                found += free
            return found

        return self.database.write(write)

    def _claim(self, connection: sql.Connection, tasks: list[str]) -> None:
        connection.execute(self._sql.claim, {"tasks": tasks, "claimed_by": self.run, "claimed_at": self.bench})

    def take_again(self, task: str) -> bool:
        """Claims a task that this run has done, if no other run has it now; whether it could."""
        mine = sql.and_(TASK.c.task == task, sql.or_(TASK.c.run.is_(None), TASK.c.run == self.run))
        take = sql.update(TASK).where(mine).values(run=self.run, bench=self.bench)
        return self.database.write(lambda connection: connection.execute(take).rowcount) == 1

    def of(self, tasks: Sequence[str]) -> list[Task]:
        """The state of these tasks."""
        found: list[Task] = []
        columns = [TASK.c[name] for name in Task.__struct_fields__]
        for first in range(0, len(tasks), _MOST_PARAMETERS):
            with self.database.reading() as connection:
                query = sql.select(*columns).where(TASK.c.task.in_(tasks[first : first + _MOST_PARAMETERS]))
                found += [Task(**row) for row in connection.execute(query).mappings()]
        return found

    def begin_on(self, task: str, unit: str, *, again: bool) -> tuple[str, bool]:
        """Records, before anything is written to it, that a task is started on this module; whether that is new. If it was
        started on another module, that one is returned and nothing is recorded, unless `again`. Raises ModuleFault if another
        run has the task now."""
        return self.database.write(partial(self._begin_on, task=task, unit=unit, again=again))

    def _begin_on(self, connection: sql.Connection, task: str, unit: str, again: bool) -> tuple[str, bool]:
        row = connection.execute(self._sql.locked, {"its_task": task}).mappings().one()
        if row["run"] != self.run:
            raise ModuleFault(
                f"{row['name']} was taken by {row['bench'] or 'another bench'} while this bench was silent",
                hint="Nothing was changed.",
            )
        if row["unit"] not in (None, unit) and row["done"] is None and not again:
            return str(row["unit"]), False
        # The module is no longer any other unit of this sheet.
        connection.execute(self._sql.not_others, {"its_task": task, "its_unit": unit, "its_sheet": self.sheet})
        connection.execute(self._sql.start, {"its_task": task, "started_on": unit})
        return "", row["unit"] != unit

    def begun_on(self, unit: str) -> str | None:
        """The task of this sheet that was started, or done, on a module."""
        with self.database.reading() as connection:
            found: str | None = connection.execute(
                self._sql.started_on, {"its_unit": unit, "its_sheet": self.sheet}
            ).scalar()
            return found

    def release(self, task: str, *, forget_unit: bool = False) -> None:
        """Releases a task; `forget_unit` if nothing was written to the module that it was started on."""
        free = self._sql.release_unit if forget_unit else self._sql.release
        mine = {"its_task": task, "its_run": self.run}
        self.database.write(lambda connection: connection.execute(free, mine) and None)

    # -- numbers ------------------------------------------------------------------------------------------------------

    def drawn(self, series: str, holder: str) -> int | None:
        """The number of a series that a holder has drawn."""
        with self.database.reading() as connection:
            found: int | None = connection.execute(
                self._sql.drawn, {"its_series": series, "its_holder": holder}
            ).scalar()
            return found

    def draw(self, series: str, first: int, last: int, holder: str) -> int:
        """The next number of a series for a holder; the same one each time. Raises CallFault if that is beyond the last: then
        none is used up."""
        asked = {"its_series": series, "its_holder": holder}

        def write(connection: sql.Connection) -> int:
            connection.execute(self.database.insert(SERIES).values(series=series, next=first))
            # This locks the series until the end of the transaction.
            number = int(connection.execute(self._sql.next, {"its_series": series}).scalar_one())
            before = connection.execute(self._sql.drawn, asked).scalar()
            if before is not None:
                return int(before)
            if number > last:
                what = f"all numbers of {series} are drawn, {first} to {last}"
                raise CallFault(what, hint="Make last larger in the sheet.")
            connection.execute(DRAWN.insert().values(series=series, number=number, holder=holder))
            connection.execute(self._sql.used, {"its_series": series, "following": number + 1})
            return number

        return self.database.write(write)


# A run that gave no sign for this long is silent (seconds); one that ended or fell silent is listed for as long as SHOWN.
SILENT = 20.0
SHOWN = 900.0
# Rows older than this are removed by the next run of their bench (seconds).
KEPT = 86_400.0
# Text that a row holds of each unit and failure (characters).
MOST_TEXT, MOST_UNITS = 200, 64


class Doing(msgspec.Struct, frozen=True, array_like=True):
    """What is done to a unit now: on which port, and the step."""

    unit: str
    port: str
    step: str


class RunState(msgspec.Struct, frozen=True):
    """How far a run is. `age` is since when it runs, `quiet` since when it gave no sign (seconds); `state` is working, ended,
    or silent: then it may have died, or its bench cannot reach the register."""

    bench: str
    sheet: str
    total: int
    done: int
    failed: int
    age: float
    quiet: float
    state: str
    doing: list[Doing]
    failure: str

    @property
    def hourly(self) -> float | None:
        """Units an hour; None before the first."""
        worked = self.age - self.quiet
        return 3600.0 * self.done / worked if self.done and worked > 0 else None

    def left(self, runs: Sequence[RunState]) -> float | None:
        """In how many seconds its sheet is expected to be done, at the rate of all `runs` that share it; None if that is not
        known."""
        shared = [one for one in runs if one.sheet == self.sheet and one.state == "working"]
        rate = sum(one.hourly or 0.0 for one in shared)
        to_do = max(0, self.total - sum(one.done for one in shared))
        return 3600.0 * to_do / rate if rate and self.state == "working" else None


class ProgressRow:
    """The row of one run. Every method raises Fault."""

    def __init__(self, database: Database, bench: str, sheet: str, total: int) -> None:
        self.database = database
        self._run = os.urandom(16).hex()
        self._bench, self._sheet, self._total = bench[:100], sheet[:500], total
        self._there = False

    def write(self, done: int, failed: int, doing: Sequence[Doing], failure: str, *, ended: bool = False) -> None:
        """Says how far the run is."""
        some = [[text[:MOST_TEXT] for text in (one.unit, one.port, one.step)] for one in doing[:MOST_UNITS]]
        values = {
            "done": done,
            "failed": failed,
            "doing": msgspec.json.encode(some).decode(),
            "failure": failure[:MOST_TEXT],
            "seen": self.database.now(),
            "ended": self.database.now() if ended else None,
        }
        self.database.write(lambda connection: self._write(connection, values))
        self._there = True

    def _write(self, connection: sql.Connection, values: dict[str, object]) -> None:
        mine = PROGRESS.c.run == self._run
        if connection.execute(sql.update(PROGRESS).where(mine).values(**values)).rowcount:
            return
        old = sql.and_(PROGRESS.c.bench == self._bench, PROGRESS.c.seen < self.database.now() - KEPT)
        connection.execute(sql.delete(PROGRESS).where(old))
        own = {"run": self._run, "bench": self._bench, "sheet": self._sheet, "total": self._total}
        connection.execute(PROGRESS.insert().values(**own, began=self.database.now(), **values))

    @property
    def written(self) -> bool:
        """Whether the register has heard of this run."""
        return self._there


def runs_now(database: Database) -> list[RunState]:
    """The runs of all benches that work, and those that ended or fell silent lately. Raises Fault."""
    now = database.now().label("now")
    with database.reading() as connection:
        query = sql.select(PROGRESS, now).where(PROGRESS.c.seen > database.now() - SHOWN).order_by(PROGRESS.c.bench)
        rows = list(connection.execute(query).mappings())
    return [_state(dict(row)) for row in rows]


def _state(row: dict[str, object]) -> RunState:
    try:
        doing = msgspec.json.decode(str(row["doing"]), type=list[Doing])
    except (msgspec.DecodeError, UnicodeError):
        doing = []
    total, done, failed = (one if isinstance(one := row[name], int) else 0 for name in ("total", "done", "failed"))
    now, began, seen = (float(row[name]) for name in ("now", "began", "seen"))  # type: ignore[arg-type]
    quiet = max(0.0, now - seen)
    return RunState(
        visible(str(row["bench"])),
        visible(str(row["sheet"])),
        total,
        done,
        failed,
        age=now - began,
        quiet=quiet,
        state="ended" if row["ended"] is not None else "silent" if quiet > SILENT else "working",
        doing=[Doing(*(visible(text) for text in msgspec.structs.astuple(one))) for one in doing],
        failure=visible(str(row["failure"])),
    )
