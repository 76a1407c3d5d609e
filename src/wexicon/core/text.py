"""Bytes as text and back, text that is safe to show, the word that was probably meant; durations and secrets as values.

The rule: what a module sends is carried as UTF-8 with surrogate escapes, so that no byte is lost; text shown to a person goes
through `visible` first. Durations are written `60ms`, `1.5s`, `2m` (or `2min`), `1h`, and are seconds inside the program. What
is made of a secret is a secret, and never shows.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable
from decimal import Decimal
from typing import Any, NamedTuple

# What may have to be escaped; and characters that Unicode calls printable although nothing is seen of them: fillers, selectors
# of variants (Default_Ignorable_Code_Point, Unicode Standard Annex 44).
_UNUSUAL = re.compile(r"[^ -\[\]-~]")
_EMPTY = re.compile("[\u034f\u115f\u1160\u17b4\u17b5\u180b-\u180f\u3164\ufe00-\ufe0f\uffa0\U000e0100-\U000e01ef]")
_NAMED = {"\r": "\\r", "\n": "\\n", "\t": "\\t", "\\": "\\\\"}
_ESCAPE = re.compile(r"\\(?:x([0-9A-Fa-f]{2})|(.))", re.DOTALL)
_PLAIN_ESCAPES = {"r": "\r", "n": "\n", "t": "\t", "0": "\0", "e": "\x1b", "\\": "\\", '"': '"', "{": "{{", "}": "}}"}


# How a module writes a quote inside quotes.
QUOTING: dict[str, Callable[[str], str]] = {
    "backslash": lambda text: text.replace("\\", "\\\\").replace('"', '\\"'),
    "double": lambda text: text.replace('"', '""'),
    # V.250, 5.4.2.2: within a string constant a character may be given as \ and its two hexadecimal digits.
    "hex": lambda text: text.replace("\\", "\\5C").replace('"', "\\22"),
    "json": lambda text: json.dumps(text, ensure_ascii=False)[1:-1],
    "none": lambda text: text,
}

# The same the other way.
UNQUOTING: dict[str, Callable[[str], str]] = {
    "backslash": lambda text: re.sub(r"(?s)\\(.)", r"\1", text),
    "double": lambda text: text.replace('""', '"'),
    "hex": lambda text: re.sub(r"\\([0-9A-Fa-f]{2})", lambda found: chr(int(found[1], 16)), text),
    "json": lambda text: _from_json(text),
    "none": str,
}


def _from_json(text: str) -> str:
    try:
        return str(json.loads(f'"{text}"'))
    except ValueError:
        return text


def to_text(data: bytes) -> str:
    """Bytes from a module as text; `to_bytes` gives the same bytes back."""
    return data.decode("utf-8", "surrogateescape")


def to_bytes(text: str) -> bytes:
    """Text for a module as bytes; the reverse of `to_text`."""
    return text.encode("utf-8", "surrogateescape")


def _escape(found: re.Match[str]) -> str:
    char = found.group()
    if char in _NAMED:
        return _NAMED[char]
    if char.isprintable() and not _EMPTY.match(char):
        return char
    code = ord(char)
    if 0xDC80 <= code <= 0xDCFF:
        return f"\\x{code - 0xDC00:02X}"
    return f"\\x{code:02X}" if code < 0x100 else f"\\u{code:04X}" if code < 0x10000 else f"\\U{code:08X}"


def written(value: object) -> str:
    """A value as plain text: yes and no as 1 and 0, a list with commas."""
    if isinstance(value, bool):
        return "1" if value else "0"
    if isinstance(value, (list, tuple)):
        return ",".join(written(part) for part in value)
    if isinstance(value, Decimal):
        return f"{value:f}"
    return str(value)


def visible(text: str | bytes) -> str:
    """The text on one line, with every invisible character escaped: controls, format characters, separators other than the
    blank, stray bytes."""
    if isinstance(text, bytes):
        text = to_text(text)
    if text.isascii() and text.isprintable() and "\\" not in text:
        return text
    return _UNUSUAL.sub(_escape, text)


def unescape(text: str) -> str:
    r"""Escapes of a `>>` line or a quoted prompt read as characters: \r \n \t \0 \e \\ \" \{ \} \xNN.

    Raises ValueError on an escape that is none of these. \{ and \} give doubled braces, which templates read as one.
    """

    def one(found: re.Match[str]) -> str:
        if found[1]:
            return to_text(bytes([int(found[1], 16)]))
        if found[2] not in _PLAIN_ESCAPES:
            raise ValueError(f"\\{found[2]} is not an escape")
        return _PLAIN_ESCAPES[found[2]]

    if re.search(r"(?<!\\)(?:\\\\)*\\$", text):
        raise ValueError("a lone \\ at the end")
    return _ESCAPE.sub(one, text)


def has_control(text: str) -> bool:
    """Whether the text holds a control character: one that could end a command and begin another."""
    return any(ord(c) < 0x20 or ord(c) == 0x7F for c in text)


def counted(count: int, noun: str) -> str:
    """A count with its noun, in the plural unless it is one: `1 line`, `3 lines`."""
    return f"{count} {noun}{'' if count == 1 else 's'}"


def one_of(name: str) -> str:
    """A name with its article: `a lindle-l9`, `an orvane-b3`."""
    return f"{'an' if name[:1].lower() in 'aeiou' else 'a'} {name}"


def nearest(word: str, words: Iterable[str]) -> str:
    """The one of `words` that was probably meant by `word`, or an empty string."""
    from difflib import get_close_matches  # only a word that is wrong needs it

    close = get_close_matches(word.lower(), known := list(words), n=1, cutoff=0.6)
    if close:
        return close[0]
    return next((k for k in known if word and (k.startswith(word) or word.startswith(k))), "")


def meant(word: str, words: Iterable[str]) -> str:
    """A sentence that suggests the word that was meant, or lists the words there are."""
    known = sorted(words)
    close = nearest(word, known)
    if close:
        return f"did you mean {close}?"
    return f"known: {', '.join(known)}" if known else ""


def garbled(text: str) -> bool:
    """Whether the text looks like bytes read at the wrong rate: not what anybody would send."""
    if not text:
        return False
    odd = sum(
        1
        for char in text
        if (ord(char) < 0x20 and char not in "\t\r\n\x1b") or 0x7F <= ord(char) < 0xA0 or ord(char) >= 0xDC80
    )
    return odd * 5 >= len(text)


def encodable(data: Any) -> Any:
    """Plain data with text that is no UTF-8 shown escaped, also where it is a key."""
    if isinstance(data, str):
        return visible(data) if any("\ud800" <= char <= "\udfff" for char in data) else data
    if isinstance(data, dict):
        return {encodable(key): encodable(value) for key, value in data.items()}
    return [encodable(value) for value in data] if isinstance(data, list) else data


_DURATION = re.compile(r"(\d{1,9}(?:\.\d{1,6})?)\s*(ms|s|min|m|h)", re.ASCII)
_SECONDS = {"ms": 0.001, "s": 1.0, "m": 60.0, "min": 60.0, "h": 3600.0}


class Duration(NamedTuple):
    """A duration in seconds, and as it was written."""

    seconds: float
    text: str

    @classmethod
    def of(cls, text: str) -> Duration:
        """Raises ValueError with what is allowed."""
        return cls(seconds(text), text)


def seconds(text: str) -> float:
    """The duration in seconds. Raises ValueError with what is allowed."""
    found = _DURATION.fullmatch(text.strip())
    if not found:
        raise ValueError(f"{text!r} is not a duration: write a number and ms, s, m (or min) or h, such as 300ms or 2m")
    return float(found[1]) * _SECONDS[found[2]]


def spoken(duration: float) -> str:
    """The duration (seconds) as a person reads it: `12 ms`, `3.4 s`, `2 min 05 s`, `1 h 20 min`."""
    if duration < 0.9995:
        return f"{duration * 1000:.0f} ms"
    if duration < 59.95:
        return f"{duration:.1f} s"
    minutes, rest = divmod(round(duration), 60)
    if minutes < 60:
        return f"{minutes} min {rest:02d} s"
    return f"{minutes // 60} h {minutes % 60:02d} min"


HIDDEN = "(secret)"


class Secret:
    """A value that never prints itself: printed by mistake, it shows only that it is secret."""

    __slots__ = ("value",)

    def __init__(self, value: object) -> None:
        self.value = value

    def __repr__(self) -> str:
        return HIDDEN

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Secret) and other.value == self.value

    __hash__ = None  # type: ignore[assignment]


def plain(value: object) -> object:
    """The value itself, secret or not."""
    return value.value if isinstance(value, Secret) else value


def shown(value: object) -> object:
    """The value as it may be seen."""
    return HIDDEN if isinstance(value, Secret) else value


def in_file_names(title: str) -> str:
    """A title as the names of files have it."""
    return re.sub(r"[^A-Za-z0-9_-]+", "-", title).strip("-")
