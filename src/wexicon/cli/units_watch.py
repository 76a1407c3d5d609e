"""`wexicon units watch`, `compare` and `secrets`: all benches on the register, live; two modules setting by setting; the drawn
secrets of a hand-over file.

The rule: what is shown is what the benches wrote, with its age. A compared value is the last that was read from that module. A
secret is printed here and on labels, where it was asked for by name, and nowhere else.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Sequence
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wexicon.cli.help import Command
from wexicon.cli.options import ask_secret, env_option, file_option, register_option, split_pairs
from wexicon.cli.progress import LiveTable, Table
from wexicon.cli.show import emit_json, force_option, json_option, output_option, print_line, print_note, print_table
from wexicon.core.faults import CallFault
from wexicon.core.text import counted, spoken, visible
from wexicon.files import write_new

if TYPE_CHECKING:
    from wexicon.records.claims import RunState
    from wexicon.records.sealed import HandedOver


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
    from wexicon.records.claims import runs_now
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


@click.command(cls=Command)
@click.argument("first", metavar="UNIT")
@click.argument("second", metavar="UNIT")
@click.option("--all", "whole", is_flag=True, help="Also print what is the same.")
@register_option
@json_option
def compare(first: str, second: str, whole: bool, register_at: str | None, as_json: bool) -> None:
    """Compare two UNITs setting by setting, as they were last read.

    Examples:
      wexicon units compare "mast M1" "mast M2"
      wexicon units compare L9-00417 L9-00418 --all

    A UNIT is its identity, or its name in a sheet. Settings outside its sheet are as they were before the first write.

    Exit status: 0 nothing differs; 1 something does; 2 no such unit.
    """
    from wexicon.records.entry import compare_settings
    from wexicon.work.fleet.recording import the_register

    register = the_register(register_at)
    register.flush_pending()
    found = []
    for unit in (first, second):
        history = register.history(unit)
        if not history:
            raise CallFault(
                f"the register has no unit {unit}", where=register.where, hint="wexicon units list shows all."
            )
        found.append(history)
    ends = [history[-1] for history in found]
    pairs = compare_settings(*found)
    different = [one for one in pairs if not one.same]
    if as_json:
        emit_json(pairs)
    else:
        names = [one.name or one.unit for one in ends]
        heads = [visible(one) for one in (names if names[0] != names[1] else [one.unit for one in ends])]
        for one in ends:
            print_line(f"{visible(one.name)}: {visible(one.unit)}, {one.did} {one.when}, {one.verdict}")
        if shown := pairs if whole else different:
            rows = [(one.setting, one.first, one.second, "" if one.same else "differs") for one in shown]
            print_table(("setting", *heads, ""), rows)
        told = f"{len(different)} of {counted(len(pairs), 'setting')} {'differs' if len(different) == 1 else 'differ'}"
        print_line(told, "bold magenta" if different else "green")
    if different:
        raise click.exceptions.Exit(1)


_COLUMNS = ("module", "unit", "sheet", "setting", "value", "drawn (UTC)", "in the module")


@click.command(cls=Command)
@click.argument("path", metavar="FILE", type=click.Path(path_type=Path))
@click.option("--unit", "unit", help="Only this unit, by its identity or its name in a sheet.")
@output_option("Write them to this .csv file instead.", required=False)
@env_option
@file_option
@force_option
@json_option
def secrets(
    path: Path,
    unit: str | None,
    output: Path | None,
    env_pairs: tuple[str, ...],
    file_pairs: tuple[str, ...],
    force: bool,
    as_json: bool,
) -> None:
    """Print the secrets that were drawn for the units of a sheet, from its hand-over FILE.

    Examples:
      wexicon units secrets handed-over.jsonl
      wexicon units secrets handed-over.jsonl --unit "mast M2"

    One that is doubtful may not be the one that the module has: provision the unit again.
    Its password is asked for; --env password=VARIABLE and --file password=PATH take it from elsewhere.
    """
    found = [one for one in secrets_in(path, env_pairs, file_pairs) if unit in (None, one.unit, one.name)]
    if not found:
        raise CallFault("has no secret of this unit", where=str(path))
    rows = [
        (one.unit, one.name, one.sheet, one.setting, one.value, one.at[:19].replace("T", " "), one.state)
        for one in found
    ]
    if output:
        from wexicon.records.exports import csv_lines

        if output.suffix != ".csv":
            raise CallFault("is not .csv", where=str(output))
        write_new(output, map(str.encode, csv_lines(_COLUMNS, rows)), force=force)
        print_line(f"wrote {output}: {counted(len(rows), 'secret')}")
    elif as_json:
        emit_json(found)
    else:
        print_table(_COLUMNS, rows)


def secrets_in(path: Path, env_pairs: Sequence[str], file_pairs: Sequence[str]) -> list[HandedOver]:
    """The secrets of a hand-over file, whose password comes as the call says. Raises CallFault."""
    from wexicon.records.sealed import HandOverFile
    from wexicon.work.contact.catalog import secrets_for

    if not path.exists():
        raise CallFault("there is no such file", where=str(path))
    pairs = [("env", one) for one in env_pairs] + [("file", one) for one in file_pairs]
    kind, text = "prompt", f"password of {path.name}"
    for given, pair in pairs:
        ((name, text),) = split_pairs([pair]).items()
        kind = given
        if name != "password":
            raise CallFault(f"{name} is not needed here", hint="Only password is.")
    try:
        return HandOverFile(path, secrets_for(Path(), ask_secret())(kind, text)).secrets()
    except ValueError as fault:
        raise CallFault(f"the password: {fault}") from None
