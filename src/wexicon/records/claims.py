"""Which bench makes which unit of a sheet, and which numbers were drawn, in the database that they share.

The rule: a unit is claimed under a row lock, and a locked row is skipped, so no two runs ever have the same one. A run that
gave no sign of life for LEASE seconds, on the database's clock, while the server was there, has lost its claims; a unit that
was begun on a module stays that module's, whoever claims it. A number is drawn in the transaction that writes down who has it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import partial
from itertools import islice
from typing import Any
from uuid import uuid4

import msgspec
import sqlalchemy as sql

from wexicon.core.faults import CallFault, ModuleFault
from wexicon.records.database import Database
from wexicon.records.tables import DRAWN, RUN, SERIES, TASK

# How long a run may be silent before its claims are free (seconds), and how often it gives a sign of life.
LEASE = 20.0
BEAT = 4.0
_AT_ONCE = 64


class Task(msgspec.Struct, frozen=True):
    """A unit of a sheet in the database: which run has it, on which bench; on which module it was begun; when it was done."""

    task: str
    run: str | None
    bench: str | None
    unit: str | None
    done: float | None
    verdict: str


class Run:
    """One run of one bench over the tasks of a sheet, from its first sign of life to its end. All of it raises Fault."""

    def __init__(self, database: Database, bench: str, sheet: str, run: str = "") -> None:
        self.database = database
        self.bench = bench
        self.sheet = sheet
        self.run = run or uuid4().hex
        self.since = 0.0

    def begin(self, tasks: Iterable[tuple[str, str]], dead: Iterable[str] = ()) -> set[str]:
        """Makes the run and its tasks, each with its name, known. `dead` are runs that are known to have died; gives those of
        them that were this register's."""

        def write(connection: sql.Connection) -> set[str]:
            gone = RUN.c.run.in_(list(dead))
            known = set(connection.execute(sql.select(RUN.c.run).where(gone)).scalars())
            connection.execute(sql.update(RUN).where(gone).values(ended=self.database.now()))
            self.since = float(connection.execute(sql.select(self.database.now())).scalar_one())
            connection.execute(RUN.insert().values(run=self.run, bench=self.bench, began=self.since, seen=self.since))
            rows = (
                {"task": task, "name": name[:200], "position": position, "sheet": self.sheet}
                for position, (task, name) in enumerate(tasks)
            )
            while some := list(islice(rows, 1000)):
                connection.execute(self.database.insert(TASK), some)
            return known

        return self.database.write(write)

    def alive(self) -> None:
        """Gives a sign of life."""
        sign = sql.update(RUN).where(RUN.c.run == self.run).values(seen=self.database.now())
        self.database.write(lambda connection: connection.execute(sign) and None)

    def end(self) -> None:
        """Gives everything back."""

        def write(connection: sql.Connection) -> None:
            connection.execute(sql.update(TASK).where(TASK.c.run == self.run).values(run=None))
            connection.execute(sql.update(RUN).where(RUN.c.run == self.run).values(ended=self.database.now()))

        self.database.write(write)

    # -- units of the sheet ---------------------------------------------------------------------------------------------

    def take(self, tasks: Sequence[str]) -> str | None:
        """Claims the first of these tasks that is free and was not done since this run began; None where there is none."""
        for first in range(0, len(tasks), _AT_ONCE):
            found = self.database.write(partial(self._take, tasks=tasks[first : first + _AT_ONCE]))
            if found:
                return found
        return None

    def _take(self, connection: sql.Connection, tasks: Sequence[str]) -> str | None:
        free = (
            sql.select(TASK.c.task)
            .where(TASK.c.task.in_(tasks), *self._free())
            # What was begun on a module may have to wait for that one: the others come first.
            .order_by(sql.and_(TASK.c.unit.is_not(None), TASK.c.done.is_(None)), TASK.c.position)
            .limit(1)
            .with_for_update(skip_locked=True)
        )
        found = connection.execute(free).scalar()
        if found:
            mine = {"run": self.run, "bench": self.bench}
            connection.execute(sql.update(TASK).where(TASK.c.task == found).values(**mine))
        return found

    def take_again(self, task: str) -> bool:
        """Claims a task that this run has done, where nobody has it now; whether that could be."""
        mine = sql.and_(TASK.c.task == task, sql.or_(TASK.c.run.is_(None), TASK.c.run == self.run))
        take = sql.update(TASK).where(mine).values(run=self.run, bench=self.bench)
        return self.database.write(lambda connection: connection.execute(take).rowcount) == 1

    def _free(self) -> Iterator[Any]:
        sign = sql.case((RUN.c.seen > self.database.up_since(), RUN.c.seen), else_=self.database.up_since())
        living = sql.select(RUN.c.run).where(RUN.c.ended.is_(None), sign > self.database.now() - LEASE)
        yield sql.or_(TASK.c.run.is_(None), TASK.c.run.not_in(living))
        yield sql.or_(TASK.c.done.is_(None), TASK.c.done < self.since)

    def of(self, tasks: Sequence[str]) -> list[Task]:
        """These tasks as they stand."""
        found: list[Task] = []
        columns = [TASK.c[name] for name in Task.__struct_fields__]
        for first in range(0, len(tasks), 500):
            with self.database.reading() as connection:
                query = sql.select(*columns).where(TASK.c.task.in_(tasks[first : first + 500]))
                found += [Task(**row) for row in connection.execute(query).mappings()]
        return found

    def begin_on(self, task: str, unit: str, *, again: bool) -> tuple[str, bool]:
        """Writes down, before anything is written to it, that a task is made on this module, and tells whether that is new.
        Where it was begun on another one, that is told and nothing is written, unless it is to be made `again`. Raises
        ModuleFault where another run has it now."""
        return self.database.write(partial(self._begin_on, task=task, unit=unit, again=again))

    def _begin_on(self, connection: sql.Connection, task: str, unit: str, again: bool) -> tuple[str, bool]:
        columns = [TASK.c[name] for name in ("run", "bench", "unit", "done", "name")]
        query = sql.select(*columns).where(TASK.c.task == task).with_for_update()
        row = connection.execute(query).mappings().one()
        if row["run"] != self.run:
            raise ModuleFault(
                f"{row['name']} was taken by {row['bench'] or 'another bench'} while this bench was silent",
                hint="Nothing was changed.",
            )
        if row["unit"] not in (None, unit) and row["done"] is None and not again:
            return str(row["unit"]), False
        # It is no longer what else it was made, or begun to be made, by this sheet.
        others = sql.update(TASK).where(TASK.c.unit == unit, TASK.c.task != task, TASK.c.sheet == self.sheet)
        connection.execute(others.values(unit=None, done=None, verdict=""))
        values = {"unit": unit, "began": self.database.now(), "done": None, "verdict": ""}
        connection.execute(sql.update(TASK).where(TASK.c.task == task).values(**values))
        return "", row["unit"] != unit

    def begun_on(self, unit: str) -> str | None:
        """The task of this sheet that was begun, or done, on a module."""
        with self.database.reading() as connection:
            query = sql.select(TASK.c.task).where(TASK.c.unit == unit, TASK.c.sheet == self.sheet)
            return connection.execute(query).scalar()

    def release(self, task: str, *, forget_unit: bool = False) -> None:
        """Gives a task back; where nothing was written to the module that it was begun on, that is forgotten too."""
        mine = sql.and_(TASK.c.task == task, TASK.c.run == self.run)
        values: dict[str, Any] = {"run": None, **({"unit": None} if forget_unit else {})}
        free = sql.update(TASK).where(mine).values(**values)
        self.database.write(lambda connection: connection.execute(free) and None)

    # -- numbers ------------------------------------------------------------------------------------------------------

    def drawn(self, series: str, holder: str) -> int | None:
        """The number of a series that a holder has drawn."""
        with self.database.reading() as connection:
            return connection.execute(_drawn_by(series, holder)).scalar()

    def draw(self, series: str, first: int, last: int, holder: str) -> int:
        """The next number of a series for a holder; the same one each time. Raises CallFault where that is beyond the last:
        then none is used up."""

        def write(connection: sql.Connection) -> int:
            connection.execute(self.database.insert(SERIES).values(series=series, next=first))
            # Whoever draws from this series has its row until the end of the transaction.
            row = sql.select(SERIES.c.next).where(SERIES.c.series == series).with_for_update()
            number = int(connection.execute(row).scalar_one())
            before = connection.execute(_drawn_by(series, holder)).scalar()
            if before is not None:
                return int(before)
            if number > last:
                what = f"all numbers of {series} are drawn, {first} to {last}"
                raise CallFault(what, hint="Make last larger in the sheet.")
            connection.execute(DRAWN.insert().values(series=series, number=number, holder=holder))
            connection.execute(sql.update(SERIES).where(SERIES.c.series == series).values(next=number + 1))
            return number

        return self.database.write(write)


def _drawn_by(series: str, holder: str) -> Any:
    return sql.select(DRAWN.c.number).where(DRAWN.c.series == series, DRAWN.c.holder == holder)
