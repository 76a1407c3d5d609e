"""What a dialogue hears: events that it waits for or handles whenever they come, and what did not come.

The rule: an event is taken once, by the `await` or the `on` that it fits; until then it is kept. An `await` takes none that
came before the dialogue's last line, at whichever party that was said, unless it says so: an older one is no answer to it.
A failure lists the lines received instead.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from contextlib import suppress

from wexicon.core.dialogue.blocks import Await, DialogueFault, On, Other, Say
from wexicon.core.dialogue.lines import Body
from wexicon.core.dialogue.parties import Party
from wexicon.core.dialogue.program import Program
from wexicon.core.dialogue.scope import Scope, seconds
from wexicon.core.faults import LinkFault, Part
from wexicon.core.protocol.dialect import Reply, ReplyStatus, compiled
from wexicon.core.protocol.engine import Waiter
from wexicon.core.protocol.observations import Awaited, Heard, Role
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.text import spoken, visible

# What silence points to if nothing else is known.
SILENCE = "Silence points to the line end, the rate, the power or the wires; or it takes longer: allow 10s"
# After how long a silence data that was passed on counts, though no line has ended (seconds).
STILL = 0.05
# How often it looks whether the operator has confirmed (seconds).
LOOKS = 0.1
# How often a handler may run before the dialogue goes on.
MOST_HANDLED = 1000


class Hearing(Scope):
    """The part of a run that hears: a run does the blocks of what came."""

    def __init__(self, program: Program, party: Party, values: Mapping[str, object]) -> None:
        super().__init__(program, party, values)
        self.parties: dict[str, Party] = {}
        self._handlers: list[tuple[On, Waiter, Party]] = []
        self._handling = False
        # When the last line was said, whichever party it was said to.
        self._said_at = party.fresh_since

    def _block(self, block: Body) -> None:
        raise NotImplementedError

    def _on(self, statement: On) -> None:
        """From now on such events are handled whenever they come."""
        own = self.session.dialect.own(statement.pattern)
        waiter = Waiter(self.session.events, lambda event: own.match(event.text, self.values) is not None)
        self._handlers.append((statement, waiter, self.party))

    def _await(self, statement: Await) -> None:
        """Waits for the events of a statement."""
        began = self.session.clock.now()
        until = began + statement.duration.seconds
        since = self.party.fresh_since
        # What a socket gives is a stream of its own: nothing in it is older than what opened it.
        if not statement.queued and not self.party.is_socket:
            since = max(since, self._said_at)
        if statement.bare:
            self._await_bare(statement, until, since)
            return
        wanted: list[Pattern | None] = [hear.pattern for hear in statement.hears] or [None]
        for pattern in wanted:
            if not self._await_one(statement, pattern, until, since, began):
                return

    def _await_bare(self, statement: Await, until: float, since: float) -> None:
        """Nothing may come, or the other side must close the connection."""
        if statement.bare == "nothing":
            if event := self._wait(until, lambda event: True, since):
                raise self._fault(
                    statement, "something came, and nothing should", part=Part("", "nothing", [event.text])
                )
            return
        try:
            self._wait(until)
        except LinkFault:
            if self.party.is_socket:
                return
            raise
        raise self._fault(statement, f"the connection was not closed within {statement.duration.text}")

    def _await_one(self, statement: Await, wanted: Pattern | None, until: float, since: float, began: float) -> bool:
        """Waits for one event; false when one of the others came instead and was dealt with."""
        found: list[tuple[Other | None, dict[str, object]]] = []

        def pick(event: Heard) -> bool:
            ways = [(None, wanted), *((other, other.pattern) for other in statement.others)]
            for other, pattern in ways:
                captures = self.session.dialect.own(pattern).match(event.text, self.values) if pattern else None
                if captures is not None:
                    found.append((other, captures))
                    return True
            return False

        event = self._wait(until, pick, since)
        if event is None:
            heard = [event.text for event in self.session.events if event.at >= since]
            expected = wanted.source if wanted else " or ".join(other.pattern.source for other in statement.others)
            part = Part("", expected, heard, statement.duration.seconds)
            what = f"the event did not come within {statement.duration.text}"
            raise self._fault(statement, what, self._came_before(statement, pick, since), part=part)
        if statement.as_name:
            self.values[statement.as_name] = seconds(max(0.0, event.at - began))
        if not event.name:
            self.session.tell(Awaited(self.session.clock.now(), event.text))
        other, captures = found[0]
        self._take(statement, captures)
        if other is None:
            return True
        self._block(other.then)
        return False

    def _came_before(self, statement: Await, pick: Callable[[Heard], bool], since: float) -> str:
        """Names an event that fits and came too early, if there is one."""
        early = [one for one in self.session.events if self.party.fresh_since <= one.at < since and pick(one)]
        if not early:
            return ""
        took = f"await {statement.duration.text} queued"
        return f"“{visible(early[-1].text)}” came before the last line was said. To accept it: {took}"

    def _wait(self, until: float, pick: Callable[[Heard], bool] | None = None, since: float = 0.0) -> Heard | None:
        """Listens until the time `until` or until an event is picked; handlers answer what comes meanwhile."""
        session = self.session
        waiter = Waiter(session.events, pick, since) if pick else None
        while True:
            if waiter and (event := waiter.take()):
                return event
            self._attend()
            now = session.clock.now()
            if self.party.data and session.partial and now - session.heard_at >= STILL:
                session.take_partial()
                continue
            if now >= until:
                return None
            session.heed_stop()
            session.more_events(min(until, now + STILL) if self.party.data else until)

    def _wait_until(self, done: Callable[[], bool]) -> None:
        """Listens until a condition is true; handlers answer what comes meanwhile."""
        while not done():
            self._wait(self.session.clock.now() + LOOKS)

    def _attend(self) -> None:
        """Answers the events that a handler waits for. What a handler says may bring the next one."""
        if self._handling or not self._handlers:
            return
        self._handling = True
        try:
            for handler, waiter, party in self._handlers:
                count = 0
                while event := waiter.take():
                    count += 1
                    if count > MOST_HANDLED:
                        what = f"its own lines bring it again: it was done {MOST_HANDLED} times"
                        raise self._fault(handler, what, "Write a pattern that does not fit what answers its lines.")
                    before, self.party = self.party, party
                    said_at = self._said_at
                    own = party.session.dialect.own(handler.pattern)
                    self._take(handler, own.match(event.text, self.values) or {})
                    self._block(handler.body)
                    self._said_at, self.party = said_at, before
        finally:
            self._handling = False

    # -- what did not come ----------------------------------------------------------------------------------------

    def _mark_said(self) -> None:
        """A line is about to be said: what has arrived by now at any party is no answer to it."""
        for party in self.parties.values() or [self.party]:
            # One reading only: a flood at one party must not delay the others. A party's fault is raised at its next exchange.
            with suppress(LinkFault):
                party.session.take_in()
        self._said_at = math.nextafter(self.session.clock.now(), math.inf)

    def _require_silence(self, statement: Say, within: float | None) -> None:
        """Nothing may answer, for as long as an answer may take; events are none."""
        session, began = self.session, self._said_at
        wait = session.dialect.within if within is None else within

        def heard() -> list[str]:
            seen = (one for one in session.recent if isinstance(one, Heard) and one.at >= began)
            return [one.text for one in seen if one.role in (Role.UNMATCHED, Role.UNEXPECTED, Role.CORRUPT)]

        session.quiet(wait, lambda: bool(heard()))
        if found := heard():
            part = Part(statement.source, "nothing", found)
            raise self._fault(statement, "the module answered, and nothing should answer", part=part)

    def _not_heard(self, statement: Say, outcome: Reply) -> DialogueFault:
        waited = spoken(outcome.waited)
        hint = ""
        if outcome.status is ReplyStatus.ERROR:
            meaning = self.module.meaning(outcome.code) if self.module else ""
            what = "the module returned an error" + (f": {outcome.code}" if outcome.code else "")
            what += f" ({meaning})" if meaning else ""
        elif outcome.status is ReplyStatus.CLOSED:
            what = f"the answer ended after {waited} without what was expected"
        elif outcome.heard:
            what = f"what was expected did not come within {waited}"
        else:
            what = f"nothing was heard within {waited}"
            hint = SILENCE
        nearest_heard = _nearest(outcome.expected, outcome.heard)
        if nearest_heard and outcome.status in (ReplyStatus.CLOSED, ReplyStatus.SILENCE):
            hint = _matched_up_to(outcome.expected, nearest_heard, self.values)
        return self._fault(statement, what, hint, Part.of(outcome))


def _nearest(expected: str, heard: list[str]) -> str:
    """The heard line that was probably meant to be the expected one."""
    lead = compiled(expected).start if expected else ""
    alike = [text for text in heard if lead and text[:2] == lead[:2]]
    return alike[-1] if alike else ""


def _matched_up_to(expected: str, heard: str, values: Mapping[str, object]) -> str:
    """How far a heard line matched the pattern it should have."""
    reach = compiled(expected).reach(heard, values)
    if not 0 < reach < len(heard):
        return ""
    return f"It matched up to “{visible(heard[:reach])}”, then “{visible(heard[reach:])}” was heard."
