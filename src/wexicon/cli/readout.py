"""`wexicon readout`: the identity of a module, and every setting, decoded."""

from __future__ import annotations

from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING

import click
import msgspec

from wexicon.cli.help import Command
from wexicon.cli.options import (
    Working,
    allow_option,
    detected_lexicon,
    env_option,
    file_option,
    gather_given,
    gathered,
    lexicon_option,
    require_showable,
    sheet_at,
    show_option,
)
from wexicon.cli.printing import print_failure, print_identity, print_remarks, print_settings, print_verdict
from wexicon.cli.show import emit_json, ending, output_option, print_line, print_table
from wexicon.core.faults import CallFault
from wexicon.core.text import visible
from wexicon.files import write_new
from wexicon.work.contact.catalog import origin_of

if TYPE_CHECKING:
    from wexicon.core.formats.lexicon import Lexicon, Setting
    from wexicon.core.results.unit import SettingResult, Shown, UnitResult
    from wexicon.core.values import Value


SHEET = "sheet"
# What the settings can be written as, and the suffix of such a file.
KINDS = {SHEET: ".toml", "c-header": ".h", "json": ".json", "env": ".env"}


class ReadoutCall(msgspec.Struct):
    """The options of `readout`."""

    port: str
    lexicon_name: str | None
    raw: bool
    output: Path | None
    against: Path | None
    kind: str | None
    seat_name: str | None
    row: str | None
    allowed: tuple[Path, ...]
    env_pairs: tuple[str, ...]
    file_pairs: tuple[str, ...]
    shown: tuple[str, ...]
    how: Working


@click.command(cls=Command)
@click.argument("port")
@lexicon_option
@click.option("--raw", is_flag=True, help="Also print raw values.")
@output_option(
    "Write the settings: as a sheet, or for the host's firmware as a C header, JSON or an environment file. PORT may be "
    "a sheet then.",
    required=False,
)
@click.option("--against", type=click.Path(path_type=Path), help="A sheet or a trace: print what differs from it.")
@click.option("--as", "kind", type=click.Choice(list(KINDS)), help="Which of these.  [by FILE's suffix]")
@click.option("--seat", "seat_name", help="Seat to compare with, if there are several.")
@click.option("--row", help="Row of the sheet's table, by key.")
@allow_option
@env_option
@file_option
@show_option
@gathered(ReadoutCall)
def readout(call: ReadoutCall) -> None:
    """Identify the module on PORT and print every setting that can be read.

    Examples:
      wexicon readout /dev/ttyUSB0
      wexicon readout /dev/ttyUSB0 -o mast.toml

    Without --lexicon it is detected. With --against, exit status 1 means that something differs.
    """
    from wexicon import api

    kind = _kind(call.output, call.kind) if call.output else ""
    if call.output and call.port.endswith(".toml"):
        _export_sheet(call, call.output, kind)
        return
    call.port = api.port_named(call.port)
    if call.against:
        _compare(call, call.against)
        return
    lexicon = detected_lexicon(call.port, call.lexicon_name, call.how)
    require_showable(call.shown, lexicon, as_json=call.how.as_json)
    result, shown = read_module(call.port, lexicon, call.how, call.env_pairs, call.file_pairs, call.shown)
    result.lexicon_from = origin_of(lexicon) + ("" if call.lexicon_name else ", stored for this port")
    if call.output and not result.failure:
        result.remarks.append(_write(call, call.output, kind, result, lexicon))
    with ending(result.status):
        emit_json(result) if call.how.as_json else print_readout(result, lexicon, raw=call.raw)
        for name, text in shown.items():
            print_line(f"{name}: {visible(text)}", "bold")


def _kind(path: Path, kind: str | None) -> str:
    """What is written to a file: as was said, or by its suffix. Raises CallFault."""
    found = kind or next((name for name, suffix in KINDS.items() if path.suffix == suffix), "")
    if not found:
        hint = f"End its name with {' or '.join(KINDS.values())}, or say --as {' | '.join(KINDS)}."
        raise CallFault(
            "is not the name of a sheet, a C header, JSON or an environment file", where=str(path), hint=hint
        )
    return found


