"""`wexicon units`: the register of units: which one is which, what was done to it, what it was left as."""

from __future__ import annotations

import re
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, TypedDict, Unpack

import click

from wexicon.cli.help import Group
from wexicon.cli.options import env_option, file_option, register_option
from wexicon.cli.show import (
    emit_json,
    emit_json_array,
    force_option,
    json_array,
    json_option,
    output_option,
    print_line,
    print_table,
    print_warning,
)
from wexicon.cli.units_watch import compare, secrets, secrets_in, watch
from wexicon.core.faults import CallFault
from wexicon.core.text import counted, visible
from wexicon.files import OVERWRITE, needs, write_new

if TYPE_CHECKING:
    from wexicon.core.results.unit import Shown
    from wexicon.records.entry import Entry
    from wexicon.records.register import Register
    from wexicon.records.sealed import HandedOver


@click.group(cls=Group)
def units() -> None:
    """List, show, export and label the units of the register.

    Examples:
      wexicon units list
      wexicon units show "mast M2"

    Exit status: 0 success; 2 no such unit, or an error in the call; 3 the register cannot be reached.
    """


units.add_command(secrets)
units.add_command(compare)
units.add_command(watch)


def _filters(command: Callable[..., None]) -> Callable[..., None]:
    for option in (
        click.option("--bench", default="", help="Only those of this bench (the machine's name)."),
        click.option(
            "--day", type=click.DateTime(["%Y-%m-%d"]), help="Only those of this day (UTC), such as 2026-03-02."
        ),
        click.option("--verdict", default="", help="Only those with this verdict."),
        click.option("--sheet", default="", help="Only those of this sheet, by its title or digest."),
        register_option,
    ):
        command = option(command)
    return command


class Filters(TypedDict):
    """Which units: empty texts and None match all."""

    sheet: str
    verdict: str
    day: datetime | None
    bench: str


# How many units a table lists, unless another number is given.
MOST_LISTED = 100


@units.command("list")
@click.option(
    "--limit",
    type=click.IntRange(0),
    help=f"List the newest N units; 0 lists all.  [{MOST_LISTED}; with --json all]",
    metavar="N",
)
@_filters
@json_option
def list_(limit: int | None, register_at: str | None, as_json: bool, **filters: Unpack[Filters]) -> None:
    """List the units with their last operation, the newest first.

    Examples:
      wexicon units list
      wexicon units list --sheet masts --verdict failed
    """
    register = _opened(register_at)
    if as_json:
        emit_json_array(_found(register, limit or 0, **filters))
        _tell_broken(register)
        return
    most = MOST_LISTED if limit is None else limit
    found = list(_found(register, most and most + 1, **filters))
    _tell_broken(register)
    if not found:
        print_line("no units recorded; wexicon provision and verify record them")
        _print_unfinished(register)
        return
    more = most and len(found) + len(register.broken) > most
    found = found[: most or None]
    rows = [(one.unit, one.name, one.did, one.verdict, one.evidence, _when(one), one.sheet, one.bench) for one in found]
    print_table(("module", "unit", "action", "verdict", "evidence", "when (UTC)", "sheet", "bench"), rows, ours=3)
    for one in found:
        if why := _why(one):
            print_line(f"{visible(one.name)}: {why}", "magenta")
    if more:
        print_line(f"only the newest {most} units are listed; --limit 0 lists all", "magenta")
    _print_unfinished(register)


def _print_unfinished(register: Register) -> None:
    """Work that was started on a module, on any bench, and not seen through."""
    from wexicon.files import state_folder
    from wexicon.work.provisioning.unfinished import RegisterStore

    RegisterStore(state_folder() / "unfinished", lambda: register).flush_ended()
    for work in register.all_unfinished():
        when = f"on {work.began:%Y-%m-%d %H:%M} UTC at {work.bench}"
        print_line(f"unfinished: {visible(work.unit)}, {when}", "magenta")


