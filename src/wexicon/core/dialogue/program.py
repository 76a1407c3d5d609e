"""A dialogue once it has been read: all its statements in order, and what can be told of it without running it.

The rule: a program is a value; `wording` gives it back as text that reads to the same program. A complaint is only made of
what is surely wrong: a name that is never set, an answer that can never come.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import msgspec

from wexicon.core.dialogue.blocks import Allow, AnsweredStatement, Await, On, Repeat, Say
from wexicon.core.dialogue.lines import Body, Statement
from wexicon.core.dialogue.parties import At, Close, DeclareParty, Open
from wexicon.core.dialogue.statements import Break, Do, Needs, Pause, Quiet, Read, Set, Signal, Tune
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.text import nearest


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
            if isinstance(statement, AnsweredStatement):
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


# Stands among the names that are known once an action was done.
_ACTION = "do"


class Found(NamedTuple):
    """One complaint."""

    line: int
    what: str
    hint: str


def check_program(program: Program) -> list[Found]:
    """Every complaint about a program whose lines could each be read."""
    return [*_names(program), *_answers(program), *_breaks(program.statements, inside=False), *_places(program)]


def _names(program: Program) -> Iterator[Found]:
    """Names that are used and that nothing before sets. Loops and handlers run more than once, so within them what is
    set later counts too; `until` is asked after the block."""
    ever = {name for statement in program.walk() for name in statement.sets()}
    yield from _names_of(program.statements, set(), ever, loose=False)


def _names_of(block: Body, known: set[str], ever: set[str], *, loose: bool) -> Iterator[Found]:
    for statement in block:
        own = set(statement.sets())
        within = own if isinstance(statement, AnsweredStatement) else set()
        for line, name in statement.uses():
            if name in known or name in within or (loose and name in ever):
                continue
            if name in ever:
                yield Found(line, f"{name} has no value yet", "it is set further down")
            elif _ACTION not in known:
                yield Found(line, f"nothing sets {name}", _suggestion(name, known | ever) or f"give it: needs {name}")
        # An action of the lexicon may keep any name.
        known |= own | ({_ACTION} if isinstance(statement, Do) else set())
        loops = loose or isinstance(statement, (Repeat, On))
        for below in statement.blocks():
            yield from _names_of(below, known, ever, loose=loops)
        if isinstance(statement, Repeat) and statement.until:
            for name in statement.until.names:
                if name not in known and name not in ever:
                    yield Found(statement.line, f"nothing sets {name}", _suggestion(name, known | ever))


def _suggestion(name: str, known: set[str]) -> str:
    close = nearest(name, known)
    return f"did you mean {close}?" if close and close != name else ""


def _answers(program: Program) -> Iterator[Found]:
    """`|` lines that can never be reached because a line above them takes all that they could hear."""
    for statement in program.walk():
        if not isinstance(statement, AnsweredStatement):
            continue
        above = [hear.pattern for hear in statement.hears[:1] if not hear.prompt]
        for other in statement.others:
            for earlier in above:
                if earlier == other.pattern or earlier.catches_all:
                    hint = f"the line “{earlier.source}” above takes it"
                    yield Found(other.line, "can never be reached", hint)
                    break
            above.append(other.pattern)


def _places(program: Program) -> Iterator[Found]:
    """Where there are parties: lines outside an `at`, and names of no party."""
    modules = [one for one in program.statements if isinstance(one, DeclareParty)]
    sockets = {one.name for one in program.walk() if isinstance(one, Open)}
    names = {one.name for one in modules} | sockets
    needs = {need.name for need in program.needs()}
    for one in modules:
        if one.name in needs | sockets or sum(one.name == other.name for other in modules) > 1:
            yield Found(one.line, f"{one.name} is declared twice", "a party, a socket and a value have different names")
    for statement in program.walk():
        if isinstance(statement, At | Close) and statement.name not in names:
            hint = _suggestion(statement.name, names) or f"declare it at the top: party {statement.name} = LEXICON"
            yield Found(statement.line, f"there is no party {statement.name}", hint)
    if sockets and not modules:
        line = next(one.line for one in program.walk() if isinstance(one, Open))
        yield Found(line, "no party is declared", "declare the module at the top: party NAME = LEXICON")
    if modules:
        yield from _outside(program.statements)


def _outside(block: Body) -> Iterator[Found]:
    for statement in block:
        if isinstance(statement, At):
            continue
        if isinstance(statement, Say | Await | On | Do | Set | Read | Tune | Signal | Quiet):
            yield Found(statement.line, "at which party is this?", "indent it below a line such as: at NAME")
        for below in statement.blocks():
            yield from _outside(below)


def _breaks(block: Body, *, inside: bool) -> Iterator[Found]:
    """`break` outside of a `repeat`."""
    for statement in block:
        if isinstance(statement, Break) and not inside:
            yield Found(statement.line, "there is no repeat around it", "break ends the repeat around it")
        deeper = isinstance(statement, Repeat) or (inside and not isinstance(statement, On))
        for below in statement.blocks():
            yield from _breaks(below, inside=deeper)
