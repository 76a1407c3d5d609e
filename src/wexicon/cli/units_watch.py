"""`wexicon units watch`: all benches on the register, live.

The rule: what is shown is what the benches wrote there, with its age; a bench that gives no sign is said to be silent.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

import click

from wexicon.cli.help import Command
from wexicon.cli.live import LiveTable, Table
from wexicon.cli.options import register_option
from wexicon.cli.show import emit_json, json_option, print_line, print_note, print_table
from wexicon.core.durations import spoken

if TYPE_CHECKING:
    from wexicon.records.progress import RunState

COLUMNS = ("bench", "state", "sheet", "done", "failed", "units/h", "ends", "now", "last failure")
EVERY = 1.0
# Units that a bench works on, as far as they are named.
MOST_NAMED = 3


@click.command(cls=Command)
@click.option("--once", is_flag=True, help="Print the state now, and end.")
@register_option
@json_option
def watch(once: bool, register_at: str | None, as_json: bool) -> None:
    """Watch the runs of all benches that share the register: units done and failed, what each bench does now, units an
    hour, the expected end, and what failed last.

    Examples:
      wexicon units watch
      wexicon units watch --once

    In a pipe each change is a line. Ctrl-C ends it.
    """
    from wexicon.records.progress import runs_now
    from wexicon.work.fleet.recording import the_register

    register = the_register(register_at)
    runs = runs_now(register.database)
    if once or as_json:
        if as_json:
            emit_json(runs)
        elif runs:
            print_table(*_table(runs))
        else:
            print_line("no bench works with this register now")
        return
    if not sys.stderr.isatty():
        _follow(runs, lambda: runs_now(register.database))
        return
    print_note("watching; Ctrl-C ends it")
    with LiveTable(lambda: _table(runs), quiet=False):
        while True:
            time.sleep(EVERY)
            runs = runs_now(register.database)


def _follow(runs: list[RunState], now: Callable[[], list[RunState]]) -> None:
    said: dict[str, tuple[str, ...]] = {}
    while True:
        for row in (_row(one, one.left(runs)) for one in runs):
            # The expected end moves all the time.
            told = tuple(cell for at, cell in enumerate(row) if COLUMNS[at] not in ("units/h", "ends"))
            if said.get(row[0]) != told:
                said[row[0]] = told
                print_line("  ".join(cell for cell in row if cell))
        time.sleep(EVERY)
        runs = now()


def _table(runs: list[RunState]) -> Table:
    if not runs:
        return ("bench",), [("no bench works with this register now",)]
    rows = [_row(one, one.left(runs)) for one in runs]
    used = [at for at in range(len(COLUMNS)) if any(row[at] for row in rows)]
    return [COLUMNS[at] for at in used], [[row[at] for at in used] for row in rows]


def _row(one: RunState, left: float | None) -> tuple[str, ...]:
    state = one.state if one.state == "working" else f"{one.state} {spoken(round(one.quiet))}"
    doing = [f"{each.unit}: {each.step}" for each in one.doing[:MOST_NAMED]]
    if len(one.doing) > MOST_NAMED:
        doing.append(f"and {len(one.doing) - MOST_NAMED} more")
    return (
        one.bench,
        state,
        one.sheet,
        f"{one.done} of {one.total}",
        str(one.failed),
        "" if one.hourly is None else f"{one.hourly:.0f}",
        "" if left is None else f"{datetime.now() + timedelta(seconds=left):%H:%M}",
        ", ".join(doing),
        one.failure,
    )
