"""Command templates, filled with values: `AT+LABEL={value}`, `AT+ACCESS={ssid|quoted},{passphrase|quoted}`.

The rule: no value becomes a command. A value is put in by where it stands: between quotes it is quoted, counted by its
length it may be anything, elsewhere it is refused if it holds what would end or part the command there. Filters turn a
value into the writing that the module wants; they are a fixed set.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Container, Iterator, Mapping
from itertools import takewhile
from typing import NamedTuple

from wexicon.core.protocol.fields import field
from wexicon.core.protocol.matching import Either
from wexicon.core.protocol.patterns import PatternFault, braces
from wexicon.core.registry import Registry
from wexicon.core.standards.charsets import gsm7_hex, ucs2
from wexicon.core.standards.gnss import checksum
from wexicon.core.text import HIDDEN, QUOTING, Secret, has_control, meant, plain, shown, to_bytes, written
from wexicon.core.values import Address

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
# Filters whose results may hold anything that their values hold.
_SHAPELESS = ("upper", "lower")
_Check = Callable[[int, str, list[str], bool], str]
_INSERTION = re.compile(r"([A-Za-z_][A-Za-z0-9_]*(?:\.[A-Za-z_][A-Za-z0-9_]*)?)((?:\|[^|{}]+)*)")
_OF = re.compile(r"value\(([A-Za-z0-9_-]+)\)")
_ADDRESS = re.compile(r"address\(([Xx0-9A-Za-z:,.\- ]*)\)")


class InsertionFault(ValueError):
    """A value that cannot be put where it is wanted."""


class Filled(NamedTuple):
    """A text with its values; `shown` as it may be seen, where there are secrets in it, and these as they were put in."""

    text: str
    shown: str | None = None
    secrets: tuple[str, ...] = ()


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
        for at, word in enumerate(filters):
            if (
                word != "quoted"
                and word not in FILTERS
                and not _ADDRESS.fullmatch(word)
                and field(word) is None
                and (at or not _OF.fullmatch(word))
            ):
                hint = meant(word, [*FILTERS, "quoted", "address(XX:XX:XX:XX:XX:XX)", "value(SETTING)"])
                raise PatternFault(f"{word} is not a filter", column, hint)
        self.names.append(found[1])
        self.parts.append((found[1], filters))

    @property
    def plain(self) -> str:
        """The text as it is said: doubled braces are single ones. Insertions stand as they are written."""
        return "".join(one if isinstance(one, str) else "{" + "|".join((one[0], *one[1])) + "}" for one in self.parts)

    @property
    def lead(self) -> str:
        """The text before the first insertion; all of it if there is none."""
        return "".join(takewhile(lambda one: isinstance(one, str), self.parts))  # type: ignore[arg-type]

    @property
    def tail(self) -> str:
        """The text after the last insertion; all of it if there is none."""
        return "".join(reversed(list(takewhile(lambda one: isinstance(one, str), reversed(self.parts)))))  # type: ignore[arg-type]

    def insertions(self) -> Iterator[tuple[str, list[str]]]:
        """The names that are put in, each with its filters."""
        return (part for part in self.parts if not isinstance(part, str))

    def fill(
        self,
        values: Mapping[str, object],
        *,
        quoting: str = "backslash",
        separators: str = ";",
        shaped: Container[str] = (),
        encode: Callable[[str, object], str] | None = None,
    ) -> Filled:
        """The line with its values; `quoting` is how the module writes a quote inside quotes, `separators` are the
        characters that part commands or fields on a line. Between quotes a value is quoted; elsewhere what would end or part
        the command is refused, but in values that the lexicon itself has shaped. Raises InsertionFault, also for a value
        that is missing or that a filter cannot take. `encode` writes a value as the lexicon writes that of a setting."""

        def check(at: int, value: str, filters: list[str], secret: bool) -> str:
            name = str(self.parts[at][0])
            quotes = sum(part.count('"') for part in self.parts[:at] if isinstance(part, str))
            if has_control(value):
                raise InsertionFault(
                    f"{name} holds a control character, which could end this command and begin another"
                )
            if quotes % 2:
                return _between_quotes(name, value, quoting)
            if name not in shaped and all(word in _SHAPELESS for word in filters):
                _refuse(name, value, separators + self._parting(at), secret)
            return value

        return self._fill(values, quoting, check, encode)

    def fill_exactly(
        self, values: Mapping[str, object], *, counted: Container[str] = (), prompted: bool = False
    ) -> Filled:
        """Exact bytes with their values. A value whose length the module was ordered (`counted`) may hold anything; after a
        prompt one may hold line ends, and never what ends it there; any other holds no control character."""

        def check(at: int, value: str, filters: list[str], secret: bool) -> str:
            name = str(self.parts[at][0])
            if name in counted:
                return value
            allowed = "\r\n\t" if prompted and self._parting(at, control=True) else ""
            if any(char not in allowed for char in value if has_control(char)):
                what = "holds a control character, which could end this command and begin another"
                raise InsertionFault(f"{name} {what}; tell the module its length first: {{{name}|length}}")
            return value

        return self._fill(values, "none", check)

    def render(self, values: Mapping[str, object]) -> str:
        """The text for a person: values as they are, secrets masked."""
        return self._fill({name: shown(value) for name, value in values.items()}, "backslash", _as_it_is).text

    def _parting(self, at: int, *, control: bool = False) -> str:
        """The character behind an insertion, where it is one that shows where the value ends."""
        after = self.parts[at + 1] if at + 1 < len(self.parts) else ""
        lead = after[0] if isinstance(after, str) and after else ""
        return lead if lead and (has_control(lead) if control else not lead.isalnum()) else ""

    def _fill(
        self,
        values: Mapping[str, object],
        quoting: str,
        check: _Check,
        encode: Callable[[str, object], str] | None = None,
    ) -> Filled:
        text, seen = "", ""
        secrets: list[str] = []
        for at, part in enumerate(self.parts):
            if isinstance(part, str):
                text += part
                seen += part
                continue
            name, filters = part
            if name not in values:
                raise InsertionFault(f"{name} has no value here")
            secret = isinstance(values[name], Secret)
            value = plain(values[name])
            value = value.said if isinstance(value, Either) else value
            if of := _OF.fullmatch(filters[0]) if filters else None:
                value = _encoded(name, of[1], value, encode)
            value = written(value)
            for word in filters[1:] if of else filters:
                value = _filtered(name, word, value, quoting, secret)
            value = check(at, value, filters, secret)
            text += value
            seen += HIDDEN if secret else value
            if secret:
                secrets.append(value)
        return Filled(text, seen if secrets else None, tuple(secrets))


def _encoded(name: str, of: str, value: object, encode: Callable[[str, object], str] | None) -> str:
    if encode is None:
        raise InsertionFault(f"{name} should be written as {of} is, and there is no lexicon that says how")
    try:
        return encode(of, value)
    except ValueError as fault:
        raise InsertionFault(f"{name} cannot be written as {of} is: {fault}") from None


def _as_it_is(at: int, value: str, filters: list[str], secret: bool) -> str:
    return value


def _between_quotes(name: str, value: str, quoting: str) -> str:
    if quoting == "none" and '"' in value:
        raise InsertionFault(f"{name} holds a quote, which would end the text in quotes; this module can't be told one")
    return QUOTING[quoting](value)


def _refuse(name: str, value: str, parting: str, secret: bool) -> None:
    """Refuses what would end or part a command here."""
    found = next((char for char in value if char in parting), "")
    if found:
        what = "a character" if secret else f"“{found}”"
        raise InsertionFault(
            f"{name} holds {what} that would end or part the command here; quote it: {{{name}|quoted}}"
        )


def _filtered(name: str, word: str, value: str, quoting: str, secret: bool) -> str:
    if word == "quoted":
        return f'"{_between_quotes(name, value, quoting)}"'
    try:
        if address := _ADDRESS.fullmatch(word):
            kind = Address(written=address[1])
            return kind.encode(kind.check(value))
        if of_frame := field(word):
            return of_frame.hex_of(value)
        return FILTERS[word](value)
    except ValueError as fault:
        why = "" if secret else f": {fault}"
        raise InsertionFault(f"{name} cannot be written as {word}{why}") from None
