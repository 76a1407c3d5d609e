"""Listening: what a module sends by itself, decoded as it comes, and what it adds up to.

The rule: nothing is said while listening, unless it may ask: then the module is asked at the beginning who it is and which
timers it has, and later for each message that it reports. Every line is counted; nothing grows with time.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Mapping
from decimal import Decimal

import msgspec

from wexicon.core.engineering.sketches import OverTime
from wexicon.core.faults import CallFault, ModuleFault, Stopped
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.observations import Finished, Heard, Listener, Observation, Role, Started
from wexicon.core.protocol.session import Session
from wexicon.core.results.functions import HeardEvent, ListeningResult, MessageSummary, SeriesSummary
from wexicon.core.results.result import Verdict, masked
from wexicon.core.standards.gnss import Sentence, SentenceFault, in_words, parse
from wexicon.core.text import counted, meant, spoken
from wexicon.core.values import Kind, ValueFault
from wexicon.work.contact.symptoms import with_cause
from wexicon.work.function.tracks import Positions, States
from wexicon.work.module.module import Module

# `--until` may name this instead of an event: the first position with a fix.
FIX = "fix"
# What is shown besides the lexicon's events: a message that was read, and a line that is not whole.
MESSAGE, DAMAGED = "message", "damaged"
# `--only` may name this: no event is shown.
NONE = "none"
_COUNTED = (Role.EVENT, Role.UNMATCHED, Role.UNEXPECTED)
_MOST_NAMES, _MOST_MESSAGES, _MOST_SERIES = 1000, 1000, 64
# How often the queue of events is emptied (seconds): the listener takes each as it comes.
_PASS = 1.0
# How long a pause ends a report, and how long one may be (seconds).
REST, MOST_REST = 0.05, 0.9
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
        self._starts = {
            name for name in (lexicon.events if lexicon else ()) if name == "ready" or name.startswith("start")
        }
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
        if not self.open:
            return
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
        if name in self._starts:
            self.starts += 1
            self.positions.start(at, "its start")
        elif seen.values:
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


class Listened(msgspec.Struct):
    """What came of listening: the result, and what is drawn of it."""

    result: ListeningResult
    positions: Positions
    states: States
    series: dict[tuple[str, str], tuple[str, OverTime]]


def check_order(order: ListenOrder, lexicon: Lexicon | None) -> None:
    """Raises Fault if an event that is named can never come, or what is asked for needs a lexicon, or another one."""
    if lexicon is None:
        if order.action or order.ask or order.check:
            what = f"{order.action or ('--ask' if order.ask else '--check')} needs the lexicon of the module"
            raise CallFault(what, hint="Name it: --lexicon NAME.")
        return
    family, known = lexicon.about.family, [*lexicon.events, MESSAGE, DAMAGED, NONE]
    for one in (*order.only, *([order.until] if order.until not in ("", FIX) else [])):
        if one not in known:
            raise CallFault(f"{family} has no event {one}", hint=meant(one, [*known, FIX]))
    if order.action and order.action not in lexicon.actions:
        raise CallFault(f"{family} has no action {order.action}", hint=meant(order.action, lexicon.actions))


def listen(session: Session, ears: Ears, module: Module | None = None) -> Listened:
    """Listens on a session that reports to `ears`. With a `module` it may ask, and an action is done first. Whatever ends it
    ends in the result."""
    order, lexicon = ears.order, ears.lexicon
    result = ListeningResult(port=session.link.name, lexicon=lexicon.about.family if lexicon else "", until=order.until)
    result.verdict = Verdict.DONE
    began, step = session.clock.now(), "attention"
    try:
        if module and (order.ask or order.action):
            session.begin_step(step, searching=True)
            module.attention.gain([*module.likely, module.lexicon.factory])
            step = "identify"
            session.begin_step(step)
            result.identity = dict(module.identify())
            if order.ask:
                _read_timers(module, ears)
            if step := order.action:
                session.begin_step(step)
                module.do(order.action, {})
        step = "listen"
        session.begin_step(step)
        session.events.clear()
        ears.begin(session)
        if order.action:
            ears.positions.start(0.0, order.action)
        _hear(session, ears, module)
        if order.until and ears.reached is None:
            what = f"{order.until} did not come within {spoken(order.duration or 0.0)}"
            why = ears.positions.why_not() if order.until == FIX else ""
            raise ModuleFault(what, where=session.link.name, hint=why[:1].upper() + why[1:])
    except Stopped as fault:
        if step != "listen" or order.duration is not None or order.until:
            result.ended_by(fault, step, session)
    except (Exception, KeyboardInterrupt) as fault:
        if step != "listen":
            with_cause(fault, session, lexicon)
        result.ended_by(fault, step, session)
    session.listener.flush()
    result.timed(session, ears.began if ears.open else began)
    _add_up(result, ears, session)
    if order.check and result.failure is None:
        _check(result, ears)
    unit = lexicon.unit_of(result.identity) if lexicon else ""
    session.tell(Finished(session.clock.now(), "listen", unit, str(result.verdict)))
    session.listener.flush()
    masked(result, session.secrets)
    return Listened(result, ears.positions, ears.states, ears.series)


def _read_timers(module: Module, ears: Ears) -> None:
    """What was asked of the network and what it granted, as the module has it now."""
    for track in ears.states.timers:
        if track.granted is not None:
            continue
        setting = module.lexicon.settings[track.timer.setting]
        if not setting.readable:
            continue
        read = module.settings.read([setting.name]).get(setting.name)
        value = read.value if read else None
        granted = module.settings.granted(setting.name)
        track.read(
            float(value) if isinstance(value, int) else None,
            float(granted.value) if granted and isinstance(granted.value, int) else None,
        )


def _hear(session: Session, ears: Ears, module: Module | None) -> None:
    order, clock = ears.order, session.clock
    until = None if order.duration is None else clock.now() + order.duration
    asks = module if order.ask else None
    done = lambda: ears.reached is not None or bool(asks and (ears.waiting or ears.states.due))  # noqa: E731
    while (until is None or clock.now() < until) and ears.reached is None:
        soon = clock.now() + _PASS
        session.listen(soon if until is None else min(soon, until), done)
        session.events.clear()
        if asks and ears.waiting:
            _read_message(asks, ears)
        if asks and ears.states.due:
            # The network grants timers with a registration: right before one runs they are there, and the module is awake.
            ears.states.due = False
            _read_timers(asks, ears)
    if order.until == FIX and ears.reached is not None:
        _hear_out(session)


def _hear_out(session: Session) -> None:
    """The rest of the report that had the fix."""
    session.wait_until_quiet(REST, MOST_REST)
    session.events.clear()


def _read_message(module: Module, ears: Ears) -> None:
    """Reads the message that was reported."""
    message, values = module.lexicon.listening.message, ears.waiting.popleft()
    assert message
    try:
        kept = module.do(message.read, dict(values))
    except ModuleFault as fault:
        module.session.log(f"the message cannot be read: {fault.what}")
        return
    now = module.session.clock.now()
    at, wall = round(now - ears.began, 3), module.session.clock.wall(now)
    sender, text = str(kept.get("sender", "")), str(kept.get("message", ""))
    told = {"sender": sender, "message": text}
    if ears.join(at, sender, text, str(kept.get("part", "")), str(kept.get("reference", ""))):
        told["message"] = ears.messages[-1].text
    else:
        told["part"] = str(kept["part"])
    if not ears.order.only or MESSAGE in ears.order.only:
        ears.show(HeardEvent(at=at, wall=wall, name=MESSAGE, values=told))


def _add_up(result: ListeningResult, ears: Ears, session: Session) -> None:
    if not ears.open:
        return
    ears.states.end(session.clock.now() - ears.began)
    result.events = dict(sorted(ears.counts.items()))
    result.unknown, result.damaged, result.starts = ears.unknown, ears.damaged, ears.starts
    result.reached = None if ears.reached is None else round(ears.reached, 6)
    result.position = ears.positions.summary()
    result.satellites = ears.positions.in_view()
    result.states = [track.summary() for track in ears.states.tracks.values()]
    result.timers = [track.summary() for track in ears.states.timers if track.count or track.missed or track.asked]
    result.series = [
        SeriesSummary(
            event=event,
            name=name,
            unit=unit,
            count=one.count,
            least=one.whole.least,
            mean=one.whole.mean,
            most=one.whole.most,
        )
        for (event, name), (unit, one) in ears.series.items()
        if one.whole
    ]
    result.messages = list(ears.messages)
    result.remarks += _remarks(result, ears)


def _check(result: ListeningResult, ears: Ears) -> None:
    """Each timer must have been observed, and each time as it was granted; as it was asked, if the module does not report what
    was granted."""
    wrong, unread = [], False
    for one in ears.states.timers:
        name = one.timer.setting
        setting = ears.lexicon.settings[name] if ears.lexicon else None
        reported = setting and setting.granted
        if not one.count:
            wrong.append(f"{name} was not observed")
        elif one.wanted is None or (one.granted is None and reported):
            wrong.append(f"{name} was observed, but what was granted was not read")
            unread = True
        elif found := one.differences():
            wrong += found
        elif one.within < one.count:
            wrong.append(f"{name}: only {one.within} of {one.count} times were compared with what was granted")
    if wrong or not ears.states.timers:
        what = "; ".join(wrong) or "the lexicon has no timers to check"
        hint = "Let it be asked: --ask." if unread and not ears.order.ask else ""
        result.ended_by(ModuleFault(what, where=result.port, hint=hint), "check")


def _remarks(result: ListeningResult, ears: Ears) -> list[str]:
    told = []
    if not result.events and not result.unknown and not result.damaged:
        told.append("nothing came: if something should have, check rate, wires and power with wexicon hail")
    if result.damaged:
        whole = sum(result.events.values()) + result.unknown + result.damaged
        told.append(
            f"{result.damaged} of {whole} lines were damaged: a wrong rate, noise, or more than the rate can carry"
        )
    told += ears.halves()
    if result.starts > ears.restarting:
        told.append(f"the module started {counted(result.starts, 'time')} while listening")
    if (position := result.position) and not position.fixes and not result.failure:
        told.append(f"no fix: {ears.positions.why_not()}")
    elif position and position.fixes and position.first_fix is None:
        told.append("it had a fix when listening began: the time to the first fix was not observed")
    return told
