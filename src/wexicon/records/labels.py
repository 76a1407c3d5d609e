"""Sheets of labels: which unit it is, in words and as a QR code, drawn to size on pages.

The rule: sizes are millimetres, and come out so at 100 %; a text that is too long is set smaller, never cut; a code that no
camera could read is refused. The code holds what `wexicon units show` takes.
"""

from __future__ import annotations

import io
from collections.abc import Iterator, Sequence
from functools import cache
from typing import Any

import msgspec

from wexicon.core.faults import CallFault
from wexicon.core.text import visible

MM = 1 / 25.4  # inches
DOTS = 300  # of a PNG, per inch
# Around the page and between labels (mm); white around a label's text and code; the least size of a code's square.
MARGIN, GAP, INSET, LEAST_SQUARE = 8.0, 2.0, 2.0, 0.3
# ISO/IEC 18004, 9.1: this many modules around the code stay white.
QUIET = 4
PAGES = {"A4": (210.0, 297.0), "A5": (148.0, 210.0), "letter": (215.9, 279.4)}
# How many letters a line may have at most.
LONGEST = 200
# The name's letters, and those of the lines below it.
_FACES: tuple[dict[str, object], ...] = (
    {"family": "DejaVu Sans", "weight": "bold"},
    {"family": "DejaVu Sans Mono", "weight": "normal"},
)
KINDS = ("png", "svg", "pdf")

Size = tuple[float, float]


class Label(msgspec.Struct, frozen=True):
    """What stands on a label: the unit's name, further lines, and what its code holds."""

    name: str
    lines: tuple[str, ...]
    code: str


def size_of(text: str) -> Size:
    """A size in millimetres, such as 50x25, or the name of a page. Raises ValueError."""
    if text in PAGES:
        return PAGES[text]
    width, _, height = text.lower().replace("mm", "").partition("x")
    try:
        found = float(width), float(height)
    except ValueError:
        raise ValueError(f"{text!r} is not a size such as 50x25, in millimetres") from None
    if not all(10 <= one <= 1200 for one in found):
        raise ValueError(f"{text}: each side is from 10 to 1200 mm")
    return found


def fault_of(label: Label, size: Size) -> str:
    """Why a label cannot be drawn at this size; empty if it can."""
    try:
        _fitted(label, size)
    except CallFault as fault:
        return str(fault)
    return ""


