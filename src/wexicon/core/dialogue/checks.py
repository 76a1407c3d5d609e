"""What can be told of a dialogue without running it: names that are never set, answers that can never come.

The rule: a complaint is only made of what is surely wrong; whatever depends on the module is left for the run.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from wexicon.core.dialogue.blocks import Answered, On, Repeat
from wexicon.core.dialogue.program import Program
from wexicon.core.dialogue.statements import Body, Break, Do
from wexicon.core.text import nearest

# Stands among the names that are known once an action was done.
_ACTION = "do"


class Found(NamedTuple):
    """One complaint."""

    line: int
    what: str
    hint: str


def check_program(program: Program) -> list[Found]:
    """Every complaint about a program whose lines could each be read."""
    return [*_names(program), *_answers(program), *_breaks(program.statements, inside=False)]


def _names(program: Program) -> Iterator[Found]:
    """Names that are used and that nothing before sets. Loops and handlers run more than once, so within them what is
    set later counts too; `until` is asked after the block."""
    ever = {name for statement in program.walk() for name in statement.sets()}
    yield from _names_of(program.statements, set(), ever, loose=False)


def _names_of(block: Body, known: set[str], ever: set[str], *, loose: bool) -> Iterator[Found]:
    for statement in block:
        own = set(statement.sets())
        within = own if isinstance(statement, Answered) else set()
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
        if not isinstance(statement, Answered):
            continue
        above = [hear.pattern for hear in statement.hears[:1] if not hear.prompt]
        for other in statement.others:
            for earlier in above:
                if earlier == other.pattern or earlier.catches_all:
                    hint = f"the line “{earlier.source}” above takes it"
                    yield Found(other.line, "can never be reached", hint)
                    break
            above.append(other.pattern)


def _breaks(block: Body, *, inside: bool) -> Iterator[Found]:
    """`break` outside of a `repeat`."""
    for statement in block:
        if isinstance(statement, Break) and not inside:
            yield Found(statement.line, "there is no repeat around it", "break ends the repeat around it")
        deeper = isinstance(statement, Repeat) or (inside and not isinstance(statement, On))
        for below in statement.blocks():
            yield from _breaks(below, inside=deeper)
