"""What answers an exchange, and the reply that comes of it: the values that go in and out.

The rule: nothing here changes once an exchange has ended.
"""

from __future__ import annotations

from enum import StrEnum

import msgspec

from wexicon.core.protocol.patterns import Pattern


class ReplyStatus(StrEnum):
    """How an exchange ended: `ok`; `error`; `other`, an answer that was named; `silence`; `closed`, the success code came
    before all that was wanted; `busy`, to be said again later."""

    OK = "ok"
    ERROR = "error"
    OTHER = "other"
    SILENCE = "silence"
    CLOSED = "closed"
    BUSY = "busy"


class Closing(StrEnum):
    """When the success code comes: `always` after every answer; `alone`, only if there is nothing else to say; `either`, if
    that is unknown; `prompt`, instead of it the module's prompt ends each answer; `lenient`, if a dialogue does not ask for
    it: it may be missing once all that is wanted was heard."""

    ALWAYS = "always"
    ALONE = "alone"
    EITHER = "either"
    PROMPT = "prompt"
    LENIENT = "lenient"


class Want(msgspec.Struct, frozen=True):
    """One thing that must be heard: a pattern; a prompt (no line ending); or any number of lines gathered as rows. `unset` is
    what comes instead if there is no value."""

    pattern: Pattern
    prompt: bool = False
    gather: bool = False
    unset: Pattern | None = None


class Expectation(msgspec.Struct, frozen=True):
    """What answers an exchange. With no wants the success code is required; `silent` if nothing answers. `closing` replaces
    that of the speech. `bare`: the success code alone means that there is no value."""

    wants: tuple[Want, ...] = ()
    others: tuple[Pattern, ...] = ()
    silent: bool = False
    closing: Closing | None = None
    bare: bool = False


OK = Expectation()


class Reply(msgspec.Struct):
    """The reply of an exchange. `code` is an error's number or the seconds that a busy module wants; `which` the number of
    the other answer; `expected` what it still waited for when it ended; `waited` is in seconds; `unset` if the module
    answered that there is no value; `cut` the start of a line whose end did not come in time."""

    status: ReplyStatus
    said: str
    captures: dict[str, object]
    rows: list[dict[str, object]]
    heard: list[str]
    code: str = ""
    which: int = -1
    expected: str = ""
    waited: float = 0.0
    unset: bool = False
    cut: str = ""

    @property
    def ok(self) -> bool:
        return self.status is _OK


_OK = ReplyStatus.OK
