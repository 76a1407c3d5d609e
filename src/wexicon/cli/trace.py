"""`wexicon trace`: prints a trace, or converts it to a dialogue."""

from __future__ import annotations

import os
import sys
from collections import deque
from collections.abc import Iterable
from pathlib import Path

import click
import msgspec

from wexicon.cli.show import emit, force_option, json_option, print_note
from wexicon.core.protocol.observations import Role
from wexicon.core.text import visible
from wexicon.files import write_new
from wexicon.records.trace import Record, What
from wexicon.records.trace_reader import read_many

# How wide the name of a party is at least.
PARTY_WIDTH = 8
MARKS = {
    What.SAID: ">",
    What.HEARD: "<",
    What.TUNED: "~",
    What.SIGNALLED: "~",
    What.ASKED: "!",
    What.STEP: "=",
    What.LOGGED: "#",
    What.REPEATED: "#",
    What.AWAITED: "#",
    What.STARTED: "*",
    What.JUDGED: "=",
    What.TRANSFERRED: "#",
}
COLOURS = {
    What.SAID: "cyan",
    What.TUNED: "magenta",
    What.SIGNALLED: "magenta",
    What.ASKED: "yellow",
    What.STEP: "bold",
    What.LOGGED: "bright_black",
    What.REPEATED: "bright_black",
    What.AWAITED: "bright_black",
    What.TRANSFERRED: "bright_black",
}
_PLAIN = (Role.ANSWER, Role.WORD, Role.OK)


@click.group()
def trace() -> None:
    """Print traces, or convert them to dialogues."""


@trace.command()
@click.argument("path", metavar="TRACE", type=click.Path(path_type=Path))
@click.option("--last", type=click.IntRange(1), help="Only the last N records.")
@click.option(
    "--only",
    "kinds",
    multiple=True,
    type=click.Choice([str(kind) for kind in MARKS]),
    help="Only records of this kind.",
)
@json_option
def show(path: Path, last: int | None, kinds: tuple[str, ...], as_json: bool) -> None:
    """Print TRACE for reading: seconds since the start, event, text."""
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
@click.argument("path", metavar="TRACE", type=click.Path(path_type=Path))
@click.option(
    "--output", "-o", type=click.Path(path_type=Path), help="Where to write the dialogue.  [default: print it]"
)
@force_option
def dialogue(path: Path, output: Path | None, force: bool) -> None:
    """Write a dialogue from TRACE: said lines are said again, heard lines are required.

    Values likely to change (addresses, versions, long numbers) become captures.
    """
    from wexicon.core.dialogue.draft import draft_dialogue
    from wexicon.records.trace_reader import recorded

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


def line(record: Record, coloured: bool | None = None) -> str:
    """One record as one line."""
    what = record.what
    text = visible(record.content)
    if what is What.SAID or what is What.HEARD:
        role = "" if record.role is None or record.role in _PLAIN else f"  ({record.role})"
        event = f"  ({record.role} {visible(record.name)})" if record.name else role
        body = f"{'>>' if record.exact else MARKS[what]} {text}{event}"
    else:
        body = _other(record, text)
    if coloured is None:
        coloured = sys.stdout.isatty() and "NO_COLOR" not in os.environ
    colour = COLOURS.get(what) if coloured else None
    if colour == "bold":
        body = click.style(body, bold=True)
    elif colour:
        body = click.style(body, fg=colour)
    party = f"{visible(record.party):{PARTY_WIDTH}} " if record.party else ""
    return f"{record.at:10.3f}  {party}{body}"


def _other(record: Record, text: str) -> str:
    if record.what is What.OPENED:
        when = f"{record.wall:%Y-%m-%d %H:%M:%S} UTC, " if record.wall else ""
        link, frame, version = visible(record.link), visible(record.frame), visible(record.wexicon)
        where = f"{link} at {record.rate} {frame}" if link else "several parties"
        if record.party and link.startswith(("socket://", "listen://")):
            where = link  # it has no rate
        text = f"{where}, {when}Wexicon {version}" if version else where
    elif record.what is What.TUNED:
        text = f"our side to {record.rate} {visible(record.frame)}"
    elif record.what is What.SIGNALLED:
        lines = (("DTR", record.dtr), ("RTS", record.rts))
        text = ", ".join(f"{name} {'on' if state else 'off'}" for name, state in lines if state is not None)
    elif record.what is What.STARTED:
        text = f"restart observed: {visible(record.how)}"
    elif record.what is What.JUDGED:
        note = f" ({visible(record.note)})" if record.note else ""
        text = f"{visible(record.name)}: {visible(record.outcome)}{note}"
    elif record.what is What.REPEATED:
        text = "busy; the line is said again"
    elif record.what is What.TRANSFERRED:
        done, total = (record.values.get(name, "?") for name in ("done", "total"))
        text = f"{done} of {total} bytes acknowledged"
    elif record.what is What.AWAITED:
        text = f"awaited: {text}"
    mark = MARKS.get(record.what)
    return f"{mark} {text}" if mark else f"{record.what} {text}".rstrip()
