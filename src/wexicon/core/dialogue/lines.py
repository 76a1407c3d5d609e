"""One line of a dialogue, the parts that it consists of (durations, expressions, patterns, texts in quotes), and what all
statements have in common.

The rule: each part is read once, here, into what will be used; what is wrong with it is a LineFault with its column.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from functools import lru_cache
from typing import ClassVar, NamedTuple, Protocol, TypeVar

import msgspec

from wexicon.core.dialogue.expressions import Expression, ExpressionFault, expression
from wexicon.core.protocol.dialect import compiled
from wexicon.core.protocol.insertion import Template
from wexicon.core.protocol.patterns import Pattern, PatternFault, block_header
from wexicon.core.text import Duration, unescape, visible

T = TypeVar("T")
NAME = r"[A-Za-z_][A-Za-z0-9_]*"
_QUOTED = re.compile(r'"((?:[^"\\]|\\.)*)"')
INDENT = "    "
_ASSIGNED = re.compile(r"([A-Za-z_][A-Za-z0-9_-]*)\s*=(?!=)\s*(.+)")


class StatementFault(Exception):
    """What is wrong with a line, `column` counted from 1 in the line's text without its indentation."""

    def __init__(self, what: str, column: int = 1, hint: str = "") -> None:
        super().__init__(what)
        self.what, self.column, self.hint = what, column, hint


class SourceLine(NamedTuple):
    """One line that is neither empty nor a comment."""

    number: int
    indent: int
    text: str


@lru_cache(maxsize=4096)
def template(source: str) -> Template:
    """The template of a source, compiled once."""
    return Template(source)


@lru_cache(maxsize=4096)
def exact_template(source: str) -> Template:
    r"""The template of a `>>` line or of text in quotes, whose escapes (`\r`, `\x1A`) are characters."""
    return Template(unescape(source))


class Words:
    """Some words of a line, and the column (from 1) at which they stand."""

    def __init__(self, text: str, column: int, line: int) -> None:
        self.text, self.column, self.line = text, column, line

    def part(self, start: int, text: str) -> Words:
        """Words that stand further on."""
        return Words(text, self.column + start, self.line)

    def fault(self, what: str, hint: str = "") -> StatementFault:
        return StatementFault(what, self.column, hint)

    def taken(self, form: re.Pattern[str], hint: str) -> re.Match[str]:
        """The words by their form. Raises LineFault with what to write."""
        found = form.fullmatch(self.text)
        if not found:
            raise self.fault("cannot be read", hint)
        return found

    def duration(self) -> Duration:
        try:
            return Duration.of(self.text)
        except ValueError as fault:
            raise self.fault(str(fault)) from None

    def number(self) -> int:
        """A number of times."""
        if not re.fullmatch(r"[1-9][0-9]{0,5}", self.text):
            shown = visible(self.text)[:20]
            raise self.fault(f"{shown} is not a number of times", "a whole number from 1 to 999999")
        return int(self.text)

    def expression(self) -> Expression:
        try:
            return expression(self.text)
        except ExpressionFault as fault:
            raise StatementFault(f"the expression {fault.what}", self.column + fault.column - 1, fault.hint) from None

    def assignment(self, hint: str) -> tuple[str, Expression]:
        """NAME = EXPRESSION."""
        found = self.taken(_ASSIGNED, hint)
        return found[1], self.part(found.start(2), found[2]).expression()

    def pattern(self) -> Pattern:
        """A literal line that must be heard."""

        def both(source: str) -> Pattern:
            made = compiled(source)
            block_header(made)
            return made

        return self._literal(both)

    def template(self, *, exact: bool = False) -> Template:
        """A literal line to say."""
        return self._literal(exact_template if exact else template)

    def quoted(self) -> QuotedText:
        """Text in quotes."""
        found = _QUOTED.fullmatch(self.text)
        if not found:
            raise self.fault('no text in "quotes"', "put it between quotes")
        return QuotedText(found[1], self.part(1, found[1]).template(exact=True))

    def _literal(self, compile_it: Callable[[str], T]) -> T:
        try:
            return compile_it(self.text)
        except PatternFault as fault:
            raise StatementFault(fault.what, self.column + fault.column - 1, fault.hint) from None
        except ValueError as fault:
            raise self.fault(str(fault), r"escapes are \r \n \t \0 \e \\ \" \xNN") from None


class QuotedText(NamedTuple):
    """A text in quotes, as it was written and as a template."""

    source: str
    template: Template

    def wording(self) -> str:
        return f'"{self.source}"'


class Naming(Protocol):
    """An expression or template: `names` are the values that it needs."""

    @property
    def names(self) -> Iterable[str]: ...


class Statement(msgspec.Struct, frozen=True, eq=False, kw_only=True, dict=True):
    """One statement; `line` is where it stands (it does not count: two statements are equal when they are written alike)."""

    word: ClassVar[str] = ""
    # Its fields that name what it gives values to.
    gives: ClassVar[tuple[str, ...]] = ()
    line: int = 0

    def __eq__(self, other: object) -> bool:
        return type(self) is type(other) and list(self.lines()) == list(other.lines())

    def __hash__(self) -> int:
        return hash(tuple(self.lines()))

    def lines(self) -> Iterator[str]:
        """The statement as it is written, its blocks indented."""
        yield f"{self.word} {self.rest()}".rstrip()

    def rest(self) -> str:
        """The words behind its name."""
        return ""

    def blocks(self) -> Iterator[Body]:
        """The blocks below it."""
        yield from ()

    def uses(self) -> Iterator[tuple[int, str]]:
        """The names whose values it needs, each with its line."""
        for one in self.expressions():
            for name in one.names:
                yield self.line, name

    def sets(self) -> Iterator[str]:
        """The names that it gives values."""
        yield from filter(None, (getattr(self, field) for field in self.gives))

    def expressions(self) -> Iterator[Naming]:
        """The expressions and templates in it, each with its `names`."""
        for field in self.__struct_fields__:
            match getattr(self, field):
                case Expression() | Template() as one:
                    yield one
                case QuotedText(template=one):
                    yield one


Body = tuple[Statement, ...]


def indented(block: Body) -> Iterator[str]:
    for statement in block:
        for line in statement.lines():
            yield INDENT + line


class OneLine(Statement, frozen=True):
    """A statement that is read from the words behind its name."""

    @classmethod
    def read(cls, words: Words) -> OneLine:
        """Raises LineFault."""
        raise NotImplementedError
