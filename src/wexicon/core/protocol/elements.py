"""The elements of a pattern: literal text, captures of a kind, values already known, three dots.

The rule: what cannot be read is a PatternFault with its column.

"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from decimal import Decimal
from itertools import pairwise
from typing import Any, cast

from wexicon.core.protocol.fields import NUMBERS, Counted, NumberForm, field
from wexicon.core.text import meant


def in_digits(pattern: str) -> str:
    """A pattern for an answer of bytes as one for its hexadecimal digits: blanks between bytes are left out, digits are
    capital, and {x:bytes(2)} stands for two bytes: four digits."""
    parts = re.split(r"(\{[^}]*\})", pattern)
    parts[::2] = [re.sub(r" +", "", part).upper() for part in parts[::2]]
    raw = r"\{([A-Za-z_][A-Za-z0-9_]*):bytes\(([0-9]{1,4})\)\}"
    return re.sub(raw, lambda f: f"{{{f[1]}:bytes({2 * int(f[2])})}}", "".join(parts))


RUNS = {
    "int": re.compile(r"[+-]?[0-9]+"),
    "decimal": re.compile(r"[+-]?[0-9]+(?:\.[0-9]+)?"),
    "word": re.compile(r"[^\s,;\"()=]+"),
    "hex": re.compile(r"[0-9A-Fa-f]+"),
    "address": re.compile(r"[0-9A-Fa-f]+(?:[:.\-][0-9A-Fa-f]+)*"),
    # Whatever its way of quoting, a quote inside is behind a backslash or doubled; \\22 holds none.
    "quoted": re.compile(r'"(?:[^"\\]|\\.|"")*+"', re.DOTALL),
    # The same where a backslash is a character as any other.
    "doubled": re.compile(r'"(?:[^"]|"")*+"', re.DOTALL),
    # Numbers in the bytes of a frame, which is heard in hexadecimal digits.
    **{form: re.compile(NumberForm.run(cast(NumberForm, field(form)))) for form in NUMBERS},
}
KINDS = ("text", *(kind for kind in RUNS if kind != "doubled"), "list", "bytes", "chars", "value")
LONGEST_NUMBER = 40
_CAPTURE = re.compile(r"(=)?([A-Za-z_][A-Za-z0-9_]*)(?::([a-z][a-z0-9]*)(?:\(([A-Za-z0-9_-]+)\))?)?")


class PatternFault(ValueError):
    """A pattern that cannot be read; `column` (from 1) says where, `hint` what to write instead."""

    def __init__(self, what: str, column: int, hint: str = "") -> None:
        super().__init__(what)
        self.what, self.column, self.hint = what, column, hint


class Literal:
    """Characters that must stand there as they are."""

    __slots__ = ("text",)

    def __init__(self, text: str) -> None:
        self.text = text


class CaptureElement:
    """A named part of the line; `size` is N of bytes(N), a number or the name of an earlier capture; `of` is the setting by
    whose kind the value is read; `makes` is what makes a value of the text; `counted` the field, if its
    length stands before it."""

    __slots__ = ("counted", "kind", "makes", "name", "of", "size")

    def __init__(self, name: str, kind: str, size: str = "", of: str = "") -> None:
        self.name, self.kind, self.size, self.of = name, kind, size, of
        self.makes = kind
        self.counted: Counted | None = None

    @property
    def free(self) -> bool:
        return self.kind in ("text", "list")


class Equal:
    """`{=name}`: the value that is known under this name."""

    __slots__ = ("name",)

    def __init__(self, name: str) -> None:
        self.name = name


class Anything:
    """Three dots."""

    __slots__ = ()


Element = Literal | CaptureElement | Equal | Anything


def braces(source: str) -> Iterator[tuple[str, int]]:
    """The parts of a text with braces: what is in them with its column (from 1), and what stands between them with
    column 0. {{ and }} are braces as they are. Raises PatternFault with the column."""
    plain = ""
    at = 0
    while at < len(source):
        if source.startswith(("{{", "}}"), at):
            plain += source[at]
            at += 2
        elif source[at] == "{":
            close = source.find("}", at)
            if close < 0:
                raise PatternFault("this brace is never closed", at + 1, "write {{ for a brace as it is")
            if plain:
                yield plain, 0
            plain = ""
            yield source[at + 1 : close], at + 2
            at = close + 1
        elif source[at] == "}":
            raise PatternFault("this brace was never opened", at + 1, "write }} for a brace as it is")
        else:
            plain += source[at]
            at += 1
    if plain:
        yield plain, 0


def parse(source: str) -> list[Element]:
    """The elements of a pattern. Raises PatternFault with the column."""
    elements: list[Element] = []
    for text, column in braces(source):
        if column:
            elements.append(Literal(text) if text == "..." else _capture(text, column))
            continue
        for index, plain in enumerate(text.split("...")):
            if index:
                elements.append(Anything())
            if plain:
                elements.append(Literal(plain))
    _know_quotes(elements)
    _refuse_neighbours(elements, source)
    _refuse_echoes(elements, source)
    return elements


def _capture(inside: str, column: int) -> Element:
    found = _CAPTURE.fullmatch(inside)
    if not found:
        raise PatternFault(f"{{{inside}}} is not a capture", column, "write {name} or {name:kind}, or {=name}")
    equal, name, kind, size = found.groups()
    if equal:
        if kind:
            raise PatternFault("a value already known has no kind", column, f"write {{={name}}}")
        return Equal(name)
    kind = kind or "text"
    if kind not in KINDS:
        raise PatternFault(f"{kind} is not a kind of capture", column, meant(kind, KINDS))
    if kind == "chars":
        return _chars(name, size, column)
    if (kind in ("bytes", "value")) != (size is not None):
        hint = "bytes takes a size, as in {data:bytes(4)}, value a setting, as in {t:value(timer)}; no other kind does"
        raise PatternFault(f"{inside} is not a capture", column, hint)
    return CaptureElement(name, "text", "", size) if kind == "value" else CaptureElement(name, kind, size or "")


def _chars(name: str, size: str | None, column: int) -> CaptureElement:
    form = "chars" if size is None else f"chars({size})"
    made = field(form)
    if made is None:
        hint = "chars takes a number of bytes, or the form of its length: {name:chars(12)}, {name:chars(u8)}"
        raise PatternFault(f"{form} is not a capture", column, hint)
    if isinstance(made, Counted):
        CONVERTERS.setdefault(form, made.of_hex)
        counted = CaptureElement(name, "bytes")
        counted.makes, counted.counted = form, made
        return counted
    RUNS.setdefault(form, re.compile(made.run()))
    CONVERTERS.setdefault(form, made.of_hex)
    return CaptureElement(name, form)


def _know_quotes(elements: list[Element]) -> None:
    """`"{name}"` is text in quotes, as {name:quoted} is."""
    for at in range(1, len(elements) - 1):
        before, one, after = elements[at - 1 : at + 2]
        if not (
            isinstance(one, CaptureElement)
            and one.kind == "text"
            and isinstance(before, Literal)
            and isinstance(after, Literal)
        ):
            continue
        if before.text.endswith('"') and after.text.startswith('"'):
            one.makes = "in quotes"
            if after.text != '"' or at + 2 < len(elements):
                # With more behind it the closing quote must be told from one inside.
                one.kind = one.makes = "quoted"
                before.text, after.text = before.text[:-1], after.text[1:]


def _refuse_neighbours(elements: list[Element], source: str) -> None:
    for one, two in pairwise(elements):
        if is_free(one) and is_free(two):
            name = two.name if isinstance(two, CaptureElement) else "..."
            raise PatternFault(
                "two free texts side by side: the end of the first is ambiguous",
                max(source.find(name), 0) + 1,
                "put something between them, or give the first a kind",
            )


def _refuse_echoes(elements: list[Element], source: str) -> None:
    """A free text that must come again in the same line: where it ends could only be found by trying every place."""
    free = {element.name for element in elements if isinstance(element, CaptureElement) and element.free}
    for element in elements:
        if isinstance(element, Equal) and element.name in free:
            what = f"{{={element.name}}} repeats a free text of the same line: its end is ambiguous"
            hint = f"give it a kind, as in {{{element.name}:word}}"
            raise PatternFault(what, source.find(f"={element.name}") + 1, hint)


def is_free(element: Element) -> bool:
    return isinstance(element, Anything) or (isinstance(element, CaptureElement) and element.free)


class Quoted(str):
    """Text that stood in quotes, still as the module quotes it."""

    __slots__ = ()


def _listed(text: str) -> list[str]:
    return [part.strip().strip('"') for part in text.split(",")] if text else []


# What makes a captured text the value of its kind; of other kinds it is the text itself.
CONVERTERS: dict[str, Callable[[str], object]] = {
    "int": lambda text: int(text[:LONGEST_NUMBER]),
    "decimal": lambda text: Decimal(text[:LONGEST_NUMBER]),
    "quoted": lambda text: Quoted(text[1:-1]),
    "doubled": lambda text: Quoted(text[1:-1]),
    "in quotes": Quoted,
    "list": _listed,
    **{form: cast(NumberForm, field(form)).of_hex for form in NUMBERS},
}


def convert(kind: str, text: str) -> object:
    """A captured text as the value of its kind."""
    make = CONVERTERS.get(kind)
    return make(text) if make else text


SAMPLES = {
    **{form: "00" * cast(NumberForm, field(form)).size for form in NUMBERS},
    "chars": "78",
    "int": "1",
    "decimal": "1.5",
    "hex": "1",
    "address": "01",
    "quoted": '"x"',
    "list": "x,y",
    "word": "x",
}


def sample(pattern: Any) -> str:
    """A line that fits a pattern, with something short for each capture."""
    made = ""
    for element in pattern.elements:
        if isinstance(element, Literal):
            made += element.text
        elif isinstance(element, CaptureElement):
            made += "x" * int(element.size) if element.size.isdigit() else SAMPLES.get(element.kind, "x")
    return made


Parts = list[tuple[Element | None, list[Element]]]


def parts_of(elements: list[Element]) -> Parts:
    """The pattern as runs of elements of fixed extent, each after a free element (the first after none)."""
    parts: Parts = [(None, [])]
    for element in elements:
        if is_free(element):
            parts.append((element, []))
        else:
            parts[-1][1].append(element)
    return parts
