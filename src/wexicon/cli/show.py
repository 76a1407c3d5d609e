"""How results look: tables, JSON, progress, and what the operator is asked.

The rule: results go to standard output, all else to standard error; colour only stresses, and goes where NO_COLOR or a
pipe says so; whatever a module sent is escaped before it is shown.
"""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Sequence
from typing import Any

import click
import msgspec

from wexicon.core.text import visible

OUTCOME_COLOURS = {
    "changed": "green",
    "conforms": "bold green",
    "unproved": "bold yellow",
    "accepted": "yellow",
    "unverified": "yellow",
    "not": "yellow",
    "refused": "bold red",
    "differs": "bold red",
    "failed": "bold red",
    "stopped": "yellow",
}

# What would move a cursor or turn a line around, and is not escaped by JSON itself.
_MOVES = re.compile("[\x7f-\x9f\u061c\u200b\u200e\u200f\u2028\u2029\u202a-\u202e\u2066-\u2069\ufeff]")

json_option = click.option("--json", "as_json", is_flag=True, help="Print the result as JSON.")


def print_json(data: Any) -> None:
    """Prints one JSON document, indented. A text with bytes in it that are no UTF-8 is shown escaped."""
    text = msgspec.json.format(msgspec.json.encode(_encodable(data)), indent=2).decode()
    click.echo(_MOVES.sub(lambda found: f"\\u{ord(found.group()):04x}", text))


def _encodable(data: Any) -> Any:
    data = msgspec.to_builtins(data, enc_hook=str)
    if isinstance(data, str):
        return visible(data) if any("\ud800" <= char <= "\udfff" for char in data) else data
    if isinstance(data, dict):
        return {key: _encodable(value) for key, value in data.items()}
    return [_encodable(value) for value in data] if isinstance(data, list) else data


def print_table(columns: Sequence[str], rows: Sequence[Sequence[str]], *, ours: int | None = None) -> None:
    """Prints an aligned table with a line under its heading. Cells are escaped but for the column `ours`, which is our own
    and stressed by what it says."""
    from wexicon.cli.table import lines_of

    def stress(column: int, cell: str, piece: str) -> str:
        return styled(piece, OUTCOME_COLOURS.get(cell.split(" ")[0], "")) if column == ours else piece

    cells = [[cell if at == ours else visible(cell) for at, cell in enumerate(row)] for row in rows]
    terminal = sys.stdout.isatty()
    lines = lines_of(columns, cells, terminal=terminal, bold=lambda text: styled(text, "bold"), stress=stress)
    click.echo("\n".join(lines))


def print_line(text: str, style: str = "") -> None:
    """Prints one line of a result."""
    click.echo(styled(text, style))


def styled(text: str, style: str) -> str:
    """The text in a style such as `bold green`, where the terminal and NO_COLOR allow it."""
    if not style or not text or "NO_COLOR" in os.environ:
        return text
    words = style.split()
    colour = next((word for word in words if word != "bold"), None)
    return click.style(text, fg=colour, bold="bold" in words or None)


class Progress:
    """Tells on a terminal which step is being done; silent in a pipe."""

    def __init__(self, title: str, *, quiet: bool = False) -> None:
        self._title = title
        self._status: Any = None
        if sys.stderr.isatty() and not quiet:
            from rich.console import Console

            self._status = Console(stderr=True, highlight=False, emoji=False).status(title)

    def __enter__(self) -> Progress:
        if self._status:
            self._status.start()
        return self

    def __exit__(self, *exc: object) -> None:
        if self._status:
            self._status.stop()

    def step(self, step: str) -> None:
        """The step that has begun."""
        if self._status:
            self._status.update(f"{self._title}: {step}")

    def say(self, text: str) -> None:
        """A line that stays, above the step that is being done."""
        if self._status:
            from rich.text import Text

            self._status.console.print(Text.from_ansi(text), soft_wrap=True)
        else:
            click.echo(text, err=True)


class Person:
    """A person at the bench, asked on the terminal. What was asked is done when the module answers; no key is needed."""

    cuts_power = False
    there = True

    def __init__(self, progress: Progress) -> None:
        self._progress = progress

    def ask(self, act: str, text: str) -> None:
        self._progress.say(styled("operator: ", "bold yellow") + text)

    def noticed(self) -> None:
        self._progress.say("  the module answers.")
