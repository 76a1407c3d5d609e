"""`wexicon run`: a dialogue run with the module on a port, every reply checked."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from wexicon.cli.show import ending, print_json, print_line
from wexicon.cli.values import env_option, file_option, gather_values, values_argument
from wexicon.cli.working import Working, works_a_module
from wexicon.core.durations import spoken
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.speech import ECHOES, LINE_ENDS, Speech
from wexicon.core.text import counted
from wexicon.core.tuning import Tuning


@click.command()
@click.argument("dialogue", type=click.Path(path_type=Path))
@click.argument("port")
@values_argument
@click.option("--lexicon", "-l", "lexicon_name", help="Lexicon for the module's words; it also gets its attention.")
@click.option("--as-is", is_flag=True, help="With a lexicon: say the first line at once, without getting attention.")
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
    end: str | None,
    echo: str | None,
    env_pairs: tuple[str, ...],
    file_pairs: tuple[str, ...],
    how: Working,
    as_json: bool,
) -> None:
    """Run DIALOGUE with the module on PORT.

    Exit status: 0 passed; 1 an answer or a check failed; 2 an error in the file or the call; 3 port or module unreachable.
    """
    from wexicon.cli.printing import print_dialogue, times
    from wexicon.cli.trace import line
    from wexicon.work.contact.catalog import fixture_at, lexicon_for
    from wexicon.work.contact.ports import port_named
    from wexicon.work.function.dialogues import find_dialogue, run_dialogue

    program = find_dialogue(dialogue)
    lexicon = lexicon_for(lexicon_name, dialogue.parent) if lexicon_name else None
    values = gather_values(program, pairs, env_pairs, file_pairs)
    changes = {name: value for name, value in (("end", end), ("echo", echo)) if value}
    dialect = _dialect(lexicon, changes)
    port = port_named(port)
    links = how.links(lexicon, port)
    tuning = links[0] if links and (how.rate or how.frame or not lexicon) else lexicon.factory if lexicon else Tuning()
    fixture = fixture_at(how.fixture_path)
    live = None if as_json else (lambda record: click.echo(line(record)))
    with how.session(port, lexicon, dialogue.stem, dialect=dialect, tuning=tuning, live=live, quiet=not as_json) as (
        session,
        operator,
    ):
        result = run_dialogue(
            session,
            program,
            values,
            lexicon,
            operator,
            attention=not as_is,
            likely=links,
            patience=how.patience,
            fixture=fixture,
        )
    result.trace = str(how.trace_path)
    with ending(result.status):
        if as_json:
            print_json(result)
        else:
            print_dialogue(result)
            if not result.failure:
                told = f"passed: {counted(result.exchanges, 'exchange')} in {spoken(result.seconds)}: {times(result)}"
                print_line(told, "bold green")


def _dialect(lexicon: Lexicon | None, changes: dict[str, Any]) -> Dialect:
    """The lexicon's, or a plain one, but for what was asked for."""
    if not changes:
        return lexicon.dialect if lexicon else Dialect(Speech())
    from msgspec.structs import replace

    return Dialect(
        replace(lexicon.speech if lexicon else Speech(), **changes), lexicon.dialect.events if lexicon else {}
    )
