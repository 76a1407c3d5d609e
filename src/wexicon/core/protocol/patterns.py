"""What must be heard: a pattern with captures, compiled once, matched against one line.

    +LABEL {value}            text up to the end, or up to what follows in the pattern
    ERR {code:int}            a kind: int, decimal, word, hex, quoted, address, list, bytes(N)
    +MATE {=peer}             must equal a value that is already known
    +ID ... {version:word}    three dots stand for any text
    {{ and }} and {...}       braces and three dots as they are

The rule: a match takes time in proportion to the line, however the pattern is written. Kinds take as many characters
as belong to them and give none back; free text takes as few as will do. Nothing is tried twice: the end of a run of
characters is found once for each kind and remembered.
"""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Callable, Iterator, Mapping
from decimal import Decimal
from itertools import accumulate, pairwise
from typing import Any

from wexicon.core.text import meant, to_bytes

RUNS = {
    "int": re.compile(r"[+-]?[0-9]+"),
    "decimal": re.compile(r"[+-]?[0-9]+(?:\.[0-9]+)?"),
    "word": re.compile(r"[^\s,;\"()=]+"),
    "hex": re.compile(r"[0-9A-Fa-f]+"),
    "address": re.compile(r"[0-9A-Fa-f]+(?:[:.\-][0-9A-Fa-f]+)*"),
    "quoted": re.compile(r'"[^"]*"'),
}
KINDS = ("text", *RUNS, "list", "bytes")
_LONGEST_NUMBER = 40
_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_CAPTURE = re.compile(r"(=)?([A-Za-z_][A-Za-z0-9_]*)(?::([a-z]+)(?:\(([A-Za-z0-9_]+)\))?)?")


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


class Capture:
    """A named part of the line; `size` is N of bytes(N), a number or the name of an earlier capture."""

    __slots__ = ("kind", "name", "size")

    def __init__(self, name: str, kind: str, size: str = "") -> None:
        self.name, self.kind, self.size = name, kind, size

    @property
    def free(self) -> bool:
        return self.kind in ("text", "list")


class Known:
    """`{=name}`: the value that is known under this name."""

    __slots__ = ("name",)

    def __init__(self, name: str) -> None:
        self.name = name


class Anything:
    """Three dots."""

    __slots__ = ()


Element = Literal | Capture | Known | Anything


