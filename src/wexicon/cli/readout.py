"""`wexicon readout`: who a module is, and every setting that it keeps, decoded."""

from __future__ import annotations

from pathlib import Path

import click

from wexicon.cli.options import Stop, lexicon_option, operator_for, works_a_module
from wexicon.cli.printing import print_failure, print_identity
from wexicon.cli.progress import Progress
from wexicon.cli.show import ending, print_json, print_table


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
    force: bool,
    as_json: bool,
) -> None:
    """Identify the module on PORT and print every setting that can be read."""
    from wexicon.work.finding import fixture_at, lexicon_for
    from wexicon.work.module import Module
    from wexicon.work.opening import default_trace, session_on
    from wexicon.work.provisioning import read_out

    lexicon = lexicon_for(lexicon_name, Path())
    fixture = fixture_at(fixture_path)
    trace = trace_path or default_trace("readout")
    with Progress(f"readout of {port}") as progress, Stop().listening() as stop:
        operator = operator_for(hands, port, progress)
        with session_on(port, lexicon, trace=trace, force=force, stopping=stop, listener=progress) as session:
            result = read_out(Module(session, lexicon, operator, patience=patience, fixture=fixture))
    result.about("", port, lexicon, str(trace))
    with ending(result.status):
        if as_json:
            print_json(result)
        else:
            print_identity(result)
            if result.settings:
                rows = [
                    (
                        line.name,
                        line.before.shown if line.before else f"({line.note})",
                        lexicon.settings[line.name].meaning,
                    )
                    for line in result.settings
                ]
                print_table(("setting", "value", "meaning"), rows)
            if result.failure:
                print_failure(result.failure, result.verdict, result.trace)
