"""What must be heard: a pattern with captures, compiled once, matched against one line.

    +LABEL {value}            text up to the end, or up to what follows in the pattern
    ERR {code:int}            a kind: int, decimal, word, hex, quoted, address, list, bytes(N)
    +MATE {=peer}             must equal a value that is already known
    +ID ... {version:word}    three dots stand for any text
    {{ and }} and {...}       braces and three dots as they are

The rule: a match takes time in proportion to the line, however the pattern is written, and leaves the pattern as it was:
threads share it. Where one regular expression is linear it does the work; elsewhere the careful matcher does.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from types import MappingProxyType

from wexicon.core.protocol.elements import (
    CONVERTERS,
    KINDS,
    RUNS,
    Anything,
    CaptureElement,
    Element,
    Equal,
    Literal,
    Parts,
    PatternFault,
    braces,
    parse,
    parts_of,
)
from wexicon.core.protocol.matching import MatchAttempt
from wexicon.core.text import to_bytes, to_text

__all__ = ["KINDS", "NOTHING", "Anything", "CaptureElement", "Pattern", "PatternFault", "braces"]

NOTHING: Mapping[str, object] = MappingProxyType({})
Header = tuple[bytes, "re.Pattern[bytes]", Callable[["re.Match[bytes]"], int]]


class Pattern:
    """A compiled pattern. `start` is what every fitting line begins with; `names` are its captures in order, `quotes` whether
    some of them are in quotes; `needs` the names that must be known before; `form` the form of answers that it was made for."""

    __slots__ = (
        "_convert",
        "_fits",
        "_otherwise",
        "_parts",
        "_tail",
        "catches_all",
        "elements",
        "form",
        "names",
        "needs",
        "quotes",
        "source",
        "start",
    )

    def __init__(self, source: str, *, literal_backslash: bool = False) -> None:
        self.source, self.form = source, ""
        self.elements = parse(source)
        for element in self.elements if literal_backslash else ():
            if isinstance(element, CaptureElement) and element.kind == "quoted":
                element.kind = element.makes = "doubled"
        self.names = [e.name for e in self.elements if isinstance(e, CaptureElement)]
        earlier = set(self.names)
        self.needs = [e.name for e in self.elements if isinstance(e, Equal)] + [
            e.size
            for e in self.elements
            if isinstance(e, CaptureElement) and e.size and not e.size.isdigit() and e.size not in earlier
        ]
        first = self.elements[0] if self.elements else None
        self.start = first.text if isinstance(first, Literal) else ""
        self.catches_all = len(self.elements) == 1 and (
            isinstance(first, Anything) or (isinstance(first, CaptureElement) and first.kind == "text")
        )
        self.quotes = any(
            isinstance(e, CaptureElement) and e.makes in ("quoted", "doubled", "in quotes") for e in self.elements
        )
        self._build()
        # Another reading of text in quotes, for modules to which a backslash is a character as any other.
        self._otherwise: Pattern | None = None
        if (
            any(isinstance(e, CaptureElement) and e.kind == "quoted" for e in self.elements)
            and literal_backslash is False
        ):
            self._otherwise = Pattern(source, literal_backslash=True)

    def _build(self) -> None:
        self._parts = parts_of(self.elements)
        # A pattern that ends in raw bytes: which of its captures reports how many, or the number itself.
        self._tail: int | str | None = None
        self._convert: list[tuple[str, Callable[[str], object] | None]] = []
        self._fits: Callable[[str], re.Match[str] | None] | None = None
        self._compile()

    def _compile(self) -> None:
        source = _expression(self._parts)
        if source is None:
            return
        try:
            made = re.compile(source, re.DOTALL)
        except re.error:  # the same name twice: the careful matcher knows what that means
            return
        last = self.elements[-1] if self.elements else None
        if isinstance(last, CaptureElement) and last.kind == "bytes":
            if not last.size.isdigit() and last.size not in self.names[:-1]:
                return
            self._tail = int(last.size) if last.size.isdigit() else last.size
        self._fits = made.fullmatch
        self._convert = [(e.name, CONVERTERS.get(e.makes)) for e in self.elements if isinstance(e, CaptureElement)]

    def match(self, text: str, known: Mapping[str, object] = NOTHING) -> dict[str, object] | None:
        """The captures when the whole of `text` fits, else None."""
        if self.start and not text.startswith(self.start):
            return None
        captures = self._match(text, known)
        if captures is None and self._otherwise is not None and '\\"' in text:
            return self._otherwise._match(text, known)
        return captures

    def _match(self, text: str, known: Mapping[str, object]) -> dict[str, object] | None:
        if self._fits is None:
            return MatchAttempt(self._parts, text, known).run()
        found = self._fits(text)
        if found is None:
            return None
        captures = {}
        for (name, make), value in zip(self._convert, found.groups(), strict=True):
            captures[name] = make(value) if make else value
        if self._tail is not None:
            size = self._tail if isinstance(self._tail, int) else captures[self._tail]
            rest = found[len(self._convert)]
            if _whole(size) != (len(rest) if rest.isascii() else len(to_bytes(rest))):
                return None
        return captures

    def reach(self, text: str, known: Mapping[str, object] = NOTHING) -> int:
        """How many characters of a line fit, from its beginning."""
        attempt = MatchAttempt(self._parts, text, known)
        return len(text) if attempt.run() is not None else attempt.reach

    def __repr__(self) -> str:
        return f"Pattern({self.source!r})"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Pattern) and self.source == other.source

    def __hash__(self) -> int:
        return hash(self.source)


def _whole(size: object) -> int:
    """A captured number of bytes; -1 where it is none."""
    text = str(size)
    return int(text) if len(text) < 10 and text.isascii() and text.isdigit() else -1


def _expression(parts: Parts) -> str | None:
    """The pattern as one regular expression, or None where that would not be linear, or where values that are only known
    later are in it."""
    source = ""
    for index, (free, run) in enumerate(parts):
        last = index == len(parts) - 1
        fixed = _fixed(run, tail=last and len(parts) == 1)
        if fixed is None or (free is not None and not _is_linear(run)):
            return None
        if free is None:
            source += fixed
            continue
        every = ".*" if last and not run else ".*?"
        taken = f"(?P<{free.name}>{every})" if isinstance(free, CaptureElement) else every
        source += f"{taken}{fixed}" if last else f"(?>{taken}{fixed})"
    return source


def _fixed(run: list[Element], *, tail: bool) -> str | None:
    source = ""
    for index, element in enumerate(run):
        if isinstance(element, Literal):
            source += re.escape(element.text)
        elif isinstance(element, CaptureElement) and element.kind in RUNS:
            source += f"(?P<{element.name}>(?>{RUNS[element.kind].pattern}))"
        elif isinstance(element, CaptureElement) and element.makes == "bytes" and tail and index == len(run) - 1:
            source += f"(?P<{element.name}>.*)"
        else:
            return None
    return source


def _is_linear(run: list[Element]) -> bool:
    """Whether trying the run at one place after the other is linear: it is literal, or begins with a character that no
    other part of it can take, so that two tries never look at the same characters."""
    if all(isinstance(element, Literal) for element in run):
        return True
    first, *others = run
    if not isinstance(first, Literal) or not first.text:
        return False
    kinds = [RUNS[e.kind] for e in others if isinstance(e, CaptureElement) and e.kind in RUNS]
    texts = "".join(e.text for e in others if isinstance(e, Literal))
    lead = first.text[0]
    return lead not in texts and lead not in first.text[1:] and not any(_may_take(kind, lead) for kind in kinds)


def _may_take(kind: re.Pattern[str], char: str) -> bool:
    """Whether a run of this kind can hold the character."""
    return any(kind.fullmatch(text) for text in (char, f"1{char}1", f"{char}1", f'"{char}"'))


def block_header(pattern: Pattern) -> Header | None:
    """For a pattern that ends in raw bytes: how its line starts, its header as a bytes pattern anchored at the start of
    a line, and a function that gives the number of raw bytes after that header. None for all other patterns, and where
    the number is known only from an earlier line.

    Raises PatternFault where the header holds free text, so that its end would be a guess.
    """
    last = pattern.elements[-1] if pattern.elements else None
    if not (isinstance(last, CaptureElement) and last.makes == "bytes"):
        return None
    source = b""
    for element in pattern.elements[:-1]:
        if isinstance(element, Literal):
            source += re.escape(to_bytes(element.text))
        elif isinstance(element, CaptureElement) and element.kind in RUNS:
            source += b"(?P<" + element.name.encode() + b">(?>" + RUNS[element.kind].pattern.encode() + b"))"
        else:
            raise PatternFault("only kinds of fixed extent may stand before raw bytes", 1, "give each capture a kind")
    size = last.size
    if not source:
        raise PatternFault("raw bytes with nothing before them", 1, "write what announces them, as in +IN {n:int} ...")
    if not size.isdigit() and size not in pattern.names[:-1]:
        return None

    def count(found: re.Match[bytes]) -> int:
        return _whole(size if size.isdigit() else to_text(found[size]).removeprefix("+"))

    if len(set(pattern.names)) < len(pattern.names):
        raise PatternFault("a name stands twice before raw bytes", 1, "give each capture a name of its own")
    return to_bytes(pattern.start), re.compile(source), count
