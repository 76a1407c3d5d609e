"""What is said, with values put in: `AT+LABEL={value}`, `AT+ACCESS={ssid|quoted},{passphrase|quoted}`.

The rule: a value with a control character is refused, so that no value can become a second command. Filters turn a
value into the writing that the module wants; they are a fixed set.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Any

from wexicon.core.patterns import PatternFault
from wexicon.core.text import has_control, meant, to_bytes

_INSERTION = re.compile(r"([A-Za-z_][A-Za-z0-9_.]*)((?:\|[a-z0-9_-]+)*)")


def quoted(text: str) -> str:
    """In double quotes, with backslashes before quotes and backslashes."""
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


FILTERS: dict[str, Callable[[str], str]] = {
    "quoted": quoted,
    "hex": lambda text: to_bytes(text).hex().upper(),
    "length": lambda text: str(len(to_bytes(text))),
    "upper": str.upper,
    "lower": str.lower,
}


class InsertionFault(ValueError):
    """A value that cannot be put where it is wanted."""


class Template:
    """Text with insertions, compiled once. `names` are the values that it needs."""

    __slots__ = ("names", "parts", "source")

    def __init__(self, source: str) -> None:
        self.source = source
        self.parts: list[str | tuple[str, list[str]]] = []
        self.names: list[str] = []
        at = 0
        plain = ""
        while at < len(source):
            if source.startswith(("{{", "}}"), at):
                plain += source[at]
                at += 2
            elif source[at] == "{":
                close = source.find("}", at)
                if close < 0:
                    raise PatternFault("this brace is never closed", at + 1, "write {{ for a brace as it is")
                if plain:
                    self.parts.append(plain)
                plain = ""
                self._insertion(source[at + 1 : close], at + 2)
                at = close + 1
            elif source[at] == "}":
                raise PatternFault("this brace was never opened", at + 1, "write }} for a brace as it is")
            else:
                plain += source[at]
                at += 1
        if plain:
            self.parts.append(plain)

    def _insertion(self, inside: str, column: int) -> None:
        found = _INSERTION.fullmatch(inside)
        if not found:
            raise PatternFault(f"{{{inside}}} is no insertion", column, "write {name} or {name|filter}")
        filters = found[2].split("|")[1:]
        for word in filters:
            if word not in FILTERS:
                raise PatternFault(f"{word} is no filter", column, meant(word, FILTERS))
        self.names.append(found[1])
        self.parts.append((found[1], filters))

    def fill(self, values: Mapping[str, Any], *, control: bool = False) -> str:
        """The text with its values. Raises InsertionFault for a value that is missing, or that holds a control character
        where `control` does not allow it."""
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
                value = FILTERS[word](value)
            if not control and has_control(value):
                raise InsertionFault(
                    f"{name} holds a control character, which could end this command and begin another"
                )
            text += value
        return text


def written(value: Any) -> str:
    """A value as plain text: yes and no as 1 and 0, a list with commas."""
    if isinstance(value, bool):
        return "1" if value else "0"
    if isinstance(value, (list, tuple)):
        return ",".join(written(part) for part in value)
    return str(value)
