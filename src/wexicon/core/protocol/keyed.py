"""Lines that are JSON objects (RFC 8259), said and heard by their keys, whatever the order.

    do "set", radio.power {value}       said: {"do":"set","radio":{"power":14}}
    radio.power {value:int}, name "{name}"

The rule: a key goes before its value as JSON writes it; a dot leads into an object; what else an object holds does not matter.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from functools import lru_cache

from wexicon.core.protocol.elements import Element, PatternFault
from wexicon.core.protocol.patterns import NOTHING, Pattern

_KEY = re.compile(r"\s*([A-Za-z_][A-Za-z0-9_.\-]*)\s*")
_DECODER = json.JSONDecoder()
# What is looked into; a module may send anything.
DEEPEST = 20


class Keyed(Pattern):
    """A pattern for an object: for each key a pattern for its value."""

    __slots__ = ("parts",)

    def __init__(self, source: str) -> None:
        self.source, self.form = source, "json"
        self.parts: list[tuple[str, Pattern | None]] = []
        for text, column in _split(source):
            found = _KEY.match(text)
            if not found:
                raise PatternFault(
                    f"{text.strip()!r} begins with no key", column, 'write keys and values: name "{name}"'
                )
            rest = text[found.end() :].strip()
            self.parts.append((found[1], Pattern(rest) if rest else None))
        patterns = [one for _, one in self.parts if one]
        self.elements: list[Element] = [element for one in patterns for element in one.elements]
        self.names = [name for one in patterns for name in one.names]
        self.needs = [name for one in patterns for name in one.needs]
        self.quotes = any(one.quotes for one in patterns)
        self.start, self.catches_all = "{", False
        self._otherwise = None

    def match(self, text: str, known: Mapping[str, object] = NOTHING) -> dict[str, object] | None:
        found = flat(text)
        if found is None:
            return None
        captures: dict[str, object] = {}
        for key, pattern in self.parts:
            if key not in found:
                return None
            if pattern is not None:
                taken = pattern.match(found[key], {**known, **captures} if captures else known)
                if taken is None:
                    return None
                captures |= taken
        return captures

    def reach(self, text: str, known: Mapping[str, object] = NOTHING) -> int:
        return len(text) if self.match(text, known) is not None else 0


def _split(source: str) -> Iterator[tuple[str, int]]:
    """The parts between commas that stand outside quotes, brackets and braces, each with its column (from 1)."""
    depth, quoted, start, at = 0, False, 0, 0
    while at < len(source):
        char = source[at]
        if char == "\\":
            at += 1
        elif char == '"':
            quoted = not quoted
        elif not quoted:
            depth += (char in "{[") - (char in "}]")
            if char == "," and depth <= 0:
                yield source[start:at], start + 1
                start = at + 1
        at += 1
    yield source[start:], start + 1


@lru_cache(maxsize=64)
def flat(text: str) -> Mapping[str, str] | None:
    """The values of an object by their keys, as JSON writes them; None if the text is no object."""
    if not text.startswith("{"):
        return None
    try:
        # Numbers as they are written: 14.50 is not 14.5.
        made = json.loads(text, parse_float=_Written, parse_int=_Written, parse_constant=_Written)
    except (ValueError, RecursionError):
        return None
    return dict(_flattened(made, "", 0))


class _Written(str):
    """A number as it is written."""

    __slots__ = ()


def _flattened(value: object, key: str, depth: int) -> Iterator[tuple[str, str]]:
    if key:
        yield key, _told(value)
    if isinstance(value, dict) and depth < DEEPEST:
        for name, inner in value.items():
            yield from _flattened(inner, f"{key}.{name}" if key else name, depth + 1)


def _told(value: object) -> str:
    if isinstance(value, _Written):
        return str(value)
    if isinstance(value, list):
        return f"[{', '.join(map(_told, value))}]"
    if isinstance(value, dict):
        return "{" + ", ".join(f"{json.dumps(name)}: {_told(inner)}" for name, inner in value.items()) + "}"
    return json.dumps(value, ensure_ascii=False)


def as_keys(text: str) -> str:
    """An object on one line as keys and values, as they are said; other text as it is."""
    found = flat(text)
    if found is None:
        return text
    return ", ".join(f"{key} {value}" for key, value in found.items() if not value.startswith("{"))


def as_object(text: str) -> str:
    """Keys and values as a JSON object on one line. Raises ValueError."""
    made: dict[str, object] = {}
    at = 0
    while at < len(text):
        found = _KEY.match(text, at)
        if not found:
            raise ValueError(f"“{text[at : at + 20]}” begins with no key")
        try:
            value, at = _DECODER.raw_decode(text, found.end())
        except ValueError:
            raise ValueError(f"“{text[found.end() : found.end() + 20]}” is no value of JSON") from None
        into = made
        *above, last = found[1].split(".")
        for name in above:
            inner = into.setdefault(name, {})
            if not isinstance(inner, dict):
                raise ValueError(f"{name} has a value and keys")
            into = inner
        into[last] = value
        rest = re.compile(r"\s*(?:,|$)").match(text, at)
        if not rest:
            raise ValueError(f"“{text[at : at + 20]}” follows a value")
        at = rest.end()
    return json.dumps(made, ensure_ascii=False, separators=(",", ":"))
