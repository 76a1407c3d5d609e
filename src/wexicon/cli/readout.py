"""`wexicon readout`: who a module is, and every setting that it keeps, decoded."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wexicon.cli.options import Stop, lexicon_option, links_to_try, operator_for, rate_option, works_a_module
from wexicon.cli.printing import print_failure, print_identity
from wexicon.cli.progress import Progress
from wexicon.cli.show import ending, print_json, print_line, print_table
from wexicon.cli.values import env_option, file_option, gather_given

if TYPE_CHECKING:
    from wexicon.core.formats.lexicon import Lexicon
    from wexicon.work.results import UnitResult


@click.command()
@click.argument("port")
@lexicon_option
@rate_option
@env_option
@file_option
@works_a_module
def readout(port: str, lexicon_name: str, as_json: bool, **how: Any) -> None:
    """Identify the module on PORT and print every setting that can be read."""
    from wexicon.work.finding import lexicon_for

    lexicon = lexicon_for(lexicon_name, Path())
    result = read_module(port, lexicon, **how)
    with ending(result.status):
        print_json(result) if as_json else print_readout(result, lexicon)


def read_module(
    port: str,
    lexicon: Lexicon,
    *,
    rate: int | None,
    env_pairs: tuple[str, ...],
    file_pairs: tuple[str, ...],
    hands: str,
    patience: float,
    fixture_path: Path | None,
    trace_path: Path | None,
    force: bool,
) -> UnitResult:
    """Reads every setting of the module on a port. Raises Fault where the port cannot be opened."""
    from wexicon.work.finding import fixture_at
    from wexicon.work.module import Module
    from wexicon.work.opening import default_trace, session_on
    from wexicon.work.provisioning import read_out

    given = gather_given(lexicon, env_pairs, file_pairs)
    fixture = fixture_at(fixture_path)
    trace = trace_path or default_trace("readout")
    with Progress(f"readout of {port}") as progress, Stop().listening() as stop:
        operator = operator_for(hands, port, progress)
        with session_on(port, lexicon, trace=trace, force=force, stopping=stop, listener=progress) as session:
            likely = links_to_try(lexicon, rate)
            module = Module(session, lexicon, operator, patience=patience, fixture=fixture, given=given, likely=likely)
            result = read_out(module)
    return result.about("", port, lexicon, str(trace))


def print_readout(result: UnitResult, lexicon: Lexicon) -> None:
    """Who it is and what it keeps, or why that cannot be told."""
    print_identity(result)
    rows = [
        (line.name, line.before.shown if line.before else f"({line.note})", lexicon.settings[line.name].meaning)
        for line in result.settings
    ]
    if rows:
        print_table(("setting", "value", "meaning"), rows)
    for remark in result.remarks:
        print_line(f"note: {remark}", "yellow")
    if result.failure:
        print_failure(result.failure, result.verdict, result.trace)
