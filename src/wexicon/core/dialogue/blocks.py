"""Statements with a block: exchanges with their answers, waits, repeats, branches, handlers; and what a dialogue has done by
others: a lexicon's settings and actions.

The rule: statements are frozen, compiled when read, never looked at as text again. The runner knows a module only by the few
methods that stand here.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from functools import cached_property
from typing import ClassVar, Protocol

import msgspec

from wexicon.core.dialogue.expressions import Expression
from wexicon.core.dialogue.lines import INDENT, Body, Naming, Statement, Words, indented
from wexicon.core.faults import ModuleFault, Part
from wexicon.core.protocol.dialect import Closing, Expectation, Want
from wexicon.core.protocol.insertion import Template
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.text import Duration

_REPEAT = re.compile(
    r"(?:(?P<times>\S+)\s+times\b)?\s*(?:for\s+(?P<for>\S+))?\s*(?:every\s+(?P<every>\S+))?\s*(?:until\s+(?P<until>.+))?"
)
_AGAIN = re.compile(r"up\s+to\s+(\S+)(?:\s+every\s+(\S+))?")


class Hear(msgspec.Struct, frozen=True):
    """`< PATTERN`: what must be heard. `gather` for `<*`: any number of such lines; `prompt` for text in quotes, which
    has no line end."""

    pattern: Pattern
    gather: bool = False
    prompt: bool = False
    line: int = 0

    def wording(self) -> str:
        """As it is written."""
        if self.prompt:
            return f'< "{self.pattern.start}"'
        return f"{'<*' if self.gather else '<'} {self.pattern.source}"


class Other(msgspec.Struct, frozen=True):
    """`| PATTERN  STATEMENT`, or a block below it: another answer and what then."""

    pattern: Pattern
    then: Body = ()
    line: int = 0

    def lines(self) -> Iterator[str]:
        """As it is written."""
        yield f"| {self.pattern.source}"
        yield from indented(self.then)


class AnsweredStatement(Statement, frozen=True):
    """A statement that something answers."""

    hears: tuple[Hear, ...] = ()
    others: tuple[Other, ...] = ()

    def blocks(self) -> Iterator[Body]:
        for other in self.others:
            yield other.then

    def patterns(self) -> Iterator[tuple[int, Pattern]]:
        """Every pattern with its line."""
        for hear in self.hears:
            yield hear.line, hear.pattern
        for other in self.others:
            yield other.line, other.pattern

    def uses(self) -> Iterator[tuple[int, str]]:
        yield from super().uses()
        for line, pattern in self.patterns():
            for name in pattern.needs:
                yield line, name

    def sets(self) -> Iterator[str]:
        for _, pattern in self.patterns():
            yield from pattern.names


class Say(AnsweredStatement, frozen=True, kw_only=True):
    """`> TEXT` or `>> BYTES` (`exact`), and what answers it. `silent` for a `<` alone: nothing answers. `source` is the
    line as it was written."""

    source: str
    template: Template
    exact: bool = False
    silent: bool = False

    @cached_property
    def expectation(self) -> Expectation:
        """What answers it, for the engine."""
        return Expectation(
            tuple(Want(hear.pattern, hear.prompt, hear.gather) for hear in self.hears),
            tuple(other.pattern for other in self.others),
            self.silent or (self.exact and not self.hears and not self.others),
            closing=Closing.LENIENT,
        )

    def lines(self) -> Iterator[str]:
        mark = ">>" if self.exact else ">"
        yield f"{mark} {self.source}" if self.source else mark
        if self.silent:
            yield "<"
        for hear in self.hears:
            yield hear.wording()
        for other in self.others:
            yield from other.lines()


class Await(AnsweredStatement, frozen=True, kw_only=True):
    """`await D [queued] [as NAME]` and the patterns below it: events that must come, in order, or other events and what then.
    Only those count that came after the dialogue's last line; with `queued` the older ones too that were not taken yet. NAME is
    how many seconds the last of them took to come. Without a block, `await D nothing`: no event may come; `await D closed`: the
    other side must close the connection."""

    word: ClassVar[str] = "await"
    # What may stand instead of a block.
    BARE: ClassVar[tuple[str, ...]] = ("nothing", "closed")
    duration: Duration
    as_name: str = ""
    queued: bool = False
    bare: str = ""

    def sets(self) -> Iterator[str]:
        yield from super().sets()
        if self.as_name:
            yield self.as_name

    def lines(self) -> Iterator[str]:
        queued = " queued" if self.queued else ""
        as_name = f" as {self.as_name}" if self.as_name else ""
        yield f"await {self.duration.text}{queued}{as_name} {self.bare}".rstrip()
        for hear in self.hears:
            source = hear.pattern.source
            plain = source[:1] not in ("|", "<", "#") and source == source.strip()
            yield INDENT + (source if plain else f"< {source}")
        for other in self.others:
            for line in other.lines():
                yield INDENT + line


class Block(Statement, frozen=True, kw_only=True):
    """A statement with one block below it, read from the words behind its name."""

    body: Body = ()

    @classmethod
    def read(cls, words: Words) -> dict[str, object]:
        """Its parts but for the block. Raises LineFault."""
        raise NotImplementedError

    def lines(self) -> Iterator[str]:
        yield f"{self.word} {self.rest()}"
        yield from indented(self.body)

    def blocks(self) -> Iterator[Body]:
        yield self.body


class Allow(Block, frozen=True, kw_only=True):
    """`allow D`: how long the next exchange may take, or all exchanges of the block below."""

    word: ClassVar[str] = "allow"
    duration: Duration

    @classmethod
    def read(cls, words: Words) -> dict[str, object]:
        return {"duration": words.duration()}

    def rest(self) -> str:
        return self.duration.text


class Repeat(Block, frozen=True):
    """`repeat [N times] [for D] [every D] [until E]` and a block."""

    word: ClassVar[str] = "repeat"
    times: int = 0
    duration: Duration | None = None
    every: Duration | None = None
    until: Expression | None = None

    @classmethod
    def read(cls, words: Words) -> dict[str, object]:
        found = _REPEAT.fullmatch(words.text)
        if not found or not words.text:
            raise words.fault("cannot be read", "write repeat [N times] [for D] [every D] [until EXPRESSION]")
        parts = {name: words.part(found.start(name), text) for name, text in found.groupdict().items() if text}
        made: dict[str, object] = {
            "times": parts["times"].number() if "times" in parts else 0,
            "duration": parts["for"].duration() if "for" in parts else None,
            "every": parts["every"].duration() if "every" in parts else None,
            "until": parts["until"].expression() if "until" in parts else None,
        }
        if not made["times"] and not made["duration"]:
            raise words.fault("has no end", "say for how long, or how often: repeat for 30s ..., repeat 5 times ...")
        return made

    def expressions(self) -> Iterator[Naming]:
        """None before the block: `until` is asked after it."""
        yield from ()

    def rest(self) -> str:
        parts = [f"{self.times} times"] if self.times else []
        parts += [f"for {self.duration.text}"] if self.duration else []
        parts += [f"every {self.every.text}"] if self.every else []
        return " ".join([*parts, f"until {self.until.source}"] if self.until else parts)


class Again(Block, frozen=True):
    """`again up to N [every D]` and a block: done again if it failed, up to N times in all."""

    word: ClassVar[str] = "again"
    times: int = 1
    every: Duration | None = None

    @classmethod
    def read(cls, words: Words) -> dict[str, object]:
        found = words.taken(_AGAIN, "write again up to 3, or again up to 3 every 1s")
        every = words.part(found.start(2), found[2]).duration() if found[2] else None
        return {"times": words.part(found.start(1), found[1]).number(), "every": every}

    def rest(self) -> str:
        return f"up to {self.times}" + (f" every {self.every.text}" if self.every else "")


class On(Block, frozen=True, kw_only=True):
    """`on PATTERN` and a block: what is done whenever such an event comes, while the rest goes on."""

    word: ClassVar[str] = "on"
    pattern: Pattern

    @classmethod
    def read(cls, words: Words) -> dict[str, object]:
        if not words.text:
            raise words.fault("no event", "write on PATTERN, and below it the statements to run")
        return {"pattern": words.pattern()}

    def rest(self) -> str:
        return self.pattern.source

    def sets(self) -> Iterator[str]:
        yield from self.pattern.names


class When(Statement, frozen=True):
    """`when E` and a block, then any number of `otherwise when E`, then `otherwise`. A branch with no condition is the
    last."""

    word: ClassVar[str] = "when"
    branches: tuple[tuple[Expression | None, Body], ...]

    def lines(self) -> Iterator[str]:
        for index, (condition, block) in enumerate(self.branches):
            words = "" if index == 0 else "otherwise"
            yield (words + (f" when {condition.source}" if condition else "")).strip()
            yield from indented(block)

    def blocks(self) -> Iterator[Body]:
        for _, block in self.branches:
            yield block

    def expressions(self) -> Iterator[Naming]:
        yield from (condition for condition, _ in self.branches if condition)


BLOCKS: dict[str, type[Block]] = {one.word: one for one in (Allow, Repeat, Again, On)}


class ModuleActions(Protocol):
    """What a lexicon lets a dialogue do; without one, `do`, `set` and `read` are faults."""

    def do(self, action: str, values: Mapping[str, object]) -> dict[str, object]: ...

    def set(self, name: str, value: object) -> None: ...

    def read(self, name: str) -> object: ...

    def pin(self, name: object) -> bool: ...

    def meaning(self, code: str) -> str: ...

    def decoded(self, name: str, text: str) -> object:
        """The value of a setting's kind that is in the module's words."""

    def encoded(self, name: str, value: object) -> str:
        """A value in the module's words, by a setting's kind."""


class Files(Protocol):
    """The files that a dialogue may send. Both methods raise Fault."""

    def locate(self, path: str) -> str:
        """The whole path of a file that the dialogue names."""

    def read(self, path: str) -> bytes:
        """The bytes of a file."""


class DialogueFault(ModuleFault):
    """A statement that failed. `line` is where it stands, `source` its words."""

    def __init__(
        self, what: str, statement: Statement, *, part: Part | None = None, where: str = "", hint: str = ""
    ) -> None:
        super().__init__(what, part=part, where=where, hint=hint)
        self.line = statement.line
        # Where it was, if there are several parties.
        self.party = ""
        self.source = next(iter(statement.lines()), "")


class Measured(msgspec.Struct, frozen=True):
    """A number that a dialogue measured, with its unit and limits (None: no limit)."""

    name: str
    value: float
    unit: str = ""
    low: float | None = None
    high: float | None = None


class DialogueOutput(msgspec.Struct):
    """What came of a dialogue: what it kept (tables are lists of dicts), what it measured, and its notes."""

    kept: dict[str, object] = msgspec.field(default_factory=dict)
    notes: list[str] = msgspec.field(default_factory=list)
    measured: list[Measured] = msgspec.field(default_factory=list)
