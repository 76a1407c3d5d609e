"""Runs a dialogue on a session: says, hears, checks, and tells exactly where it failed.

The rule: one statement at a time, in order; what comes unasked is kept until an `await` or an `on` takes it. The runner
does no input or output of its own: it has a session, and an operator. A value made from a secret is a secret.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack

import msgspec

from wexicon.core.dialogue.blocks import (
    Again,
    Allow,
    Await,
    DialogueFault,
    DialogueOutput,
    Files,
    ModuleActions,
    On,
    Other,
    Repeat,
    Say,
    When,
)
from wexicon.core.dialogue.given import given
from wexicon.core.dialogue.parties import At, Close, DeclareParty, Open, Party, hear_each_other
from wexicon.core.dialogue.program import Program
from wexicon.core.dialogue.scope import Scope, seconds
from wexicon.core.dialogue.statements import (
    Ask,
    AskOperator,
    Body,
    Break,
    Check,
    Do,
    Fail,
    Keep,
    KeepValue,
    Let,
    Mark,
    Measure,
    Needs,
    Note,
    Pause,
    Quiet,
    Read,
    Set,
    Signal,
    Statement,
    Transfer,
    Tune,
)
from wexicon.core.faults import LinkFault, ModuleFault, Part, Skipped, Stopped
from wexicon.core.operator import Operator
from wexicon.core.protocol.dialect import Reply, ReplyStatus, compiled
from wexicon.core.protocol.engine import Waiter
from wexicon.core.protocol.observations import Awaited, Heard, Noted, Role
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.transfers import CANCEL, FileSender
from wexicon.core.text import counted, plain, spoken, visible
from wexicon.core.tuning import Tuning

# What silence points to if nothing else is known.
SILENCE = "Silence points to the line end, the rate, the power or the wires; or it takes longer: allow 10s"
# After how long a silence data that was passed on counts, though no line has ended (seconds).
STILL = 0.05
# How often it looks whether the operator has confirmed (seconds).
LOOKS = 0.1
# How often a handler may run before the dialogue goes on.
MOST_HANDLED = 1000


class _Ends(Exception):
    """Ends the repeat around it."""


class Runner(Scope):
    """Runs one program. `values` are those that it needs, already of their kinds; a Secret among them appears nowhere. With
    several `parties` an `at` says who is meant; `opens` makes a party of a name and a URL, `files` reads a file."""

    def __init__(
        self,
        session: Session,
        program: Program,
        values: Mapping[str, object] | None = None,
        *,
        module: ModuleActions | None = None,
        operator: Operator | None = None,
        note: Callable[[str], None] = lambda text: None,
        parties: Sequence[Party] = (),
        opens: Callable[[str, str], Party] | None = None,
        files: Files | None = None,
    ) -> None:
        super().__init__(program, parties[0] if parties else Party("", session, module, operator), values or {})
        self.parties = {one.name: one for one in parties if one.name}
        self._opens, self._files = opens, files
        # The statement that is being done.
        self.statement: Statement | None = None
        self._tell = note
        self._allowed: float | None = None
        self._once: float | None = None
        self._handlers: list[tuple[On, Waiter, Party]] = []
        self._handling = False

    def run(self) -> DialogueOutput:
        """Runs the whole dialogue. Raises DialogueFault, LinkFault or Stopped."""
        for need in self.program.needs():
            if need.name not in self.values:
                if need.default is None:
                    hint = f"In a sheet: given = {{ {need.name} = ... }} in its seat. In a call: {need.name}=VALUE."
                    raise self._fault(need, f"{need.name} was not given", hint)
                value = self._value(need, need.default)
                located = need.kind == "file" and self._files and isinstance(value, str)
                self.values[need.name] = self._files.locate(value) if located and self._files else value
        with ExitStack() as stack:
            self._stack = stack
            for party in self.parties.values() or [self.party]:
                self._watch(party)
            hear_each_other([*self.parties.values()])
            self._block(self.program.statements)
            self._attend()
        return self.result

    def _watch(self, party: Party) -> None:
        """Has a party's blocks cut as the dialogue's patterns say, to the end of the run."""
        self._stack.enter_context(party.session.watching(self.program.patterns(), self.values))

    def _block(self, block: Body) -> None:
        for statement in block:
            self.session.heed_stop()
            self.statement = statement
            self._one(statement)
            if not isinstance(statement, Allow):
                self._once = None
            self._attend()

    def _one(self, statement: Statement) -> None:
        match statement:
            case Say():
                self._say(statement)
            case Allow():
                self._allow(statement)
            case Await():
                self._await(statement)
            case Repeat():
                self._repeat(statement)
            case Again():
                self._again(statement)
            case When(branches):
                for condition, block in branches:
                    if condition is None or plain(self._value(statement, condition)):
                        self._block(block)
                        break
            case On(pattern=pattern):
                own = self.session.dialect.own(pattern)
                picks = lambda event: own.match(event.text, self.values) is not None  # noqa: E731
                self._handlers.append((statement, Waiter(self.session.events, picks), self.party))
            case Check(condition):
                if not plain(self._value(statement, condition)):
                    raise self._fault(statement, f"not so: {condition.source}{self._now(condition)}")
            case Let(name, value):
                self.values[name] = self._tainted(self._value(statement, value))
            case KeepValue(name, value):
                self._keep_value(statement, name, value)
            case Measure():
                self._measure(statement)
            case Keep(names, as_name):
                self._keep(names, as_name)
            case Quiet(duration):
                self.session.pauses += duration.seconds
                self.session.quiet(duration.seconds)
            case Pause(duration):
                self.session.pauses += duration.seconds
                self._wait(self.session.clock.now() + duration.seconds)
            case Tune():
                self._tune(statement)
            case Transfer():
                self._transfer(statement)
            case Signal(states):
                self.session.signal(**dict(states))
            case Break():
                raise _Ends
            case AskOperator(act, text):
                told = visible(self._text(statement, text.template))
                self.session.asked(act, told)
                self.party.fresh_since = self.session.clock.now()
                if act == "confirm":
                    self.party.operator.confirm(act, f"{told} Press Enter.", self._wait_until)
                else:
                    self.party.operator.ask(act, told)
            case Fail(text):
                raise self._fault(statement, visible(self._text(statement, text.template)))
            case Note(text):
                told = self._text(statement, text.template)
                # In a repeat the same note counts once.
                if self.result.notes[-1:] != [told]:
                    self.result.notes.append(told)
                    self._tell(told)
                    self.session.tell(Noted(self.session.clock.now(), told))
            case Read():
                self.values[statement.variable] = self._by_lexicon(statement, lambda m: m.read(statement.name))
            case Do(name):
                kept = self._by_lexicon(statement, lambda module: module.do(name, self.values))
                self.result.kept.update(kept)
                self.values.update(kept)
            case Set(name, expression):
                value = self._value(statement, expression)
                self._by_lexicon(statement, lambda module: module.set(name, value))
            case Needs() | DeclareParty():
                pass
            case At():
                self._at(statement)
            case Open():
                self._open(statement)
            case Close(name):
                self._party(statement, name).session.close()
            case Mark(name):
                self.values[name] = seconds(self.session.clock.now())
            case Ask():
                self._ask(statement)
            case _:
                raise NotImplementedError(statement.word)

    # -- parties ----------------------------------------------------------------------------------------------------

    def _party(self, statement: Statement, name: str) -> Party:
        if name not in self.parties:
            raise self._fault(statement, f"there is no party {name} yet", "Open it before.")
        return self.parties[name]

    def _at(self, statement: At) -> None:
        before, self.party = self.party, self._party(statement, statement.name)
        outside, self._inside = self._inside, True
        if statement.data:
            self.party.turn_to_data()
        else:
            self.party.turn_to_commands()
        self._block(statement.body)
        # After a failure it stays, so that its place is told.
        self.party, self._inside = before, outside

    def _open(self, statement: Open) -> None:
        url = plain(self._text(statement, statement.url.template))
        if statement.name in self.parties:
            self.parties[statement.name].session.close()
        if self._opens is None:
            raise self._fault(statement, "no sockets can be opened here")
        try:
            party = self._opens(statement.name, str(url))
        except LinkFault as fault:
            if statement.refused and fault.refused:
                return
            raise self._fault(statement, f"{fault.where} {fault.what}", fault.hint) from None
        if statement.refused:
            party.session.close()
            raise self._fault(statement, f"{url} answers, and nothing should answer there")
        self.parties[statement.name] = party
        self._watch(party)
        hear_each_other([*self.parties.values()])

    def _ask(self, statement: Ask) -> None:
        told = visible(self._text(statement, statement.text.template))
        self.session.asked("ask", told)
        while True:
            typed = self.party.operator.answer(told, self._wait_until)
            if typed is None:
                raise Skipped(f"nobody is there to answer: {told}")
            try:
                self.values[statement.name] = given(statement.name, statement.kind, typed, secret=False)
                return
            except ValueError as fault:
                told = f"{visible(str(fault))}. {told}"

    # -- saying and hearing ---------------------------------------------------------------------------------------

    def _say(self, statement: Say) -> None:
        session = self.session
        line = self._fill(statement)
        told = [name for name, filters in statement.template.insertions() if filters[-1:] == ["length"]]
        party = self.party
        party.counted = {name: self.values[name] for name in told}
        if not statement.exact:
            party.be_listening()
        within = self._once if self._once is not None else self._allowed
        party.began = session.clock.now()
        session.changes += 1
        expectation = statement.expectation
        if party.data and not statement.hears and not statement.others:
            # What is passed on has no result code.
            expectation = msgspec.structs.replace(expectation, silent=True)
        outcome = session.exchange(line, expectation, within, exact=statement.exact)
        party.prompted = outcome.ok and bool(statement.hears) and statement.hears[-1].prompt
        if not outcome.ok and outcome.status is not ReplyStatus.OTHER:
            raise self._not_heard(statement, outcome)
        if statement.silent:
            self._require_silence(statement, within)
        for hear in statement.hears:
            if hear.gather:
                rows = {name: [row[name] for row in outcome.rows if name in row] for name in hear.pattern.names}
                self._take(statement, rows)
        self._take(statement, outcome.captures)
        if outcome.status is ReplyStatus.OTHER:
            self._block(statement.others[outcome.which].then)

    def _require_silence(self, statement: Say, within: float | None) -> None:
        """Nothing may answer, for as long as an answer may take; events are none."""
        session, began = self.session, self.party.began
        wait = session.dialect.within if within is None else within

        def heard() -> list[str]:
            seen = (one for one in session.recent if isinstance(one, Heard) and one.at > began)
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

    def _allow(self, statement: Allow) -> None:
        if not statement.body:
            self._once = statement.duration.seconds
            return
        before, self._allowed = self._allowed, statement.duration.seconds
        try:
            self._block(statement.body)
        finally:
            self._allowed = before

    # -- events ---------------------------------------------------------------------------------------------------

    def _await(self, statement: Await) -> None:
        began = self.session.clock.now()
        until = began + statement.duration.seconds
        if statement.bare:
            self._await_bare(statement, until, self.party.began)
            return
        # Between several parties events are queued; alone, only what came since the last exchange began counts.
        since = self.party.fresh_since if self.parties else self.party.began
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
            raise self._fault(statement, f"the event did not come within {statement.duration.text}", part=part)
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
                    own = party.session.dialect.own(handler.pattern)
                    self._take(handler, own.match(event.text, self.values) or {})
                    began = party.began
                    self._block(handler.body)
                    party.began, self.party = began, before
        finally:
            self._handling = False

    # -- blocks ---------------------------------------------------------------------------------------------------

    def _repeat(self, statement: Repeat) -> None:
        clock = self.session.clock
        end = clock.now() + statement.duration.seconds if statement.duration else None
        turn = 0
        try:
            while True:
                turn += 1
                began = clock.now()
                self._block(statement.body)
                if statement.until and plain(self._value(statement, statement.until)):
                    return
                over = (statement.times and turn >= statement.times) or (end is not None and clock.now() >= end)
                if not over and statement.every:
                    self._wait(began + statement.every.seconds)
                    over = end is not None and clock.now() >= end
                if over:
                    break
        except _Ends:
            return
        if until := statement.until:
            raise self._fault(statement, f"after {turn} turns this is still not so: {until.source}{self._now(until)}")

    def _again(self, statement: Again) -> None:
        for turn in range(1, statement.times + 1):
            began = self.session.clock.now()
            try:
                self._block(statement.body)
                return
            except ModuleFault as fault:
                if turn == statement.times:
                    raise
                self.session.log(f"failed, done again ({turn} of {statement.times}): {fault.what}")
                self.session.wait_until_quiet(0.05, 0.5)
                if statement.every:
                    self._wait(began + statement.every.seconds)

    def _transfer(self, statement: Transfer) -> None:
        """Sends a file; a stop cancels it at the receiver too."""
        session, path = self.session, str(plain(self._text(statement, statement.file.template)))
        if self._files is None:
            raise self._fault(statement, "no files can be read here")
        data = self._files.read(path)
        session.changes += 1
        name = path.replace("\\", "/").rpartition("/")[2]
        sender = FileSender(data, statement.protocol, name, session.link.tuning.wire_time(1), session.clock.now())
        try:
            session.drive(sender)
        except (Stopped, KeyboardInterrupt):
            session.link.write(CANCEL)
            raise
        if sender.failure:
            hint = f"{sender.hint} {counted(sender.repeated, 'block')} sent again." if sender.repeated else sender.hint
            raise self._fault(statement, f"{name}: {sender.failure}", hint)

    # -- by others ------------------------------------------------------------------------------------------------

    def _tune(self, statement: Tune) -> None:
        rate = plain(self.values.get(statement.rate)) if isinstance(statement.rate, str) else statement.rate
        try:
            here = self.session.link.tuning
            tuning = Tuning.of(int(str(rate)), statement.frame or here.frame, here.station)
        except ValueError as fault:
            raise self._fault(statement, str(fault)) from None
        self.session.tune(tuning)


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
