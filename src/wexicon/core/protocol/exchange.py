"""One thing said and all that answers it, made anew each time.

The rule: an exchange is waiting, complete (all that was wanted has come, the success code may follow) or ended, in this
order, and never goes back. A piece is judged in this order: what is wanted, another answer that was named, a final
result code. What it does not take is somebody else's: an event, or nothing that anybody understands.
"""

from __future__ import annotations

from collections.abc import Mapping
from enum import Enum, StrEnum
from typing import Any

import msgspec

from wexicon.core.protocol.dialect import Dialect, Final
from wexicon.core.protocol.framing import Prompt
from wexicon.core.protocol.observations import Role
from wexicon.core.protocol.patterns import NOTHING, Pattern
from wexicon.core.text import to_bytes

# How long to listen for a success code after all that was wanted has come, where the lexicon does not know of one.
LINGER = 0.05
# The same where the lexicon promises one and a dialogue does not ask for it.
LONG_LINGER = 0.25
# How much of what was heard is kept for whoever explains a failure: so many lines, each 64 characters counting as one.
_MOST_HEARD = 1000
MOST_ROWS = 100_000


class LocalProtocolError(RuntimeError):
    """The engine was used in a way that has no meaning: a mistake of the program, not of the module."""


class Want(msgspec.Struct, frozen=True):
    """One thing that must be heard: a pattern; a prompt (no line end); or any number of lines gathered as rows. `unset` is
    what comes instead where there is nothing to tell."""

    pattern: Pattern
    prompt: bool = False
    gather: bool = False
    unset: Pattern | None = None


class Expectation(msgspec.Struct, frozen=True):
    """What answers an exchange. With nothing wanted the success code is required; `silent` where nothing answers.
    `closing` instead of the speech's: `alone`, or `lenient` where a success code that the lexicon promises may be missing
    once all that is wanted was heard. `bare`: the success code alone says that there is nothing to tell."""

    wants: tuple[Want, ...] = ()
    others: tuple[Pattern, ...] = ()
    silent: bool = False
    closing: str = ""
    bare: bool = False


OK = Expectation()


class ReplyStatus(StrEnum):
    """How an exchange ended: `ok`; `error`; `other`, an answer that was named; `silence`; `closed`, the success code came
    before all that was wanted; `busy`, to be said again later."""

    OK = "ok"
    ERROR = "error"
    OTHER = "other"
    SILENCE = "silence"
    CLOSED = "closed"
    BUSY = "busy"


class Reply(msgspec.Struct):
    """What came of an exchange. `code` is an error's number or the seconds that a busy module wants; `which` the number of
    the other answer; `expected` what it still waited for when it ended; `waited` is in seconds; `unset` where the module said
    that there is nothing to tell."""

    status: ReplyStatus
    said: str
    captures: dict[str, Any]
    rows: list[dict[str, Any]]
    heard: list[str]
    code: str = ""
    which: int = -1
    expected: str = ""
    waited: float = 0.0
    unset: bool = False

    @property
    def ok(self) -> bool:
        return self.status is _OK


class State(Enum):
    """Where an exchange stands."""

    WAITING = "waiting"
    COMPLETE = "complete"
    ENDED = "ended"


# Looked up once: the members of an enumeration are found slowly, and these are asked for with each line.
WAITING, COMPLETE, ENDED = State
_OK = ReplyStatus.OK


_HOW = {"ok": ReplyStatus.OK, "error": ReplyStatus.ERROR, "busy": ReplyStatus.BUSY}


