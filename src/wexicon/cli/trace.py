"""`wexicon trace`: prints a trace, or converts it to a dialogue; `trace_tools` has the rest."""

from __future__ import annotations

import os
import sys
from collections import deque
from collections.abc import Iterable
from pathlib import Path

import click
import msgspec

from wexicon.cli.show import emit, force_option, json_option, print_note
from wexicon.cli.trace_lines import MARKS, line
from wexicon.cli.trace_tools import compare, export, list_, plot, trace_named
from wexicon.files import write_new
from wexicon.records.trace import Record, What
from wexicon.records.trace_reader import read_many


@click.group()
def trace() -> None:
    """List, print, compare, draw and export traces, or convert them to dialogues."""


trace.add_command(list_)
trace.add_command(compare)
trace.add_command(plot)
trace.add_command(export)


@trace.command()
@click.argument("name", metavar="TRACE")
@click.option("--last", type=click.IntRange(1), help="Only the last N records.")
@click.option(
    "--only",
    "kinds",
    multiple=True,
    type=click.Choice([str(kind) for kind in MARKS]),
    help="Only records of this kind.",
)
@json_option
def show(name: str, last: int | None, kinds: tuple[str, ...], as_json: bool) -> None:
    """Print TRACE for reading: seconds since the start, event, text. TRACE is a file, a unit, a port, or `last`."""
    path = trace_named(name)
    wanted = {What(kind) for kind in kinds}
    chunks: Iterable[list[Record]] = (
        ([r for r in many if r.what in wanted] if wanted else many) for many in read_many(path)
    )
    if last:
        newest: deque[Record] = deque(maxlen=last)
        for many in chunks:
            newest.extend(many)
        chunks = [list(newest)]
    coloured = sys.stdout.isatty() and "NO_COLOR" not in os.environ
    encoder = msgspec.json.Encoder()
    for many in chunks:
        text = encoder.encode_lines(many).decode() if as_json else "".join(f"{line(r, coloured)}\n" for r in many)
        emit(text, newline=False)


@trace.command()
@click.argument("name", metavar="TRACE")
@click.option(
    "--output", "-o", type=click.Path(path_type=Path), help="Where to write the dialogue.  [default: print it]"
)
@force_option
def dialogue(name: str, output: Path | None, force: bool) -> None:
    """Write a dialogue from TRACE: said lines are said again, heard lines are required.

    Values likely to change (addresses, versions, long numbers) become captures.
    """
    from wexicon.core.dialogue.draft import draft_dialogue
    from wexicon.records.trace_reader import recorded

    path = trace_named(name)
    session = recorded(path)
    title = (
        f"drafted from the trace {path.name}; line ending {session.end}. Relax lines that may vary; rename captures."
    )
    text = draft_dialogue(session.exchanges, title, session.tuning)
    if output is None:
        emit(text, newline=False)
        return
    write_new(output, text, force=force)
    print_note(f"wrote {output}")
