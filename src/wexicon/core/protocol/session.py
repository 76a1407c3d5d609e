"""One link, one clock, one engine: says a line and gives back all that answered it.

The rule: the session asks the link for the time and never waits on anything else; under the virtual clock and under
the real one it is the same code. Whatever a module sends is taken in, also while nobody waits for it. A stop is heeded
between two exchanges, never inside one. All that happens is told to the listener.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from contextlib import contextmanager
from enum import IntEnum
from typing import Any

from wexicon.core.durations import spoken
from wexicon.core.faults import Fault, ModuleFault, Stopped, Unreachable
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.engine import Engine
from wexicon.core.protocol.events import Events, Waiter
from wexicon.core.protocol.exchange import ENDED, MOST_ROWS, OK, Exchange, Expectation, Reply, ReplyStatus
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
    Signalled,
    Tuned,
)
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.redaction import Redactor
from wexicon.core.secret import HIDDEN
from wexicon.core.text import to_text
from wexicon.core.tuning import Tuning

# How long to leave a module that is busy alone, and when to take it for an answer (seconds).
BUSY_FOR = 0.25
MOST_BUSY = 60.0
# How long what has come already may take to be taken in (seconds).
LONGEST_DRAIN = 2.0
# How long a wait may last before the listener may do what it has put off (seconds).
IDLE = 0.25
_BUSY = ReplyStatus.BUSY
_RESULTS = frozenset((Role.OK, Role.ERROR, Role.PROMPT))
_DOUBTFUL = frozenset((Role.UNEXPECTED, Role.CORRUPT, Role.UNMATCHED))


class Masking(IntEnum):
    """How the lines of an exchange are masked: not at all but for known secrets; `closely`, since a secret was said, pieces
    of it too; `wholly`, since they tell what nobody knows yet."""

    NO = 0
    CLOSELY = 1
    WHOLLY = 2


class Session:
    """Everything above speaks through this. `stopping` is asked between exchanges whether the person wants to stop; what is
    in `secrets` is seen by no listener and stands in no reply."""

    def __init__(
        self,
        link: Link,
        dialect: Dialect,
        listener: Listener | None = None,
        stopping: Callable[[], bool] = lambda: False,
        secrets: Secrets | None = None,
    ) -> None:
        self.link = link
        self.clock = link.clock
        self.secrets = secrets or Secrets()
        self.listener = Redactor(listener or Listener(), self.secrets)
        self.stopping = stopping
        self.exchanges = 0
        # Where the time went, in seconds: bytes on the wire both ways, and pauses that we made ourselves.
        self.on_wire = 0.0
        self.pauses = 0.0
        # How often something was heard, or not heard, that makes one doubt which answer belongs to which question.
        self.anomalies = 0
        # Answers that may still come for exchanges that ended in silence, and until when (seconds).
        self.outstanding = 0
        self._outstanding_until = 0.0
        self._nameless: Pattern | None = None
        self._engine = Engine(dialect)
        self.secrets.words = dialect.result_words
        # Seconds that one character takes on the wire, as our side is tuned.
        self._per_char = link.tuning.wire_time(1)
        self._seven_bits = link.tuning.bits == 7
        self._sent_until = 0.0
        self._heard_at = float("-inf")
        self._masking = self._masking_outstanding = Masking.NO
        self._wanted: list[tuple[Pattern, bool]] = []
        self._hearing_since: float | None = None
        self._told_of_loss = False

    @property
    def dialect(self) -> Dialect:
        """How the module is spoken to now."""
        return self._engine.dialect

    def adopt(self, dialect: Dialect) -> None:
        """Speaks this dialect from now on."""
        if dialect is not self._engine.dialect:
            self._engine.adopt(dialect)
            self.secrets.words = dialect.result_words

    @contextmanager
    def watching(self, patterns: Iterable[Pattern], known: Mapping[str, Any]) -> Iterator[None]:
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
        """What came unasked and was not taken."""
        return self._engine.events

    @property
    def latest(self) -> Mapping[str, Mapping[str, Any]]:
        """What the last event of each name told."""
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
        """Says one line and waits for all that answers it, at the longest `within` seconds after it is sent.

        Where secrets were put into the line they are shown nowhere. Captures that `tells` names are secret: of lines that
        hold them, and of lines that nobody wanted, only the lexicon's own words are shown. A module that is busy for now is
        told again when it may be.
        """
        if isinstance(said, str):
            if not tells:
                return self._said_until_heard(said, said, expect, within, exact)
            said = Filled(said)
        if not tells and not said.secrets:
            return self._said_until_heard(said.text, said.text, expect, within, exact)
        return self._secretly(said, expect, within, exact, tells)

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
        now = self.clock.now()
        limit = max(now, self._sent_until) + len(data) * self._per_char + (dialect.within if within is None else within)
        exchange = Exchange(dialect, text, expect, now, limit, engine.known)
        engine.begin(exchange, text)
        first = expect.wants[0].pattern if expect.wants else None
        self._nameless = first if first is not None and not first.start and not first.catches_all else None
        self._send(data, shown, now, exact)
        if exchange.state is not ENDED:
            self._take_in(exchange)
        elif dialect.gap and dialect.form != "lines":
            # Only silence parts what is said from what is said next.
            self.quiet(dialect.gap)
        self.exchanges += 1
        outcome = exchange.outcome
        if len(outcome.rows) >= MOST_ROWS:
            raise ModuleFault(f"more than {MOST_ROWS} rows were answered", where=self.link.name)
        if not outcome.ok:
            self._note_failure(outcome, limit - now)
        elif self.outstanding and first is not None and first.start:
            # Modules answer in order: with this answer, which is no other's, nothing before it is owed any more.
            self.outstanding = 0
        return outcome

    def _note_failure(self, outcome: Reply, waited: float) -> None:
        if outcome.status in (ReplyStatus.SILENCE, ReplyStatus.CLOSED):
            self.anomalies += 1
        if outcome.status is ReplyStatus.SILENCE:
            self.outstanding += 1
            self._outstanding_until = self.clock.now() + max(waited, self.dialect.within)

    def await_outstanding(self) -> None:
        """Listens for answers that did not come in time, as long as they may still come: nothing that is said next can be
        taken for answered by them."""
        if self.outstanding:
            self.listen(self._outstanding_until, lambda: not self.outstanding)
            self.outstanding = 0

    def _encoded(self, text: str, exact: bool) -> bytes:
        """The bytes of a line. Raises ModuleFault where it cannot be said to this module."""
        dialect = self._engine.dialect
        try:
            data = dialect.encode(text, exact=exact)
        except InsertionFault as fault:
            raise ModuleFault(self.secrets.mask(str(fault)), where=self.link.name) from None
        if self._seven_bits and max(data, default=0) > 0x7F:
            what = "the line holds a character that cannot be said with 7 data bits: it would arrive as another one"
            raise ModuleFault(what, where=self.link.name, hint="Use plain ASCII, or a frame with 8 data bits.")
        if dialect.window and len(data) * self._per_char > dialect.window:
            what = f"at {self.link.tuning} the line takes longer than the {spoken(dialect.window)} in which it must have come"
            raise ModuleFault(what, where=self.link.name, hint="Shorten the line, or raise the rate.")
        return data

    def send(self, data: bytes) -> None:
        """Sends bytes as they are, and waits for nothing."""
        self._send(data, to_text(data), self.clock.now(), True)

    def _send(self, data: bytes, text: str, now: float, exact: bool) -> None:
        self.link.write(data)
        taken = len(data) * self._per_char
        self.on_wire += taken
        self._sent_until = (now if now > self._sent_until else self._sent_until) + taken
        self.listener.note(Said(now, text, exact))

    def _take_in(self, exchange: Exchange) -> None:
        """Hears until the exchange has ended."""
        engine = self._engine
        while exchange.state is not ENDED:
            until = engine.next_time()
            self._pass(self._read(exchange.deadline if until is None else until), until)

    def _pass(self, data: bytes, until: float | None) -> None:
        """Takes in what has just been read; `until` is when something is due."""
        now = self.clock.now()
        if data:
            self._hear(data, now)
        if until is not None and now >= until:
            self._tell(self._engine.elapse(now))

    def _read(self, until: float) -> bytes:
        """Bytes that come before the time `until`; where none do for a while, the listener is told."""
        soon = self.clock.now() + IDLE
        data = self.link.read(until if until < soon else soon)
        while not data and soon < until:
            self.listener.idle()
            soon += IDLE
            data = self.link.read(min(soon, until))
        return data

    def _hear(self, data: bytes, now: float) -> None:
        taken = len(data) * self._per_char
        if self._hearing_since is None:
            self._hearing_since = now - taken
        self._heard_at = now
        self.on_wire += taken
        self._tell(self._engine.feed(data, now))

    def _tell(self, heard: list[Heard]) -> None:
        note = self.listener.note
        for seen in heard:
            if seen.role in _DOUBTFUL:
                self._doubt(seen)
            if self._masking or (self._masking_outstanding and self.outstanding):
                seen = Heard(seen.at, self._masked(seen.text, result=seen.role in _RESULTS), seen.role)
            note(seen)

    def _masked(self, text: str, *, result: bool) -> str:
        """A line that answers a secret, or may still answer one."""
        if result:
            return self.secrets.mask(text)
        if max(self._masking, self._masking_outstanding) is not Masking.WHOLLY:
            return self.secrets.mask(text, closely=True)
        for pattern, secret in self._wanted:
            if pattern.start and pattern.match(text) is not None:
                # How such a line begins is no secret: it stands in the lexicon.
                return pattern.start + HIDDEN if secret else self.secrets.mask(text, closely=True)
        return HIDDEN

    def _doubt(self, seen: Heard) -> None:
        """Something was heard that may belong to another question than the one that was asked."""
        if seen.role is Role.UNEXPECTED:
            self.anomalies += 1
            self.outstanding = max(0, self.outstanding - 1)
        elif seen.role is Role.CORRUPT or (self._nameless and self._nameless.match(seen.text) is not None):
            self.anomalies += 1

    # -- listening ----------------------------------------------------------------------------------------------

    def drain(self) -> None:
        """Takes in what has come already, without waiting. Raises Unreachable where it does not end."""
        began = now = self.clock.now()
        while data := self.link.read(now):
            self._hear(data, now)
            now = self.clock.now()
            if now - began > LONGEST_DRAIN:
                what = f"the port has sent without a pause for {spoken(LONGEST_DRAIN)}, faster than a UART can"
                raise Unreachable(what, where=self.link.name, hint="What is on this port? Nothing more was said to it.")
        until = self._engine.next_time()
        if until is not None and now >= until:
            self._tell(self._engine.elapse(now))

    def listen(self, until: float, enough: Callable[[], bool] = lambda: False) -> None:
        """Says nothing until the time `until` (or until `enough`), and takes in all that comes. A stop is heeded at once."""
        engine = self._engine
        while (now := self.clock.now()) < until and not enough():
            self.heed_stop()
            gap = engine.next_time()
            soon = min(until, now + IDLE)
            data = self._read(soon if gap is None else min(soon, gap))
            self._pass(data, gap)
            if not data:
                self.listener.idle()

        if engine.events.lost and not self._told_of_loss:
            self._told_of_loss = True
            self.log("more events came than are kept; the oldest are forgotten")

    def quiet(self, duration: float, enough: Callable[[], bool] = lambda: False) -> None:
        """Says nothing for so many seconds (or until `enough`), counted from when our last byte is on the wire."""
        self.listen(max(self.clock.now(), self._sent_until) + duration, enough)

    def silence(self, duration: float) -> None:
        """Says nothing until so many seconds have passed since our last byte was on the wire."""
        self.listen(self._sent_until + duration)

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

    @property
    def partial(self) -> str:
        """What has come and is not whole, masked as a line would be."""
        return self.secrets.mask(self._engine.partial)

    def abandon(self) -> None:
        """Waits no longer for the answer to what was said last."""
        self._engine.abandon()

    def forget_partial(self) -> str:
        """Forgets what has come and is not whole; gives it."""
        return self._engine.forget_partial()

    def wait_until_quiet(self, quiet: float, limit: float) -> None:
        """Takes in what comes until nothing has come for `quiet` seconds, at the longest `limit` seconds."""
        end = self.clock.now() + limit
        since = self.clock.now()
        while True:
            self.listen(min(end, since + quiet), lambda since=since: self._heard_at > since)  # type: ignore[misc]
            if self._heard_at <= since or self.clock.now() >= end:
                return
            since = self._heard_at

    def heard_for(self) -> float:
        """Seconds from the first to the last byte heard since this was asked before; 0 where there was none."""
        began, self._hearing_since = self._hearing_since, None
        return 0.0 if began is None else self._heard_at - began

    # -- our side of the link -----------------------------------------------------------------------------------

    def tune(self, tuning: Tuning) -> None:
        """Changes our rate and frame once all that we said is on the wire; half a line heard before is forgotten."""
        self.listen(self._sent_until)
        if tuning == self.link.tuning:
            return
        self.link.tune(tuning)
        self._per_char = tuning.wire_time(1)
        self._seven_bits = tuning.bits == 7
        self.outstanding = 0
        self._engine.forget_partial()
        self.listener.note(Tuned(self.clock.now(), tuning))

    def signal(self, *, dtr: bool | None = None, rts: bool | None = None) -> None:
        """Drives control lines."""
        self.listen(self._sent_until)
        self.link.signal(dtr=dtr, rts=rts)
        self.listener.note(Signalled(self.clock.now(), dtr, rts))

    # -- telling ------------------------------------------------------------------------------------------------

    def log(self, text: str) -> None:
        """Tells a decision, for whoever asks afterwards why something was done."""
        self.listener.note(Logged(self.clock.now(), text))

    def begin_step(self, step: str, *, searching: bool = False) -> None:
        """Reports that a step of the work starts; `searching` if it looks for the module."""
        self.listener.note(Began(self.clock.now(), step, searching))

    def tell(self, seen: Observation) -> None:
        """Tells what was found out above: a start that was seen, a setting that was judged."""
        self.listener.note(seen)

    def asked(self, act: str, text: str) -> None:
        """Tells what the operator is asked."""
        self.listener.note(Asked(self.clock.now(), act, text))

    def heed_stop(self) -> None:
        """Raises Stopped when the person wants to stop, and a Fault when what happens can no longer be recorded."""
        if self.stopping():
            raise Stopped("stopped on request")
        if self.listener.lost:
            raise Fault(self.listener.lost, hint="Stopped between two exchanges. Run it again to finish.")
