"""What a dialogue can have done by others: a lexicon's settings and actions, and what came of the whole.

The rule: the runner knows a module only by these few methods, and nothing of how they are done.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

import msgspec

from wexicon.core.dialogue.statements import Statement
from wexicon.core.faults import ModuleFault, Part


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
