"""A manual conversation: lines typed by a user, and everything that the module sends.

The rule: a typed line is said when the one before it was answered or given up, so that a paste of many loses none; what the
module sends is shown at once, also during an exchange. A port that goes away is waited for. It owns no terminal: what is
to be seen is given to `show`, what was typed comes in by `put`, from any thread.
"""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import msgspec

from wexicon.core.dialogue.blocks import Say
from wexicon.core.faults import CannotTune, Fault, LinkFault, ModuleFault, Stopped
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.module_state.reader import Reader, secret_words
from wexicon.core.module_state.state import Mode, ModuleState
from wexicon.core.protocol.dialect import Dialect, Expectation, ReplyStatus
from wexicon.core.protocol.link import Clock, Link
from wexicon.core.protocol.observations import (
    Asked,
    Heard,
    Listener,
    Logged,
    Observation,
    Repeated,
    Role,
    Said,
    Signalled,
    Tuned,
)
from wexicon.core.protocol.session import Session
from wexicon.core.results.functions import TalkLine
from wexicon.core.text import HIDDEN, to_text, visible
from wexicon.core.tuning import Tuning
from wexicon.links.clock import RealClock
from wexicon.work.console.commands import Commands
from wexicon.work.console.completion import MARK, Explainer, secret_from
from wexicon.work.contact.catalog import all_lexicons
from wexicon.work.contact.causes import restarting
from wexicon.work.contact.symptoms import STARTS_WITHIN, Symptoms, new_rate
from wexicon.work.function.dialogues import DATA
from wexicon.work.module.module import Module
from wexicon.work.module.opening import LINES, expected
from wexicon.work.module.readings import Reading
from wexicon.work.module.side_effects import all_readings, differences

# How often it looks whether something was typed, and for a port that went away (seconds).
LOOKS = 0.01
LOOKS_FOR_PORT = 0.25
# After how long a silence what has come without a line end is shown (seconds).
SHOWN_AFTER = 0.05
NOTHING_ANSWERS = Expectation(silent=True)
# How many characters may come together, as from the buffer of a UART.
PIECE = 64


class Typed(msgspec.Struct, frozen=True):
    """A typed line; `exact` if no line end is added."""

    text: str
    exact: bool = False


class Abandoned(Exception):
    """Gives up waiting for this answer."""