def _write(call: ReadoutCall, path: Path, kind: str, result: UnitResult, lexicon: Lexicon) -> str:
    """Writes what was read; a remark on that."""
    from wexicon.core.formats.host_export import host_settings, written

    if kind == SHEET:
        write_new(path, _sheet(result, lexicon, path), force=call.how.force)
        return f"wrote {path}; wexicon provision {path} PORT copies its settings to another module"
    read = {line.name: line.before for line in result.settings}
    wanted: dict[str, Value] = {}
    for name, setting in lexicon.settings.items():
        found = read.get(name)
        if found is not None and (setting.secret or found.value is not None or found.shown == "unset"):
            wanted[name] = "" if setting.secret else _plain(setting, found)
    told = ", ".join(f"{name} {value}" for name, value in result.identity.items())
    made = host_settings({"": (lexicon, wanted)}, (f"read from {told}", f"lexicon {lexicon.about.family}"))
    write_new(path, written(made, kind), force=call.how.force)
    return f"wrote {path}: {len(made.values)} values" + (
        f"; left out: {', '.join(made.left_out)}" if made.left_out else ""
    )


def _export_sheet(call: ReadoutCall, path: Path, kind: str) -> None:
    """Writes the settings of a sheet's seats for the host's firmware; with --row those of the row."""
    from wexicon.core.formats.host_export import host_settings, written
    from wexicon.work.fleet.sheet_run import chosen_jobs

    if kind == SHEET:
        raise CallFault(
            "is a sheet already", where=call.port, hint="Name the port of a module, or a .h, .json or .env file."
        )
    sheet = sheet_at(Path(call.port), call.seat_name, call.allowed)
    seats = {name: (seat.lexicon, dict(seat.wanted)) for name, seat in sheet.seats.items()}
    if call.row:
        for job in chosen_jobs(sheet, call.seat_name, call.row):
            seats[job.seat.name] = (job.seat.lexicon, dict(job.wanted))
    late = [f"{name}.{key}: filled in for each unit" for name, seat in sheet.seats.items() for key in seat.filled]
    made = host_settings(seats, (f"from {Path(call.port).name}", f"SHA-256 {sheet.digest}"))
    made = msgspec.structs.replace(made, left_out=(*made.left_out, *(() if call.row else late)))
    write_new(path, written(made, kind), force=call.how.force)
    print_line(f"wrote {path}: {len(made.values)} values")
    for one in made.left_out:
        print_line(f"left out: {one}", "magenta")


def read_module(
    port: str,
    lexicon: Lexicon,
    how: Working,
    env_pairs: tuple[str, ...],
    file_pairs: tuple[str, ...],
    shown: tuple[str, ...] = (),
) -> tuple[UnitResult, dict[str, str]]:
    """Reads every setting of the module on a port; gives those in `shown` in clear too. Raises Fault if the port cannot be
    opened."""
    from wexicon import api

    given = gather_given(lexicon, env_pairs, file_pairs)
    opening = api.Opening(title="readout")
    with (
        how.working(f"readout of {port}") as setup,
        api.open_module(port, lexicon, setup, given=given, opening=opening) as module,
    ):
        result = api.read(module)
        return result, {name: module.reveal(name) for name in shown if not result.failure}


def print_readout(result: UnitResult, lexicon: Lexicon, *, raw: bool = False) -> None:
    """The identity and the settings, or why they could not be read."""
    print_identity(result)
    if result.lexicon_from:
        print_line(f"lexicon {lexicon.about.family} ({result.lexicon_from})")
    columns = ["setting", "value", "default", "allowed", "meaning"]
    rows = [_row(line, lexicon.settings[line.name]) for line in result.settings]
    if raw:
        columns.insert(2, "raw")
        rows = [[*row[:2], line.raw, *row[2:]] for row, line in zip(rows, result.settings, strict=True)]
    if any(line.granted for line in result.settings):
        columns.insert(2, "granted")
        shown = [_in_bits(line.granted, line.granted_raw) for line in result.settings]
        rows = [
            [row[0], _beside(row[1], line), told, *row[2:]]
            for row, line, told in zip(rows, result.settings, shown, strict=True)
        ]
    if not any(line.factory for line in result.settings):
        at = columns.index("default")
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
        factory = "default" if line.before.shown == factory else f"changed (default {factory})"
    group = f" (written as one {setting.in_group.name})" if setting.in_group and not setting.write else ""
    return [line.name, value, factory, setting.kind.allowed(), setting.meaning + group]


