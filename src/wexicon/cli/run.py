"""`wexicon run`: a dialogue run with the module on a port, every answer checked."""

from __future__ import annotations

from pathlib import Path

import click
import msgspec

from wexicon.cli.help import Command
from wexicon.cli.options import (
    Working,
    env_option,
    file_option,
    gather_given,
    gather_values,
    gathered,
    named_lexicon,
    split_by_need,
    split_pairs,
    values_argument,
)
from wexicon.cli.printing import check_plot, plot_option, write_plot
from wexicon.cli.show import emit, emit_json, ending, print_line
from wexicon.core.dialogue.draft import draft_dialogue
from wexicon.core.dialogue.reader import as_dialogue
from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.speech import ECHOES, LINE_ENDS, Speech
from wexicon.core.text import counted, spoken
from wexicon.files import read_file, write_new
from wexicon.records.trace import recorded


class RunCall(msgspec.Struct):
    """The options of `run`."""

    dialogue: Path
    port: str | None
    pairs: tuple[str, ...]
    lexicon_name: str | None
    as_is: bool
    written_to: Path | None
    end: str | None
    echo: str | None
    env_pairs: tuple[str, ...]
    file_pairs: tuple[str, ...]
    plot_path: Path | None
    how: Working


@click.command(cls=Command)
@click.argument("dialogue", type=click.Path(path_type=Path))
@click.argument("port", metavar="[PORT]", required=False)
@values_argument
@click.option("--lexicon", "-l", "lexicon_name", help="Lexicon, by name or file; command mode is entered first.")
@click.option("--as-is", is_flag=True, help="Do not enter command mode first.")
@click.option("--end", type=click.Choice(list(LINE_ENDS)), help="Line ending.  [the lexicon's, or crlf]")
@click.option("--echo", type=click.Choice(ECHOES), help="Whether the module echoes.  [the lexicon's, or either]")
@click.option(
    "--as-dialogue",
    "written_to",
    type=click.Path(path_type=Path),
    help="Write a dialogue that says the same and checks for the same answers; without PORT, for success codes.",
)
@env_option
@file_option
@plot_option
@gathered(RunCall)
def run(call: RunCall) -> None:
    """Run DIALOGUE with the module on PORT, or between several: NAME=PORT for each party that it declares.

    Examples:
      wexicon run join-office.wex /dev/ttyUSB0 --lexicon brisca-w1
      wexicon run mast-heard.wex mast=/dev/ttyUSB0 relay=/dev/ttyUSB1

    DIALOGUE is a .wex file, or any other text file with one line to say on each line: each must be answered with the success
    code. Comments begin with # or //.

    Exit status: 0 passed; 1 an answer or a check failed; 2 an error in the file or the call; 3 port or module unreachable.
    """
    from wexicon import api
    from wexicon.cli.printing import print_dialogue, times
    from wexicon.cli.trace_lines import record_line

    program, as_json = api.find_dialogue(call.dialogue), call.how.as_json
    check_plot(call.plot_path, call.how.force)
    ports: str | dict[str, str] | None = call.port
    if parties := program.parties():
        pairs = split_pairs([*([call.port] if call.port else []), *call.pairs])
        ports = {name: pairs[name] for name in pairs if name in parties}
        call.pairs = tuple(f"{name}={value}" for name, value in pairs.items() if name not in parties)
        if call.lexicon_name:
            raise CallFault("the dialogue names the lexicon of each party", hint="Remove --lexicon.")
    if ports is None:
        _convert(call)
        return
    lexicon = named_lexicon(call.lexicon_name, call.dialogue.parent) if call.lexicon_name else None
    env, other_env = split_by_need(program, call.env_pairs)
    files, other_files = split_by_need(program, call.file_pairs)
    given = gather_given(lexicon, other_env, other_files)
    values = gather_values(program, call.pairs, env, files)
    changes = {name: value for name, value in (("end", call.end), ("echo", call.echo)) if value}
    opening = api.Opening(
        title=call.dialogue.stem,
        dialect=_dialect(lexicon, changes),
        live=None if as_json else (lambda record: emit(record_line(record))),
    )
    with call.how.working(call.dialogue.stem, quiet=not as_json) as setup:
        result = api.run(program, ports, values, lexicon, setup, given=given, opening=opening, attention=not call.as_is)
    if call.written_to and not result.failure:
        _write_heard(call, Path(result.trace))
    if call.plot_path and result.trace:
        write_plot(result, Path(result.trace), call.plot_path, call.how.force)
    with ending(result.status):
        if as_json:
            emit_json(result)
        else:
            print_dialogue(result)
            if not result.failure:
                exchanges = counted(result.exchanges, "exchange")
                print_line(f"passed: {exchanges} in {spoken(result.seconds)}: {times(result)}", "green")


def _convert(call: RunCall) -> None:
    """Writes plain lines as a dialogue, without having heard their answers."""
    if call.written_to is None:
        raise CallFault("on which port is the module?", hint="wexicon ports lists the ports.")
    write_new(call.written_to, as_dialogue(read_file(call.dialogue).decode()), force=call.how.force)
    print_line(f"wrote {call.written_to}; each line requires the success code")


def _write_heard(call: RunCall, trace: Path) -> None:
    """Writes the exchanges as a dialogue."""
    assert call.written_to
    told = recorded(trace)
    title = f"made of {call.dialogue.name}; line end {told.end}. Loosen what may differ, name what is captured."
    asked = [one for one in told.exchanges if one.said is not None]
    write_new(call.written_to, draft_dialogue(asked, title), force=call.how.force)
    print_line(f"wrote {call.written_to}; wexicon run {call.written_to} PORT says it again and checks the answers")


def _dialect(lexicon: Lexicon | None, changes: dict[str, str]) -> Dialect:
    """The lexicon's dialect, or a plain one, with these changes of its speech."""
    if not changes:
        return lexicon.dialect if lexicon else Dialect(Speech())
    speech = msgspec.structs.replace(lexicon.speech if lexicon else Speech(), **changes)
    return Dialect(speech, lexicon.dialect.events if lexicon else {})
