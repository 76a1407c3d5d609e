"""What a session sends, receives and decides, as small frozen values for listeners; and the one shape of everything that talks
on a link.

The rule: everything that leaves a session leaves it as an observation, in the order in which it happened; `at` is the link's
time in seconds. A machine is given bytes and time, and returns observations and bytes to send; it never waits, reads or
writes.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from enum import StrEnum
from typing import Any, Protocol

import msgspec

from wexicon.core.protocol.patterns import NOTHING
from wexicon.core.text import to_text
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


class Machine(Protocol):
    """Something that talks on a link. It is driven until it is `done`."""

    @property
    def done(self) -> bool:
        """Whether it has ended: it sends nothing more and waits for nothing."""

    def feed(self, data: bytes, now: float) -> Sequence[Observation]:
        """Takes bytes that came at the time `now`."""

    def elapse(self, now: float) -> Sequence[Observation]:
        """Takes the time `now`, at which no bytes came."""

    def next_time(self) -> float | None:
        """When to call `elapse` next; None if only bytes matter."""

    def outgoing(self, now: float) -> bytes:
        """The bytes to send now, each asked for once."""


# What a collector takes at most (bytes): enough to judge by, and a module that never pauses ends it.
COLLECTED = 16_384


class Collector:
    """Sends some bytes and collects whatever comes, as transparent data. Done at the time `until`, with COLLECTED bytes, or
    `gap` seconds after the last byte once `is_answer` accepts what has come; what it accepts it accepts with more."""

    def __init__(
        self,
        until: float,
        data: bytes = b"",
        *,
        gap: float | None = None,
        is_answer: Callable[[bytes], bool] = bool,
    ) -> None:
        self.data = bytearray()
        self.done = False
        self._until = until
        self._to_send = data
        self._gap = gap
        self._is_answer = is_answer
        # When the answer began.
        self.first: float | None = None
        self._last: float | None = None

    def feed(self, data: bytes, now: float) -> Sequence[Observation]:
        self.data += data[: COLLECTED - len(self.data)]
        if self.first is None and self._is_answer(bytes(self.data)):
            self.first = now
        self._last = now
        return self.elapse(now)

    def elapse(self, now: float) -> Sequence[Observation]:
        due = self.next_time()
        self.done = len(self.data) >= COLLECTED or (due is not None and now >= due)
        return [Heard(now, to_text(bytes(self.data)), Role.UNMATCHED)] if self.done and self.data else ()

    def next_time(self) -> float | None:
        if self._gap is not None and self._last is not None and self.first is not None:
            return min(self._until, self._last + self._gap)
        return self._until

    def outgoing(self, now: float) -> bytes:
        data, self._to_send = self._to_send, b""
        return data
