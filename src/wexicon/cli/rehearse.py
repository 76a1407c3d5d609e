"""`wexicon rehearse`: a dialogue or a sheet, run against stand-ins in virtual time, with no port and no hardware."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path
from typing import TYPE_CHECKING

import click
import msgspec

from wexicon.cli.help import Command
from wexicon.cli.options import (
    DurationType,
    allow_option,
    env_option,
    file_option,
    gather_values,
    gathered,
    named_lexicon,
    sheet_at,
    trace_option,
    values_argument,
)
from wexicon.cli.printing import check_plot, plot_option, write_plot
from wexicon.cli.show import emit_json, ending, force_option, json_option, print_line, print_note, print_table
from wexicon.core.faults import CallFault
from wexicon.core.text import counted, spoken, visible
from wexicon.files import OVERWRITE

if TYPE_CHECKING:
    from wexicon.core.formats.jobs import Job
    from wexicon.core.formats.sheet import Sheet
    from wexicon.core.results.unit import Rehearsal, UnitResult
    from wexicon.work.contact.standins import Choice


class RehearseCall(msgspec.Struct, kw_only=True):
    """The options of `rehearse`."""

    file: Path
    pairs: tuple[str, ...]
    lexicon_name: str | None
    rig_path: Path | None
    unit_name: str | None
    standin: str | None
    recording: Path | None
    ports: int | None
    swap: float
    allowed: tuple[Path, ...]
    env_pairs: tuple[str, ...]
    file_pairs: tuple[str, ...]
    trace_path: Path | None
    force: bool
    as_json: bool
    plot_path: Path | None


@click.command(cls=Command)
@click.argument("file", type=click.Path(path_type=Path))
@values_argument
@click.option("--lexicon", "-l", "lexicon_name", help="Lexicon, by name or file.  [a sheet names its own]")
@click.option("--rig", "rig_path", type=click.Path(path_type=Path), help="Rig file with the stand-in.")
@click.option("--unit", "unit_name", help="Unit of the rig.  [the one of the lexicon's family]")
@click.option("--standin", help="The stand-in that answers, with factory defaults.  [the lexicon's family]")
@click.option(
    "--ports",
    type=click.IntRange(1),
    help="Sheet only: number of ports.  [1, or one for each unit if a test needs several]",
)
@click.option("--swap", type=DurationType(), default="10s", show_default=True, help="Sheet only: time per swap.")
@allow_option
@click.option("--recording", type=click.Path(path_type=Path), help="Replay the answers in this trace.")
@env_option
@file_option
@trace_option
@force_option
@json_option
@plot_option
@gathered(RehearseCall)
def rehearse(call: RehearseCall) -> None:
    """Run the dialogue or provision the sheet in FILE against stand-ins, in virtual time.

    Examples:
      wexicon rehearse service-plug.toml
      wexicon rehearse networks.wex --lexicon brisca-w1 --rig rig.toml

    Exit status: as of `wexicon run` or `wexicon provision`.
    """
    from wexicon import api

    if call.trace_path and call.trace_path.exists() and not call.force:
        raise CallFault("already exists; nothing was done", where=str(call.trace_path), hint=OVERWRITE)
    choice = api.Choice(call.rig_path, call.unit_name, call.standin, call.recording)
    if call.file.suffix == ".toml":
        _rehearse_sheet(call, choice)
    else:
        _rehearse_dialogue(call, choice)


def _rehearse_dialogue(call: RehearseCall, choice: Choice) -> None:
    from wexicon import api
    from wexicon.cli.printing import print_dialogue, times

    began = time.perf_counter()
    program = api.find_dialogue(call.file)
    lexicon = named_lexicon(call.lexicon_name, call.file.parent) if call.lexicon_name else None
    values = gather_values(program, call.pairs, call.env_pairs, call.file_pairs)
    check_plot(call.plot_path, call.force)
    with tempfile.TemporaryDirectory() as folder:
        # A figure is drawn from the trace.
        trace = call.trace_path or (Path(folder) / "trace.jsonl" if call.plot_path else None)
        result = api.rehearse_dialogue(program, values, lexicon, choice, trace=trace)
        if call.plot_path and trace:
            write_plot(result, trace, call.plot_path, call.force)
        result.trace = str(call.trace_path or "")
    with ending(result.status):
        if call.as_json:
            emit_json(result)
            return
        for note in result.notes:
            print_line(f"# {visible(note)}")
        print_dialogue(result)
        if not result.failure:
            print_line(f"passed: {counted(result.exchanges, 'exchange')}", "green")
        took = spoken(time.perf_counter() - began)
        print_line(f"in real time this takes {spoken(result.seconds)}: {times(result)}; rehearsed in {took}")


def _rehearse_sheet(call: RehearseCall, choice: Choice) -> None:
    from wexicon import api

    if call.plot_path:
        raise CallFault("--plot draws a dialogue, not a sheet")
    from wexicon.core.formats.jobs import jobs_of

    began = time.perf_counter()
    sheet = sheet_at(call.file, None, call.allowed)
    for note in sheet.notes:
        print_note(note)
    jobs = jobs_of(sheet)
    if sheet.tests or any(job.row or job.seat.count or not job.is_plain for job in jobs):
        _rehearse_many(call, choice, sheet, jobs)
        return
    results = []
    for job in jobs:
        # With several seats each has its own trace.
        trace = call.trace_path
        own = trace.with_stem(f"{trace.stem}-{job.name}") if trace and len(jobs) > 1 else trace
        results.append(api.rehearse_seat(job.seat, choice, trace=own))
    with ending(next((result.status for result in results if result.status), 0)):
        emit_json(results) if call.as_json else _print_units(results, time.perf_counter() - began)


def _rehearse_many(call: RehearseCall, choice: Choice, sheet: Sheet, jobs: list[Job]) -> None:
    from wexicon.cli.batch import MOST_PRINTED, print_units
    from wexicon.work.fleet.rehearsing import rehearse_jobs

    if call.trace_path:
        raise CallFault("--trace cannot be used when many units are rehearsed", hint="Remove --trace.")
    began = time.perf_counter()
    whole = call.as_json or len(jobs) <= MOST_PRINTED
    rehearsal = rehearse_jobs(sheet, jobs, choice, ports=call.ports, swap=call.swap, whole=whole)
    with ending(next((result.status for result in rehearsal.units if result.status), 0)):
        if call.as_json:
            emit_json(rehearsal)
        else:
            print_units(rehearsal.units, rehearsal.seconds)
            _print_rehearsal(rehearsal, time.perf_counter() - began)


def _print_rehearsal(made: Rehearsal, took: float) -> None:
    """What it will take."""
    whole = sum(step.seconds for step in made.steps) or 1.0
    rows = [
        (step.step, spoken(step.seconds / len(made.units)), f"{100 * step.seconds / whole:.0f} %")
        for step in made.steps
    ]
    print_line("")
    print_table(("step", "per unit", "share"), rows, ours=3)
    for one in made.asked:
        print_line(f"the operator, {counted(one.times, 'time')}: {visible(one.text)}")
    assumed = f", {spoken(made.swap)} assumed for each of {counted(made.swaps, 'swap')}" if made.swaps else ""
    places = counted(made.ports, "port")
    print_line(f"in real time this takes {spoken(made.seconds)} on {places}{assumed}; rehearsed in {spoken(took)}")


def _print_units(results: list[UnitResult], took: float) -> None:
    from wexicon.cli.printing import print_unit

    for result in results:
        print_unit(result)
    total = sum(result.seconds for result in results)
    print_line(f"in real time this takes {spoken(total)}; rehearsed in {spoken(took)}")
