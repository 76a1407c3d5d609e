"""`wexicon provision` and `wexicon verify`: a module and a sheet brought together, by writing or only by looking."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from wexicon.cli.options import Stop, ask_secret, links_to_try, operator_for, prove_option, rate_option, works_a_module
from wexicon.cli.printing import print_unit
from wexicon.cli.progress import Progress
from wexicon.cli.show import ending, print_json
from wexicon.core.faults import CallFault
from wexicon.core.formats.sheet import Seat, Sheet
from wexicon.core.text import meant


def _takes_a_sheet(command: Callable[..., None]) -> Callable[..., None]:
    """What both commands take."""
    for option in (
        works_a_module,
        rate_option,
        prove_option,
        click.option("--seat", "seat_name", help="Which seat of the sheet this module takes, where there are several."),
        click.argument("port"),
        click.argument("sheet_path", metavar="SHEET", type=click.Path(path_type=Path)),
    ):
        command = option(command)
    return command


@click.command()
@_takes_a_sheet
def provision(**given: Any) -> None:
    """Write the settings of SHEET to the module on PORT, and read them back after it has started again.

    Exit status: 0 conforms; 1 a setting differs or was refused; 3 port or module unreachable; 4 unproved.
    """
    _work(write=True, **given)


@click.command()
@_takes_a_sheet
def verify(**given: Any) -> None:
    """Compare the module on PORT with SHEET; nothing is written.

    Exit status: 0 conforms; 1 a setting differs; 3 port or module unreachable; 4 unproved: a setting cannot be read.
    """
    _work(write=False, **given)


def _the_seat(sheet: Sheet, name: str | None) -> Seat:
    if name is not None:
        if name not in sheet.seats:
            raise CallFault(f"the sheet has no seat {name}", where=sheet.path, hint=meant(name, sheet.seats))
        return sheet.seats[name]
    if len(sheet.seats) > 1:
        raise CallFault(
            "the sheet has several seats", where=sheet.path, hint=f"say which: --seat {' or '.join(sheet.seats)}"
        )
    return next(iter(sheet.seats.values()))


def _work(
    *,
    write: bool,
    sheet_path: Path,
    port: str,
    seat_name: str | None,
    prove: str | None,
    rate: int | None,
    hands: str,
    patience: float,
    fixture_path: Path | None,
    trace_path: Path | None,
    force: bool,
    as_json: bool,
) -> None:
    from wexicon.work.finding import find_sheet, fixture_at, state_folder
    from wexicon.work.module import Module
    from wexicon.work.opening import default_trace, session_on
    from wexicon.work.provisioning import Order
    from wexicon.work.provisioning import provision as bring_about
    from wexicon.work.provisioning import verify as compare
    from wexicon.work.results import Prove
    from wexicon.work.secrets import secrets_for
    from wexicon.work.unfinished import FileStore

    sheet = find_sheet(sheet_path, seat_name, secrets_for(sheet_path.parent, ask_secret()))
    seat = _the_seat(sheet, seat_name)
    order = Order(seat.wanted, Prove(prove or ("auto" if write else "reading")), seat.trust, sheet.digest)
    fixture = fixture_at(fixture_path)
    trace = trace_path or default_trace(seat.name)
    with Progress(seat.name) as progress, Stop().listening() as stop:
        operator = operator_for(hands, port, progress)
        with session_on(
            port, seat.lexicon, trace=trace, force=force, secrets=seat.secrets(), stopping=stop, listener=progress
        ) as session:
            module = Module(
                session,
                seat.lexicon,
                operator,
                patience=patience,
                fixture=fixture,
                given=seat.given,
                likely=links_to_try(seat.lexicon, rate),
            )
            if write:
                result = bring_about(module, order, store=FileStore(state_folder() / "unfinished"))
            else:
                result = compare(module, order)
    result.about(seat.name, port, seat.lexicon, str(trace), sheet.digest)
    with ending(result.status):
        print_json(result) if as_json else print_unit(result)
