"""Runs a dialogue on a session: says, hears, checks, and tells exactly where it failed.

The rule: one statement at a time, in order; what comes unasked is kept until an `await` or an `on` takes it. The runner
does no input or output of its own: it has a session, and an operator. A value made from a secret is a secret.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from typing import Any

import msgspec

from wexicon.core.dialogue.blocks import (
    Again,
    Allow,
    Await,
    DialogueOutput,
    Files,
    On,
    Repeat,
    Say,
    When,
)
from wexicon.core.dialogue.given import given
from wexicon.core.dialogue.hearing import Hearing
from wexicon.core.dialogue.lines import Body, Statement
from wexicon.core.dialogue.parties import At, Close, Open, Party, hear_each_other
from wexicon.core.dialogue.program import Program
from wexicon.core.dialogue.scope import seconds
from wexicon.core.dialogue.statements import (
    Ask,
    AskOperator,
    Break,
    Check,
    Do,
    Fail,
    Keep,
    KeepValue,
    Let,
    Mark,
    Measure,
    Note,
    Pause,
    Quiet,
    Read,
    Set,
    Signal,
    Transfer,
    Tune,
)
from wexicon.core.faults import LinkFault, ModuleFault, Skipped, Stopped
from wexicon.core.protocol.dialect import ReplyStatus
from wexicon.core.protocol.observations import Noted
from wexicon.core.protocol.transfers import CANCEL, FileSender
from wexicon.core.text import counted, plain, visible
from wexicon.core.tuning import Tuning


class _Ends(Exception):
    """Ends the repeat around it."""


class Runner(Hearing):
    """Runs one program. `values` are those that it needs, already of their kinds; a Secret among them appears nowhere. With
    several `parties` an `at` says who is meant; `opens` makes a party of a name and a URL, `files` reads a file."""

    def __init__(
        self,
        parties: Party | Sequence[Party],
        program: Program,
        values: Mapping[str, object] | None = None,
        *,
        note: Callable[[str], None] = lambda text: None,
        opens: Callable[[str, str], Party] | None = None,
        files: Files | None = None,
    ) -> None:
        parties = [parties] if isinstance(parties, Party) else parties
        super().__init__(program, parties[0], values or {})
        self.parties = {one.name: one for one in parties if one.name}
        self._opens, self._files = opens, files
        # The statement that is being done.
        self.statement: Statement | None = None
        self._tell = note
        self._allowed: float | None = None
        self._once: float | None = None

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
        if isinstance(statement, _SAYING):
            self._mark_said()
        if act := _ACTS.get(type(statement)):
            act(self, statement)

    # -- one statement --------------------------------------------------------------------------------------------

    def _when(self, statement: When) -> None:
        for condition, block in statement.branches:
            if condition is None or plain(self._value(statement, condition)):
                self._block(block)
                return

    def _check(self, statement: Check) -> None:
        if not plain(self._value(statement, statement.condition)):
            what = f"not so: {statement.condition.source}{self._now(statement.condition)}"
            raise self._fault(statement, what)

    def _let(self, statement: Let) -> None:
        self.values[statement.name] = self._tainted(self._value(statement, statement.value))

    def _pause(self, statement: Pause) -> None:
        """Waits; `quiet` takes no events meanwhile."""
        wait = statement.duration.seconds
        self.session.pauses += wait
        if isinstance(statement, Quiet):
            self.session.quiet(wait)
        else:
            self._wait(self.session.clock.now() + wait)

    def _break(self, statement: Break) -> None:
        raise _Ends

    def _operator(self, statement: AskOperator) -> None:
        act, told = statement.act, visible(self._text(statement, statement.text.template))
        self.session.asked(act, told)
        self.party.fresh_since = self.session.clock.now()
        if act == "confirm":
            self.party.operator.confirm(act, f"{told} Press Enter.", self._wait_until)
        else:
            self.party.operator.ask(act, told)

    def _fail(self, statement: Fail) -> None:
        raise self._fault(statement, visible(self._text(statement, statement.text.template)))

    def _note(self, statement: Note) -> None:
        """In a repeat the same note counts once."""
        told = self._text(statement, statement.text.template)
        if self.result.notes[-1:] != [told]:
            self.result.notes.append(told)
            self._tell(told)
            self.session.tell(Noted(self.session.clock.now(), told))

    def _read(self, statement: Read) -> None:
        self.values[statement.variable] = self._by_lexicon(statement, lambda module: module.read(statement.name))

    def _do(self, statement: Do) -> None:
        kept = self._by_lexicon(statement, lambda module: module.do(statement.name, self.values))
        self.result.kept.update(kept)
        self.values.update(kept)

    def _set(self, statement: Set) -> None:
        value = self._value(statement, statement.value)
        self._by_lexicon(statement, lambda module: module.set(statement.name, value))

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
        self._mark_said()
        within = self._once if self._once is not None else self._allowed
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

    def _allow(self, statement: Allow) -> None:
        if not statement.body:
            self._once = statement.duration.seconds
            return
        before, self._allowed = self._allowed, statement.duration.seconds
        try:
            self._block(statement.body)
        finally:
            self._allowed = before

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


# What says something, or has it said; a line of the dialogue counts once command mode is entered for it.
_SAYING = (AskOperator, Close, Do, Open, Read, Set, Signal, Transfer)

# What each statement does; those that are not here declare something.
_ACTS: dict[type[Statement], Callable[[Runner, Any], None]] = {
    Say: Runner._say,
    Allow: Runner._allow,
    Await: Runner._await,
    Repeat: Runner._repeat,
    Again: Runner._again,
    When: Runner._when,
    On: Runner._on,
    Check: Runner._check,
    Let: Runner._let,
    KeepValue: Runner._keep_value,
    Keep: Runner._keep,
    Measure: Runner._measure,
    Pause: Runner._pause,
    Quiet: Runner._pause,
    Tune: Runner._tune,
    Transfer: Runner._transfer,
    Signal: lambda run, statement: run.session.signal(**dict(statement.states)),
    Break: Runner._break,
    AskOperator: Runner._operator,
    Ask: Runner._ask,
    Fail: Runner._fail,
    Note: Runner._note,
    Read: Runner._read,
    Do: Runner._do,
    Set: Runner._set,
    At: Runner._at,
    Open: Runner._open,
    Close: lambda run, statement: run._party(statement, statement.name).session.close(),
    Mark: lambda run, statement: run.values.update({statement.name: seconds(run.session.clock.now())}),
}