@units.command()
@click.argument("unit", required=False, default="")
@register_option
@json_option
def show(unit: str, register_at: str | None, as_json: bool) -> None:
    """Show the history of UNIT (its identity, or its name in a sheet), and its last recorded state.

    Examples:
      wexicon units show "mast M2"
      wexicon units show L9-00417

    Without UNIT it reads one line: the QR code of a label from a scanner, which types it.
    """

    from wexicon.cli.printing import print_measurements, print_tests
    from wexicon.core.results.unit import UnitResult
    from wexicon.records.entry import told_times

    unit = unit or _scanned()
    register = _opened(register_at)
    found = register.history(unit)
    if not found:
        raise CallFault(f"the register has no unit {unit}", where=register.where, hint="wexicon units list shows all.")
    if as_json:
        emit_json(found)
        return
    last = found[-1]
    print_line(f"{visible(last.unit)}, {visible(last.name)} of “{visible(last.sheet)}”", "bold")
    if last.result.identity:
        print_line(", ".join(f"{name} {visible(text)}" for name, text in last.result.identity.items()))
    rows = [(_when(one), one.did, one.name, one.verdict, one.evidence, one.bench, _changes(one)) for one in found]
    print_table(("when (UTC)", "action", "unit", "verdict", "evidence", "bench", "changed"), rows, ours=3)
    if why := _why(last):
        print_line(why, "magenta")
    left = [(line.name, _shown(line.after), line.outcome) for line in last.result.settings]
    if left:
        print_line("")
        print_table(("setting", "last read", "outcome"), left, ours=2)
    if last.result.measurements:
        print_line("")
        print_measurements(last.result.measurements)
    print_tests([UnitResult(tests=last.result.tests)])
    if unit != last.name and unit in [one.name for one in found]:
        print_line(f"note: formerly {visible(unit)}, now {visible(last.name)}", "magenta")
    if times := told_times(last.result.steps):
        print_line(f"time: {times}")
    if last.result.trace:
        print_line(f"trace: {visible(last.result.trace)}")


def _scanned() -> str:
    """The unit that is scanned or typed. Raises CallFault if there is none."""
    if sys.stdin.isatty():
        print_warning("Scan a label, or type a unit:")
    line = sys.stdin.readline().strip()
    if not line:
        raise CallFault("no unit was named", hint="wexicon units list shows all.")
    return line


@units.command()
@output_option("The file: .csv or .json.")
@force_option
@_filters
def export(output: Path, force: bool, register_at: str | None, **filters: Unpack[Filters]) -> None:
    """Write the units to a file, with the last recorded state of each.

    Examples:
      wexicon units export -o masts.csv --sheet masts
      wexicon units export -o units.json
    """
    if output.suffix not in (".json", ".csv"):
        raise CallFault("is neither .csv nor .json", where=str(output))
    register = _opened(register_at)
    count = 0

    def found() -> Iterator[Entry]:
        nonlocal count
        count = 0
        for one in _found(register, 0, **filters):
            count += 1
            yield one

    lines = json_array(found()) if output.suffix == ".json" else _csv(found)
    write_new(output, map(str.encode, lines), force=force)
    _tell_broken(register)
    print_line(f"wrote {output}: {counted(count, 'unit')}")


@units.command()
@output_option("The sheet of labels: .pdf, .svg or .png.")
@click.option("--size", default="62x29", show_default=True, help="Of a label, in millimetres: WIDTHxHEIGHT.")
@click.option(
    "--page", default="A4", show_default=True, help="A4, A5, letter, WIDTHxHEIGHT, or label: one on each page."
)
@click.option(
    "--with",
    "settings",
    default="name,address",
    show_default=True,
    help="Settings and measurements to print, comma-separated.",
)
@click.option("--unit", "one", help="Only this unit, by its identity or its name in a sheet.")
@click.option(
    "--secrets", "handed", type=click.Path(path_type=Path), help="Hand-over file with generated secrets to print."
)
@env_option
@file_option
@force_option
@_filters
def label(
    output: Path,
    size: str,
    page: str,
    settings: str,
    one: str | None,
    handed: Path | None,
    env_pairs: tuple[str, ...],
    file_pairs: tuple[str, ...],
    force: bool,
    register_at: str | None,
    **filters: Unpack[Filters],
) -> None:
    """Write labels of the units: name, identity, settings, and a QR code of the identity.

    Examples:
      wexicon units label -o labels.pdf --sheet masts
      wexicon units label -o labels.png --size 96x56 --page 210x130

    Further pages of a .png or .svg go to FILE-2, FILE-3 and so on. With --secrets the generated secrets that the sheet allows
    on labels are printed too; the password is asked for, or taken by --env password=VARIABLE or --file password=PATH.
    """
    from wexicon.records.labels import KINDS, Label, draw_labels, fault_of, size_of

    kind = output.suffix.removeprefix(".").lower()
    if kind not in KINDS:
        raise CallFault(f"is none of .{', .'.join(KINDS)}", where=str(output))
    needs("segno", "matplotlib")
    try:
        sizes = size_of(size), size_of(size if page == "label" else page)
    except ValueError as fault:
        raise CallFault(str(fault)) from None
    register = _opened(register_at)
    found = register.history(one)[-1:] if one else list(_found(register, 0, **filters))
    _tell_broken(register)
    if not found:
        raise CallFault("the register has no such unit", hint="wexicon units list shows all.")
    names = [name.strip() for name in settings.split(",") if name.strip()]
    secret = [one for one in secrets_in(handed, env_pairs, file_pairs) if one.label] if handed else []
    labels = [
        Label(u.name, (*_lines(u, names), *_secret_lines(u, secret)), u.unit) for u in sorted(found, key=_by_name)
    ]
    wrong = {one.name: what for one in labels if (what := fault_of(one, sizes[0]))}
    for name, what in wrong.items():
        print_warning(f"{visible(name)} gets no label: {what}", "magenta")
    labels = [one for one in labels if one.name not in wrong]
    if not labels:
        raise CallFault("no label can be drawn; nothing was written")
    pages = draw_labels(labels, *sizes, kind)
    paths = [output, *(output.with_stem(f"{output.stem}-{number}") for number in range(2, len(pages) + 1))]
    there = next((one for one in paths if one.exists() and not force), None)
    if there:
        raise CallFault("already exists; nothing was written", where=str(there), hint=OVERWRITE)
    for target, data in zip(paths, pages, strict=True):
        write_new(target, data, force=force)
    print_line(f"wrote {', '.join(map(str, paths))}: {counted(len(labels), 'label')} of {size} mm")
    if wrong:
        raise click.exceptions.Exit(1)


