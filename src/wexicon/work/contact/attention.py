"""Bringing a module to listen, and back to it: by trying, by an escape, by pins, or by asking the operator.

The rule: a module counts as listening only when it has answered. What was tried and heard is kept, so that a failure can
say what it points to. Who has a module's attention keeps it: what ends it is known here, and it is taken back here.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from enum import Enum

import msgspec

from wexicon.core.faults import CannotTune, ModuleFault, Part, Unreachable
from wexicon.core.formats.fixture import Fixture
from wexicon.core.formats.lexicon import AttentionBy, Lexicon, Phrase
from wexicon.core.operator import Operator
from wexicon.core.protocol.dialect import Dialect, Reply, ReplyStatus
from wexicon.core.protocol.session import Session
from wexicon.core.text import garbled, to_bytes
from wexicon.core.tuning import USUAL_RATES, Tuning
from wexicon.work.contact.causes import Try, makes_sense, may_be_joined, point_to
from wexicon.work.contact.ledger import LONGER, CycleAsked, Left, Observer
from wexicon.work.contact.power import PowerSwitch

# How long the operator is given (seconds).
PATIENCE = 60.0
# A module that answers half may become whole while its key is still held; only after this is it called half.
KEY_HELD_WITHIN = 2.5
# How long to wait for an answer that comes at once if it comes at all: when there is much to try, and when it matters.
AT_ONCE = 0.06
QUICK = 0.3
# The same for one that takes its time.
SLOW = 1.0
# How long the rest of an answer in pages may take (seconds).
PAGE = 0.3
# The line ends in the order in which they are tried: what one leaves behind must not spoil the next.
OTHER_ENDS = ("crlf", "cr", "lf", "none")
# Seconds for the likeliest link in the first round, if the lexicon's timeout is at least that.
LIKELY = 0.5
# How long after its answer a module may move to another rate.
MOVES_WITHIN = 1.5
# Seconds of trying without an operator, for a module that only an operator can bring to listen.
NOBODY = 3.0
# How long after operators have moved the likeliest link is tried alone, beyond what the lexicon says a start takes.
ALONE = 2.0
# In every this-many-th round a slow module gets its full timeout.
PATIENT_EACH = 3


class Answers(Enum):
    """Which commands a module answers: none, those that need no key, or all."""

    NONE = "none"
    SOME = "some"
    ALL = "all"


class Attention:
    """One module's attention on one link. `held` is whether it listens, as far as we know; `managed` whether we got it and
    so may take it back; `tries` is what was tried and heard in the last search."""

    def __init__(
        self,
        session: Session,
        lexicon: Lexicon,
        operator: Operator,
        *,
        patience: float = PATIENCE,
        fixture: Fixture | None = None,
    ) -> None:
        self.session = session
        self.lexicon = lexicon
        self.observer = Observer(session, lexicon)
        self.ledger = self.observer.ledger
        self.operator = operator
        self.patience = patience
        self.fixture = fixture or Fixture()
        self.held = False
        self.managed = False
        # What is done each time it has been gained.
        self.unlock: Callable[[], object] = lambda: None
        # Whether it asked for a login when it was last looked for.
        self.locked = False
        # Called with the link at which it was gained, each time.
        self.gained: Callable[[Tuning], object] = lambda found: None
        self.tries: list[Try] = []
        # From where to where it was last told to move, until it has answered there.
        self.moving: tuple[Tuning, Tuning] | None = None
        self._echoes = 0
        # What the lexicon says otherwise than the module was found to be.
        self.remarks: list[str] = []
        self._just_left = self._stays = False
        self._spoke_at = session.clock.now()
        self.power = PowerSwitch(self.observer, self.fixture, operator, lexicon.attention)

    # -- having it ------------------------------------------------------------------------------------------------

    def keep(self) -> None:
        """Makes sure of it before something is said: takes it back where the module let it go, by itself or because of
        what it was ordered."""
        lasts = self.lexicon.attention.lasts
        over = bool(lasts) and self.session.clock.now() - self._spoke_at > lasts * 0.8
        if self.managed and (over or not self.held):
            why = "command mode timed out" if over and self.held else "the module left command mode"
            self.session.log(f"{why}; entering it again")
            self.ledger.note(Left(self.session.clock.now()))
            self.gain([self.session.link.tuning])

    def spoke(self) -> None:
        """The module has just answered: what it lets go after a while begins anew."""
        self._spoke_at = self.session.clock.now()

    def lose(self) -> None:
        """The module no longer listens."""
        self.held = False

    def gain(
        self, likely: Sequence[Tuning] = (), *, just_left: bool = False, by_operator: bool = False, known: bool = False
    ) -> Tuning:
        """Gets attention and gives the tuning at which the module listens. `likely` links are tried first, then those
        of the lexicon; `just_left` where the module is known not to listen, `by_operator` where operators are to do it in any
        case; `known` if the first link is where it answered last: nothing is said at other rates to a module that may pass it
        on to a peer. Raises Unreachable with what was tried, heard, and what it points to.
        """
        self._just_left = just_left
        self._stays = known and bool(likely) and self.lexicon.attention.passes_on
        self.tries.clear()
        found = self._with_operator(self._candidates(likely)) if by_operator else self._find(likely)
        self.held = self.managed = True
        self.spoke()
        self.gained(found)
        self.open_up()
        return found

    def open_up(self) -> None:
        """Unlocks a module that listens and does nothing else before. Raises ModuleFault if it stays locked."""
        if self.lexicon.attention.locked:
            if self.locked:
                self.unlock()
                if not self._answers(self.session.dialect.within) or self.locked:
                    raise ModuleFault("the module still asks for its login", where=self.session.link.name)
        else:
            self.unlock()
        self._choose()

    def _choose(self) -> None:
        """Of several modules behind the port, chooses the one that is spoken to. Raises ModuleFault."""
        select, station = self.lexicon.attention.select, self.session.link.tuning.station
        if select is None or station is None:
            return
        outcome = self.session.exchange(select.say.fill({"station": str(station)}), select.expect, select.within)
        numbers = [value for value in outcome.captures.values() if isinstance(value, int)]
        if outcome.ok and numbers and station not in numbers:
            raise ModuleFault(
                f"module {station} behind this port was chosen, and it answered as {numbers[0]}",
                where=self.session.link.name,
                part=Part.of(outcome),
            )
        if not outcome.ok:
            hint = f"The lexicon says 1 to {self.lexicon.attention.stations}; name it in the port: PORT#2"
            raise ModuleFault(
                f"module {station} behind this port cannot be chosen", where=self.session.link.name, hint=hint
            )

    def needs_operator(self) -> bool:
        """Whether gaining attention needs an operator who is not a fixture."""
        attention = self.lexicon.attention
        if attention.how is AttentionBy.CONTROL_LINE:
            return not self.fixture.has(attention.pins)
        if attention.window:
            return not self.fixture.has([attention.power]) and not self.lexicon.restart()
        return attention.how is AttentionBy.HELD_KEY and not self.fixture.has([attention.key, attention.power])

    def patient(self) -> float:
        """How long to wait for an answer that comes at once: longer than for any that came in this session."""
        return max(self._soon(), LONGER * self.ledger.slowest())

    def answers_at(self, tuning: Tuning, within: float = AT_ONCE) -> bool:
        """Whether a harmless line is answered on this link now."""
        session = self.session
        session.tune(tuning)
        within = max(within, self.patient())
        # What it heard of us at another rate may have spoilt the first line.
        return self._answers(within) or (self.tries[-1].status is ReplyStatus.ERROR and self._answers(within))

    def _soon(self) -> float:
        """How long an answer takes that comes at once: the lexicon's own word for its probe, or a moment, the silence that
        ends it and its time on the wire."""
        stated = self.lexicon.attention.probe.within
        return (
            stated
            if stated is not None
            else AT_ONCE + self.session.dialect.gap + self.session.link.tuning.wire_time(24)
        )

    def prove(self, links: Sequence[Tuning]) -> None:
        """The module was ordered to go to the first of these links: waits for its answer there, and looks where it is if none
        comes. It may go some time after it said so, so an answer on an earlier link counts only in the end."""
        session = self.session
        until = session.clock.now() + MOVES_WITHIN
        elsewhere: Tuning | None = None
        while True:
            elsewhere = None
            for link in links:
                if link != links[0] and session.dialect.window:
                    session.quiet(session.dialect.window)
                if self.answers_at(link):
                    if link == links[0]:
                        self.spoke()
                        return
                    elsewhere = link
                    break
            if session.clock.now() >= until:
                break
        if elsewhere is None:
            self.moving = (links[-1], links[0])
            self.gain(links)
            self.moving = None
        self.spoke()

    # -- finding the module ---------------------------------------------------------------------------------------

    def _find(self, likely: Sequence[Tuning]) -> Tuning:
        attention = self.lexicon.attention
        candidates = self._candidates(likely)
        if attention.how is AttentionBy.HELD_KEY:
            return self._with_operator(candidates)
        if attention.how is AttentionBy.CONTROL_LINE:
            if not self.fixture.has(attention.pins):
                return self._with_operator(candidates)
            self.fixture.drive(self.session, attention.pins)
            self.session.quiet(self.lexicon.start.within)
        # The first round is quick but at the likeliest link; the second finds a module that had not started yet, or that
        # takes its time, where it was heard if it was heard anywhere. The last tries what is seldom changed, the frame.
        slow = max(SLOW, attention.probe.within or 0.0)
        for tuning in candidates:
            patient = tuning is candidates[0] and attention.how is AttentionBy.ALWAYS
            if self._listens_at(tuning, min(self.session.dialect.within, LIKELY) if patient else 0.0):
                return tuning
            if self._stays:
                if self._listens_at(tuning, slow):
                    return tuning
                raise self._unreachable("the module does not answer")
        if attention.window:
            return self._with_operator(candidates)
        self.session.quiet(self.lexicon.start.within)
        heard_at = self.heard_at()
        for within, tunings in (
            (slow, heard_at or candidates),
            (QUICK, self._other_frames({one.rate for one in heard_at})),
        ):
            for tuning in tunings:
                if self._listens_at(tuning, within):
                    return tuning
            self.session.quiet(self.lexicon.start.within)
        if found := self._otherwise(self.heard_at() or candidates[:1]):
            return found
        for tuning in self._other_stations(heard_at or candidates):
            if self._listens_at(tuning, 0.0):
                return tuning
        raise self._unreachable("the module does not answer")

    def heard_at(self) -> list[Tuning]:
        """The links on which something was heard that makes sense, the latest first."""
        found = [one.tuning for one in self.tries if one.echoed or makes_sense(self.lexicon, one.heard)]
        return list(dict.fromkeys(reversed(found)))[:2]

    def _otherwise(self, tunings: Sequence[Tuning]) -> Tuning | None:
        """What the lexicon does not say, each way tried once: the other line ends where the module was heard or is likeliest;
        the usual rates, where nothing was heard at all."""
        for tuning in tunings:
            self.session.tune(tuning)
            if self._other_line_end():
                return tuning
        if not self.heard_at() and not self.lexicon.attention.tuning and not self.lexicon.attention.window:
            tried = {one.tuning.rate for one in self.tries}
            for rate in (rate for rate in USUAL_RATES if rate not in tried):
                tuning = msgspec.structs.replace(tunings[0], rate=rate)
                if self._listens_at(tuning, 0.0):
                    self.remark(f"the module answers at {tuning}, not listed in the lexicon")
                    return tuning
        return None

    def remark(self, text: str) -> None:
        """Reports something that was noticed besides."""
        if text not in self.remarks:
            self.remarks.append(text)
            self.session.log(text)

    def _candidates(self, likely: Sequence[Tuning]) -> list[Tuning]:
        lexicon = self.lexicon
        if self.session.fixed:
            return [self.session.fixed]
        if lexicon.attention.tuning:
            return [lexicon.attention.tuning]
        found = [*likely, lexicon.factory]
        found += [msgspec.structs.replace(lexicon.factory, rate=rate) for rate in lexicon.rates()]
        return list(dict.fromkeys(found))

    def _other_frames(self, heard_at: Collection[int]) -> list[Tuning]:
        """Frames that are seldom changed, at the rates at which something was heard, or at all."""
        if self.lexicon.attention.tuning or self.session.fixed:
            return []
        rates = [rate for rate in self.lexicon.rates() if not heard_at or rate in heard_at]
        return [Tuning.of(rate, frame) for frame in self.lexicon.frames() for rate in rates]

    def _other_stations(self, candidates: Sequence[Tuning]) -> list[Tuning]:
        """The other numbers that the module may have among those that share the line, on the likeliest links."""
        stations = self.lexicon.stations()
        return [msgspec.structs.replace(link, station=station) for link in candidates for station in stations]

    def _tuned(self, tuning: Tuning) -> bool:
        """Tunes our side, where the port can."""
        if self.session.fixed and tuning != self.session.fixed:
            return False
        try:
            self.session.tune(tuning)
        except CannotTune as fault:
            self.remark(fault.what)
            return False
        return True

    def _listens_at(self, tuning: Tuning, within: float) -> bool:
        session = self.session
        if not self._tuned(tuning):
            return False
        within = max(within, self._soon())
        if self.tries and session.dialect.window:
            # Bytes sent at a wrong rate are the start of a line to the module until its window is over.
            session.quiet(session.dialect.window)
        if self.lexicon.attention.how is AttentionBy.ESCAPE:
            # A module that listens already would take the escape for a command.
            guarded = self.lexicon.attention.guard > 0
            if not guarded and self._escape() and self._answers(within):
                return True
            if not self._just_left and self._answers(within):
                return True
            if self.tries and self.tries[-1].status is ReplyStatus.ERROR:
                # It listens, and what it had heard of us at another rate spoilt the line.
                session.wait_until_quiet(AT_ONCE, QUICK)
                if self._answers(QUICK):
                    return True
            if self._escape() and (self._answers(within) or self._answers(within)):
                return True
            # It may not have left command mode, and then takes the escape for a command.
            return self._just_left and self._answers(within)
        if self.tries and session.dialect.line_end and session.dialect.form == "lines":
            # Bytes sent at a wrong rate are the start of a line to the module: this ends it.
            session.send(session.dialect.line_end.encode())
            if session.dialect.prompts:
                # The prompt that this brings must not end the next answer.
                session.wait_until_quiet(AT_ONCE, QUICK)
        if self._answers(within):
            return True
        # The first line may have met with garbage that the module heard of us at another rate, or be refused once.
        if self.tries[-1].status is ReplyStatus.ERROR:
            session.wait_until_quiet(AT_ONCE, QUICK)
            return self._answers(within) or self._other_line_end()
        return within > QUICK and self._answers(within)

    # -- asking the module ----------------------------------------------------------------------------------------

    def ask(self, phrase: Phrase, within: float | None = None) -> Reply:
        """Says a harmless line; half a line from before cannot spoil the answer."""
        session = self.session
        pending = session.forget_partial()
        said = phrase.say.fill({}).text
        outcome = self.observer.observed(
            lambda: session.exchange(said, phrase.expect, within if within is not None else phrase.within)
        )
        unasked = [event.text for event in session.events]
        heard = [pending, *outcome.heard, *(text for text in unasked if text not in outcome.heard)]
        session.events.clear()
        self._tried(said, outcome, heard)
        return outcome

    def _tried(self, said: str, outcome: Reply, heard: Sequence[str]) -> None:
        session = self.session
        # A module that echoes and waits for another line end echoes the same bytes again and again.
        kept = tuple(text for text in heard if text and (not said or text.replace(said, "")))
        echoed = session.echoes != self._echoes or len(kept) < sum(map(bool, heard))
        self._echoes = session.echoes
        end = session.dialect.speech.end
        self.tries.append(Try(session.link.tuning, end, said, outcome.status, kept, session.heard_for(), echoed))

    def _answers(self, within: float | None = None) -> bool:
        probe, attention = self.lexicon.attention.probe, self.lexicon.attention
        if attention.locked and self._asks_for_login(within):
            return True
        reply = self.ask(probe, within)
        more = self.lexicon.speech.more
        # It may sleep, or wait at the end of a page that an earlier session left.
        for wake, pause in ((attention.wake, attention.wakes_within), (more.say if more else "", PAGE)):
            if wake and reply.status is ReplyStatus.SILENCE and not reply.heard:
                self.session.send(to_bytes(wake))
                self.session.quiet(pause)
                reply = self.ask(probe, within)
        # It answers, and asks for a login.
        self.locked = reply.status is ReplyStatus.OTHER and bool(attention.locked)
        return reply.ok or self.locked

    def _asks_for_login(self, within: float | None) -> bool:
        """Whether it asks for a login. An empty line tells: a question would be taken for the name."""
        outcome = self.observer.observed(lambda: self.session.exchange("", within=within))
        self.locked = outcome.status is ReplyStatus.OTHER
        return self.locked

    def _other_line_end(self) -> bool:
        """An error to a harmless line, or silence, may mean another line end than the lexicon's: the others are tried."""
        dialect, session = self.session.dialect, self.session
        if dialect.speech.in_digits:
            return False
        for end in OTHER_ENDS:
            if end != dialect.speech.end:
                session.adopt(dialect.with_end(end))
                if dialect.window:
                    session.quiet(dialect.window)
                # What the module has of the lines before would are in front of this one.
                session.send(session.dialect.line_end.encode())
                session.wait_until_quiet(AT_ONCE, QUICK)
                if self._answers_otherwise():
                    if self._answers_again(dialect):
                        return True  # it was late, and its line ending is right
                    session.adopt(dialect.with_end(end))
                    # What it has of the question with the other line end would be in front of the next line.
                    session.send(session.dialect.line_end.encode())
                    session.wait_until_quiet(AT_ONCE, QUICK)
                    self.remark(f"the module needs line ending {end}, not {dialect.speech.end} as the lexicon says")
                    return True
        session.adopt(dialect)
        return False

    def _answers_again(self, dialect: Dialect) -> bool:
        """Whether it answers in the lexicon's own dialect after all."""
        session = self.session
        session.adopt(dialect)
        if dialect.window:
            session.quiet(dialect.window)
        session.wait_until_quiet(AT_ONCE, QUICK)
        return self._answers_otherwise()

    def _answers_otherwise(self) -> bool:
        within = max(QUICK, min(self.session.dialect.within, SLOW))
        if self._answers(within):
            return True
        if self.tries[-1].status is ReplyStatus.ERROR:
            return self._answers(within)
        return self.lexicon.attention.escape_opens and self._escape() and self._answers(within)

    def _escape(self) -> bool:
        """Says the escape, with silence around it where the module wants that; whether it was answered."""
        attention, session = self.lexicon.attention, self.session
        before = session.clock.now()
        session.silence(attention.guard)
        session.pauses += session.clock.now() - before
        outcome = session.exchange(attention.escape, attention.answered, attention.guard + self._soon(), exact=True)
        self._tried(attention.escape, outcome, outcome.heard)
        return outcome.ok

    # -- asking the operator --------------------------------------------------------------------------------------

    def _with_operator(self, candidates: Sequence[Tuning]) -> Tuning:
        """Tries; asks the fixture or the operator; goes on until the module listens or time runs out."""
        session, attention = self.session, self.lexicon.attention
        if not attention.window:
            candidates = candidates[:1]
        session.tune(candidates[0])
        if not attention.window and not self._just_left:
            if self._listens() == Answers.ALL:
                return candidates[0]
            self.tries.clear()
        nobody = self.needs_operator() and not self.operator.there
        self._ask_operator(attention.operator)
        end = session.clock.now() + (min(self.patience, NOBODY) if nobody else self.patience)
        # Where it is most likely to answer is tried alone for as long as a start takes.
        alone = session.clock.now() + self.lexicon.start.within + ALONE
        half_since: float | None = None
        turn = 0
        while session.clock.now() < end:
            for tuning in candidates if session.clock.now() > alone else candidates[:1]:
                session.heed_stop()
                session.tune(tuning)
                if attention.window and not self._escape():
                    continue
                turn += 1
                state = self._listens(patient=turn % PATIENT_EACH == 0)
                if state == Answers.ALL:
                    self.operator.noticed()
                    return tuning
                if state == Answers.SOME:
                    now = session.clock.now()
                    half_since = now if half_since is None else half_since
                    if now - half_since > max(KEY_HELD_WITHIN, attention.hold + self.lexicon.start.within):
                        half_since = end
                        early = "The key was released too early: only some commands are answered. "
                        self._ask_operator(early + attention.operator)
            session.quiet(0.02)
        if half_since is not None:
            raise Unreachable(
                "the module answers some commands only",
                where=session.link.name,
                hint="The key was released too early. " + attention.operator,
            )
        heard_at = self.heard_at()
        if found := self._otherwise(heard_at[:1] or candidates[:1]):
            self.operator.noticed()
            return found
        if not heard_at:
            self._look_elsewhere()
        raise self._unreachable("the module did not enter command mode")

    def _ask_operator(self, text: str) -> None:
        """A fixture that can, does it; otherwise the operator is asked."""
        session, attention, fixture = self.session, self.lexicon.attention, self.fixture
        pins = (attention.power,) if attention.window else (attention.key, attention.power)
        if attention.how is not AttentionBy.CONTROL_LINE and fixture.has(pins):
            keys = {} if attention.window else {attention.key: True}
            with fixture.restored(session, dict.fromkeys(keys, False)):
                fixture.drive(session, keys)
                self.cut_power()
                if keys:
                    session.quiet(attention.hold + 0.1)
            return
        session.asked("attention", text)
        if attention.power_up or attention.window:
            self.ledger.note(CycleAsked(session.clock.now(), attention.power_up and not attention.window))
        self.operator.ask("attention", text)

    def cut_power(self, *, stays_off: bool = False) -> None:
        """Takes the power away and gives it back, and reports a module that goes on answering without it."""
        probe = self.lexicon.attention.probe
        for told in self.power.cut(lambda: self.ask(probe, self.observer.quick_look()).ok, stays_off=stays_off):
            self.remark(told)

    def _listens(self, *, patient: bool = False) -> Answers:
        """Which commands it answers. The first line after a start may be answered with an error, so it is said again once.
        `patient` gives a module that takes its time all that the lexicon says an answer may take."""
        within = max(self._soon(), self.session.dialect.within) if patient else self._soon()
        if patient and self.ledger.any_late():
            # Answers to earlier questions, still on their way, must not be taken for the answers to these.
            self.session.await_outstanding()
        if not self._answers(within):
            heard = self.tries[-1].heard
            understood = self.tries[-1].status is ReplyStatus.ERROR or any(not garbled(text) for text in heard)
            if not understood or not self._answers(within):
                return Answers.NONE
        whole = self.lexicon.attention.whole
        if whole and not self.ask(whole, max(within, QUICK)).ok:
            return Answers.SOME
        return Answers.ALL

    # -- failure --------------------------------------------------------------------------------------------------

    def _data_links(self) -> list[Tuning]:
        factory = self.lexicon.factory
        return [msgspec.structs.replace(factory, rate=rate) for rate in self.lexicon.rates()]

    def _look_elsewhere(self) -> None:
        """A module that is not in command mode may still say something on its data link, or listens at another rate."""
        links = self._data_links()
        usual = [msgspec.structs.replace(links[0], rate=rate) for rate in USUAL_RATES]
        for tuning in dict.fromkeys((*links, *usual)):
            if self._tuned(tuning) and (self._answers(QUICK) or self.heard_at()):
                return

    def _unreachable(self, what: str) -> Unreachable:
        data_links = self._data_links() if self.lexicon.attention.how is AttentionBy.HELD_KEY else []
        cause = point_to(self.tries, self.lexicon, data_links, self.moving)
        if self._stays and cause.kind == "silence":
            cause = may_be_joined(self.session.link.tuning, self.session.link.name)
        self.session.log(f"{what}: {cause.what}")
        # Of one try: what was heard belongs to what was said.
        legible = [one for one in self.tries if any(not garbled(text) for text in one.heard)]
        told = (legible or [one for one in self.tries if one.heard] or self.tries)[-1:]
        part = Part(told[0].said, heard=list(told[0].heard)) if told else Part()
        return Unreachable(f"{what}: {cause.what}", where=self.session.link.name, hint=cause.next, part=part)
