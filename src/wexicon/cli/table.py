"""Aligned tables for reading: a heading, a line below it, cells that fold where the terminal is too narrow.

The rule: widths are counted in terminal columns; nothing is ever cut off. In a pipe nothing is folded.
"""

from __future__ import annotations

import shutil
from collections.abc import Callable, Sequence

GAP = "   "
NARROWEST = 8
PIPE_WIDTH = 1_000_000


def width(text: str) -> int:
    """How many columns of a terminal a text takes: wide characters two, combining ones none."""
    if text.isascii():
        return len(text)
    from wcwidth import wcswidth

    return max(wcswidth(text), 0)


def _pieces(text: str, room: int) -> list[str]:
    """The text in pieces that each fit, broken at blanks where that can be."""
    made: list[str] = []
    while width(text) > room:
        end = next((at for at in range(len(text), 0, -1) if width(text[:at]) <= room), 1)
        blank = text.rfind(" ", 1, end + 1)
        cut = blank if blank > 0 else end
        made.append(text[:cut].rstrip())
        text = text[cut:].lstrip()
    return [*made, text]


def _fitted(widths: list[int], room: int) -> list[int]:
    """The columns' widths made to fit: the widest give way first."""
    fitted = list(widths)
    spare = room - len(GAP) * (len(fitted) - 1)
    while sum(fitted) > spare and max(fitted) > NARROWEST:
        widest = fitted.index(max(fitted))
        second = max((one for at, one in enumerate(fitted) if at != widest), default=NARROWEST)
        fitted[widest] = max(min(fitted[widest] - 1, second), fitted[widest] - (sum(fitted) - spare), NARROWEST)
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
    widths = [max([width(name), *(width(row[at]) for row in rows)]) for at, name in enumerate(columns)]
    widths = _fitted(widths, room)

    def padded(text: str, at: int) -> str:
        return text + " " * (widths[at] - width(text)) if at < len(widths) - 1 else text

    def folded(cells: Sequence[str], show: Callable[[int, str, str], str]) -> list[str]:
        parts = [_pieces(cell, room_) for cell, room_ in zip(cells, widths, strict=True)]
        made = []
        for level in range(max(map(len, parts))):
            pieces = [part[level] if level < len(part) else "" for part in parts]
            made.append(GAP.join(show(at, cells[at], padded(piece, at)) for at, piece in enumerate(pieces)).rstrip())
        return made

    told = folded(columns, lambda at, cell, piece: bold(piece))
    told.append("─" * min(sum(widths) + len(GAP) * (len(widths) - 1), room))
    for row in rows:
        told += folded(row, stress)
    return told
