"""How results look: tables, lines and JSON.

The rule: results go to standard output, all else to standard error; colour only stresses, and goes where NO_COLOR or a
pipe says so; whatever a module sent is escaped before it is shown.
"""

from __future__ import annotations

import contextlib
import os
import re
import sys
from collections.abc import Iterator, Sequence
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
    "planned": "bold",
    "to": "yellow",
    "done": "bold green",
}

# What would move a cursor or turn a line around, and is not escaped by JSON itself.
_MOVES = re.compile("[\x7f-\x9f\u061c\u200b\u200e\u200f\u2028\u2029\u202a-\u202e\u2066-\u2069\ufeff]")

force_option = click.option("--force", is_flag=True, help="Overwrite existing files.")
json_option = click.option("--json", "as_json", is_flag=True, help="Print the result as JSON.")


@contextlib.contextmanager
def ending(status: int) -> Iterator[None]:
    """Around the printing of a result: ends the command with its exit status, also where nobody reads it any more."""
    try:
        yield
        sys.stdout.flush()
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    raise click.exceptions.Exit(status)


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
