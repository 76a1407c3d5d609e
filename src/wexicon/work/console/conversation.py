"""A manual conversation: lines typed by a user, and everything that the module sends.

The rule: a typed line is said when the one before it was answered or given up, so that a paste of many loses none; what the
module sends is shown at once, also during an exchange. A port that goes away is waited for. It owns no terminal: what is
to be seen is given to `show`, what was typed comes in by `put`, from any thread.
"""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

import msgspec

from wexicon.core.dialogue import Program, read_dialogue
from wexicon.core.dialogue.blocks import Say
from wexicon.core.dialogue.given import given
from wexicon.core.dialogue.runner import Runner
from wexicon.core.faults import CallFault, CannotTune, Fault, LinkFault, ModuleFault, Stopped
from wexicon.core.formats.lexicon import Group, Lexicon, Setting
from wexicon.core.protocol.insertion import Filled
from wexicon.core.protocol.link import Link
from wexicon.core.protocol.machine import Collector
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
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.reply import Expectation, ReplyStatus, Want
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import LINE_ENDS
from wexicon.core.secret import HIDDEN, Secret
from wexicon.core.text import meant, to_text, visible, written
from wexicon.core.tuning import FLOWS
from wexicon.core.values import ValueFault
from wexicon.files import read_file, write_new
from wexicon.work.console.completion import COMMANDS, MARK, SAYS, secret_from
from wexicon.work.console.explanation import Explainer
from wexicon.work.module.module import Module

# How often it looks whether something was typed, and for a port that went away (seconds).
LOOKS = 0.01
LOOKS_FOR_PORT = 0.25
# After how long a silence what has come without a line end is shown (seconds).
SHOWN_AFTER = 0.05
LOOPED = bytes(range(0x20, 0x7F))
# How long the last byte of a loopback test may take to come back (seconds).
LOOP_WITHIN = 0.3
_LINES = Expectation((Want(Pattern("{line}"), gather=True),))
_LINE = Expectation((Want(Pattern("{line}")),))


class Shown(msgspec.Struct, frozen=True):
    """One line to be seen: when; `>` said, `>>` said exactly, `<` heard, `~` our side, `=` told by Wexicon, `!` wrong; the
    text, safe to show; what it means; `event`, `aside`, `error`, `broken`, `partial`, `bytes` or `` by what it was."""

    at: datetime
    mark: str
    text: str
    meaning: str = ""
    kind: str = ""


class Typed(msgspec.Struct, frozen=True):
    """A typed line; `exact` if no line end is added."""

    text: str
    exact: bool = False


def told_row(value: object) -> str:
    """A value that a dialogue kept, on one line."""
    if isinstance(value, dict):
        return ", ".join(f"{name} {written(part)}" for name, part in value.items())
    return written(value)


class Abandoned(Exception):
    """Gives up waiting for this answer."""


