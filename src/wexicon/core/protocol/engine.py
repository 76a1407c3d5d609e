"""Everything that comes in on one link, sorted: our echo, the open exchange's answer, events, and what fits nothing.

The rule: bytes and time come in, observations go out; nothing is read, written or waited for. One exchange is open at a time;
what it does not take is looked up among the events, which are kept until they are taken: the queue is bounded, the oldest go
first. What the table in `state` does not allow is refused.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Mapping

from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.exchange import (
    ABANDON,
    BEGIN,
    CLOSE,
    CLOSED,
    ENDED,
    FAIL,
    FAILED,
    IDLE,
    MOST_PAGES,
    RENEW,
    WAITING,
    Exchange,
    LocalProtocolError,
    State,
    Step,
    after,
)
from wexicon.core.protocol.framing import Corrupt, Foreign, Piece, Prompt
from wexicon.core.protocol.layers import Layer, cutter, stacked
from wexicon.core.protocol.observations import Heard, Role
from wexicon.core.protocol.patterns import NOTHING

MOST_EVENTS = 100_000
MOST_CHARACTERS = 8_388_608


class Events:
    """`count` is how many there ever were, each with its number from 0 on; `lost` how many went because there was no room."""

    def __init__(self) -> None:
        self.count = 0
        self.lost = 0
        self._size = 0
        self._kept: dict[int, Heard] = {}
        self._first = 0

    def first(self) -> int:
        """The number of the oldest that is kept."""
        while self._first < self.count and self._first not in self._kept:
            self._first += 1
        return self._first

    def at(self, number: int) -> Heard | None:
        """The event of a number, if it is kept."""
        return self._kept.get(number)

    def drop(self, number: int) -> None:
        """Forgets one."""
        event = self._kept.pop(number, None)
        if event is not None:
            self._size -= len(event.text)

    def add(self, event: Heard) -> None:
        """Keeps one more."""
        kept = self._kept
        kept[self.count] = event
        self.count += 1
        self._size += len(event.text)
        while len(kept) > MOST_EVENTS or self._size > MOST_CHARACTERS:
            self.drop(self.first())
            self.lost += 1

    def __iter__(self) -> Iterator[Heard]:
        return iter(list(self._kept.values()))

    def __len__(self) -> int:
        return len(self._kept)

    def clear(self) -> None:
        """Forgets all that are kept."""
        self._kept.clear()
        self._size = 0


class Waiter:
    """Waits for an event that `pick` likes and that came at `since` or later; remembers how far it has looked."""

    def __init__(self, events: Events, pick: Callable[[Heard], bool], since: float = 0.0) -> None:
        self._events, self._pick, self._since = events, pick, since
        self._looked = 0

    def take(self) -> Heard | None:
        """The first one, taken from the queue; None where there is none yet."""
        events = self._events
        self._looked = max(self._looked, events.first())
        while self._looked < events.count:
            number, self._looked = self._looked, self._looked + 1
            event = events.at(number)
            if event is not None and event.at >= self._since and self._pick(event):
                events.drop(number)
                return event
        return None


# Looked up once, not with each line.
_UNMATCHED, _EVENT, _UNEXPECTED, _ECHO = Role.UNMATCHED, Role.EVENT, Role.UNEXPECTED, Role.ECHO

# How many lines may still be echoed late.
_LATE_ECHOES = 8


class Engine:
    """`events` holds unsolicited events until they are taken; `known` are the values that patterns may require; `latest` has
    the captures of the last event of each name; `echoes` counts the echoes."""

    def __init__(self, dialect: Dialect) -> None:
        self.events = Events()
        self.known: Mapping[str, object] = NOTHING
        self.latest: dict[str, Mapping[str, object]] = {}
        self.echoes = 0
        # What has to be said at once, so that an answer goes on.
        self.due = b""
        self._state = IDLE
        self._station: int | None = None
        self._layers: tuple[Layer, ...] = ()
        self._exchange: Exchange | None = None
        self._echo: list[str] = []
        # Lines before this one whose echo has not come, if each line is echoed.
        self._echoed_late: deque[str] = deque(maxlen=_LATE_ECHOES)
        self.adopt(dialect)

    @property
    def state(self) -> State:
        """Where the connection is: the open exchange's state, or its own if none is open."""
        return self._exchange.state if self._exchange is not None else self._state

    def _move(self, step: Step) -> None:
        self._state = after(self.state, step)
        self._exchange = None

    def adopt(self, dialect: Dialect) -> None:
        """Uses this dialect from now on; incomplete input is dropped. Raises LocalProtocolError while an exchange is open."""
        if self._exchange is not None:
            raise LocalProtocolError("the dialect cannot change while an exchange is open")
        before = getattr(self, "dialect", None)
        self.dialect = dialect
        if before is None or before.speech is not dialect.speech:
            self._layers = stacked(dialect.speech)
            self.station = self._station
        self._sentences = dialect.form == "sentences"
        self._framer = cutter(dialect.speech, self._layers, dialect.headers)
        self._framer.prompts = dialect.prompts

    @property
    def station(self) -> int | None:
        """Which module is spoken to, if several share the line."""
        return self._station

    @station.setter
    def station(self, station: int | None) -> None:
        self._station = station
        for layer in self._layers:
            layer.station = station

    def encode(self, text: str, *, exact: bool = False) -> bytes:
        """The bytes of a line for this session. Raises InsertionFault."""
        return self.dialect.encode(text, exact=exact, layers=self._layers)

    @property
    def partial(self) -> str:
        """Input that is not complete yet."""
        return self._framer.pending

    def abandon(self) -> None:
        """Stops waiting for the answer to the last line; whatever still comes of it answers nothing."""
        if self._exchange is not None:
            self._move(ABANDON)

    def fail(self) -> None:
        """The link failed: nothing can be said or heard until it is renewed."""
        if self._state is not CLOSED:
            self._move(FAIL)

    def close(self) -> None:
        """The link was closed."""
        self._move(CLOSE)

    def renew(self) -> None:
        """Another link has taken the place of this one; incomplete input is dropped."""
        self._move(RENEW)
        self._framer.forget()

    def forget_partial(self) -> str:
        """Drops incomplete input; returns it."""
        pending = self._framer.pending
        self._framer.forget()
        return pending

    def require(self, step: Step) -> None:
        """Raises LocalProtocolError if the step is not allowed now."""
        if self._exchange is not None or self._state is CLOSED or self._state is FAILED:
            after(self.state, step)

    # -- saying -------------------------------------------------------------------------------------------------

    def begin(self, exchange: Exchange, text: str) -> None:
        """Opens an exchange whose `text` is said now. Raises LocalProtocolError while another is open, or after the link was
        closed or failed."""
        self.require(BEGIN)
        if self.dialect.speech.echo == "on":
            self._echoed_late.extend(self._echo)
        if self.dialect.speech.echo == "off":
            self._echo = []
        elif self.dialect.speech.in_digits:
            self._echo = ["".join(text.split()).upper()]
        elif text.isprintable():
            self._echo = [text] if text else []
        else:
            self._echo = [part for part in text.replace("\r", "\n").split("\n") if part]
        if exchange.state is not ENDED:
            self._exchange = exchange
            if exchange.prompt:
                self._framer.prompts = (exchange.prompt, *self.dialect.prompts)

    # -- hearing ------------------------------------------------------------------------------------------------

    def feed(self, data: bytes, now: float) -> list[Heard]:
        """Takes bytes that came at the time `now`. Raises LocalProtocolError after the link was closed."""
        if self._state is CLOSED:
            raise LocalProtocolError("bytes came, while the connection is closed")
        framer = self._framer
        pieces = framer.feed(data, now)
        heard: list[Heard] = []
        while pieces:
            prompts = framer.prompts
            self._judge_all(self._raised(pieces, now) if self._layers else pieces, now, heard)
            pieces = framer.look_again() if framer.prompts is not prompts else []
        return heard

    def _raised(self, pieces: list[Piece], now: float) -> list[Piece]:
        """Pieces from the framer through the layers above it. Where one has something to send, the answer goes on, and has as
        long again, but not for ever."""
        for layer in self._layers:
            pieces = layer.feed(pieces)
            if layer.due:
                self.due += layer.due
                layer.due = b""
                exchange = self._exchange
                if exchange is not None:
                    exchange.pages += 1
                    if exchange.pages <= MOST_PAGES:
                        exchange.deadline = max(exchange.deadline, now + self.dialect.within)
        return pieces

    def elapse(self, now: float) -> list[Heard]:
        """Takes the time: a piece may have ended by silence, an exchange by its limit."""
        heard: list[Heard] = []
        pieces = self._framer.elapse(now)
        if pieces:
            self._judge_all(self._raised(pieces, now), now, heard)
        exchange = self._exchange
        if exchange is not None and now >= exchange.deadline:
            if exchange.state is WAITING and self.dialect.form == "lines" and (cut := self._framer.pending):
                # Where lines have an ending, half a line is no answer: its rest may still come.
                exchange.cut(cut)
                heard.append(Heard(now, cut, Role.CORRUPT))
                self._framer.forget()
            exchange.elapse(now)
            self._close_if_ended()
        return heard

    def next_time(self) -> float | None:
        """When `elapse` is due, or None while nothing is waited for."""
        quiet = self._framer.deadline
        if self._exchange is None:
            return quiet
        limit = self._exchange.deadline
        return limit if quiet is None else min(limit, quiet)

    def _judge_all(self, pieces: list[Piece], now: float, heard: list[Heard]) -> None:
        events, dialect = self.events, self.dialect
        starts = dialect.starts if not self._sentences else None
        for piece in pieces:
            if not isinstance(piece, str):
                heard.append(self._judge(piece, now))
                continue
            if starts is not None and self._exchange is None and not self._echo:
                # Most unsolicited lines start like nothing that is known.
                known = starts.get(piece[:1])
                if known is None or piece[: known[0]] not in known[1]:
                    seen = Heard(now, piece, _UNMATCHED)
                    heard.append(seen)
                    events.add(seen)
                    continue
            heard.append(self._judge_line(piece, now))

    def _judge(self, piece: Corrupt | Foreign | Prompt, now: float) -> Heard:
        """One piece that is not a line for us."""
        exchange = self._exchange
        if not isinstance(piece, Prompt):
            text = self.dialect.speech.shown(piece.text)
            if exchange:
                exchange.overhear(text)
            return Heard(now, text, Role.CORRUPT if isinstance(piece, Corrupt) else _UNMATCHED)
        if exchange:
            exchange.hear_prompt(piece, now)
            self._after_answer(exchange)
        return Heard(now, piece.text, Role.PROMPT)

    def _judge_line(self, piece: str, now: float) -> Heard:
        exchange, text = self._exchange, piece
        if self._sentences and text[-3:-2] == "*":
            # The checksum was checked; patterns are written without it.
            text = text[:-3]
        if self._echo:
            if text in self._echo:
                self._echo.remove(text)
                self.echoes += 1
                return Heard(now, piece, _ECHO)
            if self.dialect.speech.end == "none" and text.startswith(self._echo[0]):
                text = text[len(self._echo.pop(0)) :]
                self.echoes += 1
        known = self.known
        if self._echo and exchange is not None and text in self._echoed_late:
            # A module that always echoes has not echoed this line yet: an earlier echo comes late, and is no value.
            self._echoed_late.remove(text)
            exchange.overhear(text)
            return Heard(now, piece, _UNEXPECTED)
        if exchange is not None:
            # A pattern that matches any line must not take a known event.
            event = self.dialect.event(text, known) if exchange.wants_anything() else None
            if event is None:
                role = exchange.hear(text, now)
                if role is not None:
                    self._after_answer(exchange)
                    return Heard(now, piece, role)
                event = self.dialect.event(text, known)
        elif (event := self.dialect.event(text, known)) is None and self.dialect.final(text):
            return Heard(now, piece, _UNEXPECTED)
        if event is not None:
            seen = Heard(now, text, _EVENT, *event)
            self.latest[seen.name] = seen.values
            self.events.add(seen)
            return seen if text == piece else Heard(now, piece, _EVENT, *event)
        if exchange is not None:
            exchange.interrupted(text)
        self.events.add(Heard(now, text, _UNMATCHED))
        return Heard(now, piece, _UNMATCHED)

    def _after_answer(self, exchange: Exchange) -> None:
        """The exchange may have ended, or await a prompt now."""
        if exchange.state is ENDED:
            self._close_if_ended()
        elif exchange.prompt and exchange.prompt not in self._framer.prompts:
            self._framer.prompts = (exchange.prompt, *self.dialect.prompts)
        elif not exchange.prompt and len(self._framer.prompts) > len(self.dialect.prompts):
            self._framer.prompts = self.dialect.prompts

    def _close_if_ended(self) -> None:
        if self._exchange is not None and self._exchange.state is ENDED:
            self._exchange, self._state = None, ENDED
            if self._framer.prompts is not self.dialect.prompts:
                self._framer.prompts = self.dialect.prompts
