"""Everything that can go wrong, as exceptions that say what happened, where, and what to do next.

The rule: the text of a `Fault` is fit for users; `status` is its exit status.
"""

from __future__ import annotations

from typing import Any

import msgspec


class Part(msgspec.Struct):
    """What was sent and received when an exchange failed, for the explanation and the record."""

    said: str = ""
    expected: str = ""
    heard: list[str] = msgspec.field(default_factory=list)
    waited: float = 0.0

    @classmethod
    def of(cls, outcome: Any) -> Part:
        """The part of an exchange, given its outcome."""
        return cls(outcome.said, outcome.expected, outcome.heard, outcome.waited)


class Fault(Exception):
    """Something went wrong that a user can act upon: `what`, `where`; `hint` says what it points to and what to do next.
    `part` is the exchange in which a module failed: `part.said`, `part.expected`, `part.heard`."""

    status = 1

    def __init__(self, what: str, *, where: str = "", hint: str = "", part: Part | None = None) -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        self.hint = hint
        self.part = part or Part()

    def __str__(self) -> str:
        place = f"{self.where}: " if self.where else ""
        tail = f"\n  {self.hint}" if self.hint else ""
        return f"{place}{self.what}{tail}"


class Complaint(msgspec.Struct, frozen=True):
    """One fault of a file: its place (`line` 0 where none is known, `column` counts from 1), what, what to write instead."""

    what: str
    place: str = ""
    line: int = 0
    column: int = 0
    source: str = ""
    hint: str = ""


class FileFault(Fault):
    """A file is wrong; nothing was opened or sent. Holds every complaint that could be found in one go."""

    status = 2

    def __init__(self, path: str, complaints: list[Complaint]) -> None:
        super().__init__("\n".join(self._line(path, c) for c in complaints))
        self.path = path
        self.complaints = complaints

    @staticmethod
    def _line(path: str, c: Complaint) -> str:
        head = path + (f":{c.line}" if c.line else "") + (f":{c.column}" if c.line and c.column else "")
        text = f"{head}: " + (f"{c.place}: " if c.place else "") + c.what
        if c.source:
            text += f"\n    {c.source}"
            if c.column:
                text += "\n    " + " " * (c.column - 1) + "^"
        return text + (f"\n    {c.hint}" if c.hint else "")


class CallFault(Fault):
    """The call itself is wrong: an option, a name, a value."""

    status = 2


class LinkFault(Fault):
    """The port cannot be opened or was lost. `refused` if it is a socket at which nothing lets anybody in."""

    status = 3
    refused = False


class CannotTune(LinkFault):
    """The port is there, and does not have this rate, frame, flow control or control line."""


class Unreachable(Fault):
    """The port is open and the module does not answer as it should."""

    status = 3


class RegisterAway(Fault):
    """The register's database does not answer now; it may come back."""

    status = 3


class ModuleFault(Fault):
    """The module answered wrongly or not at all. `reason` is the part of the message after what was being done."""

    def __init__(
        self, what: str, *, part: Part | None = None, where: str = "", hint: str = "", reason: str = ""
    ) -> None:
        super().__init__(f"{what}: {reason}" if reason else what, where=where, hint=hint, part=part)
        self.reason = reason or what


class Skipped(Fault):
    """A test that cannot be done here: nothing is wrong, and nothing is shown."""

    status = 4


class Stopped(Fault):
    """The person stopped the work; raised between two exchanges, never inside one."""

    status = 130
