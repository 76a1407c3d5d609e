"""One link, one engine: says a line and returns all that answered it.

The rule: every line goes through one exchange; what a module sends besides is an event. All that happens is reported to the
listener, without secrets.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from enum import IntEnum
from typing import Protocol

from wexicon.core.faults import ModuleFault
from wexicon.core.protocol.dialect import OK, Dialect, Expectation, Reply, ReplyStatus
from wexicon.core.protocol.driver import Driver
from wexicon.core.protocol.engine import Engine, Events, Waiter
from wexicon.core.protocol.exchange import BEGIN, ENDED, MOST_PAGES, MOST_ROWS, Exchange
from wexicon.core.protocol.insertion import Filled, InsertionFault
from wexicon.core.protocol.link import Link
from wexicon.core.protocol.masking import Secrets
from wexicon.core.protocol.observations import (
    Asked,
    Began,
    Heard,
    Listener,
    Logged,
    Observation,
    Repeated,
    Role,
    Said,
    Tuned,
)
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.text import HIDDEN, spoken
from wexicon.core.tuning import Tuning

# How long to leave a busy module alone, and when to stop trying (seconds).
BUSY_FOR = 0.25
MOST_BUSY = 60.0
_BUSY = ReplyStatus.BUSY
_RESULTS = frozenset((Role.OK, Role.ERROR, Role.PROMPT))
_UNASKED = frozenset((Role.UNEXPECTED, Role.CORRUPT, Role.UNMATCHED, Role.EVENT))


class Masking(IntEnum):
    """How the lines of an exchange are masked: only for known secrets; `closely`, because a secret was said, also for pieces
    of it; `wholly`, because they hold a secret that is not known yet."""

    NO = 0
    CLOSELY = 1
    WHOLLY = 2


class Knows(Protocol):
    """Keeps what is known of the module; reads what is said for what is secret in it."""

    def said(self, text: str, *, exact: bool = False, guess: bool = True) -> Filled:
        """The line with what is secret in it."""

    def note(self, seen: Observation) -> None:
        """Takes an observation: what was said without its secrets, what was heard as it came."""

    def heard_part(self, text: str) -> None:
        """The module has sent the beginning of a line."""

    def ended(self, *, answered: bool = False) -> None:
        """Nothing more of an answer is awaited; whether the line was answered."""


class Session(Driver):
    """`exchanges` counts the lines that were said, `changes` those that may have changed the module; `anomalies` counts what
    makes it doubtful which answer belongs to which line; `outstanding` counts answers that may still come for exchanges that
    ended in silence."""

    def __init__(
        self,
        link: Link,
        dialect: Dialect,
        listener: Listener | None = None,
        stopping: Callable[[], bool] = lambda: False,
        secrets: Secrets | None = None,
    ) -> None:
        super().__init__(link, Engine(dialect), listener, stopping, secrets)
        self.exchanges = 0
        self.changes = 0
        # Is given all that is said and heard.
        self.known: Knows | None = None
        self.anomalies = 0
        self.outstanding = 0
        # Is given every line that no open question asked for, as it was heard.
        self.overheard: Callable[[Heard], object] | None = None
        self._outstanding_until = 0.0
        self._nameless: Pattern | None = None
        self.secrets.spare(dialect.result_words)
        self._masking = self._masking_outstanding = Masking.NO
        self._wanted: list[tuple[Pattern, bool]] = []
        self._told_of_loss = False
        # Whether the last line was the one that an answer ended with.
        self._answered = False

    @property
    def dialect(self) -> Dialect:
        """The dialect in use."""
        return self._engine.dialect

    def adopt(self, dialect: Dialect) -> None:
        """Uses this dialect from now on."""
        if dialect is not self._engine.dialect:
            self._engine.adopt(dialect)
            self.secrets.spare(dialect.result_words)

    @contextmanager
    def watching(self, patterns: Iterable[Pattern], known: Mapping[str, object]) -> Iterator[None]:
        """While the block lasts, raw blocks that these patterns end in are cut as such, and patterns may require the
        values in `known`."""
        engine, patterns = self._engine, list(patterns)
        before, own = engine.dialect, engine.known
        wider = before.and_blocks_of(patterns) if patterns else before
        self.adopt(wider)
        engine.known = known
        try:
            yield
        finally:
            engine.known = own
            if engine.dialect is wider:
                self.adopt(before)

    @property
    def events(self) -> Events:
        """Events that were not taken yet."""
        return self._engine.events

    @property
    def latest(self) -> Mapping[str, Mapping[str, object]]:
        """The captures of the last event of each name."""
        return self._engine.latest

    @property
    def echoes(self) -> int:
        """How many echoes there were."""
        return self._engine.echoes

    # -- one exchange -------------------------------------------------------------------------------------------

    def exchange(
        self,
        said: str | Filled,
        expect: Expectation = OK,
        within: float | None = None,
        *,
        exact: bool = False,
        tells: Collection[str] = (),
    ) -> Reply:
        """Says one line and waits for all that answers it, at most `within` seconds after it is sent.

        Secrets in the line are shown nowhere. Captures named in `tells` are secret: of lines that hold them, and of lines
        that fit nothing, only the lexicon's own words are shown. If the module is busy the line is said again later.
        """
        line = said if isinstance(said, Filled) else Filled(said)
        if self.known is not None:
            self.known.heard_part(self._engine.partial)
            found = self.known.said(line.text, exact=exact, guess=isinstance(said, str))
            line = found if not line.secrets else line
        if not tells and not line.secrets:
            return self._said_until_heard(line.text, line.text, expect, within, exact)
        return self._secretly(line, expect, within, exact, tells)

    def _secretly(
        self, line: Filled, expect: Expectation, within: float | None, exact: bool, tells: Collection[str]
    ) -> Reply:
        for secret in line.secrets:
            self.secrets.learn(secret)
        self._masking = Masking.WHOLLY if tells else Masking.CLOSELY
        self._wanted = [(want.pattern, bool(set(tells).intersection(want.pattern.names))) for want in expect.wants]
        try:
            shown = line.text if line.shown is None else line.shown
            outcome = self._said_until_heard(line.text, shown, expect, within, exact)
            outcome.said = shown
            outcome.heard = [self._masked(text, result=self.dialect.final(text) is not None) for text in outcome.heard]
        finally:
            self._masking_outstanding = (
                max(self._masking, self._masking_outstanding) if self.outstanding else Masking.NO
            )
            self._masking = Masking.NO
        return outcome

    def _said_until_heard(self, text: str, shown: str, expect: Expectation, within: float | None, exact: bool) -> Reply:
        """Says a line again while the module is busy."""
        outcome = self._exchange(text, shown, expect, within, exact)
        if outcome.status is _BUSY:
            patience = self.clock.now() + MOST_BUSY
            while outcome.status is _BUSY and self.clock.now() < patience:
                self.tell(Repeated(self.clock.now()))
                wait = float(outcome.code) if outcome.code.isdigit() else BUSY_FOR
                self.listen(self.clock.now() + min(wait, MOST_BUSY))
                outcome = self._exchange(text, shown, expect, within, exact)
        return outcome

    def _exchange(self, text: str, shown: str, expect: Expectation, within: float | None, exact: bool) -> Reply:
        if self.stopping() or self.listener.lost:
            self.heed_stop()
        engine, dialect = self._engine, self._engine.dialect
        if dialect.rest:
            self.listen(self._heard_at + dialect.rest)
        self.drain()
        data = self._encoded(text, exact)
        engine.require(BEGIN)
        now = self.clock.now()
        if dialect.pace:
            slow = max(now, self._sent_until) + len(data) * (self._per_char + dialect.pace)
            limit = slow + (dialect.within if within is None else within)
            exchange = Exchange(dialect, text, expect, now, limit, engine.known)
            engine.begin(exchange, text)
            self._tell_said(now, shown, exact)
            self._write_slowly(data, dialect.pace)
        else:
            # What follows is done while the module answers.
            self._write(data, now)
            limit = self._sent_until + (dialect.within if within is None else within)
            exchange = Exchange(dialect, text, expect, now, limit, engine.known)
            engine.begin(exchange, text)
            self._tell_said(now, shown, exact)
        first = expect.wants[0].pattern if expect.wants else None
        self._nameless = first if first is not None and not first.start and not first.catches_all else None
        if exchange.state is not ENDED:
            self._hear_until(exchange)
        elif dialect.gap and dialect.form != "lines":
            # Only silence separates this line from the next.
            self.quiet(dialect.gap)
        self.exchanges += 1
        if self.known is not None:
            self.known.ended(answered=exchange.outcome.ok)
        outcome = exchange.outcome
        if len(outcome.rows) >= MOST_ROWS:
            raise ModuleFault(f"more than {MOST_ROWS} rows were answered", where=self.link.name)
        if exchange.pages > MOST_PAGES and not outcome.ok:
            raise ModuleFault(f"the answer has more than {MOST_PAGES} pages", where=self.link.name)
        if not outcome.ok:
            self._note_failure(outcome, limit - now)
        elif self.outstanding and first is not None and first.start:
            # Modules answer in order: this answer fits no other line, so none before it is outstanding.
            self.outstanding = 0
        return outcome

    def _tell_said(self, now: float, shown: str, exact: bool) -> None:
        if self.known is not None:
            self.known.note(Said(now, shown, exact))
        self.listener.note(Said(now, shown, exact))

    def _note_failure(self, outcome: Reply, waited: float) -> None:
        if outcome.status in (ReplyStatus.SILENCE, ReplyStatus.CLOSED):
            self.anomalies += 1
        if outcome.status is ReplyStatus.SILENCE:
            self.outstanding += 1
            self._outstanding_until = self.clock.now() + max(waited, self.dialect.within)

    def await_outstanding(self) -> None:
        """Listens for late answers as long as they may still come, so that none is taken for the answer to the next line."""
        if self.outstanding:
            self.listen(self._outstanding_until, lambda: not self.outstanding)
            self.outstanding = 0

    def _encoded(self, text: str, exact: bool) -> bytes:
        """The bytes of a line. Raises ModuleFault if it cannot be said to this module."""
        dialect = self._engine.dialect
        try:
            data = self._engine.encode(text, exact=exact)
        except InsertionFault as fault:
            raise ModuleFault(self.secrets.mask(str(fault)), where=self.link.name) from None
        if self._seven_bits and max(data, default=0) > 0x7F:
            what = "the line holds a character that cannot be said with 7 data bits: it would arrive as another one"
            raise ModuleFault(what, where=self.link.name, hint="Use plain ASCII, or a frame with 8 data bits.")
        if dialect.window and len(data) * self._per_char > dialect.window:
            what = f"at {self.link.tuning} the line takes longer than the {spoken(dialect.window)} in which it must have come"
            raise ModuleFault(what, where=self.link.name, hint="Shorten the line, or raise the rate.")
        return data

    def _tell(self, heard: Sequence[Heard]) -> None:
        note, known = self.listener.note, self.known
        for seen in heard:
            if known is not None:
                known.note(seen)
            if seen.role is Role.UNMATCHED and self._answered and self._engine.state is ENDED:
                # It follows an answer that no result code ends: it may be the rest of that.
                self.anomalies += not any(one.role in _RESULTS for one in heard)
            self._answered = seen.role is Role.ANSWER
            if seen.role in _UNASKED:
                if self.overheard is not None:
                    self.overheard(seen)
                self._doubt(seen)
            if self._masking or (self._masking_outstanding and self.outstanding):
                seen = Heard(seen.at, self._masked(seen.text, result=seen.role in _RESULTS), seen.role)
            note(seen)

    def _masked(self, text: str, *, result: bool) -> str:
        """A line that answers a secret, or may still do so."""
        if result:
            return self.secrets.mask(text)
        if max(self._masking, self._masking_outstanding) is not Masking.WHOLLY:
            return self.secrets.mask(text, closely=True)
        for pattern, secret in self._wanted:
            if pattern.start and pattern.match(text) is not None:
                # The start of such a line is in the lexicon: no secret.
                return pattern.start + HIDDEN if secret else self.secrets.mask(text, closely=True)
        return HIDDEN

    def _doubt(self, seen: Heard) -> None:
        """Counts what may belong to another line than the last one."""
        if seen.role is Role.UNEXPECTED:
            self.anomalies += 1
            self.outstanding = max(0, self.outstanding - 1)
        elif seen.role is Role.CORRUPT or (
            seen.role is Role.UNMATCHED and self._nameless and self._nameless.match(seen.text) is not None
        ):
            self.anomalies += 1

    def more_events(self, until: float) -> None:
        """Listens until the time `until`, or until one more event has come."""
        count = self.events.count
        self.listen(until, lambda: self.events.count != count)

    def wait_for(self, pick: Callable[[Heard], bool], until: float, since: float = 0.0) -> Heard | None:
        """The first event (taken from the queue) that `pick` likes and that came at `since` or later; waits for it to the
        time `until`."""
        waiter = Waiter(self.events, pick, since)
        while (event := waiter.take()) is None and self.clock.now() < until:
            self.heed_stop()
            self.more_events(until)
        return event

    def listen(self, until: float, enough: Callable[[], bool] = lambda: False) -> None:
        super().listen(until, enough)
        if self.events.lost and not self._told_of_loss:
            self._told_of_loss = True
            self.log("more events came than are kept; the oldest were dropped")

    def tune(self, tuning: Tuning) -> None:
        before = self.link.tuning
        super().tune(tuning)
        if self.link.tuning != before:
            self.outstanding = 0
            if self.known is not None:
                self.known.note(Tuned(self.clock.now(), self.link.tuning))

    @property
    def partial(self) -> str:
        """Incomplete input, masked as a line would be."""
        return self.secrets.mask(self._engine.partial)

    def abandon(self) -> None:
        """Stops waiting for the answer to the last line."""
        if self.known is not None:
            self.known.heard_part(self._engine.partial)
        self._engine.abandon()

    def take_partial(self) -> None:
        """Incomplete input becomes an event as it is: where data is passed on, a line need not end."""
        if text := self._engine.forget_partial():
            seen = Heard(self._heard_at, text, Role.UNMATCHED)
            self.events.add(seen)
            self._tell([seen])

    def forget_partial(self) -> str:
        """Drops incomplete input; returns it."""
        return self._engine.forget_partial()

    def unchanged(self) -> str:
        """The sentence that nothing was changed, if that is so; otherwise empty."""
        return "" if self.changes else "Nothing was changed. "

    # -- reporting ----------------------------------------------------------------------------------------------

    def log(self, text: str) -> None:
        """Reports why something is done, as a sentence for people."""
        self.listener.note(Logged(self.clock.now(), text))

    def begin_step(self, step: str, *, searching: bool = False, most: float = 0.0) -> None:
        """Reports that a step of the work starts; `searching` if it looks for the module; `most`: the seconds that it may
        take."""
        self.listener.note(Began(self.clock.now(), step, searching, most))

    def tell(self, seen: Observation) -> None:
        """Reports an observation of the layers above: a start, a judged setting."""
        self.listener.note(seen)

    def asked(self, act: str, text: str) -> None:
        """Reports a request to the operator."""
        self.listener.note(Asked(self.clock.now(), act, text))