def _by_name(one: Entry) -> list[tuple[int, str]]:
    """The order of names, their numbers as numbers: mast 9 comes before mast 10."""
    return [(int(part), "") if part.isdecimal() else (0, part) for part in re.split(r"([0-9]{1,9})", one.name)]


def _lines(one: Entry, names: list[str]) -> Iterator[str]:
    """What stands on a label below the name: who the module is, and what was last read or measured of these."""
    yield one.unit
    after = {line.name: _shown(line.after) for line in one.result.settings}
    tests = (each for test in one.result.tests for each in test.measurements)
    measured = {each.name: each.text for each in (*one.result.measurements, *tests)}
    for name in names:
        text = after.get(name) or one.result.identity.get(name, "") or measured.get(name, "")
        if text and text not in one.unit.split():
            yield text if name == "name" else f"{name} {text}"


def _secret_lines(one: Entry, secret: Sequence[HandedOver]) -> Iterator[str]:
    """The generated secrets that a unit has, as they stand on its label: those that its module took."""
    from wexicon.records.sealed import DOUBTFUL

    has = {line.name for line in one.result.settings if line.outcome in ("changed", "unchanged", "accepted")}
    for each in secret:
        if each.setting not in has or each.state == DOUBTFUL:
            continue
        if each.sheet == one.sheet and (each.unit == one.unit if each.unit else each.name == one.name):
            yield f"{each.setting} {each.value}"


def _csv(found: Callable[[], Iterable[Entry]]) -> Iterator[str]:
    """The lines of a table of units, which are read twice: for their settings' names, and for the rows."""
    from wexicon.records.exports import csv_lines

    names = list(dict.fromkeys(line.name for one in found() for line in one.result.settings))
    heads = ["module", "unit", "action", "verdict", "evidence", "when", "sheet", "bench", "why", *names]

    def row(one: Entry) -> list[str]:
        after = {line.name: _shown(line.after) for line in one.result.settings}
        cells = [one.unit, one.name, one.did, one.verdict, one.evidence, one.at, one.sheet, one.bench, _why(one)]
        return [*cells, *(after.get(name, "") for name in names)]

    return csv_lines(heads, map(row, found()))


def _opened(register_at: str | None) -> Register:
    """The register, with what waited for it."""
    from wexicon.cli.printing import tell_recorded
    from wexicon.work.fleet.recording import the_register

    register = the_register(register_at)
    tell_recorded(register.transport_note)
    register.flush_pending()
    return register


def _found(register: Register, limit: int, **filters: Unpack[Filters]) -> Iterator[Entry]:
    """The units of the filters, as they are read."""
    day = filters["day"]
    yield from register.latest(
        sheet=filters["sheet"],
        verdict=filters["verdict"],
        bench=filters["bench"],
        day=day.date() if day else None,
        limit=limit,
    )


def _tell_broken(register: Register) -> None:
    """Names the records that could not be read."""
    if register.broken:
        ids = ", ".join(sorted(register.broken)[:3])
        print_warning(f"note: {counted(len(register.broken), 'record')} cannot be read and left out: {ids}", "magenta")


def _when(one: Entry) -> str:
    return one.at[:19].replace("T", " ")


def _shown(value: Shown | None) -> str:
    return value.shown if value else ""


def _why(one: Entry) -> str:
    """Why a unit, or the first of its tests that did, failed: the step, and the words of its run; empty if nothing failed."""
    from wexicon.records.exports import first_failure, in_one_line

    return in_one_line(first_failure(one.result))


def _changes(one: Entry) -> str:
    return ", ".join(line.name for line in one.result.settings if line.outcome == "changed")
