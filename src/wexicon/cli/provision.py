"""`wexicon provision` and `wexicon verify`: a module and a sheet brought together, by writing or only by looking."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from wexicon.cli.options import ask_secret, prove_option
from wexicon.cli.printing import print_unit
from wexicon.cli.show import ending, print_json
from wexicon.cli.working import Working, works_a_module


def _takes_a_sheet(command: Callable[..., None]) -> Callable[..., None]:
    """What both commands take."""
    for option in (
        works_a_module,
        prove_option,
        click.option("--seat", "seat_name", help="Which seat of the sheet this module takes, where there are several."),
        click.argument("port"),
        click.argument("sheet_path", metavar="SHEET", type=click.Path(path_type=Path)),
    ):
        command = option(command)
    return command


@click.command()
@_takes_a_sheet
@click.option("--plan", is_flag=True, help="Read, then print the lines that would be said, and say none of them.")
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


def _work(
    *,
    write: bool,
    sheet_path: Path,
    port: str,
    seat_name: str | None,
    prove: str | None,
    plan: bool = False,
    how: Working,
    as_json: bool,
) -> None:
    from wexicon.work.comparing import the_seat
    from wexicon.work.finding import find_sheet, state_folder
    from wexicon.work.ports import port_named
    from wexicon.work.provisioning import Order
    from wexicon.work.provisioning import provision as bring_about
    from wexicon.work.provisioning import verify as compare
    from wexicon.work.results import Prove
    from wexicon.work.secrets import secrets_for
    from wexicon.work.unfinished import FileStore

    sheet = find_sheet(sheet_path, seat_name, secrets_for(sheet_path.parent, ask_secret()))
    seat = the_seat(sheet, seat_name)
    order = Order(seat.wanted, Prove(prove or ("auto" if write else "reading")), seat.trust, sheet.digest, plan)
    port = port_named(port)
    with how.module(port, seat.lexicon, seat.name, secrets=seat.secrets(), given=seat.given) as module:
        if write:
            result = bring_about(module, order, store=FileStore(state_folder() / "unfinished"))
        else:
            result = compare(module, order)
    result.about(seat.name, port, seat.lexicon, str(how.trace_path), sheet.digest)
    with ending(result.status):
        print_json(result) if as_json else print_unit(result)
