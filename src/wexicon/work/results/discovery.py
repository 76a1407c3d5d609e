"""The result of link discovery (`wexicon hail`).

The rule: a result reports the answers received; it decides nothing.
"""

from __future__ import annotations

from enum import StrEnum

import msgspec


class Cause(msgspec.Struct, frozen=True):
    """The likely cause, and the next step. `kind` is one of the kinds in `contact/causes`."""

    kind: str
    what: str
    next: str

    @property
    def sentence(self) -> str:
        """The cause and the next step, as text."""
        return f"{self.what[:1].upper()}{self.what[1:]}. {self.next}"


class Came(StrEnum):
    """What came back on a link."""

    NOTHING = "nothing"
    GARBAGE = "garbage"
    ECHO = "echo"
    WORDS = "words"


class Attempt(msgspec.Struct):
    """One question (empty: only listened) on one link, and what came back."""

    rate: int
    frame: str
    end: str
    asked: str
    came: Came
    heard: str
    seconds: float


class ByHand(msgspec.Struct):
    """A family that needs an operator action before it listens: the action, and the command that waits for it."""

    lexicon: str
    operator: str
    command: str


class HailResult(msgspec.Struct):
    """The result of a search on a port. `lexicons` are the matches, likeliest first; `cause` is the likely cause if no answer,
    or no legible one, came; `by_hand` are families that need the operator; `command` is what to type next."""

    port: str
    found: bool = False
    rate: int = 0
    frame: str = ""
    end: str = ""
    echo: bool | None = None
    family: str = ""
    lexicons: list[str] = []
    identity: dict[str, str] = {}
    said: str = ""
    cause: Cause | None = None
    by_hand: list[ByHand] = []
    remarks: list[str] = []
    command: str = ""
    tries: list[Attempt] = []
    seconds: float = 0.0
    trace: str = ""

    @property
    def status(self) -> int:
        """The exit status."""
        return 0 if self.found else 3
