"""Bringing a module to listen: by trying, by an escape, by pins, or by asking the operator.

The rule: it counts as listening only when it has answered. What was tried and heard is kept, so that a failure can say
what it points to.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from wexicon.core.faults import Unreachable
from wexicon.core.formats.fixture import Fixture
from wexicon.core.formats.lexicon import Lexicon, Phrase
from wexicon.core.operator import Operator
from wexicon.core.protocol.exchange import Outcome
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import LINE_ENDS
from wexicon.core.tuning import Tuning
from wexicon.work.causes import Try, garbled, point_to

# A module that answers half may become whole while its key is still held; only after this is it called half.
GRACE = 2.5
# How long to wait for an answer that comes at once if it comes at all.
QUICK = 0.3
# The same for one that takes its time.
SLOW = 1.0
# How long a jig takes the power away.
POWER_OFF = 0.3


class Hail:
    """Finds a module on a link and gets its attention. `tries` is what was tried and heard."""

    def __init__(
        self, session: Session, lexicon: Lexicon, operator: Operator, patience: float, fixture: Fixture | None = None
    ) -> None:
        self.session = session
        self.lexicon = lexicon
        self.operator = operator
        self.patience = patience
        self.fixture = fixture or Fixture()
        self.tries: list[Try] = []

    def find(self, likely: Sequence[Tuning] = ()) -> Tuning:
        """Gets attention and gives the tuning at which the module listens. `likely` links are tried first, then those
        of the lexicon. Raises Unreachable with what was tried, heard, and what it points to."""
        attention = self.lexicon.attention
        if attention.how == "held-key":
            return self._with_hands(self._candidates(likely)[:1])
        if attention.how == "control-line":
            if self.fixture.has(attention.pins):
                self.fixture.drive(self.session, attention.pins)
                self.session.quiet(self.lexicon.start.within)
            else:
                return self._with_hands(self._candidates(likely)[:1])
        candidates = self._candidates(likely)
        # The first round is quick; the second finds a module that had not started yet, or that takes its time.
        # The last tries what is seldom changed, the frame.
        rounds = [(QUICK, candidates), (SLOW, candidates), (QUICK, self._other_frames())]
        for within, tunings in rounds:
            for tuning in tunings:
                if self._listens_at(tuning, within):
                    return tuning
            if attention.window:
                return self._with_hands(candidates)
            self.session.quiet(self.lexicon.start.within)
        raise self._unreachable("the module does not answer")

    def _candidates(self, likely: Sequence[Tuning]) -> list[Tuning]:
        lexicon = self.lexicon
        if lexicon.attention.tuning:
            return [lexicon.attention.tuning]
        found = [*likely, lexicon.delivered]
        found += [msgspec.structs.replace(lexicon.delivered, rate=rate) for rate in lexicon.rates()]
        return list(dict.fromkeys(found))

    def _other_frames(self) -> list[Tuning]:
        if self.lexicon.attention.tuning:
            return []
        return [Tuning.of(rate, frame) for frame in self.lexicon.frames() for rate in self.lexicon.rates()]

    def _listens_at(self, tuning: Tuning, within: float) -> bool:
        self.session.tune(tuning)
        if self.tries and self.session.window:
            # What was heard at another rate is the beginning of a line to the module until its window is over.
            self.session.quiet(self.session.window)
        if self.lexicon.attention.how == "escape":
            # A module that listens already would take the escape for a command.
            if self._answers(QUICK):
                return True
            return self._escape() and (self._answers(within) or self._answers(within))
        if self._answers(within):
            return True
        # The first line may have met with garbage that the module heard of us at another rate, or be refused once.
        if (self.tries[-1].how == "error" or within > QUICK) and self._answers(within):
            return True
        return self._other_line_end()

    # -- asking the module ----------------------------------------------------------------------------------------

    def ask(self, phrase: Phrase, within: float | None = None) -> Outcome:
        """Says a harmless line; half a line from before cannot spoil the answer."""
        conversation = self.session.conversation
        pending = conversation.framer.pending
        conversation.adopt(conversation.speech)
        said = phrase.say.fill({})
        outcome = self.session.exchange(said, phrase.expect, within if within is not None else phrase.within)
        unasked = [event.text for event in conversation.events]
        heard = [pending, *outcome.heard, *(text for text in unasked if text not in outcome.heard)]
        conversation.events.clear()
        self._tried(said, outcome, heard)
        return outcome

    def _tried(self, said: str, outcome: Outcome, heard: Sequence[str]) -> None:
        kept = tuple(text for text in heard if text)
        session = self.session
        self.tries.append(Try(session.link.tuning, session.speech.end, said, outcome.how, kept, session.heard_for()))

    def _answers(self, within: float | None = None) -> bool:
        return self.ask(self.lexicon.attention.probe, within).ok

    def _other_line_end(self) -> bool:
        """An error to a harmless line may mean another line end than the lexicon's: the others are tried."""
        if self.tries[-1].how != "error":
            return False
        speech = self.session.speech
        for end in LINE_ENDS:
            if end != speech.end:
                self.session.adopt(msgspec.structs.replace(speech, end=end))
                if self._answers(QUICK):
                    self.session.decide(f"the module wants line end {end}, not {speech.end}")
                    return True
        self.session.adopt(speech)
        return False

    def _escape(self) -> bool:
        """Says the escape, with silence around it where the module wants that; whether it was answered."""
        attention = self.lexicon.attention
        self.session.pauses += attention.guard
        self.session.quiet(attention.guard)
        outcome = self.session.exchange(attention.escape, attention.answer, attention.guard + QUICK, exact=True)
        self._tried(attention.escape, outcome, outcome.heard)
        return outcome.ok

    # -- asking the operator --------------------------------------------------------------------------------------

    def _with_hands(self, candidates: Sequence[Tuning]) -> Tuning:
        """Tries; asks for hands, a jig's or the operator's; tries on until the module listens, or patience ends."""
        session, attention = self.session, self.lexicon.attention
        session.tune(candidates[0])
        if not attention.window:
            if self._listens() == "whole":
                return candidates[0]
            self.tries.clear()
        self._ask_for_hands(attention.operator)
        end = session.clock.now() + self.patience
        half_since: float | None = None
        while session.clock.now() < end:
            for tuning in candidates:
                session.tune(tuning)
                if attention.window and not self._escape():
                    continue
                state = self._listens()
                if state == "whole":
                    self.operator.noticed()
                    return tuning
                if state == "half":
                    now = session.clock.now()
                    half_since = now if half_since is None else half_since
                    if now - half_since > GRACE:
                        half_since = end
                        early = "The key was let go too early: only some commands are answered. "
                        self._ask_for_hands(early + attention.operator)
            session.quiet(0.1)
        if half_since is not None:
            raise Unreachable(
                "the module answers some commands only",
                where=session.link.name,
                hint="The key was let go too early. " + attention.operator,
            )
        self._look_in_data_mode()
        raise self._unreachable("the module did not come to command mode")

    def _ask_for_hands(self, text: str) -> None:
        """A fixture that can, does it; otherwise the operator is asked."""
        session, attention, fixture = self.session, self.lexicon.attention, self.fixture
        pins = (attention.power,) if attention.window else (attention.key, attention.power)
        if attention.how != "control-line" and fixture.has(pins):
            fixture.drive(session, dict.fromkeys(pins, True) | {attention.power: False})
            session.quiet(POWER_OFF)
            fixture.drive(session, {attention.power: True})
            if not attention.window:
                session.quiet(attention.hold + 0.1)
                fixture.drive(session, {attention.key: False})
            return
        session.trace.record(session.clock.now(), "asked", act="attention", text=text)
        self.operator.ask("attention", text)

    def _listens(self) -> str:
        """no, half or whole. The first line after a start may be answered with an error, so it is said again once."""
        if not self._answers(QUICK):
            heard = self.tries[-1].heard
            understood = self.tries[-1].how == "error" or any(not garbled(text) for text in heard)
            if not understood or not self._answers(QUICK):
                return "no"
        whole = self.lexicon.attention.whole
        if whole and not self.ask(whole, QUICK).ok:
            return "half"
        return "whole"

    # -- failure --------------------------------------------------------------------------------------------------

    def _data_links(self) -> list[Tuning]:
        delivered = self.lexicon.delivered
        return [msgspec.structs.replace(delivered, rate=rate) for rate in self.lexicon.rates()]

    def _look_in_data_mode(self) -> None:
        """A module that is not in command mode may still say something on its data link."""
        for tuning in self._data_links():
            self.session.tune(tuning)
            if self._answers(QUICK) or any(not garbled(text) for text in self.tries[-1].heard):
                return

    def _unreachable(self, what: str) -> Unreachable:
        data_links = self._data_links() if self.lexicon.attention.how == "held-key" else []
        cause = point_to(self.tries, data_links, self.lexicon.start_texts())
        self.session.decide(f"{what}: {cause.what}")
        return Unreachable(f"{what}: {cause.what}", where=self.session.link.name, hint=cause.next)
