"""How far runs are: what a bench writes is what another one sees, with its age, whatever the first one wrote."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sql

from tests.conftest import virtual, wexicon
from wexicon.core.faults import RegisterAway
from wexicon.core.results.result import Failure, Verdict
from wexicon.core.results.unit import UnitResult
from wexicon.records.claims import Doing, ProgressRow, RunState, runs_now
from wexicon.records.register import Register
from wexicon.work.fleet import scheduler as run_progress
from wexicon.work.fleet.scheduler import RunProgress, UnitProgress


@pytest.fixture
def register(tmp_path: Path) -> Iterator[Register]:
    made = Register(str(tmp_path / "units.db"), tmp_path / "waiting")
    yield made
    made.database.close()


def aged(register: Register, **values: float) -> None:
    """Moves times of all rows into the past (seconds)."""
    for name, seconds in values.items():
        change = sql.text(f"update wexicon_progress set {name} = {name} - {seconds}")
        register.database.write(lambda connection, change=change: connection.execute(change) and None)


def test_a_run_is_seen_with_its_rate_and_its_expected_end(register: Register) -> None:
    left = ProgressRow(register.database, "left", "masts", 20)
    left.write(5, 1, [Doing("mast M6", "/dev/ttyUSB0", "write name")], "mast M2: write name: ERR 4")
    ProgressRow(register.database, "right", "masts", 20).write(5, 0, [], "")
    ProgressRow(register.database, "third", "plugs", 4).write(0, 0, [], "")
    aged(register, began=600)
    one, two, three = runs_now(register.database)
    assert (one.bench, one.state, one.done, one.failed, one.doing[0].step) == ("left", "working", 5, 1, "write name")
    assert one.hourly == pytest.approx(30, rel=0.02) and three.hourly is None and three.left([one, two, three]) is None
    # Ten units are left, and the two benches do sixty an hour.
    assert one.left([one, two, three]) == two.left([one, two, three]) == pytest.approx(600, rel=0.02)
    told = wexicon("units", "watch", "--once", "--register", register.where).stdout
    assert "5 of 20" in told and "mast M6: write name" in told and "mast M2: write name: ERR 4" in told and "30" in told
    assert json.loads(wexicon("units", "watch", "--json", "--register", register.where).stdout)[0]["state"] == "working"


def test_a_silent_bench_is_said_to_be_silent_and_old_rows_go(register: Register) -> None:
    row = ProgressRow(register.database, "left", "masts", 20)
    row.write(5, 1, [], "")
    aged(register, seen=60, began=120)
    (one,) = runs_now(register.database)
    assert one.state == "silent" and one.left([one]) is None and 55 < one.quiet < 65
    assert "silent 1 min" in wexicon("units", "watch", "--once", "--register", register.where).stdout
    aged(register, seen=1000)
    assert runs_now(register.database) == []
    assert "no bench works" in wexicon("units", "watch", "--once", "--register", register.where).stdout
    aged(register, seen=100_000)
    ProgressRow(register.database, "left", "plugs", 1).write(1, 0, [], "", ended=True)
    (ended,) = runs_now(register.database)
    assert ended.state == "ended"
    with register.database.reading() as connection:
        assert connection.execute(sql.text("select count(*) from wexicon_progress")).scalar() == 1


def test_what_another_bench_wrote_is_text(register: Register) -> None:
    ProgressRow(register.database, "\x1b[2J", "=1+1\u202e", 20).write(1, 0, [Doing("\x1b]0;", "p", "s" * 900)], "\x07")
    told = wexicon("units", "watch", "--once", "--register", register.where).stdout
    assert "\\x1B[2J" in told and not set(told) & set("\x1b\x07\u202e") and "s" * 201 not in told
    register.database.write(
        lambda connection: connection.execute(sql.text("update wexicon_progress set doing = '{', done = 'x'")) and None
    )
    (one,) = runs_now(register.database)
    assert (one.doing, one.done) == ([], 0)


def until(register: Register, wanted: Any) -> RunState:
    """The only run, as soon as it is as wanted."""
    for _ in range(1000):
        found = runs_now(register.database)
        if found and wanted(found[0]):
            return found[0]
        time.sleep(0.01)
    raise AssertionError(found)


def test_a_run_tells_what_its_units_do_and_that_it_ended(register: Register, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(run_progress, "EVERY", 0.01)
    passed: list[UnitProgress] = []
    with RunProgress(lambda: register, "masts", 3, passed.append) as progress:
        progress.told(UnitProgress("mast M1", "", "waiting"))
        progress.told(UnitProgress("mast M2", "/dev/ttyUSB0", "write name"))
        one = until(register, lambda one: one.doing)
        assert one.doing == [Doing("mast M2", "/dev/ttyUSB0", "write name")] and one.total == 3
        result = UnitResult(verdict=Verdict.FAILED, failure=Failure("write name", "ERR 4"))
        progress.told(UnitProgress("mast M2", "/dev/ttyUSB0", "failed", result))
        progress.told(UnitProgress("mast M3", "", "skipped", UnitResult(verdict=Verdict.SKIPPED)))
        one = until(register, lambda one: one.failed)
        assert (one.done, one.doing, one.failure) == (1, [], "mast M2: write name: ERR 4")
    assert runs_now(register.database)[0].state == "ended" and len(passed) == 4


def test_a_register_that_is_away_delays_nothing(register: Register, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(run_progress, "EVERY", 0.001)
    asked: list[int] = []

    def away(self: ProgressRow, *values: object, ended: bool = False) -> None:
        asked.append(1)
        raise RegisterAway("away")

    monkeypatch.setattr(ProgressRow, "write", away)
    with RunProgress(lambda: register, "masts", 1, lambda progress: None) as progress:
        for number in range(1000):
            progress.told(UnitProgress("mast", "p", f"step {number}"))
            if len(asked) > 2:
                break
            time.sleep(0.01)
    assert len(asked) > 2


def test_a_provisioning_is_watched_from_another_bench(register: Register, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(run_progress, "EVERY", 0.005)
    sheet = 'format = 1\ntitle = "Marrow"\n[seat.mast]\nlexicon = "lindle-l9"\nsettings = { name = "quay" }\n'
    Path("s.toml").write_text(sheet)
    with virtual('[unit.mast]\nstandin = "lindle-l9"\n'):
        wexicon("provision", "s.toml", "virtual://mast", "--register", register.where)
    (one,) = runs_now(register.database)
    assert (one.sheet, one.state, one.done, one.total, one.failed) == ("Marrow", "ended", 1, 1, 0)