def braces(source: str) -> Iterator[tuple[str, int]]:
    """The parts of a text with braces: what stands in them with its column (from 1), and what stands between them with
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
    _refuse_neighbours(elements, source)
    return elements


def _capture(inside: str, column: int) -> Element:
    found = _CAPTURE.fullmatch(inside)
    if not found:
        raise PatternFault(f"{{{inside}}} is no capture", column, "write {name} or {name:kind}, or {=name}")
    equal, name, kind, size = found.groups()
    if equal:
        if kind:
            raise PatternFault("a value already known has no kind", column, f"write {{={name}}}")
        return Known(name)
    kind = kind or "text"
    if kind not in KINDS:
        raise PatternFault(f"{kind} is no kind of capture", column, meant(kind, KINDS))
    if (kind == "bytes") != (size is not None):
        raise PatternFault(
            f"{inside} is no capture", column, "bytes takes a size, as in {data:bytes(4)}; no other kind does"
        )
    return Capture(name, kind, size or "")


def _refuse_neighbours(elements: list[Element], source: str) -> None:
    for one, two in pairwise(elements):
        if _is_free(one) and _is_free(two):
            name = two.name if isinstance(two, Capture) else "..."
            raise PatternFault(
                "two free texts side by side: nobody can say where one ends",
                max(source.find(name), 0) + 1,
                "put something between them, or give the first a kind",
            )


def _is_free(element: Element) -> bool:
    return isinstance(element, Anything) or (isinstance(element, Capture) and element.free)


def convert(kind: str, text: str) -> Any:
    """A captured text as the value of its kind."""
    if kind == "int":
        return int(text[:_LONGEST_NUMBER])
    if kind == "decimal":
        return Decimal(text[:_LONGEST_NUMBER])
    if kind == "quoted":
        return text[1:-1]
    if kind == "list":
        return [part.strip().strip('"') for part in text.split(",")] if text else []
    return text


class Pattern:
    """A compiled pattern. `names` are its captures in order; `needs` the names that must be known before."""

    __slots__ = ("_missed", "_parts", "_reach", "_start", "elements", "names", "needs", "source")

    def __init__(self, source: str) -> None:
        self.source = source
        self.elements = parse(source)
        self.names = [e.name for e in self.elements if isinstance(e, Capture)]
        earlier = set(self.names)
        self.needs = [e.name for e in self.elements if isinstance(e, Known)] + [
            e.size
            for e in self.elements
            if isinstance(e, Capture) and e.size and not e.size.isdigit() and e.size not in earlier
        ]
        self._reach = 0
        self._missed: str | None = None
        self._parts = self._runs()
        self._start = self.literal_start()

    def _runs(self) -> list[tuple[Element | None, list[Element]]]:
        """The pattern as runs of elements of fixed extent, each after a free element (the first after none)."""
        parts: list[tuple[Element | None, list[Element]]] = [(None, [])]
        for element in self.elements:
            if _is_free(element):
                parts.append((element, []))
            else:
                parts[-1][1].append(element)
        return parts

    def match(self, text: str, known: Mapping[str, Any] | None = None) -> dict[str, Any] | None:
        """The captures when the whole of `text` fits, else None; then `reach` says how far it did fit."""
        start = self._start
        if start and not text.startswith(start):
            # Most lines fit none of the patterns that are held against them; how far they fit is seldom asked.
            self._missed = text
            return None
        self._missed = None
        return _Attempt(self, text, known or {}).run()

    @property
    def reach(self) -> int:
        """How many characters of the last line that did not fit did fit."""
        if self._missed is None:
            return self._reach
        pairs = enumerate(zip(self._start, self._missed, strict=False))
        return next((at for at, (wanted, heard) in pairs if wanted != heard), len(self._missed))

    def literal_start(self) -> str:
        """The characters with which every fitting line begins, as far as they are fixed."""
        first = self.elements[0] if self.elements else None
        return first.text if isinstance(first, Literal) else ""

    def __repr__(self) -> str:
        return f"Pattern({self.source!r})"


class _Attempt:
    """One match of one pattern against one text."""

    __slots__ = ("ends", "known", "offsets", "pattern", "reach", "spans", "text")

    def __init__(self, pattern: Pattern, text: str, known: Mapping[str, Any]) -> None:
        self.pattern, self.text, self.known = pattern, text, known
        # Where each capture stands; cut out and converted only once the whole pattern fits, or it would not be linear.
        self.spans: dict[str, tuple[str, int, int]] = {}
        self.ends: dict[str, tuple[int, int]] = {}
        self.offsets: list[int] | None = None
        self.reach = 0

    def run(self) -> dict[str, Any] | None:
        at = 0
        text = self.text
        parts = self.pattern._parts
        last = len(parts) - 1
        for index, (free, run) in enumerate(parts):
            if free is None:
                end = self.fit(run, at)
                if end < 0 or (index == last and end != len(text)):
                    self.parted(max(end, 0))
                    return None
            else:
                start, end = self.search(free, run, at, index == last)
                if start < 0:
                    self.parted(at)
                    return None
                if isinstance(free, Capture):
                    self.spans[free.name] = (free.kind, at, start)
            at = end
        return {name: convert(kind, text[start:end]) for name, (kind, start, end) in self.spans.items()}

    def parted(self, at: int) -> None:
        self.pattern._reach = max(self.reach, at)

    def search(self, free: Element, run: list[Element], at: int, last: bool) -> tuple[int, int]:
        """The first place from `at` on where the run fits (to the very end of the text if it is the last)."""
        text = self.text
        if not run:
            return (len(text), len(text)) if last else (at, at)
        lead = self.lead(run[0])
        if last and len(run) == 1 and lead:
            start = len(text) - len(lead)
            return (start, len(text)) if start >= at and text.endswith(lead) else (-1, -1)
        start = at
        while True:
            if lead:
                start = text.find(lead, start)
                if start < 0:
                    return -1, -1
            elif start > len(text):
                return -1, -1
            if isinstance(free, Capture):
                self.spans[free.name] = (free.kind, at, start)
            end = self.fit(run, start)
            if end >= 0 and (not last or end == len(text)):
                return start, end
            start = self.next_start(run[0], start)

    def next_start(self, first: Element, start: int) -> int:
        """Where the run may fit next: never inside a run of characters that was taken as a whole."""
        if isinstance(first, Capture) and first.kind in RUNS:
            remembered = self.ends.get(first.kind)
            if remembered and remembered[0] <= start < remembered[1]:
                return remembered[1]
        return start + 1

    def lead(self, element: Element) -> str:
        if isinstance(element, Literal):
            return element.text
        if isinstance(element, Known):
            if element.name in self.spans:
                _, start, end = self.spans[element.name]
                return self.text[start:end]
            return str(self.known.get(element.name, ""))
        return ""

    def fit(self, run: list[Element], at: int) -> int:
        """Where the run ends if it fits at `at`, else -1."""
        text = self.text
        for element in run:
            if isinstance(element, Capture):
                end = self.size(element, at) if element.kind == "bytes" else self.run_end(element.kind, at)
                if end < 0:
                    self.reach = max(self.reach, at)
                    return -1
                self.spans[element.name] = (element.kind, at, end)
                at = end
            else:
                lead = self.lead(element)
                if not text.startswith(lead, at):
                    alike = next(
                        (i for i, pair in enumerate(zip(lead, text[at:], strict=False)) if pair[0] != pair[1]), 0
                    )
                    self.reach = max(self.reach, at + alike)
                    return -1
                at += len(lead)
        return at

    def run_end(self, kind: str, at: int) -> int:
        remembered = self.ends.get(kind)
        if remembered and remembered[0] <= at < remembered[1] and kind != "quoted":
            return remembered[1]
        found = RUNS[kind].match(self.text, at)
        if not found:
            return -1
        self.ends[kind] = (at, found.end())
        return found.end()

    def size(self, element: Capture, at: int) -> int:
        """Where the raw bytes that begin at `at` end, or -1 where there are not so many, or no character ends there."""
        count: Any = element.size
        if count in self.spans:
            kind, start, end = self.spans[count]
            count = convert(kind, self.text[start : min(end, start + _LONGEST_NUMBER)])
        elif not count.isdigit():
            count = self.known.get(count)
        if not str(count).isdigit():
            return -1
        if self.text.isascii():
            return at + int(count) if at + int(count) <= len(self.text) else -1
        if self.offsets is None:
            self.offsets = [0, *accumulate(len(to_bytes(char)) for char in self.text)]
        wanted = self.offsets[at] + int(count)
        end = bisect_left(self.offsets, wanted)
        return end if end < len(self.offsets) and self.offsets[end] == wanted else -1


def block_header(pattern: Pattern) -> tuple[bytes, re.Pattern[bytes], Callable[[re.Match[bytes]], int]] | None:
    """For a pattern that ends in raw bytes: how its line starts, its header as a bytes pattern anchored at the start of
    a line, and a function that gives the number of raw bytes after that header. None for all other patterns.

    Raises PatternFault where the header holds free text, so that its end would be a guess.
    """
    last = pattern.elements[-1] if pattern.elements else None
    if not (isinstance(last, Capture) and last.kind == "bytes"):
        return None
    source = b""
    for element in pattern.elements[:-1]:
        if isinstance(element, Literal):
            source += re.escape(to_bytes(element.text))
        elif isinstance(element, Capture) and element.kind in RUNS:
            kind = RUNS[element.kind].pattern.replace('^\\s,;\\"()=', '^\\s,;"()=').encode()
            source += b"(?P<" + element.name.encode() + b">(?>" + kind + b"))"
        else:
            raise PatternFault("only kinds of fixed extent may stand before raw bytes", 1, "give each capture a kind")
    size = last.size

    def count(found: re.Match[bytes]) -> int:
        digits = size if size.isdigit() else found[size].decode()
        return int(digits) if digits.lstrip("+").isdigit() and len(digits) < 10 else -1

    return to_bytes(pattern.literal_start()), re.compile(source), count