class Talk(Listener):
    """One conversation. `failures` counts what was answered with an error, or not at all."""

    def __init__(
        self,
        lexicon: Lexicon | None,
        show: Callable[[Shown], None],
        *,
        trace: Path,
        ask: Callable[[str], str] | None = None,
        reopen: Callable[[Link], Link] | None = None,
    ) -> None:
        self.lexicon = lexicon
        self.failures = 0
        self.waiting = False
        # Nothing has been typed yet while attention is being gained.
        self.muted = False
        self._show = show
        self._trace = trace
        self._ask = ask
        self._reopen = reopen
        self._explain = Explainer(lexicon) if lexicon else None
        self._queue: deque[Typed] = deque()
        self._lock = threading.Lock()
        self._ending = self._abandoning = False
        self._said = ""
        self._partial = ""
        self._hex = False
        self._taken = b""

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
        self._ending = True

    @property
    def queued(self) -> int:
        """How many lines wait for their turn."""
        return len(self._queue)

    # -- the conversation -------------------------------------------------------------------------------------------

    def run(self, session: Session, module: Module | None = None) -> None:
        """Talks until it is ended. Raises LinkFault where the port is lost and cannot be waited for."""
        self.session, self.module = session, module
        session.watch = self._bytes
        while not (self._ending and not self._queue):
            try:
                self._turn()
            except LinkFault as fault:
                self._lost(fault)
        self._show_partial(due=True)

    def _turn(self) -> None:
        session = self.session
        with self._lock:
            typed = self._queue.popleft() if self._queue else None
        if typed is None:
            session.listen(session.clock.now() + LOOKS)
            session.events.clear()
            self._show_partial()
            return
        self.waiting, self._abandoning = True, False
        try:
            self._one(typed)
        except Abandoned:
            session.abandon()
            # A prompt came: the next line answers it.
            session.forget_partial()
            if self._abandoning:
                self._tell("!", "no longer waited for")
        except Stopped:
            raise
        except (Fault, ValueError) as fault:
            if isinstance(fault, LinkFault) and not isinstance(fault, CannotTune):
                raise
            self.failures += 1
            self._tell("!", str(fault))
        finally:
            self.waiting = self._abandoning = False

    def _one(self, typed: Typed) -> None:
        text = typed.text
        if typed.exact:
            self.session.exchange(text, _LINES, exact=True)
        elif text.startswith(MARK * 2):
            self._say(text[1:])
        elif text.startswith(MARK):
            self._command(text[1:].strip())
        else:
            self._say(text)

    def _say(self, text: str) -> None:
        """Says a line and waits for its answer."""
        if self.module:
            self.module.attention.keep()
        expect, within = self._expected(text)
        reply = self.session.exchange(self._filled(text), expect, within)
        if self.module:
            self.module.attention.spoke()
        nothing = reply.status is ReplyStatus.SILENCE and not reply.heard and not expect.silent
        if nothing:
            self._tell("!", f"no answer within {reply.waited:.1f} s")
        self.failures += nothing or reply.status is ReplyStatus.ERROR

    def _expected(self, text: str) -> tuple[Expectation, float | None]:
        """What answers a line: as the lexicon says where it knows the line, any lines up to a final result code elsewhere."""
        dialect = self.session.dialect
        if self.lexicon:
            phrases = [self.lexicon.attention.probe, *self.lexicon.identify]
            readers: list[Setting | Group] = [*self.lexicon.settings.values(), *self.lexicon.groups.values()]
            phrases += [one.read for one in readers if one.read]
            for phrase in phrases:
                if phrase.say.source == text:
                    return phrase.expect, phrase.within
            for action in self.lexicon.actions.values():
                for statement in action.program.walk():
                    if isinstance(statement, Say) and statement.source == text and not statement.exact:
                        return statement.expectation, None
        ends = dialect.speech.closing == "always" and dialect.form == "lines" and dialect.speech.ok
        return (_LINES if ends else _LINE), None

    def _filled(self, text: str) -> str | Filled:
        """The line; what is in it where a secret is written is one."""
        column = secret_from(self.lexicon, text)
        if column is None or column >= len(text):
            return text
        return Filled(text, text[:column] + HIDDEN, (text[column:],))

    # -- the console's own commands ---------------------------------------------------------------------------------

    def _command(self, text: str) -> None:
        word, _, rest = text.partition(" ")
        name = word.replace("-", "_")
        if word in COMMANDS:
            getattr(self, f"_do_{name}")(rest.strip())
            return
        if word == "set" and rest and "=" not in rest:
            self._set_secret(rest.strip())
            return
        program = read_dialogue(text, "typed")
        if not program.statements:
            raise CallFault(f"nothing to do in “{visible(text)}”", hint=meant(word, [*SAYS, *COMMANDS]))
        self._run(program)

    def _run(self, program: Program) -> None:
        runner = Runner(self.session, program, module=self.module, note=lambda note: self._tell("=", note))
        for need in program.needs():
            if need.name not in runner.values and need.default is None and self._ask:
                value = given(need.name, need.kind, self._ask(need.name), secret=need.secret)
                if need.secret:
                    value = Secret(value)
                    self.session.secrets.learn(value)
                runner.values[need.name] = value
        try:
            made = runner.run()
        except ModuleFault as fault:
            part = fault.part
            told = [str(fault)]
            told += [f"expected {part.expected}"] if part.expected else []
            raise Fault("; ".join(told)) from None
        for name, value in made.kept.items():
            for row in value if isinstance(value, list) else [value]:
                self._tell("=", f"{name}: {visible(told_row(row))}")

    def _set_secret(self, name: str) -> None:
        if not self.module or not self.lexicon:
            raise CallFault("without a lexicon there are no settings", hint="Begin it with --lexicon NAME.")
        setting = self.lexicon.settings.get(name)
        if setting is None:
            raise CallFault(f"there is no setting {name}", hint=meant(name, self.lexicon.settings))
        if not self._ask:
            raise CallFault(f"{name} has no value", hint=f"Write {MARK}set {name} = VALUE.")
        try:
            self.module.set(name, Secret(self._ask(name)))
        except ValueFault as fault:
            # Its own words hold the value.
            raise CallFault(f"{name}: the value is not allowed", hint=f"Allowed: {fault.allowed}") from None

    def _do_help(self, rest: str) -> None:
        for name, meaning in {**SAYS, **COMMANDS}.items():
            self._tell("=", f"{MARK}{name:10}  {meaning}")
        self._tell("=", f"All else is said as it stands; {MARK}{MARK} begins a line that itself begins with {MARK}.")

    def _do_quit(self, rest: str) -> None:
        self.abandon()
        self._ending = True

    def _do_attention(self, rest: str) -> None:
        if not self.module:
            raise CallFault("that needs a lexicon", hint="Begin it with --lexicon NAME.")
        link = self.module.attention.gain([self.session.link.tuning])
        self._tell("=", f"the module listens at {link}")

    def _do_end(self, rest: str) -> None:
        if rest not in LINE_ENDS:
            raise CallFault(f"{rest!r} is not a line end", hint=f"One of {', '.join(LINE_ENDS)}")
        self.session.adopt(self.session.dialect.with_end(rest))
        self._tell("~", f"lines end with {rest}")

    def _do_flow(self, rest: str) -> None:
        control = getattr(self.session.link, "control_flow", None)
        if rest not in FLOWS or control is None:
            raise CallFault(f"{rest!r} is not a flow control of this port", hint=f"One of {', '.join(FLOWS)}")
        control(rest)
        self._tell("~", f"flow control: {rest}")

    def _do_hex(self, rest: str) -> None:
        self._hex = rest != "off" if rest else not self._hex
        self._tell("~", f"every byte is {'shown' if self._hex else 'no longer shown'}")

    def _do_payload(self, rest: str) -> None:
        data = read_file(Path(rest), 64 * 1024 * 1024)
        began = self.session.clock.now()
        self.session.send(data)
        self.session.quiet(0.0)
        self._tell("=", f"sent {len(data)} bytes in {self.session.clock.now() - began:.1f} s")

    def _do_loop(self, rest: str) -> None:
        """Whether our own bytes come back at two rates: then TX and RX are joined. A module echoes at its own rate only."""
        here = self.session.link.tuning
        other = msgspec.structs.replace(here, rate=115200 if here.rate != 115200 else 57600)
        heard = self._looped()
        if heard != LOOPED:
            wrong = f"{len(heard)} bytes came back for {len(LOOPED)}, and not the same: something else answers"
            self._tell("!" if heard else "=", wrong if heard else "nothing came back: TX and RX are not joined")
            return
        self.session.tune(other)
        again = self._looped()
        self.session.tune(here)
        if again == LOOPED:
            self._tell(
                "=", f"all {len(LOOPED)} bytes came back at two rates: TX and RX are joined, and the adapter works"
            )
        else:
            self._tell("=", f"all {len(LOOPED)} bytes came back at {here} and not at {other}: the module echoes them")

    def _looped(self) -> bytes:
        session = self.session
        session.drain()
        until = session.clock.now() + session.link.tuning.wire_time(len(LOOPED)) + LOOP_WITHIN
        made = Collector(until, LOOPED)
        session.drive(made)
        return bytes(made.data)

    def _do_run(self, rest: str) -> None:
        from wexicon.work.function.dialogues import find_dialogue

        self._run(find_dialogue(Path(rest)))

    def _do_keep(self, rest: str) -> None:
        from wexicon.core.dialogue.draft import draft_dialogue
        from wexicon.records.trace_reader import recorded

        if not rest:
            raise CallFault("keep what is typed in which file?", hint=f"Write {MARK}keep first-words.wex")
        self._write_trace()
        told = recorded(self._trace)
        family = f" with a {self.lexicon.about.family}" if self.lexicon else ""
        title = f"typed by hand{family}; line end {told.end}. Loosen what may differ, name what is captured."
        text = draft_dialogue([one for one in told.exchanges if one.said is not None], title, told.tuning)
        write_new(Path(rest), text)
        self._tell("=", f"wrote {rest}; wexicon run {rest} PORT says it again and checks the answers")

    def _write_trace(self) -> None:
        """What has been heard so far is in the trace when this returns."""
        self.session.listener.flush()
        self.muted = True
        self.session.listener.idle()
        self.muted = False

    def _do_sheet(self, rest: str) -> None:
        from wexicon.core.formats.writing import sheet_text
        from wexicon.work.contact.known_links import named

        if not self.module or not self.lexicon:
            raise CallFault("without a lexicon there are no settings", hint="Begin it with --lexicon NAME.")
        if not rest:
            raise CallFault("write the sheet to which file?", hint=f"Write {MARK}sheet unit.toml")
        found = self.module.settings.read(self.lexicon.settings, {})
        settings = [
            (setting, found[name].value if name in found else None) for name, setting in self.lexicon.settings.items()
        ]
        write_new(Path(rest), sheet_text("as it was when it was talked to", "unit", named(self.lexicon), settings))
        self._tell("=", f"wrote {rest}; wexicon provision {rest} PORT makes another module the same")

    # -- a port that goes away ----------------------------------------------------------------------------------------

    def _lost(self, fault: LinkFault) -> None:
        """Waits until the port is there again."""
        session = self.session
        session.link.close()
        if self._reopen is None:
            raise fault
        self._tell("!", "the port is gone; waiting until it is back")
        while not self._ending:
            try:
                session.renew(self._reopen(session.link))
            except LinkFault:
                threading.Event().wait(LOOKS_FOR_PORT)
                continue
            self._tell("=", f"the port is back, at {session.link.tuning}")
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
            meaning = self._explain.said(seen.text) if self._explain and not seen.exact else ""
            self._tell(">>" if seen.exact else ">", visible(seen.text), meaning)
        elif isinstance(seen, Heard):
            self._partial = ""
            if seen.role is Role.ECHO:
                return
            meaning = self._explain.heard(self._said, seen) if self._explain else ""
            kind = str(seen.role) if seen.role in (Role.ERROR, Role.EVENT, Role.UNMATCHED, Role.CORRUPT) else ""
            self._tell("<", visible(seen.text), meaning, kind)
        elif isinstance(seen, Tuned):
            self._tell("~", f"our side at {seen.tuning}")
        elif isinstance(seen, Signalled):
            lines = (("DTR", seen.dtr), ("RTS", seen.rts))
            told = ", ".join(f"{name} {'on' if state else 'off'}" for name, state in lines if state is not None)
            self._tell("~", told)
        elif isinstance(seen, Repeated):
            self._tell("=", "busy; the line is said again")
        elif isinstance(seen, Logged | Asked):
            self._tell("=", seen.text)

    def idle(self) -> None:
        """Nothing has come for a while: an abandoned answer, or a prompt, ends the wait."""
        if self.muted:
            return
        self._show_partial(due=True)
        if self._abandoning or (self.waiting and self.session.partial.strip() == ">"):
            raise Abandoned

    def _show_partial(self, *, due: bool = False) -> None:
        """What has come without a line end, such as a prompt, once it stands still."""
        partial = self.session.partial
        if due and self._taken:
            taken, self._taken = self._taken, b""
            self._hex_line("<", taken)
        if not partial or partial == self._partial:
            return
        if not due:
            self.session.listen(self.session.clock.now() + SHOWN_AFTER)
        if partial == self.session.partial:
            self._partial = partial
            self._tell("<", visible(partial), "", "partial")

    def _tell(self, mark: str, text: str, meaning: str = "", kind: str = "") -> None:
        for line in text.split("\n"):
            self._show(Shown(datetime.now(), mark, line, meaning, kind))

    def _bytes(self, mark: str, data: bytes) -> None:
        """Bytes have passed: line by line, so that a line that tells a secret can be left out whole."""
        if not self._hex:
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
            self._tell(mark, HIDDEN, "", "bytes")
            return
        for at in range(0, len(line), 16):
            piece = line[at : at + 16]
            self._tell(mark, f"{piece.hex(' ').upper():47}  {visible(piece)}", "", "bytes")
