"""Claims and numbers by several runs in any order: no task is two runs, what was begun stays its module, no number twice."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sql
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from tests.records.server import PostgresServer
from wexicon.core.faults import CallFault, ModuleFault
from wexicon.records.claims import LEASE, Run
from wexicon.records.database import DRAWN, RUN, TASK, Database
from wexicon.records.entry import Entry, RecordedResult
from wexicon.records.register import Register

TASKS = [f"t{number}" for number in range(6)]
STEPS = st.lists(
    st.tuples(
        st.integers(0, 2), st.sampled_from(["take", "begin", "finish", "release", "draw", "die"]), st.integers(0, 5)
    ),
    max_size=40,
)


def cleared(database: Database) -> None:
    for table in (RUN, TASK, DRAWN):
        database.write(lambda connection, table=table: connection.execute(sql.delete(table)) and None)


def silent(database: Database, run: Run, seconds: float = LEASE + 1) -> None:
    """A run that gave its last sign of life so many seconds ago: longer than claims last, unless told otherwise."""
    past = sql.update(RUN).where(RUN.c.run == run.run).values(seen=database.now() - seconds)
    database.write(lambda connection: connection.execute(past) and None)


def held(made: dict[str, int], number: int) -> list[str]:
    return [task for task, owner in made.items() if owner == number]


def play(register: Register, steps: list[tuple[int, str, int]]) -> None:
    """Three benches do as the steps say; what is true in the database is compared with what may be."""
    database = register.database
    cleared(database)
    runs = [Run(database, f"bench {number}", "s" * 64) for number in range(3)]
    for run in runs:
        run.begin([(task, f"mast {task}") for task in TASKS])
    owners: dict[str, int] = {}
    begun: dict[str, str] = {}
    done: set[str] = set()
    drawn: dict[str, int] = {}
    for number, what, which in steps:
        run, task, mine = runs[number], TASKS[which], held(owners, number)
        if what == "take":
            taken = run.take(TASKS)
            free = [one for one in TASKS if one not in owners and one not in done]
            assert (taken in free) if free else taken is None
            if taken:
                owners[taken] = number
        elif what == "begin" and mine:
            module = f"lindle-l9 L9-{number}{which}"
            before, _ = run.begin_on(mine[0], module, again=False)
            assert before == ("" if begun.get(mine[0], module) == module else begun[mine[0]])
            if not before:
                # What else this module was begun as is free for others.
                begun = {one: unit for one, unit in begun.items() if unit != module} | {mine[0]: module}
                done -= {one for one in done if one not in begun}
        elif what == "begin":
            if task not in owners:
                with pytest.raises(ModuleFault, match="was taken by"):
                    run.begin_on(task, "lindle-l9 L9-X", again=False)
        elif what == "finish" and mine and mine[0] in begun:
            one, unit = mine[0], begun[mine[0]]
            entry = Entry(
                unit, one, "lindle-l9", "provision", "conforms", "restart", "s", "d", {}, RecordedResult(), task=one
            )
            assert register.keep(entry)
            del owners[one]
            done.add(one)
        elif what == "release" and mine:
            run.release(mine[0])
            del owners[mine[0]]
        elif what == "draw":
            # A seventh, of which there is none, uses none up.
            with pytest.raises(CallFault, match="all numbers of short are drawn"):
                run.draw("short", 1, 0, task)
            drawn[task] = run.draw("address", 17, 22, task)
        elif what == "die":
            silent(database, run)
            owners = {one: owner for one, owner in owners.items() if owner != number}
            runs[number] = Run(database, f"bench {number}", "s" * 64)
            runs[number].begin([], [])
            runs[number].since = runs[0].since if number else runs[1].since
        assert {task: run.drawn("address", task) for task in TASKS} == {**dict.fromkeys(TASKS), **drawn}
        assert sorted(drawn.values()) == list(range(17, 17 + len(drawn)))
    found = {one.task: one for one in runs[0].of(TASKS)}
    assert {name: one.unit for name, one in found.items() if one.unit} == begun
    assert {name for name, one in found.items() if one.done} == done


@settings(max_examples=20, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(STEPS)
@example([(0, "take", 0), (0, "begin", 1), (0, "finish", 0), (0, "take", 0), (0, "begin", 1)])
def test_in_a_file_no_task_is_two_runs_and_no_number_is_given_twice(steps: list[tuple[int, str, int]]) -> None:
    with tempfile.TemporaryDirectory() as folder:
        register = Register(str(Path(folder) / "units.db"), Path(folder) / "waiting")
        with register.database.reading():
            # NoOperator needs these to be on the disk.
            sql.event.listen(register.database._pool, "connect", lambda c, r: c.execute("PRAGMA synchronous=OFF"))
        play(register, steps)
        register.database.close()


@pytest.fixture(scope="module")
def server() -> Iterator[PostgresServer]:
    made = PostgresServer()
    yield made
    made.close()


def test_on_a_server_the_same_holds(server: PostgresServer, tmp_path: Path) -> None:
    register = Register(server.url, tmp_path / "waiting")

    @settings(max_examples=15)
    @given(STEPS)
    def same(steps: list[tuple[int, str, int]]) -> None:
        series: Any = sql.text("delete from wexicon_series")
        register.database.write(lambda connection: connection.execute(series) and None)
        play(register, steps)

    same()
    # Time in which the server was away is no silence.
    cleared(register.database)
    left, right = (Run(register.database, name, "s" * 64) for name in ("left", "right"))
    for run in (left, right):
        run.begin([("t0", "mast t0")])
    assert left.take(["t0"]) == "t0"
    server.stop()
    server.start()
    silent(register.database, left)
    assert right.take(["t0"]) is None
    # A row that another transaction has locked is skipped, not waited for.
    cleared(register.database)
    run = Run(register.database, "left", "s" * 64)
    run.begin([(task, task) for task in TASKS])
    with server.connect() as other, other.transaction():
        other.execute("select task from wexicon_task where task = 't0' for update")
        assert run.take(TASKS) == "t1"
    assert run.take(TASKS) == "t0"


def test_only_a_run_itself_releases_its_claim(tmp_path: Path) -> None:
    database = Register(str(tmp_path / "units.db"), tmp_path / "waiting").database
    left, right = (Run(database, name, "s" * 64) for name in ("left", "right"))
    for run in (left, right):
        run.begin([("t0", "mast t0")])
    assert left.take(["t0"]) == "t0"
    right.release("t0", forget_unit=True)
    assert right.take(["t0"]) is None and not right.take_again("t0")
    left.release("t0")
    assert right.take(["t0"]) == "t0"


def test_a_claim_lasts_for_its_lease_after_the_last_sign_of_life(tmp_path: Path) -> None:
    database = Register(str(tmp_path / "units.db"), tmp_path / "waiting").database
    left, right = (Run(database, name, "s" * 64) for name in ("left", "right"))
    for run in (left, right):
        run.begin([("t0", "mast t0")])
    assert left.take(["t0"]) == "t0"
    silent(database, left, LEASE / 2)
    assert right.take(["t0"]) is None
    silent(database, left, LEASE + 1)
    assert right.take(["t0"]) == "t0"


def test_what_was_started_on_a_module_comes_last_and_a_run_that_ended_holds_nothing(tmp_path: Path) -> None:
    database = Register(str(tmp_path / "units.db"), tmp_path / "waiting").database
    left, right = (Run(database, name, "s" * 64) for name in ("left", "right"))
    for run in (left, right):
        run.begin([("t0", "mast t0"), ("t1", "mast t1")])
    assert left.take(["t0", "t1"]) == "t0"
    left.begin_on("t0", "lindle-l9 L9-1", again=False)
    left.release("t0")
    assert right.take(["t0", "t1"]) == "t1"
    right.end()
    assert left.take_again("t1") and left.take(["t0"]) == "t0"
