"""Where everything that a command prints goes out: `emit` for text, `emit_json`, tables, lines of a console.

The rule: results go to standard output, all else to standard error; colour only stresses, and is left out if NO_COLOR or a
pipe says so; no text, wherever it comes from, moves the cursor or changes the terminal. Widths are counted in terminal
columns; nothing is cut off, and no word is broken. A table that is too wide first loses its empty columns, then folds the
widest ones at blanks, then becomes a block for each row; in a pipe nothing of that is done.
"""

from __future__ import annotations

import contextlib
import errno
import os
import re
import shutil
import stat
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
import msgspec

from wexicon.cli.signals import at_once
from wexicon.core.faults import CallFault
from wexicon.core.text import encodable, visible

if TYPE_CHECKING:
    from wexicon.core.results.functions import TalkLine


# A colour says one thing: green right, red wrong, magenta needs a look, cyan what was said. Each can be read on light and dark.
OUTCOME_COLOURS = {
    "changed": "green",
    "conforms": "green",
    "unproved": "bold magenta",
    "accepted": "magenta",
    "unverified": "magenta",
    "not": "magenta",
    "refused": "bold red",
    "differs": "bold red",
    "side": "magenta",
    "failed": "bold red",
    "stopped": "magenta",
    "planned": "bold",
    "to": "magenta",
    "done": "green",
    "passed": "green",
    "skipped": "magenta",
}

# What would move a cursor or reverse a line, and is not escaped by JSON itself.
_MOVES = "\x7f-\x9f\u00ad\u061c\u180e\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff\ufff9-\ufffb\U000e0000-\U000e007f"
_IN_JSON = re.compile(f"[{_MOVES}]")
# The same and all control characters, but for line ends, tabs and the colours that `styled` adds.
_ON_TERMINAL = re.compile(f"\x1b\\[(?:[01]|[39][0-7])m|[\x00-\x08\x0b-\x1f{_MOVES}]")

force_option = click.option("--force", is_flag=True, help="Overwrite existing files.")


def output_option(told: str, *, required: bool = True) -> Callable[[Any], Any]:
    """`-o FILE`: the file that a command writes, the same in each."""
    return click.option("--output", "-o", metavar="FILE", type=click.Path(path_type=Path), required=required, help=told)


json_option = click.option("--json", "as_json", is_flag=True, help="Print the result as JSON.")


# What --quiet leaves out: progress, notes, and what `tap` prints while it runs.
_quiet = False


def be_quiet(on: bool = True) -> None:
    """From now on only results and errors are printed, or everything again."""
    global _quiet
    _quiet = on


def is_quiet() -> bool:
    """Whether --quiet was given."""
    return _quiet


def emit(text: str, *, err: bool = False, newline: bool = True) -> None:
    """Prints text: the only way to the terminal. Control characters that no command of ours uses are escaped."""
    _write(harmless(text), err=err, newline=newline)


def ask(question: str, *, hidden: bool = False, **more: Any) -> str:
    """Asks on the terminal: the only way to do so. `hidden` if what is typed is not shown. Raises Abort if stopped."""
    with at_once():
        try:
            return str(click.prompt(harmless(question), hide_input=hidden, err=True, **more))
        except OSError:
            raise click.Abort from None  # the terminal hung up


def harmless(text: str) -> str:
    """Text as it may go to a terminal: what is neither text nor a colour of ours is escaped."""
    return _ON_TERMINAL.sub(_harmless, text)


def _harmless(found: re.Match[str]) -> str:
    return found.group() if len(found.group()) > 1 else visible(found.group())


def emit_json(data: object, *, indent: int = 2) -> None:
    """Prints a JSON document, indented, or with `indent` 0 on one line: the only way to JSON output."""
    _write(_as_json(data, indent))


def emit_json_array(items: Iterable[object]) -> None:
    """Prints a JSON array item by item, as they come."""
    for text in json_array(items):
        _write(text, newline=False)


def json_array(items: Iterable[object]) -> Iterator[str]:
    """The parts of an indented JSON array, made as they are taken."""
    before = "[\n"
    for one in items:
        yield before + "  " + _as_json(one, 2).replace("\n", "\n  ")
        before = ",\n"
    yield "[]\n" if before == "[\n" else "\n]\n"


