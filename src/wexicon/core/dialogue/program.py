"""A dialogue once it has been read: statements as records, each with the line that it stands on.

The rule: a program is a value; whoever holds it changes nothing in it.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from wexicon.core.exchange import Expectation
from wexicon.core.insertion import Template


@dataclass(frozen=True)
class Say:
    """`>` and the `<` lines below it: one exchange."""

    line: int
    template: Template
    expect: Expectation


@dataclass(frozen=True)
class Program:
    """All statements in order; `names` are the values that must be given."""

    statements: tuple[Say, ...]
    names: tuple[str, ...] = field(default=())
