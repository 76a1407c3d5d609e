"""`wexicon provision` and `wexicon verify`: modules and a sheet brought together, by writing or only by looking."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

import click

from wexicon.cli.options import ask_secret, prove_option
from wexicon.cli.printing import print_unit, tell_recorded
from wexicon.cli.show import ending, print_json
from wexicon.cli.units import register_option
from wexicon.cli.working import Working, works_a_module


def _takes_a_sheet(command: Callable[..., None]) -> Callable[..., None]:
    """What both commands take."""
    for option in (
        works_a_module,
        register_option,
        click.option("--new-ports", is_flag=True, help="Also use ports that appear during the run, one unit each."),
        click.option(
            "--stop-after", type=click.IntRange(0), default=0, help="Start no unit after N failures (0: no limit)."
        ),
        click.option("--row", "row", help="Process one row only, by key."),
        click.option("--seat", "seat_name", help="Process one seat only."),
        click.argument("ports", metavar="[SEAT=]PORT...", nargs=-1),
        click.argument("sheet_path", metavar="SHEET", type=click.Path(path_type=Path)),
    ):
        command = option(command)
    return command


@click.command()
@_takes_a_sheet
@prove_option("auto")
@click.option("--again", is_flag=True, help="Allow re-use: override the register's match of module and unit.")
@click.option("--resume", is_flag=True, help="Skip units already provisioned with this sheet and row.")
@click.option("--plan", is_flag=True, help="Dry run: read the module, print the lines to say, write nothing.")
def provision(**given: Any) -> None:
    """Write the settings of SHEET to the modules on PORTs, and read them back after a restart or power cycle.

    With several units and one PORT the operator swaps the modules one by one; with several PORTs units run in parallel.
    A PORT may be a pattern, such as '/dev/ttyUSB*'; SEAT=PORT assigns a seat to a port.

    Exit status: 0 all conform; 1 a setting differs or was refused; 3 port or module unreachable; 4 unproved.
    """
    _work(write=True, **given)


@click.command()
@_takes_a_sheet
@prove_option("reading")
@click.option(
    "--again", is_flag=True, help="Compare with the named row, whatever unit the register has this module as."
)
def verify(**given: Any) -> None:
    """Compare the modules on PORTs with SHEET; nothing is written.

    Exit status: 0 all conform; 1 a setting differs; 3 port or module unreachable; 4 unproved: a setting cannot be read.
    """
    _work(write=False, **given)


def _work(
    *,
    write: bool,
    sheet_path: Path,
    ports: tuple[str, ...],
    seat_name: str | None,
    row: str | None,
    stop_after: int,
    prove: str,
    plan: bool = False,
    register_at: str | None,
    again: bool,
    resume: bool = False,
    new_ports: bool,
    how: Working,
    as_json: bool,
) -> None:
    from wexicon.core.faults import CallFault
    from wexicon.work.contact.catalog import find_sheet, state_folder
    from wexicon.work.contact.ports import places_of
    from wexicon.work.contact.secret_sources import secrets_for
    from wexicon.work.fleet.claims import Known, known_of
    from wexicon.work.fleet.recording import compare_with_left, done_by, record, the_register
    from wexicon.work.fleet.selection import chosen_jobs
    from wexicon.work.provisioning.run import Order
    from wexicon.work.provisioning.run import provision as bring_about
    from wexicon.work.provisioning.run import verify as compare
    from wexicon.work.provisioning.unfinished import RegisterStore
    from wexicon.work.results.verdicts import Prove

    sheet = find_sheet(sheet_path, seat_name, secrets_for(sheet_path.parent, ask_secret()))
    jobs = chosen_jobs(sheet, seat_name, row)
    places = places_of(ports)
    if not places and not new_ports:
        raise CallFault("no port is named", hint="`wexicon ports` lists them; --new-ports waits for new ones.")
    # A database takes long to import: not before it is needed.
    register = cache(lambda: the_register(register_at))
    if register_at:
        register().check()
    known: Known = {}
    if resume:
        done = done_by(register(), sheet, jobs)
        known = {key: text for job in jobs if job.name in done for key, text in known_of(job, done[job.name]).items()}
        jobs = [job for job in jobs if job.name not in done]
        click.echo(f"{len(done)} already done; {len(jobs)} to do", err=True)
        if not jobs:
            return
    asked = Prove(prove)
    single = len(jobs) == 1 and not jobs[0].deferred and not jobs[0].seat.before and not jobs[0].seat.afterwards
    if not single and plan:
        raise CallFault("--plan needs a single unit", hint="Name it by --seat and --row.")
    if not single or new_ports or (sheet.has_fixed_units and not plan):
        from wexicon.cli.batch import make_units

        make_units(
            sheet,
            jobs,
            places,
            how,
            as_json=as_json,
            write=write,
            prove=asked,
            stop_after=stop_after,
            register=register(),
            again=again,
            known=known,
            new_ports=new_ports,
        )
    if len(places) > 1:
        raise CallFault(f"the sheet has one unit, and {len(places)} ports are named", hint="Name one.")
    job, port = jobs[0], places[0].port
    seat = job.seat
    order = Order(job.wanted, asked, seat.trust, sheet.digest, plan)
    with how.module(port, seat.lexicon, job.name, secrets=job.secrets(), given=seat.given) as module:
        if write:
            result = bring_about(module, order, store=RegisterStore(state_folder() / "unfinished", register()))
        else:
            result = compare(module, order)
    result.about(job.name, port, seat.lexicon, str(how.trace_path), sheet.digest)
    if not write:
        compare_with_left(register(), job, sheet, result)
    if not plan:
        tell_recorded(record(register(), job, sheet, result, "provision" if write else "verify"))
    with ending(result.status):
        print_json(result) if as_json else print_unit(result)
