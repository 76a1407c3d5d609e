"""`wexicon trace`: what was said and heard."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable
from pathlib import Path

import click
import msgspec

from wexicon.cli.show import json_option
from wexicon.core.text import visible
from wexicon.records.trace import Record, read_trace

MARKS = {"said": ">", "heard": "<", "tuned": "~", "signalled": "~", "asked": "!", "decided": "#"}
COLOURS = {
    "said": "cyan",
    "heard": "",
    "tuned": "magenta",
    "signalled": "magenta",
    "asked": "yellow",
    "decided": "bright_black",
}


@click.group()
def trace() -> None:
    """Show what was said and heard."""


@trace.command()
@click.argument("path", metavar="TRACE", type=click.Path(path_type=Path))
@click.option("--last", type=click.IntRange(1), help="Only so many records from the end.")
@click.option("--only", "kinds", multiple=True, type=click.Choice(list(MARKS)), help="Only records of this kind.")
@json_option
def show(path: Path, last: int | None, kinds: tuple[str, ...], as_json: bool) -> None:
    """Print TRACE for reading: seconds since the start, what happened, the words."""
    records: Iterable[Record] = (r for r in read_trace(path) if not kinds or r.what in kinds)
    if last:
        records = deque(records, last)
    for record in records:
        if as_json:
            click.echo(msgspec.json.encode(record).decode())
        else:
            click.echo(line(record))


@trace.command()
@click.argument("path", metavar="TRACE", type=click.Path(path_type=Path))
@click.option(
    "--output", "-o", type=click.Path(path_type=Path), help="Where to write the dialogue.  [default: print it]"
)
def dialogue(path: Path, output: Path | None) -> None:
    """Write a dialogue from TRACE: what was said is said again, what was heard is required again.

    What is likely to be another value next time (addresses, versions, long numbers) becomes a capture.
    """
    from wexicon.core.dialogue.draft import draft_dialogue
    from wexicon.records.trace import recorded

    session = recorded(path)
    title = (
        f"drafted from the trace {path.name}; line end {session.end}. Loosen what may differ, name what is captured."
    )
    text = draft_dialogue(session.exchanges, title)
    if output is None:
        click.echo(text, nl=False)
        return
    if output.exists():
        raise click.UsageError(f"{output} is there already; nothing was written")
    output.write_text(text, encoding="utf-8")
    click.echo(f"wrote {output}", err=True)


def line(record: Record) -> str:
    """One record as one line."""
    text = visible(record.content)
    if record.what == "opened":
        text = f"{record.link} at {record.rate} {record.frame}, {record.wall:%Y-%m-%d %H:%M:%S} UTC, Wexicon {record.wexicon}"
    elif record.what == "tuned":
        text = f"our side to {record.rate} {record.frame}"
    elif record.what == "signalled":
        lines = (("DTR", record.dtr), ("RTS", record.rts))
        text = ", ".join(f"{name} {'on' if state else 'off'}" for name, state in lines if state is not None)
    role = f"  ({record.role})" if record.role and record.role not in ("answer", "word", "ok") else ""
    mark = ">>" if record.exact else MARKS.get(record.what, " ")
    body = f"{mark} {text}{role}" if record.what in MARKS else f"{record.what} {text}".rstrip()
    return f"{record.at:10.3f}  " + click.style(body, fg=COLOURS.get(record.what) or None)
