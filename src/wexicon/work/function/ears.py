"""What a module sends by itself, taken in as it comes: events decoded, counted, and added up.

The rule: every line is counted; nothing grows with time. What may be shown is decoded at once.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Mapping
from decimal import Decimal

import msgspec

from wexicon.core.engineering.sketches import OverTime
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.module_state.starts import StartWatch
from wexicon.core.protocol.observations import Heard, Listener, Observation, Role, Started
from wexicon.core.protocol.session import Session
from wexicon.core.results.functions import HeardEvent, MessageSummary
from wexicon.core.standards.gnss import Sentence, SentenceFault, in_words, parse
from wexicon.core.text import spoken
from wexicon.core.values import Kind, ValueFault
from wexicon.work.function.tracks import Positions, States

# `--until` may name this instead of an event: the first position with a fix.
FIX = "fix"
# What is shown besides the lexicon's events: a message that was read, and a line that is not whole.
MESSAGE, DAMAGED = "message", "damaged"
# `--only` may name this: no event is shown.
NONE = "none"
_COUNTED = (Role.EVENT, Role.UNMATCHED, Role.UNEXPECTED)
_MOST_NAMES, _MOST_MESSAGES, _MOST_SERIES = 1000, 1000, 64
# A queue of reports of messages that are still to be read.
_MOST_WAITING = 100


class ListenOrder(msgspec.Struct, frozen=True, kw_only=True):
    """How to listen: for how many seconds (None: until it is stopped), until which event or `fix`; `only` are the events to
    show (empty: all); `action` is done first, and `ask` lets the module be asked; `check` fails if a timer was not observed, or
    not as it was granted."""

    duration: float | None = None
    until: str = ""
    only: tuple[str, ...] = ()
    action: str = ""
    ask: bool = False
    check: bool = False


class Ears(Listener):
    """Takes what a session hears, and adds it up. `show` is given each event as it comes, `state` has a line on where it is."""

    def __init__(self, lexicon: Lexicon | None, order: ListenOrder, show: Callable[[HeardEvent], object]) -> None:
        self.lexicon, self.order, self.show = lexicon, order, show
        # Called when nothing has come for a while.
        self.rests: Callable[[], object] = lambda: None
        self.session: Session | None = None
        self.open = False
        self.counts: dict[str, int] = {}
        self.unknown = self.damaged = self.starts = 0
        self.reached: float | None = None
        self.positions = Positions()
        self.states = States(lexicon.listening.timers if lexicon else ())
        self.series: dict[tuple[str, str], tuple[str, OverTime]] = {}
        self.messages: deque[MessageSummary] = deque(maxlen=_MOST_MESSAGES)
        # Reports of messages that are still to be read, as their event has them.
        self.waiting: deque[Mapping[str, object]] = deque(maxlen=_MOST_WAITING)
        self._checked = False
        action = lexicon.actions.get(order.action) if lexicon else None
        # Whether the action that is done first has the module start.
        self.restarting = bool(action and action.restarts)
        self._parts: dict[tuple[str, int, str], dict[int, str]] = {}
        self.began = 0.0
        self._watch = StartWatch((lambda: [lexicon]) if lexicon else (lambda: ()))
        kinds = lexicon.listening.kinds if lexicon else {}
        self._numbers: dict[str, list[tuple[str, Kind]]] = {
            event: [(name, kind) for name, kind in captures.items() if getattr(kind, "unit", "")]
            for event, captures in kinds.items()
        }

    def begin(self, session: Session) -> None:
        """Listening begins."""
        self.session, self.began, self.open = session, session.clock.now(), True
        self._checked = session.dialect.form == "sentences"

    def note(self, seen: Observation) -> None:
        start = self._watch.note(seen)
        if not self.open:
            return
        if start is not None:
            self.starts += 1
            self.positions.start(start.at - self.began, "its start")
        if isinstance(seen, Heard):
            if seen.role in _COUNTED:
                self._hear(seen)
            elif seen.role is Role.CORRUPT:
                self.damaged += 1
                self._show(seen, DAMAGED, {})
        elif isinstance(seen, Started):
            self.positions.start(seen.at - self.began, "its start")

    def _hear(self, seen: Heard) -> None:
        at = seen.at - self.began
        text, name = seen.text, seen.name
        sentence = _sentence(text, checked=self._checked)
        values: dict[str, str] = {}
        if sentence is not None:
            name = name or sentence.kind.lower()
            if self.positions.take(at, sentence) and self.order.until == FIX:
                self._reach(at)
        if not name:
            self.unknown += 1
        elif name in self.counts or len(self.counts) < _MOST_NAMES:
            self.counts[name] = self.counts.get(name, 0) + 1
        if seen.values:
            self._decode(at, name, seen.values)
        if self.order.until and name == self.order.until:
            self._reach(at)
        if sentence is not None and sentence.talker != "P":
            self._show(seen, name, None, sentence)
            return
        if self.lexicon and seen.values:
            shown = self.lexicon.listening.shown
            values = {key: shown(name, key, value) for key, value in seen.values.items()}
        self._show(seen, name, values)

    def idle(self) -> None:
        self.rests()

    def _decode(self, at: float, name: str, values: Mapping[str, object]) -> None:
        """States, numbers and messages among the captures of an event."""
        lexicon = self.lexicon
        if lexicon is None:
            return
        heard = lexicon.listening
        if (reports := heard.states.get(name)) and reports[1] in values:
            self.states.take(at, reports[0], heard.shown(name, reports[1], values[reports[1]]))
        for capture, kind in self._numbers.get(name, ()):
            if capture in values:
                self._number(at, name, capture, kind, values[capture])
        if heard.message and heard.message.event == name:
            self.waiting.append(values)

    def _number(self, at: float, event: str, capture: str, kind: Kind, value: object) -> None:
        try:
            found = kind.decode(str(value))
        except ValueFault:
            return
        if isinstance(found, int | float | Decimal) and (
            (event, capture) in self.series or len(self.series) < _MOST_SERIES
        ):
            unit = str(getattr(kind, "unit", ""))
            self.series.setdefault((event, capture), (unit, OverTime()))[1].add(at, float(found))

    def join(self, at: float, sender: str, text: str, part: str, reference: str) -> bool:
        """Takes a message that was read, `part` as in `2 of 3` where it is one of several with the same `reference`; whether a
        message is whole now."""
        number, _, parts = part.partition(" of ")
        if parts.isdigit() and int(parts) > 1 and number.isdigit():
            if len(self._parts) >= _MOST_WAITING:
                self._parts.pop(next(iter(self._parts)))
            have = self._parts.setdefault(key := (sender, int(parts), reference), {})
            have[int(number)] = text
            if len(have) < int(parts):
                return False
            text = "".join(have[one] for one in sorted(have))
            del self._parts[key]
        self.messages.append(MessageSummary(at=at, sender=sender, text=text))
        return True

    def halves(self) -> list[str]:
        """The messages of which parts are missing, in words."""
        return [
            f"{len(have)} of {parts} parts of a message from {sender} came"
            for (sender, parts, _), have in self._parts.items()
        ]

    def _reach(self, at: float) -> None:
        if self.reached is None:
            self.reached = at

    def _show(self, seen: Heard, name: str, values: dict[str, str] | None, sentence: Sentence | None = None) -> None:
        if self.order.only and name not in self.order.only:
            return
        assert self.session is not None
        if values is None:
            values = in_words(sentence) if sentence else {}
        wall = self.session.clock.wall(seen.at)
        at = round(seen.at - self.began, 6)
        self.show(HeardEvent(at=at, wall=wall, name=name, values=values, text=seen.text))

    def now(self) -> dict[str, str]:
        """Where it is, in words, for a view that shows that work goes on."""
        if not self.open or self.session is None:
            return {}
        told = {
            "listening": spoken(float(round(self.session.clock.now() - self.began))),
            "events": str(sum(self.counts.values()) + self.unknown),
        }
        if self.positions.reports:
            told["fix"] = "yes" if self.positions.has_fix else "no"
            told["satellites"] = str(len(self.positions.satellites))
        return told | {name: track.now for name, track in self.states.tracks.items()}


def _sentence(text: str, *, checked: bool) -> Sentence | None:
    """A line as a sentence, if it is one; `checked` if the session has looked at its checksum."""
    if text[:1] not in ("$", "!") or "*" not in text:
        return None
    try:
        return parse(text, checked=checked)
    except SentenceFault:
        return None