def _in_bits(shown: Shown | None, raw: str) -> str:
    """A timer's value in seconds and in the bits that stand for it."""
    if shown is None:
        return ""
    seconds = f" = {shown.value} s" if isinstance(shown.value, int) and shown.value >= 60 else ""
    return f"{shown.shown}{seconds} ({raw})" if raw else shown.shown


def _beside(cell: str, line: SettingResult) -> str:
    """What was asked of the network, in the same way as what it granted."""
    return _in_bits(line.before, line.raw) if line.granted and line.before else cell


def _sheet(result: UnitResult, lexicon: Lexicon, path: Path) -> str:
    """The settings of a module as a sheet; a lexicon beside or below it is named as it stands from there."""
    from wexicon.core.formats.host_export import sheet_text
    from wexicon.work.contact.ports import named

    shown = {line.name: line.before for line in result.settings}
    told = ", ".join(f"{name} {value}" for name, value in result.identity.items())
    settings: list[tuple[Setting, Value | None]] = []
    for name, setting in lexicon.settings.items():
        found = shown.get(name)
        if found is None or (found.value is None and found.shown != "unset"):
            settings.append((setting, None))
        else:
            settings.append((setting, _plain(setting, found)))
    name, folder = named(lexicon), path.absolute().parent
    if Path(name).is_absolute() and Path(name).is_relative_to(folder):
        name = str(Path(name).relative_to(folder))
    return sheet_text(f"as {told} was", "unit", name, settings)


def _plain(setting: Setting, found: Shown) -> Value:
    """The value that was read, in the plain form if it is allowed."""
    from wexicon.core.values import UNSET, ValueFault

    try:
        return setting.check("unset" if found.value is None else found.value)
    except ValueFault:
        return (
            UNSET
            if found.value is None
            else Decimal(str(found.value))
            if isinstance(found.value, float)
            else found.value
        )


def _compare(call: ReadoutCall, against: Path) -> None:
    """Compares the module with a sheet or a trace, and prints what differs."""
    from wexicon import api

    opening, given = api.Opening(title="readout"), {}
    if against.suffix == ".toml":
        from wexicon.work.fleet.sheet_run import the_job

        sheet = sheet_at(against, call.seat_name, call.allowed)
        job = the_job(sheet, call.seat_name, call.row)
        lexicon, wanted, opening.secrets, given = job.seat.lexicon, job.wanted, job.secrets(), job.given(sheet.secret)
    else:
        from wexicon.work.module.opening import values_in_trace

        lexicon = detected_lexicon(call.port, call.lexicon_name, call.how)
        wanted = values_in_trace(against, lexicon)
    with (
        call.how.working(f"readout of {call.port}") as setup,
        api.open_module(call.port, lexicon, setup, given=given, opening=opening) as module,
    ):
        result = api.compare_with(module, wanted)
    with ending(result.status):
        emit_json(result) if call.how.as_json else _print_difference(result, len(wanted), against)


def _print_difference(result: UnitResult, count: int, against: Path) -> None:
    print_identity(result)
    result.settings = [line for line in result.settings if line.outcome != "unchanged"]
    same = count - len(result.settings)
    if result.failure and result.failure.step != "compare":
        print_failure(result.failure, result.verdict, result.trace)
        return
    print_settings(result)
    print_line(f"{same} of {count} settings are as in {against}", "green" if same == count else "bold")
    if result.settings and not result.failure:
        print_verdict(result)
