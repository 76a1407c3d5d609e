"""Values of a sheet that are filled in for each unit: `mast {row.station}`, `{number:02}`, `{own.address|last(4)}`.

The rule: what is in braces names its source; a source that is not known is a fault when the sheet is read, one that is only
known once a module was asked is waited for. Nothing is evaluated.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping

import msgspec

from wexicon.core.protocol.patterns import PatternFault, braces
from wexicon.core.text import meant

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