class Exchange:
    """Said `text` at the time `began`; answered at the latest by `deadline`. `known` are the values that a pattern may
    require. `outcome` can be asked for once it has ended."""

    __slots__ = ("_dialect", "_known", "_outcome", "_room", "_step", "began", "deadline", "expect", "prompt", "state")

    def __init__(
        self,
        dialect: Dialect,
        text: str,
        expect: Expectation,
        began: float,
        deadline: float,
        known: Mapping[str, Any] = NOTHING,
    ) -> None:
        self._dialect = dialect
        self._known = known
        self._outcome = Reply(ReplyStatus.SILENCE, text, {}, [], [])
        self._step = 0
        self._room = _MOST_HEARD
        self.expect = expect
        self.began = began
        self.deadline = deadline
        self.state = WAITING
        # The prompt that is waited for now, as bytes.
        self.prompt = b""
        if expect.silent:
            self._end(ReplyStatus.OK, began)
        elif expect.wants and expect.wants[0].prompt:
            self.prompt = to_bytes(expect.wants[0].pattern.start)

    @property
    def outcome(self) -> Reply:
        """What came of it. Raises LocalProtocolError before it has ended."""
        if self.state is not ENDED:
            raise LocalProtocolError("an exchange that has not ended has no outcome")
        return self._outcome

    @property
    def want(self) -> Want | None:
        """What is waited for now."""
        return self.expect.wants[self._step] if self._step < len(self.expect.wants) else None

    def hear(self, text: str, now: float) -> Role | None:
        """Takes a line; gives what it was to this exchange, or None where it is not its answer."""
        if self.state is ENDED:
            raise LocalProtocolError("an exchange that has ended hears nothing")
        final = self._dialect.final(text)
        expect = self.expect
        answered = self._answered(text, final, now) if expect.wants or expect.others else None
        if answered is not None:
            self._keep(text)
            if self.state is COMPLETE:
                self._settle(now)
            return Role.WORD if answered.start == text else Role.ANSWER
        if final is not None:
            self._keep(text)
            return self._close(final, now)
        for reason in self._dialect.reasons:
            captures = reason.match(text)
            if captures is not None:
                self._keep(text)
                self._outcome.code = str(captures.get("code", text))
                return Role.ERROR
        return None

    def hear_prompt(self, prompt: Prompt, now: float) -> None:
        """Takes a prompt, which may be the one that is wanted."""
        if self.prompt and to_bytes(prompt.text) == self.prompt:
            self._advance()
            if self.state is COMPLETE:
                self._settle(now)
        self._keep(prompt.text)

    def overhear(self, text: str) -> None:
        """A piece that is not its answer came meanwhile; kept for whoever explains a failure."""
        self._keep(text)

    def elapse(self, now: float) -> None:
        """Time has passed: the exchange may have ended by its limit."""
        if self.state is not ENDED and now >= self.deadline:
            lenient = self._dialect.speech.closing == "either" or self.expect.closing
            self._end(ReplyStatus.OK if self.state is COMPLETE and lenient else ReplyStatus.SILENCE, now)

    def wants_anything(self) -> bool:
        """Whether any line would do for what is waited for now: then what is known to be something else goes first."""
        want = self.want
        return want is not None and not want.pattern.start

    def _keep(self, text: str) -> None:
        if self._room > 0:
            self._room -= 1 + len(text) // 64
            self._outcome.heard.append(text)

    def _answered(self, text: str, final: Final | None, now: float) -> Pattern | None:
        """The pattern that the line fits, when it is wanted or another answer that was named."""
        expect, outcome = self.expect, self._outcome
        known = {**self._known, **outcome.captures} if outcome.captures else self._known
        while (want := self.want) and not want.prompt:
            if final and final.how != "ok" and not want.pattern.start:
                # Whoever asks for anything does not ask for an error.
                break
            if want.unset is not None and want.unset.match(text, known) is not None:
                outcome.unset = True
                self._step, self.state = len(expect.wants), COMPLETE
                return want.unset
            captures = want.pattern.match(text, known)
            if captures and want.pattern.quotes:
                captures = self._dialect.plain(captures)
            if want.gather:
                # A final result code is no row, however wide the pattern.
                if captures is not None and final is None:
                    if len(outcome.rows) < MOST_ROWS:
                        outcome.rows.append(captures)
                    return want.pattern
                following = self._step + 1
                if following < len(expect.wants):
                    ahead = expect.wants[following]
                    if not ahead.prompt and ahead.pattern.match(text, known) is not None:
                        self._step += 1
                        continue
                break
            if captures is None:
                break
            outcome.captures.update(captures)
            self._advance()
            return want.pattern
        for which, other in enumerate(expect.others):
            captures = other.match(text, known)
            if captures is not None:
                captures = self._dialect.plain(captures)
                outcome.captures.update(captures)
                outcome.which = which
                self._end(ReplyStatus.OTHER, now)
                return other
        return None

    def _close(self, final: Final, now: float) -> Role:
        """A final result code ends it."""
        if final.how != "ok":
            self._outcome.code = final.code or self._outcome.code
            self._end(_HOW[final.how], now)
            return Role.ERROR
        # Rows may be none at all: the success code ends a gathering that stands last.
        want = self.want
        if want and want.gather and self._step == len(self.expect.wants) - 1:
            self._step += 1
            want = None
        if want and self.expect.bare and self._step == 0:
            self._outcome.unset = True
            want = None
        self._end(ReplyStatus.CLOSED if want else ReplyStatus.OK, now)
        return Role.OK

    def _advance(self) -> None:
        self._step += 1
        want = self.want
        if want is None:
            self.state = COMPLETE
        self.prompt = to_bytes(want.pattern.start) if want and want.prompt else b""

    def _settle(self, now: float) -> None:
        """All that was wanted has come: is the success code still to follow?"""
        dialect, last = self._dialect, self.expect.wants[-1]
        lenient = self.expect.closing == "lenient"
        closing = dialect.speech.closing if lenient else self.expect.closing or dialect.speech.closing
        if last.prompt or closing == "alone" or dialect.form != "lines" or dialect.is_ok_word(last.pattern.source):
            self._end(ReplyStatus.OK, now)
        elif closing == "either" or lenient:
            self.deadline = min(self.deadline, now + (LINGER if closing == "either" else LONG_LINGER))

    def _end(self, how: ReplyStatus, now: float) -> None:
        outcome = self._outcome
        outcome.status = how
        outcome.waited = now - self.began
        if how is not _OK:
            want = self.want
            outcome.expected = want.pattern.source if want else " or ".join(self._dialect.speech.ok)
        self.state = ENDED
        self.prompt = b""
