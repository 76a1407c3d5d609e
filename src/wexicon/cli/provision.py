"""`wexicon provision` and `wexicon verify`: a module and a sheet brought together, by writing or only by looking."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from wexicon.cli.outcome import UnitReport, end_with, print_end, print_failure, print_identity, print_settings
from wexicon.cli.show import Progress, print_json
from wexicon.cli.working import default_trace, fixture_at, operator_for, session_on, works_a_module
from wexicon.core.faults import CallFault
from wexicon.core.formats.sheet import Seat, Sheet
from wexicon.core.text import meant
from wexicon.core.values import known_rates, retuned
from wexicon.work.finding import find_sheet
from wexicon.work.provision import Provision


def _takes_a_sheet(command: Callable[..., None]) -> Callable[..., None]:
    """What both commands take."""
    for option in (
        works_a_module,
        click.option("--seat", "seat_name", help="Which seat of the sheet this module takes, where there are several."),
        click.argument("port"),
        click.argument("sheet_path", metavar="SHEET", type=click.Path(path_type=Path)),
    ):
        command = option(command)
    return command


@click.command()
@_takes_a_sheet
def provision(**given: Any) -> None:
    """Make the module on PORT what SHEET says: write what differs, read everything back."""
    _work(write=True, **given)


@click.command()
@_takes_a_sheet
def verify(**given: Any) -> None:
    """Compare the module on PORT with SHEET; nothing is written."""
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
    hands: str,
    patience: float,
    fixture_path: Path | None,
    trace_path: Path | None,
    as_json: bool,
) -> None:
    seat = _the_seat(find_sheet(sheet_path, seat_name), seat_name)
    lexicon = seat.lexicon
    fixture = fixture_at(fixture_path)
    trace = trace_path or default_trace(seat.name)
    likely = [
        retuned(lexicon.delivered, lexicon.settings[name].kind, value)
        for name, value in seat.wanted.items()
        if known_rates(lexicon.settings[name].kind)
    ]
    with Progress(seat.name) as progress:
        operator = operator_for(hands, port, progress)
        with session_on(port, lexicon, trace=trace, secrets=seat.secrets()) as session:
            result = Provision(
                session,
                lexicon,
                operator,
                seat.wanted,
                write=write,
                patience=patience,
                fixture=fixture,
                likely=likely,
                watch=progress.step,
            ).run()
    report = UnitReport.of(seat.name, port, lexicon, result, trace)
    if as_json:
        print_json(report)
    else:
        print_identity(report)
        print_settings(report)
        if not report.failure:
            print_end(report, writes=write)
    if not as_json or report.failure:
        print_failure(report)
    end_with(report)
