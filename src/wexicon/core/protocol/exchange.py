"""One exchange: a command and everything that answers it; and the states of a connection to one module, as a table.

The rule: an exchange is waiting, complete (all that was wanted has come, the success code may follow) or ended, in this order,
and never goes back. A piece is matched in this order: the awaited answer, another named answer, a final result code. What it
does not take is an event, or fits nothing. What the table does not list is a LocalProtocolError: a mistake of the program, not
of the module.
"""

from __future__ import annotations

from collections.abc import Mapping
from enum import Enum

from wexicon.core.protocol.dialect import Closing, Dialect, Expectation, Final, Reply, ReplyStatus, Want
from wexicon.core.protocol.framing import Prompt
from wexicon.core.protocol.observations import Role
from wexicon.core.protocol.patterns import NOTHING, Pattern
from wexicon.core.text import to_bytes


class LocalProtocolError(RuntimeError):
    """The engine was used out of turn."""


class State(Enum):
    """`idle`: nothing is open; `waiting` for an answer; `complete`: all that was wanted has come, a success code may follow;
    `ended`: the exchange has its reply; `closed`: the link was closed; `failed`: the link failed."""

    IDLE = "idle"
    WAITING = "waiting"
    COMPLETE = "complete"
    ENDED = "ended"
    CLOSED = "closed"
    FAILED = "failed"
    __hash__ = object.__hash__  # looked up for each exchange: faster than an enumeration's own


class Step(Enum):
    """What moves a connection from one state to the next."""

    BEGIN = "an exchange begins"
    FULFIL = "all that was wanted has come"
    END = "the reply is final"
    ABANDON = "the answer is no longer waited for"
    FAIL = "the link fails"
    CLOSE = "the link is closed"
    RENEW = "another link takes its place"
    __hash__ = object.__hash__


# Looked up once: the members of an enumeration are found slowly, and these are asked for with each line.
IDLE, WAITING, COMPLETE, ENDED, CLOSED, FAILED = State
BEGIN, FULFIL, END, ABANDON, FAIL, CLOSE, RENEW = Step

TRANSITIONS: dict[State, dict[Step, State]] = {
    IDLE: {BEGIN: WAITING, ABANDON: IDLE, FAIL: FAILED, CLOSE: CLOSED, RENEW: IDLE},
    WAITING: {FULFIL: COMPLETE, END: ENDED, ABANDON: IDLE, FAIL: FAILED, CLOSE: CLOSED},
    COMPLETE: {END: ENDED, ABANDON: IDLE, FAIL: FAILED, CLOSE: CLOSED},
    ENDED: {BEGIN: WAITING, ABANDON: IDLE, FAIL: FAILED, CLOSE: CLOSED, RENEW: IDLE},
    CLOSED: {CLOSE: CLOSED, RENEW: IDLE},
    FAILED: {FAIL: FAILED, CLOSE: CLOSED, RENEW: IDLE},
}


def after(state: State, step: Step) -> State:
    """The state after a step. Raises LocalProtocolError where the table has none."""
    try:
        return TRANSITIONS[state][step]
    except KeyError:
        raise LocalProtocolError(f"{step.value}, while the connection is {state.value}") from None


# How long to listen for a success code after all that was wanted has come, if the lexicon has none (seconds).
LINGER = 0.05
# The same if the lexicon promises one and a dialogue does not ask for it.
LONG_LINGER = 0.25
# How much of the input is kept to explain a failure: a number of lines, each 64 characters counting as one.
_MOST_HEARD = 1000
MOST_ROWS = 100_000
# How often an answer in pages may go on.
MOST_PAGES = 200
_OK = ReplyStatus.OK
_SUCCESS = Final(_OK)