def draw_labels(labels: Sequence[Label], size: Size, page: Size, kind: str) -> list[bytes]:
    """The pages, as files of a kind: `png` and `svg` one a page, `pdf` all in one. A page as large as a label has no margin.
    Raises CallFault where a label does not fit the page, or its code does not fit the label."""
    margin = 0.0 if page == size else MARGIN
    across, down = (
        int((whole - 2 * margin + GAP + 1e-6) // (one + GAP)) for whole, one in zip(page, size, strict=True)
    )
    if across < 1 or down < 1:
        what = f"a label of {size[0]:g} x {size[1]:g} mm does not fit a page of {page[0]:g} x {page[1]:g} mm"
        raise CallFault(what, hint=f"The page's margin is {MARGIN:g} mm, but for a page as large as the label.")
    places = [(margin + x * (size[0] + GAP), margin + y * (size[1] + GAP)) for y in range(down) for x in range(across)]
    pages = [labels[first : first + len(places)] for first in range(0, len(labels), len(places))]
    drawn = (_page(some, places, size, page) for some in pages)
    if kind == "pdf":
        from matplotlib.backends.backend_pdf import PdfPages

        whole = io.BytesIO()
        with PdfPages(whole, metadata={"CreationDate": None, "Producer": None}) as file:
            for figure in drawn:
                file.savefig(figure)
        return [whole.getvalue()]
    return [_saved(figure, kind) for figure in drawn]


def _saved(figure: Any, kind: str) -> bytes:
    from matplotlib import rc_context

    whole = io.BytesIO()
    with rc_context({"svg.fonttype": "path", "svg.hashsalt": "wexicon"}):
        figure.savefig(whole, format=kind, dpi=DOTS, metadata={"Date": None} if kind == "svg" else None)
    return whole.getvalue()


def _page(labels: Sequence[Label], places: Sequence[tuple[float, float]], size: Size, page: Size) -> object:
    from matplotlib.figure import Figure

    figure = Figure(figsize=(page[0] * MM, page[1] * MM), dpi=DOTS)
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set(xlim=(0, page[0]), ylim=(page[1], 0))
    axes.axis("off")
    for label, place in zip(labels, places, strict=False):
        _draw(axes, label, place, size, framed=page != size)
    return figure


def _draw(axes: Any, label: Label, place: tuple[float, float], size: Size, *, framed: bool) -> None:
    from matplotlib.collections import PatchCollection
    from matplotlib.patches import Rectangle

    left, top = place
    squares, square, side = _fitted(label, size)
    if framed:
        axes.add_patch(Rectangle(place, *size, fill=False, linewidth=0.3, edgecolor="0.75"))
    x0, y0 = left + QUIET * square, top + (size[1] - side) / 2 + QUIET * square
    code = [Rectangle((x0 + x * square, y0 + y * square), width * square, square) for x, y, width in squares]
    axes.add_collection(PatchCollection(code, facecolor="black", edgecolor="none", antialiased=False))
    room = size[0] - side - 2 * INSET
    lines = [label.name, *label.lines]
    step = min((size[1] - 2 * INSET) / (len(lines) + 0.6), size[1] / 5)
    y = top + (size[1] - step * (len(lines) + 0.4)) / 2
    for some, high, face in ((lines[:1], step * 1.4, _FACES[0]), (lines[1:], step, _FACES[1])):
        y = _write(axes, (left + side, y), [_drawable(visible(line), face) for line in some], room, high, face)


def _fitted(label: Label, size: Size) -> tuple[list[tuple[int, int, int]], float, float]:
    """The code of a label, how large one of its squares is, and how large all of it (mm). Raises CallFault if code or text do
    not fit."""
    squares = list(_squares(label.code))
    side = min(size[1], size[0] / 2)
    square = side / (max(x + width for x, _, width in squares) + 2 * QUIET)
    if square < LEAST_SQUARE:
        what = f"the code of {visible(label.name)} would have squares of {square:.2f} mm"
        raise CallFault(what, hint=f"Make the labels larger: {LEAST_SQUARE:g} mm is the least that is read well.")
    for text in map(visible, (label.name, *label.lines)):
        if len(text) > LONGEST:
            what = f"“{text[:40]}...” has {len(text)} letters, and a label has room for {LONGEST} in a line"
            raise CallFault(what, hint="Print other settings: --with NAME,NAME.")
    return squares, square, side


def _write(axes: Any, place: Size, texts: Sequence[str], room: float, high: float, face: dict[str, Any]) -> float:
    """Writes texts below each other, each line so high (mm), all of one size so that the longest fits; gives where they end."""
    from matplotlib.font_manager import FontProperties

    font, (x, y) = FontProperties(**face), place
    points = high * 0.7 * MM * 72
    wide = [_width(text, points, font) for text in texts]
    points *= min(1.0, room / max([*wide, room]))
    for number, text in enumerate(texts):
        # A dollar is a dollar, not mathematics.
        where = (x, y + (number + 0.5) * high)
        axes.text(*where, text, fontproperties=font, size=points, va="center", ha="left", parse_math=False)
    return y + len(texts) * high


def _drawable(text: str, face: dict[str, Any]) -> str:
    """The text; letters that the font does not have are written by their numbers."""
    known = _letters(str(face["family"]))
    return "".join(char if ord(char) in known else f"\\u{ord(char):04X}" for char in text)


@cache
def _letters(family: str) -> set[int]:
    """The letters that a font has."""
    from matplotlib.font_manager import findfont, get_font

    return set(get_font(findfont(family)).get_charmap())


def _width(text: str, points: float, font: Any) -> float:
    """How wide a text is (mm) in letters of this size."""
    from matplotlib.textpath import TextPath

    if not text.strip():
        return 0.0
    # Without its mathematics a dollar has the width of a dollar.
    return float(TextPath((0, 0), text.replace("$", r"\$"), size=points, prop=font).get_extents().width) / 72 / MM


def _squares(text: str) -> Iterator[tuple[int, int, int]]:
    """The black runs of a code, row by row: where each begins, and how wide it is (in squares)."""
    import segno

    try:
        code = segno.make(text, error="m", micro=False)
    except (ValueError, segno.DataOverflowError):
        raise CallFault(f"{visible(text[:40])} fits into no code", hint="Leave this unit out.") from None
    for y, row in enumerate(code.matrix):
        x = 0
        while x < len(row):
            width = 1
            while row[x] and x + width < len(row) and row[x + width]:
                width += 1
            if row[x]:
                yield x, y, width
            x += width
