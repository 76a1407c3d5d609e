"""Holds a dialogue on a session: says, hears, checks, and tells exactly where the two parted when it fails.

The rule: one statement at a time, in order; what comes unasked is kept until an `await` or an `on` takes it. The holder
does no input or output of its own: it has a session, and hands for what only hands can do.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from wexicon.core.dialogue.doing import Break, DialogueFault, Doing, Held, Module
from wexicon.core.dialogue.expressions import expression
from wexicon.core.dialogue.program import (
    Again,
    Allow,
    Await,
    Block,
    Needs,
    On,
    Program,
    Repeat,
    Say,
    Simple,
    Statement,
    When,
    duration,
    exact_template,
    pattern,
    template,
)
from wexicon.core.durations import spoken
from wexicon.core.faults import ModuleFault, Part, Stopped
from wexicon.core.operator import Nobody, Operator
from wexicon.core.protocol.exchange import Event, Expectation, Outcome, Want
from wexicon.core.protocol.insertion import Template
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.session import HIDDEN, Session
from wexicon.core.text import visible


class Holder(Doing):
    """Holds one program. `values` are those that it needs, already of their kinds; secrets among them appear nowhere."""

    def __init__(
        self,
        session: Session,
        program: Program,
        values: Mapping[str, Any] | None = None,
        *,
        module: Module | None = None,
        operator: Operator | None = None,
        note: Callable[[str], None] = lambda text: None,
    ) -> None:
        self.session = session
        self.program = program
        self.module = module
        self.operator = operator or Nobody()
        self.values: dict[str, Any] = dict(values or {})
        self.secrets = program.secrets()
        self.held = Held()
        self._tell = note
        self._allowed: float | None = None
        self._once: float | None = None
        self._handlers: list[On] = []
        self._handling = False
        self._began = session.clock.now()

    def hold(self) -> Held:
        """Holds the whole dialogue. Raises DialogueFault, LinkFault or Stopped."""
        for need in self.program.needs():
            if need.name not in self.values:
                if not need.default:
                    raise DialogueFault(f"{need.name} was not given", need, where=self.program.path)
                self.values[need.name] = self._reckon(need, need.default)
        conversation = self.session.conversation
        before = conversation.watch_for(self.program.patterns())
        try:
            self._block(self.program.statements)
            self._attend()
        finally:
            conversation.watch_for(before)
        return self.held

    def _block(self, block: Block) -> None:
        for statement in block:
            self.session.heed_stop()
            self._one(statement)
            if not isinstance(statement, Allow):
                self._once = None
            self._attend()

    def _one(self, statement: Statement) -> None:
        if isinstance(statement, Say):
            self._say(statement)
        elif isinstance(statement, Simple):
            getattr(self, f"_{statement.word}")(statement, statement.rest)
        elif isinstance(statement, Needs):
            pass
        elif isinstance(statement, On):
            self._handlers.append(statement)
        elif isinstance(statement, Allow):
            self._allow(statement)
        elif isinstance(statement, Await):
            self._await(statement)
        elif isinstance(statement, Repeat):
            self._repeat(statement)
        elif isinstance(statement, Again):
            self._again(statement)
        elif isinstance(statement, When):
            for condition, block in statement.branches:
                if not condition or self._reckon(statement, condition):
                    self._block(block)
                    break

    # -- saying and hearing ---------------------------------------------------------------------------------------

    def _shown(self, statement: Statement, made: Template) -> str | None:
        """The line as it may be shown, where it holds a secret; None where it may be shown as it is."""
        if not self.secrets.intersection(made.names):
            return None
        shown = ""
        for part in made.parts:
            if isinstance(part, str):
                shown += part
            elif part[0] in self.secrets:
                shown += HIDDEN
            else:
                one = Template("{" + "|".join((part[0], *part[1])) + "}")
                shown += self._fill(statement, one, control=True)
        return shown

    def _say(self, statement: Say) -> None:
        session = self.session
        made = (exact_template if statement.exact else template)(statement.source)
        text = self._fill(statement, made, control=statement.exact)
        silent = statement.silent or (statement.exact and not statement.hears and not statement.others)
        wants = tuple(
            Want(pattern(h.source) if not h.prompt else _prompt(h.source), h.prompt, h.gather) for h in statement.hears
        )
        expect = Expectation(
            wants, tuple(pattern(other.source) for other in statement.others), silent, closing="lenient"
        )
        within = self._once if self._once is not None else self._allowed
        session.conversation.known = self.values
        self._began = session.clock.now()
        outcome = session.exchange(text, expect, within, exact=statement.exact, shown=self._shown(statement, made))
        if outcome.how == "other":
            self.values.update(outcome.captures)
            self._block(statement.others[outcome.which].then)
        elif outcome.ok:
            self.values.update(outcome.captures)
            for hear in statement.hears:
                if hear.gather:
                    for name in pattern(hear.source).names:
                        self.values[name] = [row[name] for row in outcome.rows if name in row]
        else:
            raise self._not_heard(statement, outcome)

    def _not_heard(self, statement: Say, outcome: Outcome) -> DialogueFault:
        waited = spoken(outcome.waited)
        hint = ""
        if outcome.how == "error":
            meaning = self.module.meaning(outcome.code) if self.module else ""
            what = (
                "the module said no"
                + (f": error {outcome.code}" if outcome.code else "")
                + (f" ({meaning})" if meaning else "")
            )
        elif outcome.how == "closed":
            what = f"the answer ended after {waited} without what was expected"
        elif outcome.heard:
            what = f"what was expected did not come within {waited}"
        else:
            what = f"nothing was heard within {waited}"
            hint = "Silence points to the line end, the rate, the power or the wires; or it takes longer: allow 10s"
        nearest_heard = _nearest(outcome.expected, outcome.heard)
        if nearest_heard and outcome.how in ("closed", "silence"):
            hint = _parted(outcome.expected, nearest_heard, self.values)
        part = Part(outcome.said, outcome.expected, outcome.heard, outcome.waited)
        return DialogueFault(what, statement, part=part, where=self.program.path, hint=hint)

    def _allow(self, statement: Allow) -> None:
        if not statement.body:
            self._once = duration(statement.duration)
            return
        before, self._allowed = self._allowed, duration(statement.duration)
        try:
            self._block(statement.body)
        finally:
            self._allowed = before

    # -- events ---------------------------------------------------------------------------------------------------

    def _await(self, statement: Await) -> None:
        until = self.session.clock.now() + duration(statement.duration)
        began = self.session.clock.now()
        since = self._began
        for hear in statement.hears:
            if not self._await_one(statement, pattern(hear.source), until, since):
                return
        if not statement.hears and self._await_one(statement, None, until, since):
            heard = [event.text for event in self.session.conversation.events if event.at >= since]
            part = Part(
                "", " or ".join(other.source for other in statement.others), heard, self.session.clock.now() - began
            )
            raise DialogueFault(
                f"no such event came within {statement.duration}", statement, part=part, where=self.program.path
            )

    def _await_one(self, statement: Await, wanted: Any, until: float, since: float) -> bool:
        """Waits for one event; false when one of the others came instead and was dealt with."""
        taken: dict[str, Any] = {}
        which = -1

        def pick(event: Event) -> bool:
            nonlocal which, taken
            for index, made in enumerate([wanted, *(pattern(other.source) for other in statement.others)]):
                captures = made.match(event.text, self.values) if made else None
                if captures is not None:
                    which, taken = index - 1, captures
                    return True
            return False

        event = self._wait(until, pick, since)
        if event is None:
            if wanted is None:
                return True
            heard = [event.text for event in self.session.conversation.events if event.at >= since]
            part = Part("", wanted.source, heard, duration(statement.duration))
            what = f"the event did not come within {statement.duration}"
            raise DialogueFault(what, statement, part=part, where=self.program.path)
        self.values.update(taken)
        if which >= 0:
            self._block(statement.others[which].then)
            return False
        return True

    def _wait(self, until: float, pick: Callable[[Event], bool] | None = None, since: float = 0.0) -> Event | None:
        """Listens until the time `until` or until an event is picked; handlers answer what comes meanwhile."""
        session = self.session
        while True:
            if pick and (event := session.take_event(pick, since)):
                return event
            self._attend()
            if session.clock.now() >= until:
                return None
            session.heed_stop()
            count = session.conversation.unasked
            session.quiet_until(until, lambda count=count: session.conversation.unasked != count)  # type: ignore[misc]

    def _attend(self) -> None:
        """Answers the events that a handler waits for. What a handler says may bring the next one."""
        if self._handling or not self._handlers:
            return
        self._handling = True
        try:
            for handler in self._handlers:
                while self._handle(handler):
                    pass
        finally:
            self._handling = False

    def _handle(self, handler: On) -> bool:
        made = pattern(handler.source)
        event = self.session.take_event(lambda event: made.match(event.text, self.values) is not None)
        if event is None:
            return False
        self.values.update(made.match(event.text, self.values) or {})
        began = self._began
        self._block(handler.body)
        self._began = began
        return True

    # -- blocks ---------------------------------------------------------------------------------------------------

    def _repeat(self, statement: Repeat) -> None:
        clock = self.session.clock
        end = clock.now() + duration(statement.duration) if statement.duration else None
        turn = 0
        try:
            while True:
                turn += 1
                began = clock.now()
                self._block(statement.body)
                if statement.until and self._reckon(statement, statement.until):
                    return
                over = (statement.times and turn >= statement.times) or (end is not None and clock.now() >= end)
                if not over and statement.every:
                    self._wait(began + duration(statement.every))
                    over = end is not None and clock.now() >= end
                if over:
                    break
        except Break:
            return
        if statement.until:
            names = expression(statement.until).names
            now = ", ".join(
                f"{name} is {visible(str(self.values.get(name)))}" for name in names if name not in self.secrets
            )
            what = f"after {turn} turns this is still not so: {statement.until}" + (f" ({now})" if now else "")
            raise DialogueFault(what, statement, where=self.program.path)

    def _again(self, statement: Again) -> None:
        for turn in range(1, statement.times + 1):
            began = self.session.clock.now()
            try:
                self._block(statement.body)
                return
            except Stopped:
                raise
            except ModuleFault as fault:
                if turn == statement.times:
                    raise
                self.session.decide(f"failed, said again ({turn} of {statement.times}): {fault.what}")
                self.session.settle(0.05, 0.5)
                self._wait(began + duration(statement.every))


def _prompt(text: str) -> Pattern:
    return pattern(text.replace("{", "{{").replace("}", "}}"))


def _nearest(expected: str, heard: list[str]) -> str:
    """The heard line that was probably meant to be the expected one."""
    lead = pattern(expected).literal_start() if expected else ""
    alike = [text for text in heard if lead and text[:2] == lead[:2]]
    return alike[-1] if alike else ""


def _parted(expected: str, heard: str, values: Mapping[str, Any]) -> str:
    """Where a heard line parts from the pattern it should have fitted."""
    made = pattern(expected)
    if made.match(heard, values) is not None or not made.reach:
        return ""
    return f"They part after “{visible(heard[: made.reach])}”, where “{visible(heard[made.reach :])}” was heard."
