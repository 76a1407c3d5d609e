"""`wexicon run`: a dialogue run with the module on a port, every reply checked."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from wexicon.cli.options import Stop, operator_for, works_a_module
from wexicon.cli.progress import Progress
from wexicon.cli.show import ending, print_json, print_line
from wexicon.cli.values import env_option, file_option, gather_values, values_argument
from wexicon.core.durations import spoken
from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.speech import ECHOES, LINE_ENDS, Speech
from wexicon.core.tuning import Tuning


@click.command()
@click.argument("dialogue", type=click.Path(path_type=Path))
@click.argument("port")
@values_argument
@click.option("--lexicon", "-l", "lexicon_name", help="Lexicon for the module's words; it also gets its attention.")
@click.option("--as-is", is_flag=True, help="With a lexicon: say the first line at once, without getting attention.")
@click.option("--rate", type=click.IntRange(1), help="Rate of our side, in baud.  [default: the lexicon's, or 9600]")
@click.option("--frame", help="Data bits, parity and stop bits.  [default: the lexicon's, or 8N1]")
@click.option("--end", type=click.Choice(list(LINE_ENDS)), help="Line end.  [default: the lexicon's, or crlf]")
@click.option(
    "--echo", type=click.Choice(ECHOES), help="Whether the module echoes.  [default: the lexicon's, or either]"
)
@env_option
@file_option
@works_a_module
def run(
    dialogue: Path,
    port: str,
    pairs: tuple[str, ...],
    lexicon_name: str | None,
    as_is: bool,
    rate: int | None,
    frame: str | None,
    end: str | None,
    echo: str | None,
    env_pairs: tuple[str, ...],
    file_pairs: tuple[str, ...],
    hands: str,
    patience: float,
    fixture_path: Path | None,
    trace_path: Path | None,
    force: bool,
    as_json: bool,
) -> None:
    """Run DIALOGUE with the module on PORT."""
    from wexicon.cli.printing import print_dialogue, times
    from wexicon.cli.trace import line
    from wexicon.work.dialogues import find_dialogue, run_dialogue
    from wexicon.work.finding import fixture_at, lexicon_for
    from wexicon.work.opening import default_trace, session_on

    program = find_dialogue(dialogue)
    lexicon = lexicon_for(lexicon_name, dialogue.parent) if lexicon_name else None
    values = gather_values(program, pairs, env_pairs, file_pairs)
    changes = {name: value for name, value in (("end", end), ("echo", echo)) if value}
    dialect = _dialect(lexicon, changes)
    factory = lexicon.factory if lexicon else Tuning()
    try:
        tuning = Tuning.of(rate or factory.rate, frame or factory.frame)
    except ValueError as fault:
        raise CallFault(str(fault)) from None
    fixture = fixture_at(fixture_path)
    trace = trace_path or default_trace(dialogue.stem)
    with Progress(dialogue.stem, quiet=not as_json) as progress, Stop().listening() as stop:
        operator = operator_for(hands, port, progress)
        live = None if as_json else (lambda record: click.echo(line(record)))
        with session_on(
            port, lexicon, trace=trace, force=force, dialect=dialect, tuning=tuning, live=live, stopping=stop
        ) as session:
            result = run_dialogue(
                session,
                program,
                values,
                lexicon,
                operator,
                attention=not as_is,
                likely=[tuning] if rate else [],
                patience=patience,
                fixture=fixture,
            )
    result.trace = str(trace)
    with ending(result.status):
        if as_json:
            print_json(result)
        else:
            print_dialogue(result)
            if not result.failure:
                told = f"passed: {result.exchanges} exchanges in {spoken(result.seconds)}: {times(result)}"
                print_line(told, "bold green")


def _dialect(lexicon: Lexicon | None, changes: dict[str, Any]) -> Dialect:
    """The lexicon's, or a plain one, but for what was asked for."""
    if not changes:
        return lexicon.dialect if lexicon else Dialect(Speech())
    from msgspec.structs import replace

    return Dialect(
        replace(lexicon.speech if lexicon else Speech(), **changes), lexicon.dialect.events if lexicon else {}
    )
