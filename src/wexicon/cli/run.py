"""`wexicon run`: a written conversation, held with the module on a port, every reply checked."""

from __future__ import annotations

from pathlib import Path

import click

from wexicon.cli.holding import (
    env_option,
    file_option,
    find_dialogue,
    gather_values,
    hold,
    print_report,
    times,
    values_argument,
)
from wexicon.cli.show import Progress, print_json, print_line
from wexicon.cli.trace import line
from wexicon.cli.working import default_trace, fixture_at, operator_for, session_on, works_a_module
from wexicon.core.durations import spoken
from wexicon.core.faults import CallFault
from wexicon.core.protocol.speech import ECHOES, LINE_ENDS, Speech
from wexicon.core.tuning import Tuning
from wexicon.work.finding import find_lexicon
from wexicon.work.hail import Hail
from wexicon.work.module import Module


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
    as_json: bool,
) -> None:
    """Hold DIALOGUE with the module on PORT."""
    program = find_dialogue(dialogue)
    lexicon = find_lexicon(lexicon_name, dialogue.parent) if lexicon_name else None
    values, secrets = gather_values(program, pairs, env_pairs, file_pairs)
    speech = lexicon.speech if lexicon else Speech()
    changes = {name: value for name, value in (("end", end), ("echo", echo)) if value}
    if changes:
        from msgspec.structs import replace

        speech = replace(speech, **changes)
    delivered = lexicon.delivered if lexicon else Tuning()
    try:
        tuning = Tuning.of(rate or delivered.rate, frame or delivered.frame)
    except ValueError as fault:
        raise CallFault(str(fault)) from None
    fixture = fixture_at(fixture_path)
    trace = trace_path or default_trace(dialogue.stem)

    def get_attention(module: Module) -> None:
        def hail() -> None:
            Hail(module.session, module.lexicon, module.operator, patience, fixture).find([tuning] if rate else [])
            module.attentive = True

        if not as_is:
            hail()
            module.regain = hail

    with Progress(dialogue.stem, quiet=not as_json) as progress:
        operator = operator_for(hands, port, progress)
        live = None if as_json else (lambda record: click.echo(line(record)))
        with session_on(
            port, lexicon, trace=trace, secrets=secrets, speech=speech, tuning=tuning, live=live
        ) as session:
            report = hold(session, program, values, lexicon, operator, get_attention)
    report.trace = str(trace)
    if as_json:
        print_json(report)
    else:
        print_report(report)
        if not report.failure:
            print_line(f"held: {report.exchanges} exchanges in {spoken(report.seconds)}: {times(report)}", "bold green")
    if report.failure:
        if not as_json:
            click.echo(f"  Trace: {trace}", err=True)
        raise click.exceptions.Exit(report.failure.status)
