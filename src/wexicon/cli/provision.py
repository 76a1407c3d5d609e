"""`wexicon provision` and `wexicon verify`: the settings of a sheet, written to modules or compared with them."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click
import msgspec

from wexicon.cli.help import Command
from wexicon.cli.options import Working, allow_option, gathered, prove_option, register_option, sheet_at, tests_option
from wexicon.cli.progress import Progress, Stop
from wexicon.cli.show import emit_json, ending, print_note
from wexicon.core.faults import CallFault
from wexicon.files import OVERWRITE, write_new

if TYPE_CHECKING:
    from wexicon import api
    from wexicon.core.results.unit import UnitResult

# The worst of several exit statuses is the first of these.
WORST = (130, 2, 3, 1, 4, 0)


class SheetCall(msgspec.Struct, kw_only=True):
    """The options of both commands."""

    sheet_path: Path
    ports: tuple[str, ...]
    seat_name: str | None
    row: str | None
    stop_after: int
    prove: str
    register_at: str | None
    again: bool
    new_ports: bool
    scan: bool
    allowed: tuple[Path, ...]
    how: Working
    junit_path: Path | None = None
    tests: str = ""
    plan: bool = False
    resume: bool = False


def _takes_a_sheet(command: Callable[..., None]) -> Callable[..., None]:
    """The options that both commands share."""
    for option in (
        register_option,
        allow_option,
        click.option(
            "--scan",
            is_flag=True,
            help="Before each unit wait for a line that names its row or unit, as a barcode scanner types it.",
        ),
        click.option("--new-ports", is_flag=True, help="Also use ports that appear during the run, one unit each."),
        click.option(
            "--stop-after", type=click.IntRange(0), default=0, help="Start no unit after N failures (0: no limit)."
        ),
        click.option(
            "--junit", "junit_path", type=click.Path(path_type=Path), help="Write the results to a JUnit XML file."
        ),
        click.option("--row", "row", help="Process one row only, by key."),
        click.option("--seat", "seat_name", help="Process one seat only."),
        click.argument("ports", metavar="[SEAT=]PORT...", nargs=-1),
        click.argument("sheet_path", metavar="SHEET", type=click.Path(path_type=Path)),
    ):
        command = option(command)
    return command


@click.command(cls=Command)
@_takes_a_sheet
@prove_option("auto")
@click.option("--again", is_flag=True, help="Allow re-use: override the register's match of module and unit.")
@click.option("--resume", is_flag=True, help="Skip units already provisioned with this sheet and row.")
@tests_option("all")
@click.option("--plan", is_flag=True, help="Dry run: read the module, print the lines to say, write nothing.")
@gathered(SheetCall)
def provision(call: SheetCall) -> None:
    """Write the settings of SHEET to the modules on PORTs, and read them back after a restart or power cycle.

    Examples:
      wexicon provision service-plug.toml /dev/ttyUSB0
      wexicon provision masts.toml '/dev/ttyUSB*' --junit masts.xml

    With several units and one PORT the operator swaps the modules one by one; with several PORTs units run in parallel.
    A PORT may be a pattern, such as '/dev/ttyUSB*'; SEAT=PORT assigns a seat to a port.

    Exit status: 0 all conform; 1 a setting differs or was refused; 3 port or module unreachable; 4 unproved.
    """
    _run(call, write=True)


@click.command(cls=Command)
@_takes_a_sheet
@prove_option("reading")
@click.option(
    "--again", is_flag=True, help="Compare with the named row, whatever unit the register has this module as."
)
@tests_option("harmless")
@gathered(SheetCall)
def verify(call: SheetCall) -> None:
    """Compare the modules on PORTs with SHEET; nothing is written.

    Examples:
      wexicon verify service-plug.toml /dev/ttyUSB0
      wexicon verify masts.toml '/dev/ttyUSB*' --prove restart

    Exit status: 0 all conform; 1 a setting differs; 3 port or module unreachable; 4 unproved: a setting cannot be read.
    """
    _run(call, write=False)


def _run(call: SheetCall, *, write: bool) -> None:
    from wexicon import api

    if call.junit_path and call.junit_path.exists() and not call.how.force:
        raise CallFault("already exists; nothing was sent", where=str(call.junit_path), hint=OVERWRITE)
    sheet = sheet_at(call.sheet_path, call.seat_name, call.allowed)
    for note in sheet.notes:
        print_note(note)
    order = api.SheetOrder(
        write=write,
        prove=api.Prove(call.prove),
        plan=call.plan,
        again=call.again,
        new_ports=call.new_ports,
        scan=call.scan,
        stop_after=call.stop_after,
        tests=api.Tests(call.tests),
    )
    jobs = api.chosen_jobs(sheet, call.seat_name, call.row)
    run = api.SheetRun(sheet, jobs, api.places_of(call.ports), order, call.register_at)
    if call.resume:
        done = run.leave_out_done()
        print_note(f"{done} already done; {len(run.jobs)} to do")
        if not run.jobs:
            return
    _batch(run, call) if run.is_batch else _single(run, call)


def _write_junit(results: Sequence[UnitResult], call: SheetCall) -> None:
    """The results for a build server, if a file was named."""
    from wexicon.records.exports import junit_xml

    if call.junit_path:
        data = junit_xml(results)
        write_new(call.junit_path, data, force=call.how.force)


def _single(run: api.SheetRun, call: SheetCall) -> None:
    """One unit: its settings in full."""
    from wexicon.cli.printing import print_unit, tell_recorded

    how = call.how
    with how.working(run.jobs[0].name) as setup:
        run.check(setup)
        (result,) = run.run(setup)
    _write_junit([result], call)
    tell_recorded(run.note)
    if not run.order.plan:
        tell_recorded(run.register.transport_note)
    with ending(result.status):
        emit_json(result) if how.as_json else print_unit(result)


def _batch(run: api.SheetRun, call: SheetCall) -> None:
    """A batch: a table while it runs, and what came of each unit."""
    from wexicon import api
    from wexicon.cli.batch import Board, Requests, print_units
    from wexicon.cli.printing import print_unit, tell_recorded

    how = call.how
    how.tell_commands()
    run.check(how.setup(Progress("", quiet=True), Stop()))
    began = time.monotonic()
    with (
        Board(run.jobs, quiet=how.as_json, large=len(run.ports) == 1) as board,
        Stop().listening() as stop,
    ):
        setup = how.setup(board.progress, stop)
        asks = run.swaps and len(run.ports) == 1 and how.operated_by == "person" and sys.stdin.isatty()
        requests = Requests(scan=call.scan) if asks or call.scan else None
        report = api.Report(progress=board.told, request=requests)
        results = run.run(setup, report)
    _write_junit(results, call)
    tell_recorded(run.note)
    if not run.order.plan:
        tell_recorded(run.register.transport_note)
    status = next(one for one in WORST if one == 0 or any(result.status == one for result in results))
    with ending(status):
        if how.as_json:
            emit_json(results)
        elif len(results) == 1:
            print_unit(results[0])
        else:
            print_units(results, time.monotonic() - began)
