"""What a session sends, receives and decides, as small frozen values for listeners: the trace, the live view, tests.

The rule: everything that leaves a session leaves it as one of these, in the order in which it happened. `at` is the
link's time in seconds.
"""

from __future__ import annotations

from enum import StrEnum
from typing import Any

import msgspec

from wexicon.core.protocol.patterns import NOTHING
from wexicon.core.tuning import Tuning


class Role(StrEnum):
    """The role of a piece: our own `echo`; an `answer` that was wanted, or a `word` of it that is spelled out; the final
    result code, `ok` or `error`, or an `unexpected` one that answers nothing; a `prompt`; an `event` of the lexicon;
    `unmatched`, which fits nothing; `corrupt`, a wrong checksum or no end."""

    ECHO = "echo"
    ANSWER = "answer"
    WORD = "word"
    OK = "ok"
    ERROR = "error"
    UNEXPECTED = "unexpected"
    PROMPT = "prompt"
    EVENT = "event"
    UNMATCHED = "unmatched"
    CORRUPT = "corrupt"


class Observation(msgspec.Struct, frozen=True, gc=False):
    """Something that happened at a time. None can be part of a circle, so the garbage collector need not look at them."""

    at: float


class Said(Observation, frozen=True, gc=False):
    """We said this; `exact` where no line end was added."""

    text: str
    exact: bool = False


class Heard(Observation, frozen=True, gc=False):
    """The module sent this. Of an event `name` is what the lexicon calls it (empty: unknown), `values` its captures."""

    text: str
    role: Role
    name: str = ""
    values: Any = NOTHING


class Tuned(Observation, frozen=True, gc=False):
    """Our side's rate and frame were changed."""

    tuning: Tuning


class Signalled(Observation, frozen=True, gc=False):
    """Control lines were driven; None is as it was."""

    dtr: bool | None = None
    rts: bool | None = None


class Asked(Observation, frozen=True, gc=False):
    """The operator was asked to do something."""

    act: str
    text: str


class Logged(Observation, frozen=True, gc=False):
    """A sentence for people: why something was done."""

    text: str


class Noted(Observation, frozen=True, gc=False):
    """A note of a dialogue."""

    text: str


class Began(Observation, frozen=True, gc=False):
    """A step of the work started; `searching` if it looks for the module; `most` is how many seconds it may take (0: not
    known)."""

    step: str
    searching: bool = False
    most: float = 0.0


class Repeated(Observation, frozen=True, gc=False):
    """The module was busy; the last line is said again."""


class Awaited(Observation, frozen=True, gc=False):
    """A line that is not an event of the lexicon was waited for, and came."""

    text: str


class Started(Observation, frozen=True, gc=False):
    """The module was seen to start again, by a `restart` or a `power-cycle`."""

    how: str


class Judged(Observation, frozen=True, gc=False):
    """What became of a setting was decided."""

    setting: str
    outcome: str
    note: str = ""


class Finished(Observation, frozen=True, gc=False):
    """The work of a session has ended: what it was, with which unit (empty: not known), and its verdict."""

    work: str
    unit: str
    verdict: str


class Transferred(Observation, frozen=True, gc=False):
    """Bytes of a file that the receiver has acknowledged, and the size of the file."""

    done: int
    total: int


class Listener:
    """Takes observations. `idle` is called whenever nothing has happened for a while."""

    def note(self, seen: Observation) -> None:
        """Takes one."""

    def idle(self) -> None:
        """Nothing has happened for a while."""


class Listeners(Listener):
    """Several listeners as one."""

    def __init__(self, *listeners: Listener) -> None:
        self.all = listeners

    def note(self, seen: Observation) -> None:
        for listener in self.all:
            listener.note(seen)

    def idle(self) -> None:
        for listener in self.all:
            listener.idle()
