"""One link, one clock, one conversation: says a line and gives back all that answered it, and keeps the trace.

The rule: the session asks the link for the time and never waits on anything else; under the virtual clock and under
the real one it is the same code. Whatever a module sends is taken in, also while nobody waits for it. A stop is heeded
between two exchanges, never inside one.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, Protocol

from wexicon.core.durations import seconds, spoken
from wexicon.core.faults import ModuleFault, Stopped
from wexicon.core.protocol.exchange import OK, Conversation, Event, Expectation, Outcome
from wexicon.core.protocol.insertion import InsertionFault
from wexicon.core.protocol.link import Link
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.speech import Speech
from wexicon.core.text import to_text
from wexicon.core.tuning import Tuning

HIDDEN = "(secret)"
# How long to leave a module that is busy alone, and when to take it for an answer (seconds).
BUSY_FOR = 0.25
MOST_BUSY = 60.0
_MAY_HOLD_SECRETS = ("echo", "answer", "aside", "broken")


class Trace(Protocol):
    """Where a session puts what happens. `at` is the link's time in seconds; `what` is said, heard, tuned, signalled,
    asked, decided; the fields belong to it."""

    def record(self, at: float, what: str, **fields: Any) -> None: ...


class NoTrace:
    """Keeps nothing."""

    def record(self, at: float, what: str, **fields: Any) -> None:
        pass


class Session:
    """Everything above speaks through this. `stopping` is asked between exchanges whether the person wants to stop."""

    def __init__(
        self,
        link: Link,
        speech: Speech,
        events: Mapping[str, Pattern] | None = None,
        trace: Trace | None = None,
        stopping: Callable[[], bool] = lambda: False,
    ) -> None:
        self.link = link
        self.clock = link.clock
        self.trace: Trace = trace or NoTrace()
        self.conversation = Conversation(speech, events)
        self.stopping = stopping
        self.exchanges = 0
        # Where the time went, in seconds: bytes on the wire both ways, and pauses that we made ourselves.
        self.on_wire = 0.0
        self.pauses = 0.0
        self._sent_until = 0.0
        self._heard_at = float("-inf")
        self._masks = False
        self._hearing_since: float | None = None
        self.adopt(speech)

    @property
    def speech(self) -> Speech:
        """How the module is spoken to now."""
        return self.conversation.speech

    def adopt(self, speech: Speech) -> None:
        """Speaks this way from now on."""
        if speech is not self.conversation.speech:
            self.conversation.adopt(speech)
        self._within = seconds(speech.within)
        self._rest = seconds(speech.rest)
        self.window = seconds(speech.window) if speech.window else 0.0

    # -- one exchange -------------------------------------------------------------------------------------------

    def exchange(
        self,
        text: str,
        expect: Expectation = OK,
        within: float | None = None,
        *,
        exact: bool = False,
        shown: str | None = None,
    ) -> Outcome:
        """Says one line and waits for all that answers it, at the longest `within` seconds after it is sent.

        `shown` is given where a secret is said or heard: it stands for the line in the trace and in the outcome, and of
        the answer only the module's yes or no is shown. A module that is busy for now is told again when it may be.
        """
        patience = self.clock.now() + MOST_BUSY
        while True:
            outcome = self._exchange(text, expect, within, exact, shown)
            if outcome.how != "busy" or self.clock.now() >= patience:
                return outcome
            wait = float(outcome.code) if outcome.code.isdigit() else BUSY_FOR
            self.quiet_until(self.clock.now() + min(wait, MOST_BUSY))

    def _exchange(
        self, text: str, expect: Expectation, within: float | None, exact: bool, shown: str | None
    ) -> Outcome:
        self.heed_stop()
        if self._rest:
            self.quiet_until(self._heard_at + self._rest)
        self.drain()
        clock, conversation = self.clock, self.conversation
        now = clock.now()
        try:
            data = conversation.begin(text, expect, now, exact=exact)
        except InsertionFault as fault:
            raise ModuleFault(str(fault), where=self.link.name) from None
        if self.window and self.link.tuning.wire_time(len(data)) > self.window:
            what = (
                f"at {self.link.tuning} the line takes longer than the {spoken(self.window)} in which it must have come"
            )
            raise ModuleFault(what, where=self.link.name, hint="Shorten the line, or raise the rate.")
        self._masks = shown is not None
        self._send(data, text if shown is None else shown, now, exact)
        conversation.deadline = self._sent_until + (self._within if within is None else within)
        if conversation.outcome is None:
            self._take_in()
        self.exchanges += 1
        outcome = conversation.outcome
        assert outcome is not None
        if shown is not None:
            outcome.said, outcome.heard = shown, [HIDDEN for _ in outcome.heard]
        return outcome

    def send(self, data: bytes) -> None:
        """Sends bytes as they are, and waits for nothing."""
        self._send(data, to_text(data), self.clock.now(), True)

    def _send(self, data: bytes, text: str, now: float, exact: bool) -> None:
        self.link.write(data)
        taken = self.link.tuning.wire_time(len(data))
        self.on_wire += taken
        self._sent_until = max(self._sent_until, now) + taken
        if exact:
            self.trace.record(now, "said", text=text, exact=True)
        else:
            self.trace.record(now, "said", text=text)

    def _take_in(self) -> None:
        """Hears until the exchange has ended."""
        link, clock, conversation = self.link, self.clock, self.conversation
        while conversation.outcome is None:
            until = conversation.next_time()
            assert until is not None
            data = link.read(until)
            now = clock.now()
            if data:
                self._hear(data, now)
            if now >= until:
                conversation.elapse(now)
            self._note_heard(now)

    def _hear(self, data: bytes, now: float) -> None:
        if self._hearing_since is None:
            self._hearing_since = now - self.link.tuning.wire_time(len(data))
        self._heard_at = now
        self.on_wire += self.link.tuning.wire_time(len(data))
        self.conversation.feed(data, now)

    def _note_heard(self, now: float) -> None:
        if not self.conversation.has_heard():
            return
        for heard in self.conversation.take_heard():
            hidden = self._masks and heard.role in _MAY_HOLD_SECRETS
            self.trace.record(now, "heard", text=HIDDEN if hidden else heard.text, role=heard.role)

    # -- listening ----------------------------------------------------------------------------------------------

    def drain(self) -> None:
        """Takes in what has come already, without waiting."""
        now = self.clock.now()
        while data := self.link.read(now):
            self._hear(data, now)
        self.conversation.elapse(now)
        self._note_heard(now)

    def quiet_until(self, until: float, enough: Callable[[], bool] = lambda: False) -> None:
        """Says nothing until the time `until` (or until `enough`), and takes in all that comes."""
        while (now := self.clock.now()) < until and not enough():
            gap = self.conversation.framer.deadline
            data = self.link.read(until if gap is None else min(until, gap))
            now = self.clock.now()
            if data:
                self._hear(data, now)
            self.conversation.elapse(now)
            self._note_heard(now)

    def quiet(self, duration: float) -> None:
        """Says nothing for so many seconds, counted from when our last byte is on the wire."""
        self.quiet_until(max(self.clock.now(), self._sent_until) + duration)

    def take_event(self, pick: Callable[[Event], bool], since: float = 0.0) -> Event | None:
        """The first event (taken from the queue) that `pick` likes and that came at `since` or later."""
        events = self.conversation.events
        for index, event in enumerate(events):
            if event.at >= since and pick(event):
                del events[index]
                return event
        return None

    def settle(self, quiet: float, limit: float) -> None:
        """Takes in what comes until nothing has come for `quiet` seconds, at the longest `limit` seconds."""
        end = self.clock.now() + limit
        while True:
            self._heard_at = max(self._heard_at, self.clock.now())
            seen = self._heard_at
            self.quiet_until(min(end, seen + quiet), lambda seen=seen: self._heard_at > seen)  # type: ignore[misc]
            if self._heard_at == seen or self.clock.now() >= end:
                return

    def heard_for(self) -> float:
        """Seconds from the first to the last byte heard since this was asked before; 0 where there was none."""
        began, self._hearing_since = self._hearing_since, None
        return 0.0 if began is None else self._heard_at - began

    # -- our side of the link -----------------------------------------------------------------------------------

    def tune(self, tuning: Tuning) -> None:
        """Changes our rate and frame once all that we said is on the wire; half a line heard before is forgotten."""
        self.quiet_until(self._sent_until)
        if tuning == self.link.tuning:
            return
        self.link.tune(tuning)
        self.conversation.adopt(self.speech)
        self.trace.record(self.clock.now(), "tuned", rate=tuning.rate, frame=tuning.frame)

    def signal(self, *, dtr: bool | None = None, rts: bool | None = None) -> None:
        """Drives control lines."""
        self.quiet_until(self._sent_until)
        self.link.signal(dtr=dtr, rts=rts)
        lines = {name: state for name, state in (("dtr", dtr), ("rts", rts)) if state is not None}
        self.trace.record(self.clock.now(), "signalled", **lines)

    def decide(self, text: str) -> None:
        """Puts a decision into the trace, for whoever asks afterwards why something was done."""
        self.trace.record(self.clock.now(), "decided", text=text)

    def heed_stop(self) -> None:
        """Raises Stopped when the person wants to stop."""
        if self.stopping():
            raise Stopped("stopped, as you asked")
