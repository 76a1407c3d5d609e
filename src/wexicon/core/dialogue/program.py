"""A dialogue once it has been read: statements as records, each with the line that it stands on.

The rule: a program is a value. It holds the words as they were written; `wording` gives them back as text that reads to
the same program, and two programs are equal when they say the same, wherever the lines stand.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import lru_cache

from wexicon.core.durations import seconds
from wexicon.core.protocol.insertion import Template
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.text import unescape

INDENT = "    "


@lru_cache(maxsize=4096)
def pattern(source: str) -> Pattern:
    """The pattern of a source, compiled once however often it is asked for."""
    return Pattern(source)


@lru_cache(maxsize=4096)
def template(source: str) -> Template:
    """The template of a source, compiled once."""
    return Template(source)


@lru_cache(maxsize=4096)
def exact_template(source: str) -> Template:
    r"""The template of a `>>` line or of text in quotes, whose escapes (`\r`, `\x1A`) are characters."""
    return Template(unescape(source))


@dataclass(frozen=True)
class Statement:
    """One statement; `line` is where it stands (it does not count when programs are compared)."""

    line: int = field(default=0, compare=False, kw_only=True)

    def lines(self) -> Iterator[str]:
        """The statement as it is written, its blocks indented."""
        raise NotImplementedError

    def blocks(self) -> Iterator[Block]:
        """The blocks below it."""
        yield from ()


Block = tuple[Statement, ...]


def _indented(block: Block) -> Iterator[str]:
    for statement in block:
        for line in statement.lines():
            yield INDENT + line


@dataclass(frozen=True)
class Needs(Statement):
    """`needs NAME [KIND] [secret] [= DEFAULT]`: a value that must be given. `default` is an expression, or empty."""

    name: str
    kind: str = "text"
    secret: bool = False
    default: str = ""

    def lines(self) -> Iterator[str]:
        words = ["needs", self.name] + ([self.kind] if self.kind != "text" else []) + ["secret"] * self.secret
        yield " ".join(words) + (f" = {self.default}" if self.default else "")


@dataclass(frozen=True)
class Hear:
    """`< PATTERN`: what must be heard. `gather` for `<*`: any number of such lines; `prompt` for text in quotes, which
    has no line end."""

    source: str
    gather: bool = False
    prompt: bool = False
    line: int = field(default=0, compare=False)

    def wording(self) -> str:
        """As it is written."""
        if self.prompt:
            return f'< "{self.source}"'
        return (
            f"<* {self.source}"
            if self.gather
            else f"< {self.source}".rstrip(" ")
            if not self.source
            else f"< {self.source}"
        )


@dataclass(frozen=True)
class Other:
    """`| PATTERN  STATEMENT`, or a block below it: another answer and what then."""

    source: str
    then: Block = ()
    line: int = field(default=0, compare=False)

    def lines(self) -> Iterator[str]:
        """As it is written."""
        yield f"| {self.source}"
        yield from _indented(self.then)


@dataclass(frozen=True)
class Say(Statement):
    """`> TEXT` or `>> BYTES`, and what answers it. `silent` for a `<` alone: nothing answers."""

    source: str
    exact: bool = False
    hears: tuple[Hear, ...] = ()
    others: tuple[Other, ...] = ()
    silent: bool = False

    def lines(self) -> Iterator[str]:
        yield f"{'>>' if self.exact else '>'} {self.source}" if self.source else (">>" if self.exact else ">")
        if self.silent:
            yield "<"
        for hear in self.hears:
            yield hear.wording()
        for other in self.others:
            yield from other.lines()

    def blocks(self) -> Iterator[Block]:
        for other in self.others:
            yield other.then


@dataclass(frozen=True)
class Allow(Statement):
    """`allow D`: how long the next exchange may take, or all exchanges of the block below."""

    duration: str
    body: Block = ()

    def lines(self) -> Iterator[str]:
        yield f"allow {self.duration}"
        yield from _indented(self.body)

    def blocks(self) -> Iterator[Block]:
        yield self.body


@dataclass(frozen=True)
class Await(Statement):
    """`await D` and the patterns below it: events that must come, in order, or other events and what then."""

    duration: str
    hears: tuple[Hear, ...]
    others: tuple[Other, ...] = ()

    def lines(self) -> Iterator[str]:
        yield f"await {self.duration}"
        for hear in self.hears:
            yield INDENT + (hear.source if not _looks_like_other(hear.source) else f"< {hear.source}")
        for other in self.others:
            for line in other.lines():
                yield INDENT + line

    def blocks(self) -> Iterator[Block]:
        for other in self.others:
            yield other.then


def _looks_like_other(source: str) -> bool:
    return source[:1] in "|<#" or source != source.strip()


@dataclass(frozen=True)
class Repeat(Statement):
    """`repeat [N times] [for D] [every D] [until E]` and a block."""

    times: int = 0
    duration: str = ""
    every: str = ""
    until: str = ""
    body: Block = ()

    def lines(self) -> Iterator[str]:
        words = "repeat" + (f" {self.times} times" if self.times else "")
        words += f" for {self.duration}" if self.duration else ""
        words += f" every {self.every}" if self.every else ""
        yield words + (f" until {self.until}" if self.until else "")
        yield from _indented(self.body)

    def blocks(self) -> Iterator[Block]:
        yield self.body


@dataclass(frozen=True)
class Again(Statement):
    """`again up to N [every D]` and a block: said again if it failed, up to N times in all."""

    times: int
    every: str = ""
    body: Block = ()

    def lines(self) -> Iterator[str]:
        yield f"again up to {self.times}" + (f" every {self.every}" if self.every else "")
        yield from _indented(self.body)

    def blocks(self) -> Iterator[Block]:
        yield self.body


@dataclass(frozen=True)
class When(Statement):
    """`when E` and a block, then any number of `otherwise when E`, then `otherwise`. A branch with no condition is the
    last."""

    branches: tuple[tuple[str, Block], ...]

    def lines(self) -> Iterator[str]:
        for index, (condition, block) in enumerate(self.branches):
            words = "" if index == 0 else "otherwise"
            yield (words + (f" when {condition}" if condition else "")).strip()
            yield from _indented(block)

    def blocks(self) -> Iterator[Block]:
        for _, block in self.branches:
            yield block


@dataclass(frozen=True)
class On(Statement):
    """`on PATTERN` and a block: what is done whenever such an event comes, while the rest goes on."""

    source: str
    body: Block = ()

    def lines(self) -> Iterator[str]:
        yield f"on {self.source}"
        yield from _indented(self.body)

    def blocks(self) -> Iterator[Block]:
        yield self.body


@dataclass(frozen=True)
class Simple(Statement):
    """All statements of one line that need no record of their own: the word and what follows it.

    check EXPRESSION · keep NAME, NAME as NAME · keep NAME = EXPRESSION · pause D · quiet D · tune RATE [FRAME] ·
    signal LINE on/off ... · break · operator [ACT] "TEXT" · note "TEXT" · fail "TEXT" · do ACTION ·
    set NAME = EXPRESSION · read NAME
    """

    word: str
    rest: str = ""

    def lines(self) -> Iterator[str]:
        yield f"{self.word} {self.rest}".rstrip()


@dataclass(frozen=True)
class Program:
    """All statements in order."""

    statements: Block
    path: str = field(default="", compare=False)

    def walk(self) -> Iterator[Statement]:
        """Every statement, those of blocks too, as they stand."""
        yield from _walk(self.statements)

    def needs(self) -> list[Needs]:
        """The values that must be given."""
        return [statement for statement in self.statements if isinstance(statement, Needs)]

    def secrets(self) -> set[str]:
        """The names of values that appear nowhere."""
        return {need.name for need in self.needs() if need.secret}

    def wording(self) -> str:
        """The dialogue as text that reads to the same program."""
        return "".join(f"{line}\n" for statement in self.statements for line in statement.lines())

    def patterns(self) -> Iterator[Pattern]:
        """Every pattern in it."""
        for statement in self.walk():
            if isinstance(statement, (Say, Await)):
                for hear in statement.hears:
                    if not hear.prompt:
                        yield pattern(hear.source)
                for other in statement.others:
                    yield pattern(other.source)
            elif isinstance(statement, On):
                yield pattern(statement.source)


def _walk(block: Block) -> Iterator[Statement]:
    for statement in block:
        yield statement
        for below in statement.blocks():
            yield from _walk(below)


def duration(text: str) -> float:
    """The seconds of a duration that was checked when the dialogue was read."""
    return seconds(text) if text else 0.0
