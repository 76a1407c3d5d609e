"""A dialogue once it has been read: all its statements in order.

The rule: a program is a value; `wording` gives it back as text that reads to the same program, and two programs are equal
when they say the same, wherever the lines stand.
"""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from wexicon.core.dialogue.blocks import Allow, Answered, Await, On, Repeat
from wexicon.core.dialogue.party_statements import DeclareParty
from wexicon.core.dialogue.statements import Body, Needs, Pause, Statement
from wexicon.core.protocol.patterns import Pattern


class Program(msgspec.Struct, frozen=True, eq=False):
    """All statements in order; `plain` if the lines were given without their answers."""

    statements: Body
    path: str = ""
    plain: bool = False

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Program) and self.statements == other.statements

    __hash__ = None  # type: ignore[assignment]

    def walk(self) -> Iterator[Statement]:
        """Every statement, those of blocks too, as they stand."""
        yield from _walk(self.statements)

    def needs(self) -> list[Needs]:
        """The values that must be given."""
        return [statement for statement in self.statements if isinstance(statement, Needs)]

    def parties(self) -> dict[str, str]:
        """The modules that take part, by name, each with its lexicon ("" if the dialogue names none)."""
        return {one.name: one.lexicon for one in self.statements if isinstance(one, DeclareParty)}

    def secrets(self) -> set[str]:
        """The names of values that appear nowhere."""
        return {need.name for need in self.needs() if need.secret}

    def may_take(self) -> float:
        """How many seconds its waits allow in all: what it takes at most, besides usual answers."""
        return _waits(self.statements)

    def wording(self) -> str:
        """The dialogue as text that reads to the same program."""
        return "".join(f"{line}\n" for statement in self.statements for line in statement.lines())

    def patterns(self) -> Iterator[Pattern]:
        """Every pattern in it."""
        for statement in self.walk():
            if isinstance(statement, Answered):
                yield from (pattern for _, pattern in statement.patterns())
            elif isinstance(statement, On):
                yield statement.pattern


def _waits(block: Body) -> float:
    return sum(map(_wait, block))


def _wait(statement: Statement) -> float:
    inside = max([_waits(below) for below in statement.blocks()], default=0.0)
    match statement:
        case On():
            return 0.0
        case Await(duration=duration) | Pause(duration=duration):
            return max(duration.seconds, inside)
        case Allow(duration=duration):
            return duration.seconds + inside
        case Repeat(duration=duration, times=times, every=every):
            turn = max(inside, every.seconds if every else 0.0)
            return duration.seconds if duration else times * turn
    return inside


def _walk(block: Body) -> Iterator[Statement]:
    for statement in block:
        yield statement
        for below in statement.blocks():
            yield from _walk(below)
