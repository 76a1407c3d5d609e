"""What can be told of a dialogue without holding it: names that are never set, answers that can never come.

The rule: a complaint is only made of what is surely wrong; whatever depends on the module is left for the holding.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

from wexicon.core.dialogue.expressions import expression
from wexicon.core.dialogue.program import (
    Await,
    Block,
    Needs,
    On,
    Program,
    Repeat,
    Say,
    Simple,
    Statement,
    When,
    exact_template,
    pattern,
    template,
)
from wexicon.core.protocol.patterns import Anything, Capture
from wexicon.core.text import nearest


class Found(NamedTuple):
    """One complaint."""

    line: int
    column: int
    what: str
    hint: str


def check_program(program: Program) -> list[Found]:
    """Every complaint about a program whose lines could each be read."""
    return list(_names(program)) + list(_answers(program)) + list(_breaks(program.statements, inside=False))


# -- names --------------------------------------------------------------------------------------------------------


def _uses(statement: Statement) -> Iterator[tuple[int, str]]:
    """The names that a statement needs, with their lines."""
    line = statement.line
    sources: list[tuple[int, list[str]]] = []
    try:
        if isinstance(statement, Say):
            made = (exact_template if statement.exact else template)(statement.source)
            sources.append((line, made.names))
        if isinstance(statement, (Say, Await)):
            sources += [(hear.line, pattern(hear.source).needs) for hear in statement.hears if not hear.prompt]
            sources += [(other.line, pattern(other.source).needs) for other in statement.others]
        elif isinstance(statement, Needs) and statement.default:
            sources.append((line, expression(statement.default).names))
        elif isinstance(statement, Simple):
            sources.append((line, _simple_uses(statement)))
        elif isinstance(statement, When):
            sources += [(line, expression(condition).names) for condition, _ in statement.branches if condition]
    except ValueError:
        return
    for number, names in sources:
        for name in names:
            yield number, name


def _simple_uses(statement: Simple) -> list[str]:
    word, rest = statement.word, statement.rest
    if word == "check":
        return expression(rest).names
    if word in ("note", "fail", "operator"):
        found = re.search(r'"(.*)"', rest)
        return exact_template(found[1]).names if found else []
    if word in ("keep", "set"):
        if found := re.fullmatch(r"[A-Za-z_][A-Za-z0-9_-]*\s*=(?!=)\s*(.+)", rest):
            return expression(found[1]).names
        return [name.strip() for name in re.sub(r"\s+as\s+\w+$", "", rest).split(",")] if word == "keep" else []
    if word == "tune" and not rest.split()[0].isdigit():
        return [rest.split()[0]]
    return []


def _sets(statement: Statement) -> Iterator[str]:
    """The names that a statement sets."""
    if isinstance(statement, Needs):
        yield statement.name
    sources: list[str] = []
    if isinstance(statement, (Say, Await)):
        sources = [h.source for h in statement.hears if not h.prompt] + [o.source for o in statement.others]
    for source in sources:
        try:
            yield from pattern(source).names
        except ValueError:
            continue
    if isinstance(statement, On):
        try:
            yield from pattern(statement.source).names
        except ValueError:
            return
    if isinstance(statement, Simple):
        if statement.word == "read":
            yield statement.rest.replace("-", "_")
        elif (statement.word == "keep" and (found := re.match(r"([A-Za-z_]\w*)\s*=(?!=)", statement.rest))) or (
            statement.word == "keep" and (found := re.search(r"\s+as\s+([A-Za-z_]\w*)$", statement.rest))
        ):
            yield found[1]


def _names(program: Program) -> Iterator[Found]:
    """Names that are used and that nothing before sets. Loops and handlers run more than once, so within them what is
    set later counts too; `until` is asked after the block."""
    ever = {name for statement in program.walk() for name in _sets(statement)}
    yield from _names_of(program.statements, set(), ever, loose=False)


def _names_of(block: Block, known: set[str], ever: set[str], *, loose: bool) -> Iterator[Found]:
    for statement in block:
        own = set(_sets(statement))
        within = own if isinstance(statement, (Say, Await)) else set()
        for line, name in _uses(statement):
            if name in known or name in within or (loose and name in ever):
                continue
            close = nearest(name, known | ever)
            if name in ever:
                yield Found(line, 1, f"{name} has no value yet", "it is set further down")
            else:
                hint = f"did you mean {close}?" if close and close != name else f"give it: needs {name}"
                yield Found(line, 1, f"nothing sets {name}", hint)
        known |= own
        loops = loose or isinstance(statement, (Repeat, On))
        for below in statement.blocks():
            yield from _names_of(below, known, ever, loose=loops)
        if isinstance(statement, Repeat) and statement.until:
            try:
                names = expression(statement.until).names
            except ValueError:
                names = []
            for name in names:
                if name not in known and name not in ever:
                    close = nearest(name, known | ever)
                    yield Found(statement.line, 1, f"nothing sets {name}", f"did you mean {close}?" if close else "")


# -- answers ------------------------------------------------------------------------------------------------------


def _catches_all(source: str) -> bool:
    elements = pattern(source).elements
    return len(elements) == 1 and (
        isinstance(elements[0], Anything) or (isinstance(elements[0], Capture) and elements[0].kind == "text")
    )


def _answers(program: Program) -> Iterator[Found]:
    """`|` lines that can never be reached because a line above them takes all that they could hear."""
    for statement in program.walk():
        if not isinstance(statement, (Say, Await)):
            continue
        above: list[str] = [hear.source for hear in statement.hears[:1] if not hear.prompt]
        for other in statement.others:
            try:
                for earlier in above:
                    if earlier == other.source or _catches_all(earlier):
                        yield Found(other.line, 1, "can never be reached", f"the line “{earlier}” above takes it")
                        break
            except ValueError:
                continue
            above.append(other.source)


def _breaks(block: Block, *, inside: bool) -> Iterator[Found]:
    """`break` outside of a `repeat`."""
    for statement in block:
        if isinstance(statement, Simple) and statement.word == "break" and not inside:
            yield Found(statement.line, 1, "there is no repeat around it", "break ends the repeat that it stands in")
        deeper = isinstance(statement, Repeat) or (inside and not isinstance(statement, On))
        for below in statement.blocks():
            yield from _breaks(below, inside=deeper)
