"""The console's own commands, and the statements of a dialogue that are typed one at a time.

The rule: a command changes the conversation only by the conversation's own means, and shows there what came of it.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Protocol

import msgspec

from wexicon.core.dialogue import Program, read_dialogue
from wexicon.core.dialogue.given import given
from wexicon.core.dialogue.parties import Party
from wexicon.core.dialogue.runner import Runner
from wexicon.core.faults import CallFault, Fault, ModuleFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.module_state.state import ModuleState
from wexicon.core.protocol.observations import Collector
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import LINE_ENDS
from wexicon.core.text import Secret, meant, one_of, seconds, spoken, visible, written
from wexicon.core.tuning import FLOWS
from wexicon.core.values import ValueFault
from wexicon.files import read_file, write_new
from wexicon.work.console.completion import COMMANDS, MARK, SAYS
from wexicon.work.module.module import Module

LOOPED = bytes(range(0x20, 0x7F))
# How long the last byte of a loopback test may take to come back (seconds).
LOOP_WITHIN = 0.3


def told_row(value: object) -> str:
    """A value that a dialogue kept, on one line."""
    if isinstance(value, dict):
        return ", ".join(f"{name} {written(part)}" for name, part in value.items())
    return written(value)


class Talking(Protocol):
    """What commands use of a conversation. `trace` is its trace file; `within` how long answers are waited for (seconds; None:
    as the lexicon says); `muted` while nothing is shown; `ask` asks for a secret."""

    session: Session
    module: Module | None
    lexicon: Lexicon | None
    trace: Path
    within: float | None
    shows_bytes: bool
    in_data: bool
    state: ModuleState
    muted: bool
    ask: Callable[[str], str] | None

    def remember_settings(self) -> None:
        """What all settings are before the first one is set."""

    def tell(self, mark: str, text: str) -> None:
        """Shows a line."""

    def begin_data(self) -> None:
        """What is typed is passed on as data."""

    def end_data(self) -> None:
        """What is typed is said to the module again."""

    def abandon(self) -> int:
        """Says no more of what was typed."""

    def end(self) -> None:
        """Ends when what was typed has been said."""


class Commands:
    """The commands of one conversation."""

    def __init__(self, talk: Talking) -> None:
        self.talk = talk

    def do(self, text: str) -> None:
        """Does one command. Raises Fault."""
        word, _, rest = text.partition(" ")
        name = word.replace("-", "_")
        if word in COMMANDS:
            getattr(self, f"_do_{name}")(rest.strip())
            return
        if word == "set" and rest and "=" not in rest:
            self._set_secret(rest.strip())
            return
        if word == "set" and self._set_text(rest):
            return
        program = read_dialogue(text, "typed")
        if not program.statements:
            raise CallFault(f"nothing to do in “{visible(text)}”", hint=meant(word, [*SAYS, *COMMANDS]))
        self._run(program)

    def _run(self, program: Program) -> None:
        runner = Runner(
            Party("", self.talk.session, self.talk.module), program, note=lambda note: self.talk.tell("=", note)
        )
        for need in program.needs():
            if need.name not in runner.values and need.default is None and self.talk.ask:
                value = given(need.name, need.kind, self.talk.ask(need.name), secret=need.secret)
                if need.secret:
                    value = Secret(value)
                    self.talk.session.secrets.learn(value)
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
                self.talk.tell("=", f"{name}: {visible(told_row(row))}")

    def _set_text(self, text: str) -> bool:
        """Writes a setting whose value is typed as it is in `wexicon set`; false if it is an expression, which knows names."""
        name, _, value = (part.strip() for part in text.partition("="))
        setting = self.talk.lexicon.settings.get(name) if self.talk.lexicon else None
        if setting is None or self.talk.module is None:
            return False
        try:
            plain = setting.typed(value)
        except (ValueFault, ValueError):
            return False
        self.talk.remember_settings()
        self.talk.module.set(name, plain)
        return True

    def _do_allow(self, rest: str) -> None:
        self.talk.within = seconds(rest) if rest and rest != "off" else None
        told = spoken(self.talk.within) if self.talk.within else "as the lexicon says"
        self.talk.tell("~", f"answers are waited for: {told}")

    def _set_secret(self, name: str) -> None:
        if not self.talk.module or not self.talk.lexicon:
            raise CallFault("without a lexicon there are no settings", hint="Begin it with --lexicon NAME.")
        setting = self.talk.lexicon.settings.get(name)
        if setting is None:
            raise CallFault(f"there is no setting {name}", hint=meant(name, self.talk.lexicon.settings))
        if not self.talk.ask:
            hint = f"Give it by wexicon set PORT --file {name}=PATH, or at a terminal."
            raise CallFault(f"{name} is a secret, and there is no terminal to type it on", hint=hint)
        self.talk.remember_settings()
        try:
            self.talk.module.set(name, Secret(self.talk.ask(name)))
        except ValueFault as fault:
            # Its own words hold the value.
            raise CallFault(f"{name}: the value is not allowed", hint=f"Allowed: {fault.allowed}") from None

    def _do_help(self, rest: str) -> None:
        for name, meaning in {**SAYS, **COMMANDS}.items():
            self.talk.tell("=", f"{MARK}{name:10}  {meaning}")
        self.talk.tell(
            "=", f"All else is said as it stands; {MARK}{MARK} begins a line that itself begins with {MARK}."
        )

    def _do_quit(self, rest: str) -> None:
        self.talk.abandon()
        self.talk.end()

    def _do_attention(self, rest: str) -> None:
        if not self.talk.module:
            raise CallFault("that needs a lexicon", hint="Begin it with --lexicon NAME.")
        link = self.talk.module.attention.gain([self.talk.session.link.tuning])
        self.talk.tell("=", f"the module listens at {link}")

    def _do_end(self, rest: str) -> None:
        if rest not in LINE_ENDS:
            raise CallFault(f"{rest!r} is not a line end", hint=f"One of {', '.join(LINE_ENDS)}")
        self.talk.session.adopt(self.talk.session.dialect.with_end(rest))
        self.talk.tell("~", f"lines end with {rest}")

    def _do_flow(self, rest: str) -> None:
        control = getattr(self.talk.session.link, "control_flow", None)
        if rest not in FLOWS or control is None:
            raise CallFault(f"{rest!r} is not a flow control of this port", hint=f"One of {', '.join(FLOWS)}")
        control(rest)
        self.talk.tell("~", f"flow control: {rest}")

    def _do_hex(self, rest: str) -> None:
        self.talk.shows_bytes = rest != "off" if rest else not self.talk.shows_bytes
        self.talk.tell("~", f"every byte is {'shown' if self.talk.shows_bytes else 'no longer shown'}")

    def _do_data(self, rest: str) -> None:
        on = rest != "off" if rest else not self.talk.in_data
        if on:
            self.talk.begin_data()
        else:
            self.talk.end_data()
        told = "what is typed is passed on as data" if on else "what is typed is said to the module"
        self.talk.tell("~", f"{told}; at {self.talk.session.link.tuning}")

    def _do_payload(self, rest: str) -> None:
        data = read_file(Path(rest), 64 * 1024 * 1024)
        began = self.talk.session.clock.now()
        self.talk.session.send(data)
        self.talk.session.quiet(0.0)
        self.talk.tell("=", f"sent {len(data)} bytes in {self.talk.session.clock.now() - began:.1f} s")

    def _do_loop(self, rest: str) -> None:
        """Whether our own bytes come back at two rates: then TX and RX are joined. A module echoes at its own rate only."""
        here = self.talk.session.link.tuning
        other = msgspec.structs.replace(here, rate=115200 if here.rate != 115200 else 57600)
        heard = self._looped()
        if heard != LOOPED:
            wrong = f"{len(heard)} bytes came back for {len(LOOPED)}, and not the same: something else answers"
            self.talk.tell("!" if heard else "=", wrong if heard else "nothing came back: TX and RX are not joined")
            self._clear()
            return
        self.talk.session.tune(other)
        again = self._looped()
        self.talk.session.tune(here)
        if again == LOOPED:
            self.talk.tell(
                "=", f"all {len(LOOPED)} bytes came back at two rates: TX and RX are joined, and the adapter works"
            )
        else:
            self.talk.tell(
                "=",
                f"all {len(LOOPED)} bytes came back at {here} and not at {other}: the module echoes them, or a loop "
                "at the far end of its link sends them back",
            )
            self._clear()

    def _clear(self) -> None:
        """Ends the line that the test bytes are to a module, and takes in what it answers."""
        session = self.talk.session
        session.send(session.dialect.line_end.encode())
        session.wait_until_quiet(LOOP_WITHIN, 4 * LOOP_WITHIN)
        session.events.clear()

    def _looped(self) -> bytes:
        session = self.talk.session
        session.drain()
        until = session.clock.now() + session.link.tuning.wire_time(len(LOOPED)) + LOOP_WITHIN
        made = Collector(until, LOOPED)
        session.drive(made)
        return bytes(made.data)

    def _do_state(self, rest: str) -> None:
        told = self.talk.state.told(self.talk.session.clock.now())
        for one in told:
            self.talk.tell("=", f"{one.part}: {one.value} ({one.by}, {spoken(one.ago)} ago)")
        if not told:
            self.talk.tell("=", "nothing is known yet: nothing was answered")

    def _do_run(self, rest: str) -> None:
        from wexicon.work.contact.catalog import find_dialogue

        self._run(find_dialogue(Path(rest)))

    def _do_keep(self, rest: str) -> None:
        from wexicon.core.dialogue.draft import draft_dialogue
        from wexicon.records.trace import recorded

        if not rest:
            raise CallFault("keep what is typed in which file?", hint=f"Write {MARK}keep first-words.wex")
        self._write_trace()
        told = recorded(self.talk.trace)
        end = self.talk.session.dialect.speech.end
        more = f" --end {end}" if end != told.end else ""
        family = f" with {one_of(self.talk.lexicon.about.family)}" if self.talk.lexicon else ""
        title = f"typed by hand{family}; line end {end}. Loosen what may differ, name what is captured."
        text = draft_dialogue([one for one in told.exchanges if one.said is not None], title, told.tuning)
        write_new(Path(rest), text)
        self.talk.tell("=", f"wrote {rest}; wexicon run {rest} PORT{more} says it again and checks the answers")

    def _write_trace(self) -> None:
        """What has been heard so far is in the trace when this returns."""
        self.talk.session.listener.flush()
        self.talk.muted = True
        self.talk.session.listener.idle()
        self.talk.muted = False

    def _do_sheet(self, rest: str) -> None:
        from wexicon.core.formats.host_export import sheet_text
        from wexicon.work.contact.ports import named

        if not self.talk.module or not self.talk.lexicon:
            raise CallFault("without a lexicon there are no settings", hint="Begin it with --lexicon NAME.")
        if not rest:
            raise CallFault("write the sheet to which file?", hint=f"Write {MARK}sheet unit.toml")
        found = self.talk.module.settings.read(self.talk.lexicon.settings, {})
        settings = [
            (setting, found[name].value if name in found else None)
            for name, setting in self.talk.lexicon.settings.items()
        ]
        write_new(Path(rest), sheet_text("as it was when it was talked to", "unit", named(self.talk.lexicon), settings))
        self.talk.tell("=", f"wrote {rest}; wexicon provision {rest} PORT makes another module the same")
