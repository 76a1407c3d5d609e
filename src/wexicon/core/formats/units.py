"""A table of units (CSV), one row a unit, and the values of a sheet that are filled in from it: `mast {row.station}`,
`{number:02}`, `{own.address|last(4)}`.

The rule: a cell is text and stays as it was typed, leading zeros too. Every fault is reported with its row and column before
anything is said to a module; a source that is only known once a module was asked is waited for. Nothing is evaluated.
"""

from __future__ import annotations

import io
import re
from collections import Counter
from collections.abc import Callable, Iterator, Mapping

import msgspec

from wexicon.core.faults import Complaint, FileFault
from wexicon.core.protocol.patterns import PatternFault, braces
from wexicon.core.text import counted, has_control, meant

SEPARATORS = (",", ";", "\t", "|")
_MARKS = ((b"\xef\xbb\xbf", "utf-8-sig"), (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"))
MOST_COMPLAINTS = 50
MOST_COLUMNS, MOST_ROWS = 500, 200_000


class Row(msgspec.Struct, frozen=True):
    """One unit's row: its number from 1, the line where it begins, its key, its cells by column."""

    number: int
    line: int
    key: str
    cells: dict[str, str]


class UnitsTable(msgspec.Struct, frozen=True):
    """All rows; `key` is the column whose cells name them."""

    path: str
    columns: tuple[str, ...]
    key: str
    rows: tuple[Row, ...]


def read_units(data: bytes, path: str, key: str = "") -> UnitsTable:
    """The table in the bytes of a CSV file; `key` is the column that names a row, the first where none is given. Raises
    FileFault with every complaint."""
    import csv

    text = _text(data, path)
    lines = text.split("\n", 1)[0]
    separator = max(SEPARATORS, key=lambda one: (_outside_quotes(lines, one), -SEPARATORS.index(one)))
    complaints: list[Complaint] = []
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=separator, strict=True)
    found: list[tuple[int, list[str]]] = []
    try:
        before = 0
        for cells in reader:
            if any(cell.strip() for cell in cells):
                found.append((before + 1, [cell.strip() for cell in cells]))
            before = reader.line_num
    except csv.Error as fault:
        raise FileFault(path, [Complaint(f"cannot be read as a table: {fault}", "", reader.line_num)]) from None
    if len(found) < 2:
        hint = "The first line names the columns; each line below is one unit."
        raise FileFault(path, [Complaint("there is no row", hint=hint)])
    if len(found[0][1]) > MOST_COLUMNS or len(found) > MOST_ROWS:
        what = f"has {len(found[0][1])} columns and {len(found)} rows: at most {MOST_COLUMNS} and {MOST_ROWS} are read"
        raise FileFault(path, [Complaint(what)])
    columns, key = _columns(found[0], key, complaints)
    rows = [_row(number, line, cells, columns, key, complaints) for number, (line, cells) in enumerate(found[1:], 1)]
    counts = Counter(row.key for row in rows)
    for row in rows:
        if row.key and counts[row.key] > 1:
            complaints.append(Complaint(f"{row.key!r} is there {counts[row.key]} times", key, row.line))
    if complaints:
        more = (
            [Complaint(f"and {counted(len(complaints) - MOST_COMPLAINTS, 'more error')}")]
            if len(complaints) > MOST_COMPLAINTS
            else []
        )
        raise FileFault(path, [*complaints[:MOST_COMPLAINTS], *more])
    return UnitsTable(path, tuple(columns), key, tuple(rows))


def _text(data: bytes, path: str) -> str:
    name = next((name for mark, name in _MARKS if data.startswith(mark)), "utf-8")
    try:
        return data.decode(name).replace("\r\n", "\n").replace("\r", "\n")
    except UnicodeDecodeError as fault:
        complaint = Complaint(f"byte {fault.start} is not {name.upper()}", hint="save the table as CSV in UTF-8")
        raise FileFault(path, [complaint]) from None


def _outside_quotes(line: str, separator: str) -> int:
    return sum(part.count(separator) for part in line.split('"')[::2])


def _columns(head: tuple[int, list[str]], key: str, complaints: list[Complaint]) -> tuple[list[str], str]:
    line, columns = head
    while columns and not columns[-1]:
        columns.pop()
    for number, name in enumerate(columns, 1):
        if not name:
            complaints.append(Complaint(f"column {number} has no name", "", line))
        elif columns.index(name) != number - 1:
            complaints.append(Complaint(f"two columns are called {name}", "", line))
    key = key or columns[0]
    if key not in columns:
        complaints.append(Complaint(f"there is no column {key}", "", line, hint=f"There are: {', '.join(columns)}"))
    return columns, key


def _row(number: int, line: int, cells: list[str], columns: list[str], key: str, complaints: list[Complaint]) -> Row:
    if any(cells[len(columns) :]):
        what = f"has {len(cells)} cells, and there are {len(columns)} columns"
        complaints.append(Complaint(what, "", line, hint="Quote a cell that contains the separator."))
    named = dict(zip(columns, [*cells, *[""] * len(columns)], strict=False))
    for name, cell in named.items():
        if has_control(cell):
            complaints.append(Complaint("holds a control character", name, line))
    if not named.get(key):
        complaints.append(Complaint("is empty: the row has no name", key, line))
    return Row(number, line, named.get(key, ""), named)


# `number` counts the units of a seat from 1; `row` is the unit's row of the table, `own` what its module says of itself,
# `drawn` a number that the register assigns.
NUMBER, ROW, OWN, DRAWN = "number", "row", "own", "drawn"
_SOURCE = re.compile(
    r"([A-Za-z_][A-Za-z0-9_-]*)(?:\.([A-Za-z_][A-Za-z0-9_ -]*?))?(?::(0[1-9]))?((?:\|[a-z]+(?:\(\d{1,3}\))?)*)"
)
_FILTER = re.compile(r"([a-z]+)(?:\((\d{1,3})\))?")
FILTERS: dict[str, Callable[[str, int], str]] = {
    "upper": lambda text, count: text.upper(),
    "lower": lambda text, count: text.lower(),
    "last": lambda text, count: text[-count:] if count else "",
    "first": lambda text, count: text[:count],
    "hex": lambda text, count: f"{int(text):0{count}X}" if text.isdecimal() else text,
    "digits": lambda text, count: re.sub(r"[^0-9A-Za-z]", "", text),
}


class ValueReference(msgspec.Struct, frozen=True):
    """One thing that is filled in: where it comes from (`number`, `row`, `own`, or a seat), which part of it, and how it is
    written."""

    whose: str
    part: str
    width: int
    filters: tuple[tuple[str, int], ...]

    def write(self, value: str) -> str:
        """The value as it is put in."""
        text = value.rjust(self.width, "0") if self.width else value
        for name, count in self.filters:
            text = FILTERS[name](text, count)
        return text


class Filling(msgspec.Struct, frozen=True):
    """A value with its placeholders filled in."""

    text: str
    parts: tuple[str | ValueReference, ...]

    @property
    def sources(self) -> Iterator[ValueReference]:
        """What is filled in."""
        return (part for part in self.parts if isinstance(part, ValueReference))

    def fill(self, values: Mapping[tuple[str, str], str]) -> str:
        """The text with its values, by source and part. Raises KeyError for one that is not known yet."""
        return "".join(
            part if isinstance(part, str) else part.write(values[part.whose, part.part]) for part in self.parts
        )


def filling(text: str) -> Filling | None:
    """What a text of a sheet is filled with; None where nothing is. Raises ValueError where it cannot be read."""
    if "{" not in text and "}" not in text:
        return None
    parts: list[str | ValueReference] = []
    try:
        for piece, column in braces(text):
            parts.append(_source(piece) if column else piece)
    except PatternFault as fault:
        raise ValueError(str(fault)) from None
    return Filling(text, tuple(parts))


def _source(inside: str) -> ValueReference:
    found = _SOURCE.fullmatch(inside.strip())
    if not found:
        raise ValueError(
            f"{{{inside}}} cannot be filled in: write {{row.COLUMN}}, {{number:02}}, {{own.NAME}} or {{SEAT.NAME}}"
        )
    whose, part, width, filters = found[1], found[2] or "", int(found[3] or 0), []
    if (whose == NUMBER) == bool(part):
        raise ValueError(
            f"{{{inside}}} cannot be filled in: {whose} has " + ("no parts" if part else "parts: write {SEAT.NAME}")
        )
    for text in found[4].split("|")[1:]:
        one = _FILTER.fullmatch(text)
        assert one
        if one[1] not in FILTERS:
            raise ValueError(f"{one[1]} is not a filter; {meant(one[1], FILTERS)}")
        filters.append((one[1], int(one[2] or 0)))
    return ValueReference(whose, part, width, tuple(filters))
