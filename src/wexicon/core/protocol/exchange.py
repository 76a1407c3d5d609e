"""One thing said and all that answers it; lines that nobody asked for are set aside wherever they come.

The rule: the state of an exchange lives here and nowhere else. `begin` gives the bytes to say, `feed` and `elapse` take
in bytes and time and give what came of them; nothing is read, written or waited for. A line is judged in this order:
our own echo, what is wanted, another answer that was named, an error, the success word, a known event, anything else.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Mapping
from typing import Any

import msgspec

from wexicon.core.protocol.framing import Broken, Frame, Framer, Prompt, with_checksum
from wexicon.core.protocol.insertion import InsertionFault
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.speech import Speech
from wexicon.core.text import to_bytes

# How long to listen for a success word after all that was wanted has come, where the lexicon does not know of one.
LINGER = 0.05
# The same where the lexicon promises one and a dialogue does not ask for it.
LONG_LINGER = 0.25
_MOST_HEARD = 1000


class Heard(msgspec.Struct, frozen=True):
    """One frame and what it was: echo, answer, word (an answer that was spelled out), ok, error, prompt, event, aside (not
    understood), broken."""

    text: str
    role: str


class Event(msgspec.Struct, frozen=True):
    """Something that the module sent without being asked. `name` is empty where the lexicon does not know it."""

    name: str
    text: str
    values: dict[str, Any]
    at: float


class Want(msgspec.Struct, frozen=True):
    """One thing that must be heard: a pattern; a prompt (no line end); or any number of lines gathered as rows."""

    pattern: Pattern
    prompt: bool = False
    gather: bool = False


class Expectation(msgspec.Struct, frozen=True):
    """What answers an exchange. With nothing wanted the success word is required; `silent` where nothing answers.
    `closing` instead of the speech's: `alone`, or `lenient` where a success word that the lexicon promises may be missing
    once all that is wanted was heard."""

    wants: tuple[Want, ...] = ()
    others: tuple[Pattern, ...] = ()
    silent: bool = False
    closing: str = ""


class Outcome(msgspec.Struct):
    """How an exchange ended: ok, error (with its code), other (answer number `which`), silence, closed (the success
    word came before all that was wanted), busy (`code` is the seconds to wait, if told)."""

    how: str
    said: str
    captures: dict[str, Any]
    rows: list[dict[str, Any]]
    heard: list[str]
    code: str = ""
    which: int = -1
    expected: str = ""
    reach: int = 0
    waited: float = 0.0

    @property
    def ok(self) -> bool:
        return self.how == "ok"


OK = Expectation()


class Conversation:
    """Everything said and heard on one link, one exchange at a time.

    `outcome` is set when an exchange has ended; `events` holds what came unasked until somebody takes it; `heard`
    holds every frame with its role, for the trace, until it is taken. `unasked` counts all events, `echoes` all
    echoes there ever were.
    """

    def __init__(self, speech: Speech, events: Mapping[str, Pattern] | None = None) -> None:
        self.events: deque[Event] = deque(maxlen=100_000)
        self.outcome: Outcome | None = None
        self.deadline: float | None = None
        self.known: Mapping[str, Any] = {}
        self.unasked = 0
        self.echoes = 0
        self._heard: list[Heard] = []
        self._watched: list[Pattern] = []
        self._patterns = dict(events or {})
        # Events by the character that they begin with, those that may begin with any among them.
        starts = {pattern.literal_start()[:1] for pattern in self._patterns.values()}
        self._anyhow = [one for one in self._patterns.items() if not one[1].literal_start()]
        self._by_start = {
            start: [one for one in self._patterns.items() if one[1].literal_start()[:1] in ("", start)]
            for start in starts
        }
        self._expect: Expectation | None = None
        self._step = 0
        self._began = 0.0
        self._echo: list[str] = []
        self._outcome = Outcome("", "", {}, [], [])
        self._complete = False
        self.adopt(speech)

    def adopt(self, speech: Speech) -> None:
        """Speaks this way from now on; what has come and is not whole is forgotten."""
        self.speech = speech
        self._form = speech.form
        self._end_of_line = speech.line_end
        self._ok_words = {word for word in speech.ok if "{" not in word and "..." not in word}
        self._ok = [Pattern(word) for word in speech.ok if word not in self._ok_words]
        self._busy = [Pattern(word) for word in speech.busy]
        self._errors = [Pattern(word) for word in speech.error]
        self._standing = (to_bytes(speech.prompt),) if speech.prompt else ()
        self.framer = Framer(speech.form, speech.gap, [*self._patterns.values(), *self._watched])
        self.framer.prompts = self._standing

    def watch_for(self, patterns: Iterable[Pattern]) -> list[Pattern]:
        """Raw blocks that these patterns end in are cut as such from now on; gives those that were watched for before."""
        before, self._watched = self._watched, list(patterns)
        self.framer.look_for([*self._patterns.values(), *self._watched])
        return before

    # -- saying -------------------------------------------------------------------------------------------------

    def begin(self, text: str, expect: Expectation, now: float, *, exact: bool = False) -> bytes:
        """Begins an exchange: gives the bytes to say, the line end added unless `exact`. The time limit is set by the
        caller (`deadline`), who knows how long the bytes take on the wire."""
        if self._form == "sentences":
            text = with_checksum(text)
        data = self._encoded(text, exact)
        self.outcome = None
        self._expect = expect
        self._step = 0
        self._complete = False
        self._began = now
        self._outcome = Outcome("", text, {}, [], [])
        if self.speech.echo == "off":
            self._echo = []
        elif text.isprintable():
            self._echo = [text] if text else []
        else:
            self._echo = [part for part in text.replace("\r", "\n").split("\n") if part]
        self._set_prompts()
        if expect.silent:
            self._end("ok", now)
        return data

    def _encoded(self, text: str, exact: bool) -> bytes:
        if self._form == "bytes":
            try:
                return bytes.fromhex(text)
            except ValueError:
                raise InsertionFault(f"{text!r} is no bytes in hexadecimal, as this module is spoken to") from None
        return to_bytes(text if exact else text + self._end_of_line)

    def _set_prompts(self) -> None:
        want = self._want()
        if want and want.prompt:
            self.framer.prompts = (to_bytes(want.pattern.literal_start()), *self._standing)
        else:
            self.framer.prompts = self._standing

    def _want(self) -> Want | None:
        if self._expect and self._step < len(self._expect.wants):
            return self._expect.wants[self._step]
        return None

    # -- hearing ------------------------------------------------------------------------------------------------

    def feed(self, data: bytes, now: float) -> None:
        """Takes in bytes that came at the time `now`."""
        frames = self.framer.feed(data, now)
        while frames:
            prompts = self.framer.prompts
            for frame in frames:
                self._judge(frame, now)
            frames = self.framer.look_again() if self.framer.prompts != prompts else []

    def elapse(self, now: float) -> None:
        """Time has passed: a frame may have ended by silence, an exchange by its time limit."""
        for frame in self.framer.elapse(now):
            self._judge(frame, now)
        if self._expect and self.deadline is not None and now >= self.deadline:
            if self._complete and (self.speech.closing == "either" or self._expect.closing):
                self._end("ok", now)
                return
            for frame in self.framer.release() if self._form == "lines" else []:
                self._judge(frame, now)
            if self._expect:
                self._end("silence", now)

    def next_time(self) -> float | None:
        """When `elapse` is to be called next, or None while nothing is waited for."""
        limit = self.deadline if self._expect else None
        quiet = self.framer.deadline
        if limit is None or quiet is None:
            return limit if quiet is None else quiet
        return min(limit, quiet)

    def has_heard(self) -> bool:
        """Whether there is anything to take."""
        return bool(self._heard)

    def take_heard(self) -> list[Heard]:
        """Every frame since the last call, with its role."""
        taken, self._heard = self._heard, []
        return taken

    def _judge(self, frame: Frame, now: float) -> None:
        text = frame.text
        if self._form == "sentences" and text[-3:-2] == "*":
            # The checksum was checked and has no more to tell; patterns are written without it.
            text = text[:-3]
        open_still = self._expect is not None
        role = self._role(frame, text, now)
        self._heard.append(Heard(frame.text, role))
        if open_still and role not in ("echo", "event") and len(self._outcome.heard) < _MOST_HEARD:
            self._outcome.heard.append(text)
        if self._complete and role in ("answer", "word", "prompt") and self._expect:
            self._settle(now)

    def _role(self, frame: Frame, text: str, now: float) -> str:
        expect = self._expect
        if isinstance(frame, Broken):
            return "broken"
        if isinstance(frame, Prompt):
            want = self._want()
            if expect and want and want.prompt and to_bytes(want.pattern.literal_start()) == to_bytes(text):
                self._advance()
            return "prompt"
        if self._echo:
            if text in self._echo:
                self._echo.remove(text)
                self.echoes += 1
                return "echo"
            if self.speech.end == "none" and text.startswith(self._echo[0]):
                text = text[len(self._echo.pop(0)) :]
                self.echoes += 1
        if expect and self._wants_anything() and (event := self._known_event(text, now)):
            # A pattern that any line fits must not swallow what is known to be something else.
            self._queue(event)
            return "event"
        if expect:
            if answered := self._answers(expect, text, now):
                return "word" if answered.literal_start() == text else "answer"
            if role := self._ends_it(text, now):
                return role
        elif text in self._ok_words:
            return "aside"
        if event := self._known_event(text, now):
            self._queue(event)
            return "event"
        self._queue(Event("", text, {}, now))
        return "aside"

    def _wants_anything(self) -> bool:
        want = self._want()
        return bool(want and not want.pattern.literal_start())

    def _known_event(self, text: str, now: float) -> Event | None:
        for name, pattern in self._by_start.get(text[:1], self._anyhow):
            values = pattern.match(text, self.known)
            if values is not None:
                return Event(name, text, values, now)
        return None

    def _queue(self, event: Event) -> None:
        self.events.append(event)
        self.unasked += 1

    def _answers(self, expect: Expectation, text: str, now: float) -> Pattern | None:
        """The pattern that the line fits, when it is wanted or another answer that was named."""
        outcome = self._outcome
        known = {**self.known, **outcome.captures} if outcome.captures else self.known
        while (want := self._want()) and not want.prompt:
            if not want.pattern.literal_start() and self._is_no(text):
                # Whoever asks for anything does not ask for an error.
                break
            captures = want.pattern.match(text, known)
            if want.gather:
                # A word that ends an answer is no row, however wide the pattern.
                if captures is not None and not self._is_final(text):
                    outcome.rows.append(captures)
                    return want.pattern
                following = self._step + 1
                if following < len(expect.wants):
                    ahead = expect.wants[following]
                    if not ahead.prompt and ahead.pattern.match(text, known) is not None:
                        self._step += 1
                        continue
                break
            if captures is not None:
                outcome.captures.update(captures)
                self._advance()
                return want.pattern
            outcome.reach = want.pattern.reach
            break
        for which, other in enumerate(expect.others):
            captures = other.match(text, known)
            if captures is not None:
                outcome.captures.update(captures)
                outcome.which = which
                self._end("other", now)
                return other
        return None

    def _ends_it(self, text: str, now: float) -> str:
        """Whether the line is the module's word for yes or no, and so the end of the exchange: ok, error or nothing."""
        if text not in self._ok_words and (role := self._says_no(text, now)):
            return role
        if text in self._ok_words or any(pattern.match(text) is not None for pattern in self._ok):
            # Rows may be none at all: the success word ends a gathering that stands last.
            want = self._want()
            if want and want.gather and self._expect and self._step == len(self._expect.wants) - 1:
                self._step += 1
                want = None
            self._end("closed" if want else "ok", now)
            return "ok"
        return ""

    def _says_no(self, text: str, now: float) -> str:
        """Whether it is an error, or not now; then it ends the exchange."""
        for busy in self._busy:
            captures = busy.match(text)
            if captures is not None:
                self._outcome.code = str(captures.get("wait", ""))
                self._end("busy", now)
                return "error"
        for error in self._errors:
            captures = error.match(text)
            if captures is not None:
                self._outcome.code = str(captures.get("code", ""))
                self._end("error", now)
                return "error"
        return ""

    def _is_final(self, text: str) -> bool:
        return text in self._ok_words or any(one.match(text) is not None for one in self._ok) or self._is_no(text)

    def _is_no(self, text: str) -> bool:
        return any(one.match(text) is not None for one in (*self._errors, *self._busy))

    def _advance(self) -> None:
        self._step += 1
        if self._want() is None:
            self._complete = True
        self._set_prompts()

    def _settle(self, now: float) -> None:
        """All that was wanted has come: is the success word still to follow?"""
        assert self._expect
        last = self._expect.wants[-1]
        lenient = self._expect.closing == "lenient"
        closing = self.speech.closing if lenient else self._expect.closing or self.speech.closing
        source = last.pattern.source
        done = last.prompt or closing == "alone" or self._form != "lines"
        if done or source in self._ok_words or any(source == word.source for word in self._ok):
            self._end("ok", now)
        elif closing == "either" or lenient:
            limit = now + (LINGER if closing == "either" else LONG_LINGER)
            self.deadline = min(self.deadline or limit, limit)

    def _end(self, how: str, now: float) -> None:
        outcome = self._outcome
        want = self._want()
        outcome.how = how
        outcome.waited = now - self._began
        outcome.expected = want.pattern.source if want else " or ".join(self.speech.ok)
        self._expect = None
        self._complete = False
        self.framer.prompts = self._standing
        self.outcome = outcome
