"""`wexicon trace`: lists and prints traces, or converts one to a dialogue; `trace_tools` has the rest.

The rule: what a module sent is escaped; colours only stress.
"""

from __future__ import annotations

import os
import sys
from collections import deque
from collections.abc import Iterable, Iterator
from pathlib import Path

import click
import msgspec

from wexicon.cli.help import Group
from wexicon.cli.options import DurationType
from wexicon.cli.show import emit, force_option, json_option, output_option, print_note
from wexicon.cli.trace_lines import MARKS, record_line
from wexicon.cli.trace_tools import compare, export, import_, list_, plot, trace_named
from wexicon.core.protocol.observations import Role
from wexicon.files import write_new
from wexicon.records.exports import OPEN, RIGHT
from wexicon.records.trace import Record, What, read_many


@click.group(cls=Group)
def trace() -> None:
    """List, print, compare, draw, export and import traces, or convert them to dialogues.

    Examples:
      wexicon trace show last
      wexicon trace list
    """


trace.add_command(list_)
trace.add_command(compare)
trace.add_command(plot)
trace.add_command(export)
trace.add_command(import_)


@trace.command()
@click.argument("name", metavar="TRACE")
@click.option("--last", type=click.IntRange(1), help="Only the last N records.")
@click.option(
    "--only",
    "kinds",
    multiple=True,
    metavar="KIND",
    type=click.Choice([str(kind) for kind in MARKS]),
    help=f"Only records of this kind: {', '.join(str(kind) for kind in MARKS)}.",
)
@click.option("--step", help="Only records of this step, such as read.")
@click.option("--from", "after", type=DurationType(), help="Only from this time on, such as 2s.")
@click.option("--to", "until", type=DurationType(), help="Only up to this time.")
@click.option("--setting", help="Only the steps that write this setting, and its outcome.")
@click.option(
    "--failed", is_flag=True, help="Only error answers with the line before each, and outcomes that are wrong."
)
@click.option("--follow", is_flag=True, help="Go on while the trace grows, until it ends.")
@json_option
def show(
    name: str,
    last: int | None,
    kinds: tuple[str, ...],
    step: str | None,
    after: float | None,
    until: float | None,
    setting: str | None,
    failed: bool,
    follow: bool,
    as_json: bool,
) -> None:
    """Print TRACE for reading: seconds since the start, event, text. TRACE is a file, a unit, a port, or `last`.

    Examples:
      wexicon trace show last --failed
      wexicon trace show "mast M2" --setting rate
    """
    path = trace_named(name)
    wanted = Wanted({What(kind) for kind in kinds}, step, after, until, setting, failed)
    chunks: Iterable[list[Record]] = map(wanted.of, read_many(path, follow=follow))
    if last:
        newest: deque[Record] = deque(maxlen=last)
        for many in chunks:
            newest.extend(many)
        chunks = [list(newest)]
    coloured = sys.stdout.isatty() and "NO_COLOR" not in os.environ
    encoder = msgspec.json.Encoder()
    for many in chunks:
        if many or not follow:
            text = (
                encoder.encode_lines(many).decode()
                if as_json
                else "".join(f"{record_line(r, coloured)}\n" for r in many)
            )
            emit(text, newline=False)
            sys.stdout.flush()


class Wanted:
    """Which records of a trace are shown: of some kinds, of a step, of a stretch of time, of a setting, or those of failures;
    all where nothing is said."""

    def __init__(
        self,
        kinds: set[What],
        step: str | None,
        after: float | None,
        until: float | None,
        setting: str | None = None,
        failed: bool = False,
    ) -> None:
        self._kinds, self._step, self._after, self._until = kinds, step, after, until
        self._setting, self._failed = setting, failed
        self._all = not (kinds or step or after is not None or until is not None or setting or failed)
        self._now = ""
        # The last line that was said: it is shown if an error answers it.
        self._said: Record | None = None

    def of(self, records: list[Record]) -> list[Record]:
        """Those of some records; asked in their order."""
        if self._all:
            return records
        found = [one for one in records if self._is(one)]
        return found if not self._failed else [one for record in found for one in self._with_cause(record)]

    def _with_cause(self, one: Record) -> Iterator[Record]:
        """A failure, with the line before it that it answers."""
        if one.what is What.SAID:
            self._said = one
        elif one.role is Role.ERROR or one.role is Role.CORRUPT:
            if self._said:
                yield self._said
                self._said = None
            yield one
        elif one.what in (What.JUDGED, What.FINISHED) and one.outcome not in RIGHT | OPEN:
            yield one

    def _of_setting(self, one: Record) -> bool:
        """Whether a record is of a step that writes the setting, or its outcome."""
        if one.what is What.JUDGED:
            return one.name == self._setting
        verb, _, names = self._now.partition(" ")
        return verb == "write" and self._setting in names.split(", ")

    def _is(self, one: Record) -> bool:
        if one.what is What.STEP:
            self._now = one.text
        return (
            (not self._kinds or one.what in self._kinds)
            and (self._step is None or self._step == self._now)
            and (self._setting is None or self._of_setting(one))
            and (self._after is None or one.at >= self._after)
            and (self._until is None or one.at <= self._until)
        )


@trace.command()
@click.argument("name", metavar="TRACE")
@output_option("Where to write the dialogue.  [print it]", required=False)
@force_option
def dialogue(name: str, output: Path | None, force: bool) -> None:
    """Write a dialogue from TRACE: said lines are said again, heard lines are required.

    Examples:
      wexicon trace dialogue last
      wexicon trace dialogue last -o boot.wex

    Values likely to change (addresses, versions, long numbers) become captures.
    """
    from wexicon.core.dialogue.draft import draft_dialogue
    from wexicon.work.contact.kept_traces import masked_session

    path = trace_named(name)
    session = masked_session(path)
    title = (
        f"drafted from the trace {path.name}; line ending {session.end}. Relax lines that may vary; rename captures."
    )
    text = draft_dialogue(session.exchanges, title, session.tuning)
    if output is None:
        emit(text, newline=False)
        return
    write_new(output, text, force=force)
    print_note(f"wrote {output}")