def json_line(data: object) -> str:
    """A JSON document on one line, for `emit`."""
    return _as_json(data, 0)


def _as_json(data: object, indent: int) -> str:
    plain = msgspec.to_builtins(data, enc_hook=str)
    try:
        text = msgspec.json.encode(plain)
    except UnicodeEncodeError:
        text = msgspec.json.encode(encodable(plain))
    text = msgspec.json.format(text, indent=indent) if indent else text
    return _IN_JSON.sub(lambda found: f"\\u{ord(found.group()):04x}", text.decode())


def _write(text: str, *, err: bool = False, newline: bool = True) -> None:
    """Writes text as it is. Raises BrokenPipeError, or CallFault if a result cannot be written; a note that cannot be written
    stops no work."""
    try:
        click.echo(text, err=err, nl=newline)
    except OSError as fault:
        if err:
            return
        if isinstance(fault, BrokenPipeError):
            raise
        if fault.errno == errno.EIO and stat.S_ISCHR(os.fstat(sys.stdout.fileno()).st_mode):
            raise BrokenPipeError from None  # a terminal that hung up
        discard_output()
        raise CallFault(f"the result cannot be printed: {fault.strerror}", where="standard output") from None


def discard_output() -> None:
    """What is printed from now on, or waits in a buffer, is thrown away: it cannot be written."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


@contextlib.contextmanager
def ending(status: int) -> Iterator[None]:
    """Around the printing of a result: ends the command with its exit status, also if its output is no longer read."""
    try:
        yield
        sys.stdout.flush()
    except BrokenPipeError:
        discard_output()
    raise click.exceptions.Exit(status)


def print_table(columns: Sequence[str], rows: Sequence[Sequence[str]], *, ours: int | None = None) -> None:
    """Prints an aligned table with a line under its heading. Cells are escaped but for the column `ours`, which is our own
    and coloured by its first word."""

    def stress(column: int, cell: str, piece: str) -> str:
        return styled(piece, OUTCOME_COLOURS.get(cell.split(" ")[0], "")) if column == ours else piece

    cells = [[cell if at == ours else visible(cell) for at, cell in enumerate(row)] for row in rows]
    terminal = sys.stdout.isatty()
    lines = lines_of(columns, cells, terminal=terminal, bold=lambda text: styled(text, "bold"), stress=stress)
    emit("\n".join(lines))


def print_line(text: str, style: str = "") -> None:
    """Prints one line of a result."""
    emit(styled(text, style))


def print_note(text: str, style: str = "") -> None:
    """Prints one line that is no part of the result, unless --quiet was given."""
    if not _quiet:
        emit(styled(text, style), err=True)


def print_warning(text: str, style: str = "") -> None:
    """Prints one line that is no part of the result, and that nobody should miss."""
    emit(styled(text, style), err=True)


def styled(text: str, style: str) -> str:
    """The text in a style such as `bold green`, if the terminal and NO_COLOR allow it."""
    if not style or not text or "NO_COLOR" in os.environ:
        return text
    words = style.split()
    colour = next((word for word in words if word != "bold"), None)
    return click.style(text, fg=colour, bold="bold" in words or None)


GAP = "   "
# No column is folded to less than this: it would be a tower of words.
READABLE = 14
PIPE_WIDTH = 1_000_000


def width(text: str) -> int:
    """How many columns of a terminal a text takes: wide characters two, combining ones none."""
    if text.isascii():
        return len(text)
    from wcwidth import wcswidth

    return max(wcswidth(text), 0)


def _pieces(text: str, room: int) -> list[str]:
    """The text in pieces that fit, broken at blanks only."""
    made = [""]
    for word in text.split(" "):
        joined = f"{made[-1]} {word}" if made[-1] else word
        if made[-1] and width(joined) > room:
            made.append(word)
        else:
            made[-1] = joined
    return made


def _longest_word(cells: Sequence[str]) -> int:
    return max((width(word) for cell in cells for word in cell.split(" ")), default=0)


def _fitted(widths: list[int], least: list[int], spare: int) -> list[int] | None:
    """The columns' widths made to fit, the widest first, none below its longest word; None if they cannot be."""
    if sum(least) > spare:
        return None
    fitted = list(widths)
    while sum(fitted) > spare:
        at = max((at for at in range(len(fitted)) if fitted[at] > least[at]), key=lambda at: fitted[at])
        fitted[at] -= 1
    return fitted


