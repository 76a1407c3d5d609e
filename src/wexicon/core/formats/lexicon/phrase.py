"""What a lexicon file says as text and what that becomes: patterns, lines to say, durations; and a line with what answers it.

The rule: text is compiled as the file is decoded, so that a fault has its place; nothing later compiles it again.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import cached_property
from typing import Any, TypeVar

import msgspec

from wexicon.core.protocol.dialect import OK, Expectation, Want, compiled
from wexicon.core.protocol.insertion import Template
from wexicon.core.protocol.patterns import Pattern, PatternFault, block_header
from wexicon.core.protocol.speech import pattern_in
from wexicon.core.text import seconds
from wexicon.core.values import Kind, Value, ValueFault

T = TypeVar("T")


class Duration(float):
    """Seconds, which a file says as `300ms`, `2s`, `3m` or `1h`."""


class Part(int):
    """How many characters of a value are answered for it, from its end if below 0; 0: all. A file says `last 4`."""


class Heard(tuple[Pattern, ...]):
    """Patterns in order; one that is empty: nothing answers."""


# How the JSON Schema describes what a file says as text.
SHAPES: dict[type, dict[str, object]] = {
    **{kind: {"type": "string"} for kind in (Duration, Part, Pattern, Template)},
    Heard: {"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}]},
}


def makers(form: str) -> dict[type, Callable[[Any], object]]:
    """How text of a file becomes what it stands for, in a lexicon whose answers have this form. Each raises ValueError."""

    def pattern(text: str) -> Pattern:
        made = pattern_in(form, text)
        if form not in ("bytes", "frames", "json"):
            block_header(made)
        return made

    def heard(given: object) -> Heard:
        if not isinstance(given, (str, list)):
            raise TypeError(f"Expected `str | array`, got `{_kind(given)}`")
        return Heard(_compiled(one, pattern) for one in ([given] if isinstance(given, str) else given))

    return {
        Duration: lambda text: Duration(seconds(_text(text)) if text else 0),
        Heard: heard,
        Part: _part,
        Pattern: lambda text: _compiled(text, pattern),
        Template: lambda text: _compiled(text, Template),
    }


def _compiled(given: object, compiler: Callable[[str], T]) -> T:
    text = _text(given)
    try:
        return compiler(text)
    except PatternFault as fault:
        raise PatternFault(f"{text!r}: {fault}", fault.column, fault.hint) from None


def _text(given: object) -> str:
    if not isinstance(given, str):
        raise TypeError(f"Expected `str`, got `{_kind(given)}`")
    return given


def _kind(given: object) -> str:
    """A type as msgspec calls it."""
    return "array" if isinstance(given, list) else "object" if isinstance(given, dict) else type(given).__name__


def _part(text: object) -> Part:
    found = re.fullmatch(r"(first|last) ([1-9][0-9]?)", _text(text))
    if not found:
        raise ValueError(f'{text!r} is not a part of a value: write shows = "last 2"')
    return Part(int(found[2]) * (-1 if found[1] == "last" else 1))


class Phrase(msgspec.Struct, frozen=True, forbid_unknown_fields=True, dict=True):
    """A line to say and what answers it: one pattern, several in order, or none for the success code alone (`hear = ""`:
    nothing answers). `within` where it takes longer than usual. `unset` is what answers a question instead where there is
    nothing to tell: a pattern, or `""` for the success code alone or an empty value; of a group, `unset_tells` are the values
    that this tells of members. `cases` are other lines for single values: `cases = { unset = "AT+X OFF", false = "AT+XOFF"
    }`; of a group with the member: `cases = { "beacon = false" = "BEACON OFF" }`. `rows`: any number of such lines answer,
    each with one {value} of a list, then the success code. A write with a `payload` is answered by a
    `prompt`, and `hear` answers the payload, which is said exactly."""

    say: Template
    hear: Heard = msgspec.field(default_factory=Heard)
    within: Duration | None = None
    unset: Pattern | None = None
    cases: dict[str, Template] = msgspec.field(default_factory=dict)
    unset_tells: dict[str, Any] = msgspec.field(default_factory=dict)
    rows: Pattern | None = None
    payload: Template | None = None
    prompt: str = "> "

    @cached_property
    def expect(self) -> Expectation:
        """What answers it."""
        instead = self.unset if self.unset and self.unset.source else None
        wants = [Want(one, unset=None if at else instead) for at, one in enumerate(self.hear) if one.source]
        wants += [Want(self.rows, gather=True)] if self.rows else []
        return Expectation(tuple(wants), silent=self.silent, bare=self.unset is not None and not instead)

    @property
    def silent(self) -> bool:
        """Whether nothing answers it."""
        return bool(self.hear) and not any(one.source for one in self.hear)

    @property
    def prompted(self) -> Expectation:
        """What answers the line that announces a payload."""
        return Expectation((Want(compiled(self.prompt), prompt=True),)) if self.payload else OK

    @property
    def tells_unset(self) -> bool:
        """Whether it may be answered that there is nothing to tell."""
        return self.unset is not None

    def line_for(self, value: Value) -> Template:
        """The line that says this value."""
        return self.cases.get(case_of(value), self.say)


def case_of(value: Value) -> str:
    """A value as `cases` call it."""
    return str(value).lower() if isinstance(value, bool) else str(value)


def value_of_case(kind: Kind, case: str) -> Value | None:
    """The value of a kind that `cases` call so; None if there is none."""
    number = int(case) if re.fullmatch(r"-?[0-9]{1,18}", case) else case
    for tried in (case, case == "true", number):
        try:
            if case_of(value := kind.check(tried)) == case:
                return value
        except ValueFault:
            continue
    return None


class Granted(msgspec.Struct, frozen=True, forbid_unknown_fields=True, dict=True):
    """Where the network's own value comes from: a question, as any other, or the latest event of a name; `capture` is the name
    of the value in it."""

    say: Template | None = None
    hear: Heard = msgspec.field(default_factory=Heard)
    within: Duration | None = None
    event: str = ""
    capture: str = "value"

    @cached_property
    def question(self) -> Phrase | None:
        """The question; None where an event reports it."""
        return Phrase(self.say or Template(""), self.hear, self.within) if not self.event else None
