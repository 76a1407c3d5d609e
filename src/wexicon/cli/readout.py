"""`wexicon readout`: who a module is, and every setting that it keeps, decoded."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from wexicon.cli.choosing import lexicon_of
from wexicon.cli.options import lexicon_option
from wexicon.cli.printing import print_failure, print_identity, print_remarks, print_settings, print_verdict
from wexicon.cli.show import ending, print_json, print_line, print_table
from wexicon.cli.values import env_option, file_option, gather_given
from wexicon.cli.working import Working, works_a_module

if TYPE_CHECKING:
    from wexicon.core.formats.lexicon import Lexicon, Setting
    from wexicon.core.values import Value
    from wexicon.work.results.unit import SettingResult, UnitResult


@click.command()
@click.argument("port")
@lexicon_option
@click.option("--raw", is_flag=True, help="Also print raw values.")
@click.option("--sheet", "sheet_path", type=click.Path(path_type=Path), help="Write the settings to a sheet.")
@click.option("--against", type=click.Path(path_type=Path), help="A sheet or a trace: print what differs from it.")
@click.option("--seat", "seat_name", help="Seat to compare with, if there are several.")
@click.option("--row", help="Row of the sheet's table, by key.")
@env_option
@file_option
@works_a_module
def readout(
    port: str,
    lexicon_name: str | None,
    raw: bool,
    sheet_path: Path | None,
    against: Path | None,
    seat_name: str | None,
    row: str | None,
    env_pairs: tuple[str, ...],
    file_pairs: tuple[str, ...],
    how: Working,
    as_json: bool,
) -> None:
    """Identify the module on PORT and print every setting that can be read.

    Without --lexicon it is detected. With --against, exit status 1 means that something differs.
    """
    from wexicon.files import write_new
    from wexicon.work.contact.ports import port_named

    port = port_named(port)
    if against:
        _compare(port, lexicon_name, against, seat_name, row, how, as_json)
        return
    lexicon = lexicon_of(lexicon_name, port, how, Path())
    result = read_module(port, lexicon, how, env_pairs, file_pairs)
    if sheet_path and not result.failure:
        write_new(sheet_path, _sheet(result, lexicon), force=how.force)
        result.remarks.append(
            f"wrote {sheet_path}; wexicon provision {sheet_path} PORT copies its settings to another module"
        )
    with ending(result.status):
        print_json(result) if as_json else print_readout(result, lexicon, raw=raw)


def read_module(
    port: str, lexicon: Lexicon, how: Working, env_pairs: tuple[str, ...], file_pairs: tuple[str, ...]
) -> UnitResult:
    """Reads every setting of the module on a port. Raises Fault where the port cannot be opened."""
    from wexicon.work.provisioning.run import read_out

    given = gather_given(lexicon, env_pairs, file_pairs)
    with how.module(port, lexicon, "readout", told=f"readout of {port}", given=given) as module:
        result = read_out(module)
    return result.about("", port, lexicon, str(how.trace_path))


def print_readout(result: UnitResult, lexicon: Lexicon, *, raw: bool = False) -> None:
    """Who it is and what it keeps, or why that cannot be told."""
    print_identity(result)
    columns = ["setting", "value", "at default", "allowed", "meaning"]
    rows = [_row(line, lexicon.settings[line.name]) for line in result.settings]
    if raw:
        columns.insert(2, "raw")
        rows = [[*row[:2], line.raw, *row[2:]] for row, line in zip(rows, result.settings, strict=True)]
    if not any(line.factory for line in result.settings):
        at = columns.index("at default")
        columns.pop(at)
        rows = [[*row[:at], *row[at + 1 :]] for row in rows]
    if rows:
        print_table(columns, rows)
    print_remarks(result.remarks)
    if result.failure:
        print_failure(result.failure, result.verdict, result.trace)


def _row(line: SettingResult, setting: Setting) -> list[str]:
    value = line.before.shown if line.before else f"({line.note})"
    factory = line.factory.shown if line.factory else ""
    if factory and line.before:
        factory = "yes" if line.before.shown == factory else f"no: {factory}"
    group = f" (together with {setting.group.name})" if setting.group and not setting.write else ""
    return [line.name, value, factory, setting.kind.allowed(), setting.meaning + group]


def _sheet(result: UnitResult, lexicon: Lexicon) -> str:
    from wexicon.core.formats.writing import sheet_text
    from wexicon.work.contact.known_links import named

    shown = {line.name: line.before for line in result.settings}
    told = ", ".join(f"{name} {value}" for name, value in result.identity.items())
    settings: list[tuple[Setting, Value | None]] = []
    for name, setting in lexicon.settings.items():
        found = shown.get(name)
        if found is None or (found.value is None and found.shown != "unset"):
            settings.append((setting, None))
        else:
            settings.append((setting, setting.check("unset" if found.value is None else found.value)))
    return sheet_text(f"as {told} was", "unit", named(lexicon), settings)


def _compare(
    port: str,
    lexicon_name: str | None,
    against: Path,
    seat_name: str | None,
    row: str | None,
    how: Working,
    as_json: bool,
) -> None:
    """Prints what differs between the module and a sheet or a trace."""
    from wexicon.cli.options import ask_secret
    from wexicon.work.contact.catalog import find_sheet
    from wexicon.work.contact.secret_sources import secrets_for
    from wexicon.work.fleet.selection import the_job
    from wexicon.work.provisioning.run import Order, verify
    from wexicon.work.results.verdicts import Outcome, Prove
    from wexicon.work.simulation.trace_values import values_in_trace

    if against.suffix == ".toml":
        sheet = find_sheet(against, seat_name, secrets_for(against.parent, ask_secret()))
        job = the_job(sheet, seat_name, row)
        seat = job.seat
        lexicon, wanted, secrets, given = seat.lexicon, job.wanted, job.secrets(), seat.given
    else:
        lexicon, secrets, given = lexicon_of(lexicon_name, port, how, Path()), None, {}
        wanted = values_in_trace(against, lexicon)
    with how.module(port, lexicon, "readout", told=f"readout of {port}", secrets=secrets, given=given) as module:
        result = verify(module, Order(wanted, Prove.READING))
    result.about("", port, lexicon, str(how.trace_path))
    with ending(result.status):
        if as_json:
            print_json(result)
            return
        print_identity(result)
        result.settings = [line for line in result.settings if line.outcome is not Outcome.UNCHANGED]
        same = len(wanted) - len(result.settings)
        if result.failure and result.failure.step != "compare":
            print_failure(result.failure, result.verdict, result.trace)
            return
        print_settings(result)
        print_line(
            f"{same} of {len(wanted)} settings are as in {against}", "bold green" if same == len(wanted) else "bold"
        )
        if not result.settings:
            return
        print_verdict(result) if not result.failure else None