class Exchange:
    """Said `text` at the time `began`; answered at the latest by `deadline`. `known` are the values that a pattern may
    require. `outcome` is available once it has ended."""

    __slots__ = (
        "_dialect",
        "_doubtful",
        "_known",
        "_outcome",
        "_room",
        "_step",
        "began",
        "deadline",
        "expect",
        "pages",
        "prompt",
        "state",
    )

    def __init__(
        self,
        dialect: Dialect,
        text: str,
        expect: Expectation,
        began: float,
        deadline: float,
        known: Mapping[str, object] = NOTHING,
    ) -> None:
        self._dialect = dialect
        self._known = known
        self._outcome = Reply(ReplyStatus.SILENCE, text, {}, [], [])
        self._step = 0
        # An error's code that may have been the value, or that the prompt has yet to follow.
        self._doubtful: Final | None = None
        self._room = _MOST_HEARD
        self.expect = expect = dialect.expecting(expect)
        self.began = began
        self.deadline = deadline
        self.pages = 0
        self.state = WAITING
        # The prompt that is waited for now, as bytes.
        self.prompt = b""
        if expect.silent:
            self._end(ReplyStatus.OK, began)
        elif expect.wants:
            self.prompt = self._prompt()

    @property
    def outcome(self) -> Reply:
        """The reply. Raises LocalProtocolError before the exchange has ended."""
        if self.state is not ENDED:
            raise LocalProtocolError("an exchange that has not ended has no reply")
        return self._outcome

    @property
    def want(self) -> Want | None:
        """What is waited for now."""
        return self.expect.wants[self._step] if self._step < len(self.expect.wants) else None

    def hear(self, text: str, now: float) -> Role | None:
        """Takes a line; returns its role in this exchange, or None if it is not part of the answer."""
        self._require_open()
        final = self._dialect.final(text)
        expect = self.expect
        answered = self._answered(text, final, now) if expect.wants or expect.others else None
        if answered is not None:
            self._keep(text)
            if self.state is COMPLETE:
                self._fulfilled(now)
            return Role.WORD if answered.start == text else Role.ANSWER
        if final is not None:
            self._keep(text)
            if self._to_prompt and not self.expect.silent:
                self._doubtful = final if final.status is not _OK else self._doubtful
                return Role.OK if final.status is _OK else Role.ERROR
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
        self._require_open()
        if self._to_prompt and prompt.text == self._dialect.speech.prompt and not self.prompt:
            self._keep(prompt.text)
            self._close(self._doubtful or _SUCCESS, now)
            return
        if self.prompt and to_bytes(prompt.text) == self.prompt:
            want = self.want
            if want and want.gather:
                # It ends the rows.
                self._step += 1
            self._advance()
            if self.state is COMPLETE:
                self._fulfilled(now)
        elif prompt.text in self._dialect.locked:
            # In a dialogue it is no answer that anything was written for.
            asked = self.expect.closing is not Closing.LENIENT
            self._end(ReplyStatus.OTHER if asked else ReplyStatus.CLOSED, now)
        self._keep(prompt.text)

    def overhear(self, text: str) -> None:
        """Takes a piece that is not part of the answer, to explain a failure."""
        self._require_open()
        self._keep(text)

    def interrupted(self, text: str) -> None:
        """Takes a line that no pattern takes and that is no known event. Inside the answer it may be a damaged part of that."""
        self.overhear(text)
        want = self.want
        if self._step or (want and want.gather):
            self._outcome.strange = text

    def cut(self, text: str) -> None:
        """Takes the start of a line whose end has not come in time: it answers nothing, and explains a failure."""
        self.overhear(text)
        self._outcome.cut = text

    def _require_open(self) -> None:
        if self.state is ENDED:
            raise LocalProtocolError("an exchange that has ended hears nothing")

    def elapse(self, now: float) -> None:
        """Time has passed: the exchange may have ended by its limit."""
        if self.state is not ENDED and now >= self.deadline:
            if self._doubtful is not None:
                self._close(self._doubtful, now)
                return
            lenient = self._dialect.speech.closing == Closing.EITHER or self.expect.closing
            self._end(ReplyStatus.OK if self.state is COMPLETE and lenient else ReplyStatus.SILENCE, now)

    def wants_anything(self) -> bool:
        """Whether any line would do for what is waited for now: then what is known to be something else goes first."""
        wants = self.expect.wants
        return self._step < len(wants) and not wants[self._step].pattern.start

    def _keep(self, text: str) -> None:
        if self._room > 0:
            self._room -= 1 + len(text) // 64
            self._outcome.heard.append(text)

    def _answered(self, text: str, final: Final | None, now: float) -> Pattern | None:
        """The pattern that the line fits, when it is wanted or another answer that was named."""
        expect, outcome = self.expect, self._outcome
        known = {**self._known, **outcome.captures} if outcome.captures else self._known
        while (want := self.want) and not want.prompt:
            if final and final.status is not _OK and not want.pattern.start:
                # A pattern that matches any line does not match an error, unless the success code has yet to confirm it.
                if self._dialect.speech.closing != Closing.ALWAYS or self.expect.closing:
                    break
                self._doubtful = final
            if want.unset is not None and want.unset.match(text, known) is not None:
                outcome.unset = True
                self._step, self.state = (
                    len(expect.wants),
                    after(self.state, FULFIL) if self.state is WAITING else COMPLETE,
                )
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
        if final.status is not _OK:
            self._outcome.code = final.code or self._outcome.code
            self._end(final.status, now)
            return Role.ERROR
        if not self.expect.wants:
            self._end(_OK, now)
            return Role.OK
        # Rows may be none at all: the success code ends a gathering that stands last.
        want = self.want
        if want and want.gather and self._step == len(self.expect.wants) - 1:
            self._step += 1
            want = None
        if want and self.expect.bare and self._step == 0:
            self._outcome.unset = True
            want = None
        self._end(ReplyStatus.CLOSED if want else _OK, now)
        return Role.OK

    @property
    def _to_prompt(self) -> bool:
        return self._dialect.speech.closing == Closing.PROMPT and self.expect.closing in (None, Closing.LENIENT)

    def _advance(self) -> None:
        self._step += 1
        want = self.want
        if want is None:
            self.state = after(self.state, FULFIL)
        self.prompt = self._prompt()

    def _prompt(self) -> bytes:
        """The prompt that may come now: the one that is wanted, or the one that ends the rows that are gathered."""
        wants = self.expect.wants
        for want in wants[self._step : self._step + 2]:
            if want.prompt:
                return to_bytes(want.pattern.start)
            if not want.gather:
                break
        return b""

    def _fulfilled(self, now: float) -> None:
        """All that was wanted has come: is the success code still to follow?"""
        dialect, last = self._dialect, self.expect.wants[-1]
        lenient = self.expect.closing is Closing.LENIENT
        closing = dialect.speech.closing if lenient else self.expect.closing or dialect.speech.closing
        if closing == Closing.PROMPT and not last.prompt:
            return
        if (
            last.prompt
            or closing in (Closing.ALONE, Closing.PROMPT)
            or dialect.form != "lines"
            or dialect.is_ok_word(last.pattern.source)
        ):
            self._end(ReplyStatus.OK, now)
        elif closing == Closing.EITHER or lenient:
            self.deadline = min(self.deadline, now + (LINGER if closing == Closing.EITHER else LONG_LINGER))

    def _end(self, status: ReplyStatus, now: float) -> None:
        outcome = self._outcome
        outcome.status = status
        outcome.waited = now - self.began
        if status is not _OK:
            want = self.want
            outcome.expected = want.pattern.source if want else " or ".join(self._dialect.speech.ok)
        self.state = after(self.state, END)
        self.prompt = b""
