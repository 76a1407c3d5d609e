"""Aligned tables for reading: a heading, a line below it, and the rows.

The rule: widths are counted in terminal columns; nothing is cut off, and no word is broken. A table that is too wide for the
terminal first loses the columns that are empty in every row; then the widest columns fold at blanks, to no less than READABLE;
if that is not enough each row becomes a block, one line for each of its cells. In a pipe nothing of that is done.
"""

from __future__ import annotations

import shutil
from collections.abc import Callable, Sequence

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
