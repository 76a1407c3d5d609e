"""`wexicon readout`: who a module is, and every setting that it keeps, decoded."""

from __future__ import annotations

from pathlib import Path

import click

from wexicon.cli.outcome import UnitReport, end_with, print_failure, print_identity
from wexicon.cli.show import Progress, print_json, print_table
from wexicon.cli.working import default_trace, fixture_at, lexicon_option, operator_for, session_on, works_a_module
from wexicon.work.finding import find_lexicon
from wexicon.work.provision import Provision


@click.command()
@click.argument("port")
@lexicon_option
@works_a_module
def readout(
    port: str,
    lexicon_name: str,
    hands: str,
    patience: float,
    fixture_path: Path | None,
    trace_path: Path | None,
    as_json: bool,
) -> None:
    """Identify the module on PORT and print every setting that can be read."""
    lexicon = find_lexicon(lexicon_name, Path())
    fixture = fixture_at(fixture_path)
    trace = trace_path or default_trace("readout")
    with Progress(f"readout of {port}") as progress:
        operator = operator_for(hands, port, progress)
        with session_on(port, lexicon, trace=trace) as session:
            result = Provision(
                session, lexicon, operator, write=False, patience=patience, fixture=fixture, watch=progress.step
            ).run()
    report = UnitReport.of("", port, lexicon, result, trace)
    if as_json:
        print_json(report)
    else:
        print_identity(report)
        if report.settings:
            rows = [
                (line.name, line.found or f"({line.note or 'not readable'})", lexicon.settings[line.name].meaning)
                for line in report.settings
            ]
            print_table(("setting", "value", "meaning"), rows)
        print_failure(report)
    end_with(report)