class Talk(Listener):
    """One conversation. `failures` counts what was answered with an error, or not at all."""

    def __init__(
        self,
        lexicon: Lexicon | None,
        show: Callable[[TalkLine], None],
        *,
        trace: Path,
        ask: Callable[[str], str] | None = None,
        reopen: Callable[[Link], Link] | None = None,
        name: str = "",
        number: int = 0,
    ) -> None:
        self.lexicon = lexicon
        self.name, self.number = name, number
        # Whether what is typed is passed on as data, and nothing needs to answer it.
        self.in_data = False
        self.failures = 0
        self.waiting = False
        # Nothing has been typed yet while attention is being gained.
        self.muted = False
        self._show = show
        self.trace = trace
        self.ask = ask
        self._reopen = reopen
        self.state: ModuleState = ModuleState(lexicon, Tuning())
        self._explain = Explainer(lexicon) if lexicon else None
        self._queue: deque[Typed] = deque()
        self._lock = threading.Lock()
        self.ending = self._abandoning = False
        self._settled = threading.Event()
        self._clock: Clock = RealClock()
        self._said = ""
        # Whether the last line brought a prompt.
        self._prompted = False
        # The kind of the last cause that was shown.
        self._told = ""
        self._partial = ""
        self.shows_bytes = False
        # How long answers are waited for (seconds), if not as the lexicon says.
        self.within: float | None = None
        self._taken = b""
        # Secrets that are shown in clear after a line that asks for them or writes them.
        self.reveals: frozenset[str] = frozenset()
        # What all settings were before the first `:set`.
        self._before: dict[str, Reading] | None = None

    # -- from the one who types --------------------------------------------------------------------------------------

    def put(self, text: str, *, exact: bool = False) -> None:
        """Takes a typed line; it is said when it is its turn."""
        with self._lock:
            self._queue.append(Typed(text, exact))

    def abandon(self) -> int:
        """Says no more of what was typed, and waits no longer for an answer. How many lines were not said."""
        with self._lock:
            left = len(self._queue)
            self._queue.clear()
        self._abandoning = self.waiting
        return left

    def end(self) -> None:
        """Ends when what was typed has been said."""
        self.ending = True

    def settle(self) -> None:
        """Returns when all that was typed has been said and answered, or the conversation has ended."""
        while (self._queue or self.waiting) and not self._settled.is_set():
            self._settled.wait(LOOKS)

    @property
    def reader(self) -> Reader:
        """Reads what is typed, with what the module awaits."""
        return self.state.reader

    @property
    def queued(self) -> int:
        """How many lines wait for their turn."""
        return len(self._queue)

    # -- the conversation -------------------------------------------------------------------------------------------

    def attach(self, session: Session, module: Module | None = None) -> None:
        """Shows what this session does from now on."""
        self.session, self.module, self._clock = session, module, session.clock
        known = session.known
        if not isinstance(known, ModuleState) or self.lexicon is None or known.lexicon is not self.lexicon:
            known = session.known = ModuleState(self.lexicon, session.link.tuning, all_lexicons)
        self.state = known
        self._commands = session.dialect
        self._data_end = session.dialect.speech.end if session.dialect.line_end else "crlf"

    def run(self, session: Session, module: Module | None = None) -> None:
        """Talks until it is ended. Raises LinkFault where the port is lost and cannot be waited for."""
        self.attach(session, module)
        session.watch = self._bytes
        try:
            while not (self.ending and not self._queue):
                try:
                    self._turn()
                except LinkFault as fault:
                    self._lost(fault)
            self._show_partial(ended=True)
            self._tell_side_effects()
            self.tell_unsaved(over=True)
        finally:
            self._settled.set()
        self.failures += self._prompted

    def _turn(self) -> None:
        session = self.session
        with self._lock:
            typed = self._queue.popleft() if self._queue else None
            self.waiting = typed is not None
        if typed is None:
            session.listen(session.clock.now() + LOOKS)
            session.events.clear()
            self._show_partial()
            if self.in_data and session.partial and session.clock.now() - session.heard_at > SHOWN_AFTER:
                # Data need not come in lines.
                session.forget_partial()
                self._partial = ""
            return
        self.waiting, self._abandoning, self._prompted = True, False, False
        try:
            self._one(typed)
        except Abandoned:
            session.abandon()
            # A prompt came: the next line answers it.
            session.forget_partial()
            if self._abandoning:
                self.tell("!", "no longer waited for")
            else:
                self._prompted = True
                self.tell("=", f"the module waits for a payload: the next line is one; {MARK}>> \\x1B cancels it")
        except Stopped:
            raise
        except (Fault, ValueError) as fault:
            if isinstance(fault, LinkFault) and not isinstance(fault, CannotTune):
                raise
            self.failures += 1
            self.tell("!", str(fault))
        finally:
            self.waiting = self._abandoning = False

    def _one(self, typed: Typed) -> None:
        text = typed.text
        column = secret_from(self.reader, text)
        if column is not None:
            # In doubt it is one: nothing of it is shown or kept, whatever becomes of the line.
            for part in secret_words(text[column:]):
                self.session.secrets.learn(part)
        if typed.exact:
            self.session.exchange(text, LINES, exact=True)
        elif text.startswith(MARK * 2):
            self._say(text[1:])
        elif text.startswith(MARK):
            Commands(self).do(text[1:].strip())
        else:
            self._say(text)

    def _say(self, text: str) -> None:
        """Says a line and waits for its answer."""
        if self.in_data:
            self.session.exchange(text, NOTHING_ANSWERS)
            return
        if self.module:
            self.module.attention.keep()
        expect, within = expected(self.reader.read(text), self.session.dialect)
        within = within if self.within is None else self.within
        # An answer that is late is not this line's.
        self.session.await_outstanding()
        reply = self.session.exchange(text, expect, within)
        if self.module:
            self.module.attention.spoke()
        symptoms = Symptoms(self.session, self.lexicon)
        if reply.status is ReplyStatus.SILENCE and not reply.heard and not expect.silent:
            self.tell("!", f"no answer within {reply.waited:.1f} s")
        echoed = bool(reply.heard) and all(one.strip() == text.strip() for one in reply.heard)
        if not reply.ok or echoed or symptoms.refused() or symptoms.illegible():
            self.failures += 1
            self._tell_cause(symptoms)
        else:
            if reply.status is ReplyStatus.OK:
                self._told = ""
            self._tell_rate(text)
            self._reveal(text)

    def _reveal(self, text: str) -> None:
        """Shows the secrets of which a line speaks, if that was asked for; a module in data mode is not asked."""
        named = {name for part in self.reader.read(text) for name in (part.name, *part.values)}
        module = self.module
        for name in sorted(self.reveals & named) if module and self._takes_commands else ():
            assert module
            with self._unseen():
                shown = module.reveal(name)
            self.tell("=", f"{name} is {visible(shown)}; shown here only")

    def begin_data(self) -> None:
        """From now on what is typed is passed on as data. Raises Fault."""
        if self.module:
            if self.state.mode is None or self.state.mode.value is not Mode.DATA:
                self.tell_unsaved(
                    "to leave command mode the module starts again, which loses what is unsaved"
                    if self._leaves_by_start()
                    else ""
                )
                self.module.leave()
            self.module.attention.lose()
            self.session.tune(self.data_link)
        events = self.lexicon.dialect.events if self.lexicon else {}
        self.session.adopt(Dialect(DATA, events).with_end(self._data_end))
        self.in_data = True

    def _leaves_by_start(self) -> bool:
        """Whether a line by which the module leaves command mode has it start again."""
        leave = self.lexicon.actions.get("leave") if self.lexicon else None
        lines = [one.source for one in leave.program.walk() if isinstance(one, Say)] if leave else []
        restarts = {
            one.source
            for action in (self.lexicon.actions.values() if self.lexicon else ())
            for one in action.program.walk()
            if action.restarts and isinstance(one, Say)
        }
        return bool(restarts.intersection(lines))

    @property
    def data_link(self) -> Tuning:
        """Rate and frame of data mode, as far as known."""
        assert self.module
        return self.module.data_link

    def remember_settings(self) -> None:
        """What all settings are before the first one is set, of a module that takes commands; not shown."""
        if self._before is None and self.module and self._takes_commands:
            with suppress(ModuleFault), self._unseen():
                self._before = all_readings(self.module)

    @property
    def _takes_commands(self) -> bool:
        return not self.in_data and self.state.mode is not None and self.state.mode.value is Mode.COMMAND

    @contextmanager
    def _unseen(self) -> Iterator[None]:
        """Lines sent and received meanwhile are in the trace only."""
        muted, self.muted = self.muted, True
        try:
            yield
        finally:
            self.muted = muted

    def _tell_side_effects(self) -> None:
        """Lists the settings that are not as before and that no line has written; none of a module in data mode."""
        if self._before is None or self.module is None or not self._takes_commands:
            return
        found = {}
        with suppress(Fault), self._unseen():
            if not self.module.attention.answers_at(self.session.link.tuning):
                return
            found = differences(self.module, self._before, self.state.wrote)
        for name, one in found.items():
            if not self.module.lexicon.settings[name].varies:
                self.tell("=", f"side effect: {one.told(name)}; it was not written")

    def tell_unsaved(self, then: str = "", *, over: bool = False) -> None:
        """Tells which settings were written and are not saved, and what saves them, also once the conversation is `over`."""
        if not self.state.unsaved or not self.lexicon:
            return
        names = list(self.state.unsaved)
        saves = dict.fromkeys(one for name in names for one in self.lexicon.saves(self.lexicon.settings[name]))
        command = f"wexicon do {self.session.link.name}" if over else f"{MARK}do"
        how = f"to save {'it' if len(names) == 1 else 'them'}: {command} {next(iter(saves))}" if saves else ""
        self.tell("=", "; ".join(filter(None, (f"unsaved: {', '.join(names)}", how, then))))

    def end_data(self) -> None:
        """From now on what is typed is said to the module. Raises Fault."""
        self.in_data = False
        self.session.adopt(self._commands)
        if self.module:
            self.module.attention.gain(self.module.expected_links())

    def _tell_cause(self, symptoms: Symptoms) -> None:
        """Shows the cause of a failed line, once until a line is answered."""
        cause = symptoms.cause()
        if cause is None or cause.kind == self._told:
            return
        self._told = cause.kind
        does = f"{MARK}tune {symptoms.true_rate} listens at that rate." if symptoms.true_rate else cause.next
        self.tell("=", msgspec.structs.replace(cause, next=does).sentence)

    def _heed_start(self, seen: Heard) -> None:
        """Tells of a module that starts again and again, as soon as it is seen to."""
        starts = [one for one in self.state.starts if seen.at - one.at <= STARTS_WITHIN]
        if len(starts) > 1 and starts[-1].at == seen.at:
            self._told = "restarting"
            self.tell("=", restarting(seen.text, [one.at for one in starts]).sentence)

    def _tell_rate(self, text: str) -> None:
        """A typed line that changes the module's rate has been accepted: says how our side follows."""
        found = new_rate(self.lexicon, text)
        if not found or found[0] == self.session.link.tuning.rate:
            return
        rate, when = found
        if self.session.fixed:
            self.tell("=", f"the module's rate is {rate} baud {when}; the board's side towards it stays as it is")
            return
        moving = [name for name in self.state.pending if name in self.state.unsaved]
        kept = ", once it is saved" if moving and when != "once it is saved" else ""
        self.tell("=", f"the module's rate is {rate} baud {when}{kept}; {MARK}tune {rate} follows it")

    # -- a port that goes away ----------------------------------------------------------------------------------------

    def _lost(self, fault: LinkFault) -> None:
        """Waits until the port is there again."""
        session = self.session
        session.link.close()
        if self._reopen is None:
            raise fault
        self.tell("!", "the port is gone; waiting until it is back")
        while not self.ending:
            try:
                session.renew(self._reopen(session.link))
            except LinkFault:
                threading.Event().wait(LOOKS_FOR_PORT)
                continue
            self.tell("=", f"the port is back, at {session.link.tuning}")
            return

    # -- what is seen -------------------------------------------------------------------------------------------------

    def note(self, seen: Observation) -> None:
        """Shows what the session does and hears."""
        if self.muted:
            return
        if isinstance(seen, Said):
            # A line end alone clears what stands before the next line.
            if seen.exact and not seen.text.strip():
                return
            self._said = seen.text
            meaning = self._explain.said(self.reader.last) if self._explain and not self.in_data else ""
            self.tell(">>" if seen.exact else ">", visible(seen.text), meaning, at=seen.at)
        elif isinstance(seen, Heard):
            self._partial = ""
            if seen.role is Role.ECHO:
                return
            meaning = self._explain.heard(self._said, seen) if self._explain else ""
            if seen.name in ("start", "ready") and not any(one.at == seen.at for one in self.state.starts[-1:]):
                meaning = ""  # it answers so in data mode too
            if seen.role is Role.UNEXPECTED and self._said:
                meaning = f"late, or not asked for; “{visible(self._said)}” was no longer waited for"
            kind = str(seen.role) if seen.role in (Role.ERROR, Role.EVENT, Role.UNMATCHED, Role.CORRUPT) else ""
            self.tell("<", visible(seen.text), meaning, kind, at=seen.at)
            if seen.role in (Role.EVENT, Role.UNMATCHED, Role.ANSWER) and self._told != "restarting":
                self._heed_start(seen)
        elif isinstance(seen, Tuned):
            self.tell("~", f"our side at {seen.tuning}")
        elif isinstance(seen, Signalled):
            lines = (("DTR", seen.dtr), ("RTS", seen.rts))
            told = ", ".join(f"{name} {'on' if state else 'off'}" for name, state in lines if state is not None)
            self.tell("~", told)
        elif isinstance(seen, Repeated):
            self.tell("=", "busy; the line is said again")
        elif isinstance(seen, Logged | Asked):
            self.tell("=", seen.text)

    def idle(self) -> None:
        """Nothing has come for a while: an abandoned answer, or a prompt, ends the wait."""
        if self.muted:
            return
        self._show_partial()
        if self._abandoning or (self.waiting and self.session.partial.strip() == ">"):
            raise Abandoned

    def _show_partial(self, *, ended: bool = False) -> None:
        """What has come without a line end, such as a prompt, once it stands still, or the conversation has ended."""
        session = self.session
        still = session.clock.now() - session.heard_at
        # A slow rate brings a line in pieces.
        if not ended and still < SHOWN_AFTER + session.link.tuning.wire_time(PIECE):
            return
        if self._taken:
            taken, self._taken = self._taken, b""
            self._hex_line("<", taken)
        partial = session.partial
        if partial and partial != self._partial:
            fresh = partial.removeprefix(self._partial)
            self._partial = partial
            self.tell("<", visible(fresh), "", "partial")

    def tell(self, mark: str, text: str, meaning: str = "", kind: str = "", *, at: float | None = None) -> None:
        """Shows a line; `at` is when it came, on the link's clock, if it is not of now."""
        clock = self._clock
        wall = clock.wall(clock.now() if at is None else at).astimezone()
        for line in text.split("\n"):
            self._show(TalkLine(wall, mark, line, meaning, kind, self.name, self.number))

    def _bytes(self, mark: str, data: bytes) -> None:
        """Bytes have passed: line by line, so that a line that tells a secret can be left out whole."""
        if not self.shows_bytes:
            return
        whole = data if mark == ">" else self._taken + data
        lines = whole.splitlines(keepends=True)
        if mark == "<":
            self._taken = lines.pop() if lines and not lines[-1].endswith(b"\n") else b""
        for line in lines:
            self._hex_line(mark, line)

    def _hex_line(self, mark: str, line: bytes) -> None:
        secrets, text = self.session.secrets, to_text(line).rstrip("\r\n")
        secrets.overhear(text)
        if secrets.mask(text) != text:
            self.tell(mark, HIDDEN, "", "bytes")
            return
        for at in range(0, len(line), 16):
            piece = line[at : at + 16]
            self.tell(mark, f"{piece.hex(' ').upper():47}  {visible(piece)}", "", "bytes")
