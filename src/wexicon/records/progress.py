"""How far the runs of all benches are, in the register that they share: one row a run.

The rule: times are the database's own. What another bench wrote is text; a row that cannot be read still counts as a run.
"""

from __future__ import annotations

import os
from collections.abc import Sequence

import msgspec
import sqlalchemy as sql

from wexicon.core.text import visible
from wexicon.records.database import Database
from wexicon.records.tables import PROGRESS

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