def lines_of(
    columns: Sequence[str],
    rows: Sequence[Sequence[str]],
    *,
    terminal: bool,
    bold: Callable[[str], str] = str,
    stress: Callable[[int, str, str], str] = lambda column, cell, padded: padded,
) -> list[str]:
    """The table's lines. `bold` makes a heading stand out; `stress` is given column, cell and padded piece, and gives the
    piece as shown."""
    room = shutil.get_terminal_size().columns if terminal else PIPE_WIDTH
    shown = list(range(len(columns)))
    widths = _widths(columns, rows)
    if sum(widths) + len(GAP) * (len(widths) - 1) > room and rows:
        shown = [at for at in shown if any(row[at] for row in rows)] or shown[:1]
        columns, rows = [columns[at] for at in shown], [[row[at] for at in shown] for row in rows]
        widths = _widths(columns, rows)
    words = [_longest_word([name, *(row[at] for row in rows)]) for at, name in enumerate(columns)]
    least = [max(longest, min(wide, READABLE)) for longest, wide in zip(words, widths, strict=True)]
    fitted = _fitted(widths, least, room - len(GAP) * (len(widths) - 1))
    if fitted is None:
        return _blocks(columns, rows, room, bold, lambda at, cell, piece: stress(shown[at], cell, piece))

    def padded(text: str, at: int) -> str:
        return text + " " * (fitted[at] - width(text)) if at < len(fitted) - 1 else text

    def folded(cells: Sequence[str], show: Callable[[int, str, str], str]) -> list[str]:
        parts = [_pieces(cell, room_) for cell, room_ in zip(cells, fitted, strict=True)]
        made = []
        for level in range(max(map(len, parts))):
            pieces = [part[level] if level < len(part) else "" for part in parts]
            made.append(GAP.join(show(at, cells[at], padded(piece, at)) for at, piece in enumerate(pieces)).rstrip())
        return made

    told = folded(columns, lambda at, cell, piece: bold(piece))
    told.append("─" * min(sum(fitted) + len(GAP) * (len(fitted) - 1), room))
    for row in rows:
        told += folded(row, lambda at, cell, piece: stress(shown[at], cell, piece))
    return told


def _widths(columns: Sequence[str], rows: Sequence[Sequence[str]]) -> list[int]:
    return [max([width(name), *(width(row[at]) for row in rows)]) for at, name in enumerate(columns)]


def _blocks(
    columns: Sequence[str],
    rows: Sequence[Sequence[str]],
    room: int,
    bold: Callable[[str], str],
    stress: Callable[[int, str, str], str],
) -> list[str]:
    """Each row as a block; cells that are empty are left out."""
    named = max(map(width, columns))
    told: list[str] = []
    for row in rows:
        told += [""] if told else []
        for at, (name, cell) in enumerate(zip(columns, row, strict=True)):
            if not cell:
                continue
            first, *more = _pieces(cell, room - named - len(GAP))
            told.append(bold(name) + " " * (named - width(name)) + GAP + stress(at, cell, first))
            told += [" " * named + GAP + stress(at, cell, one) for one in more]
    return told


STYLES = {">": "bold", ">>": "bold", "~": "cyan", "=": "", "!": "magenta"}
KINDS = {"event": "magenta", "error": "red", "unmatched": "", "corrupt": "red", "partial": "", "bytes": "bright_black"}
MEANING_AT = 36
# The colours of two sides.
SIDES = ("", "cyan", "magenta")


def line_of(shown: TalkLine) -> str:
    """One line as it stands on the terminal."""
    style = KINDS.get(shown.kind, "") if shown.kind else STYLES.get(shown.mark, "green" if shown.mark == "<" else "")
    text = styled(f"{shown.mark:2} {shown.text}", style)
    if shown.meaning:
        text += " " * max(2, MEANING_AT - len(shown.text)) + styled(shown.meaning, "cyan")
    side = styled(f"{shown.side:8}  ", f"bold {SIDES[shown.number]}") if shown.side else ""
    return f"{shown.at:%H:%M:%S}.{shown.at.microsecond // 1000:03}  {side}{text}"
