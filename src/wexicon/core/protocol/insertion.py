"""What is said, with values put in: `AT+LABEL={value}`, `AT+ACCESS={ssid|quoted},{passphrase|quoted}`.

The rule: a value with a control character is refused, so that no value can become a second command. Filters turn a
value into the writing that the module wants; they are a fixed set.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from decimal import Decimal
from typing import Any

from wexicon.core.protocol.patterns import PatternFault, braces
from wexicon.core.registry import Registry
from wexicon.core.standards.charsets import gsm7_hex, ucs2
from wexicon.core.standards.nmea import checksum
from wexicon.core.text import has_control, meant, to_bytes
from wexicon.core.values import Address

QUOTING: dict[str, Callable[[str], str]] = {
    "backslash": lambda text: text.replace("\\", "\\\\").replace('"', '\\"'),
    "double": lambda text: text.replace('"', '""'),
    # V.250, 5.4.2.2: within a string constant a character may be given as \ and its two hexadecimal digits.
    "hex": lambda text: text.replace("\\", "\\5C").replace('"', "\\22"),
    "none": lambda text: text,
}
FILTERS: Registry[Callable[[str], str]] = Registry(
    "wexicon.filters",
    {
        "hex": lambda text: to_bytes(text).hex().upper(),
        "length": lambda text: str(len(to_bytes(text))),
        "upper": str.upper,
        "lower": str.lower,
        "checksum": lambda text: f"{checksum(to_bytes(text)):02X}",
        "gsm7": gsm7_hex,
        "ucs2": lambda text: ucs2(text).hex().upper(),
    },
)
_INSERTION = re.compile(r"([A-Za-z_][A-Za-z0-9_]*(?:\.[A-Za-z_][A-Za-z0-9_]*)?)((?:\|[^|{}]+)*)")
_ADDRESS = re.compile(r"address\(([Xx0-9A-Za-z:,.\- ]*)\)")


class InsertionFault(ValueError):
    """A value that cannot be put where it is wanted."""


class Template:
    """Text with insertions, compiled once. `names` are the values that it needs."""

    __slots__ = ("names", "parts", "source")

    def __init__(self, source: str) -> None:
        self.source = source
        self.parts: list[str | tuple[str, list[str]]] = []
        self.names: list[str] = []
        for text, column in braces(source):
            if column:
                self._insertion(text, column)
            else:
                self.parts.append(text)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Template) and self.source == other.source

    def __hash__(self) -> int:
        return hash(self.source)

    def _insertion(self, inside: str, column: int) -> None:
        found = _INSERTION.fullmatch(inside)
        if not found:
            raise PatternFault(f"{{{inside}}} is not an insertion", column, "write {name} or {name|filter}")
        filters = found[2].split("|")[1:]
        for word in filters:
            if word != "quoted" and word not in FILTERS and not _ADDRESS.fullmatch(word):
                hint = meant(word, [*FILTERS, "quoted", "address(XX:XX:XX:XX:XX:XX)"])
                raise PatternFault(f"{word} is not a filter", column, hint)
        self.names.append(found[1])
        self.parts.append((found[1], filters))

    def fill(self, values: Mapping[str, Any], *, control: bool = False, quoting: str = "backslash") -> str:
        """The text with its values; `quoting` is how the module writes a quote inside quotes. Raises InsertionFault for
        a value that is missing, that a filter cannot take, or that holds a control character where `control` does not
        allow one."""
        text = ""
        for part in self.parts:
            if isinstance(part, str):
                text += part
                continue
            name, filters = part
            if name not in values:
                raise InsertionFault(f"{name} has no value here")
            value = written(values[name])
            for word in filters:
                value = _filtered(name, word, value, quoting)
            if not control and has_control(value):
                raise InsertionFault(
                    f"{name} holds a control character, which could end this command and begin another"
                )
            text += value
        return text


def _filtered(name: str, word: str, value: str, quoting: str) -> str:
    if word == "quoted":
        return f'"{QUOTING[quoting](value)}"'
    try:
        if address := _ADDRESS.fullmatch(word):
            kind = Address(written=address[1])
            return kind.encode(kind.check(value))
        return FILTERS[word](value)
    except ValueError as fault:
        raise InsertionFault(f"{name} cannot be written as {word}: {fault}") from None


def written(value: Any) -> str:
    """A value as plain text: yes and no as 1 and 0, a list with commas."""
    if isinstance(value, bool):
        return "1" if value else "0"
    if isinstance(value, (list, tuple)):
        return ",".join(written(part) for part in value)
    if isinstance(value, Decimal):
        return f"{value:f}"
    return str(value)
