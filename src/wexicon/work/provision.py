"""One unit brought from what it is to what it should be, and proved: found, wanted, left.

The rule: nothing is called right that was not read back. Only what differs is written, what moves the link comes last,
and every step leaves the module where the next run can find it. `verify` is the same walk without writing.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec

from wexicon.core.faults import Fault, ModuleFault, Part, Stopped
from wexicon.core.formats.fixture import Fixture
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.operator import Operator
from wexicon.core.protocol.session import Session
from wexicon.core.text import visible
from wexicon.core.tuning import Tuning
from wexicon.core.values import Value
from wexicon.work.hail import Hail
from wexicon.work.module import Module, Refused

PATIENCE = 60.0


class SettingResult(msgspec.Struct):
    """What became of one setting: kept, changed, accepted (not readable), refused, differs; unread, where it cannot be read
    and was not written; read, where nothing was wanted."""

    name: str
    found: Value | None = None
    wanted: Value | None = None
    left: Value | None = None
    outcome: str = ""
    note: str = ""


class Failure(msgspec.Struct):
    """Why a unit failed: the step, what went wrong, what was said and heard, what it points to, the exit status."""

    step: str
    what: str
    said: str = ""
    expected: str = ""
    heard: list[str] = []
    next: str = ""
    status: int = 1


class UnitResult(msgspec.Struct):
    """What became of one unit: conforms, failed or stopped; with how many settings were written, in how many seconds."""

    outcome: str = "failed"
    identity: dict[str, str] = {}
    settings: list[SettingResult] = []
    failure: Failure | None = None
    written: int = 0
    exchanges: int = 0
    seconds: float = 0.0


class Provision:
    """One walk over one unit. `wanted` holds plain values, checked before (see `sheet`); `step` is told to `watch`."""

    def __init__(
        self,
        session: Session,
        lexicon: Lexicon,
        operator: Operator,
        wanted: dict[str, Value] | None = None,
        *,
        write: bool = True,
        patience: float = PATIENCE,
        likely: Sequence[Tuning] = (),
        fixture: Fixture | None = None,
        watch: Callable[[str], None] = lambda step: None,
    ) -> None:
        self.session = session
        self.lexicon = lexicon
        self.module = Module(session, lexicon, operator)
        self.wanted = wanted or {}
        self.write = write
        self.patience = patience
        self.likely = likely
        self.fixture = fixture or Fixture()
        self.watch = watch
        self.step = ""
        self.result = UnitResult()
        self.found: dict[str, Value] = {}
        self.unread: dict[str, str] = {}

    def run(self) -> UnitResult:
        """The whole walk. Never raises but for what is not a Fault; the result says how it ended."""
        began = self.session.clock.now()
        result = self.result
        try:
            self._walk()
            result.outcome = "conforms" if all(s.outcome in _RIGHT for s in result.settings) else "failed"
            if result.outcome == "failed":
                result.failure = self._failure_of_settings()
        except Fault as fault:
            result.outcome = "stopped" if isinstance(fault, Stopped) else "failed"
            result.failure = self._failure(fault)
        result.exchanges = self.session.exchanges
        result.seconds = self.session.clock.now() - began
        self.session.decide(f"unit: {result.outcome}")
        return result

    def _walk(self) -> None:
        self._enter("attention")
        self._hail(self.likely)
        self.module.regain = lambda: self._hail([self.session.link.tuning])
        self._enter("identify")
        self.result.identity = self.module.identify()
        for name in self.wanted:
            self._require(name)
        self._enter("read")
        names = [name for name in self.lexicon.settings if not self.wanted or self._concerns(name)]
        names = [name for name in names if self.module.has(name)]
        self.found = self._read(names)
        self._compare(names)
        changes = [s for s in self.result.settings if s.outcome in ("differs", "unread")] if self.write else []
        if changes:
            self._change(changes)
        for line in self.result.settings:
            self._note_granted(line)
        self._enter("leave")
        self._leave()

    def _read(self, names: Sequence[str]) -> dict[str, Value]:
        """Reads all; where nothing is wanted, a module may lack what its family has."""
        if self.wanted:
            return self.module.read_many(names)
        found: dict[str, Value] = {}
        groups: dict[str, list[str]] = {}
        for name in names:
            setting = self.lexicon.settings[name]
            key = f"group {setting.group.name}" if setting.group and not setting.read else name
            groups.setdefault(key, []).append(name)
        for together in groups.values():
            try:
                found.update(self.module.read_many(together))
            except ModuleFault as fault:
                self.unread.update(dict.fromkeys(together, fault.what.partition(": ")[2] or fault.what))
        return found

    def _require(self, name: str) -> None:
        """What is wanted must be there in this firmware."""
        setting = self.lexicon.settings[name]
        if not self.module.has(name):
            firmware = visible(self.result.identity.get(self.lexicon.firmware, ""))
            needs = f"from {setting.since} on" if setting.since else f"before {setting.before}"
            raise ModuleFault(
                f"this module's firmware {firmware} has no {name}; it is there {needs}",
                where=self.session.link.name,
                hint="Nothing was changed. Update the firmware, or take the setting out of the sheet.",
            )

    def _concerns(self, name: str) -> bool:
        """Whether the setting is wanted, or something that is wanted needs it."""
        return name in self.wanted or any(name in self.lexicon.settings[other].needs for other in self.wanted)

    def _enter(self, step: str) -> None:
        self.step = step
        self.session.decide(step)
        self.watch(step)

    def _hail(self, likely: Sequence[Tuning]) -> None:
        Hail(self.session, self.lexicon, self.module.operator, self.patience, self.fixture).find(likely)
        self.module.attentive = True

    def _compare(self, names: Sequence[str]) -> None:
        for name in names:
            setting, found, wanted = self.lexicon.settings[name], self.found.get(name), self.wanted.get(name)
            line = SettingResult(name, found, wanted, found)
            if wanted is None:
                line.outcome, line.note = "read", self.unread.get(name, "")
            elif not setting.readable:
                line.outcome, line.note = "unread", "not readable"
            else:
                line.outcome = "kept" if found == wanted else "differs"
            self.result.settings.append(line)

    def _note_granted(self, line: SettingResult) -> None:
        """What was asked and what the network granted are both told."""
        granted = self.module.granted(line.name)
        if granted is not None:
            line.note = f"granted {self.lexicon.settings[line.name].kind.show(granted)}"

    # -- writing ----------------------------------------------------------------------------------------------------

    def _change(self, changes: list[SettingResult]) -> None:
        lexicon = self.lexicon
        todo = {line.name: line for line in changes}
        actions: list[str] = []
        for names in self._together(self.order(list(todo))):
            self._enter(f"write {', '.join(names)}")
            if self._write([todo[name] for name in names]):
                actions += [a for name in names for a in lexicon.settings[name].then if a not in actions]
        ordered = [a for a in lexicon.order if a in actions] + [a for a in actions if a not in lexicon.order]
        for name in dict.fromkeys(ordered):
            self._enter(name)
            self.module.do(name)
            if lexicon.actions[name].restarts:
                self._await_start()
        if not self.module.attentive:
            self._enter("come back")
            self._hail([self.session.link.tuning, self.module.data_link])
            self.identify_again()
        self._enter("read back")
        left = self.module.read_many([s.name for s in self.result.settings])
        for line in self.result.settings:
            self._judge(line, left.get(line.name))

    def _await_start(self) -> None:
        """A module that restarts is left alone until it says that it is ready, or as long as that usually takes."""
        start = self.lexicon.start
        ready = start.ready
        until = self.session.clock.now() + start.within
        if ready is None:
            self.session.quiet(start.within)
            return
        while self.session.clock.now() < until:
            if self.session.take_event(lambda event: ready.match(event.text) is not None):
                break
            count = self.session.conversation.unasked
            self.session.quiet_until(until, lambda count=count: self.session.conversation.unasked != count)  # type: ignore[misc]

    def _together(self, names: list[str]) -> list[list[str]]:
        """Settings of one group that is written as a whole stand together, in the place of the last of them."""
        made: dict[str, list[str]] = {}
        for name in names:
            setting = self.lexicon.settings[name]
            key = f"group {setting.group.name}" if setting.group and not setting.write else name
            made[key] = [*made.pop(key, []), name]
        return list(made.values())

    def order(self, names: list[str]) -> list[str]:
        """The order of writing: what others need first, what moves the link last, otherwise as in the lexicon."""
        ranked = [name for name in self.lexicon.settings if name in names]
        ordered: list[str] = []

        def put(name: str, above: tuple[str, ...] = ()) -> None:
            for need in self.lexicon.settings[name].needs:
                if need in ranked and need not in above:
                    put(need, (*above, name))
            if name not in ordered:
                ordered.append(name)

        for moves in (False, True):
            for name in ranked:
                if bool(self.lexicon.settings[name].moves_link) == moves:
                    put(name)
        return ordered

    def _write(self, lines: list[SettingResult]) -> bool:
        if not self.lexicon.settings[lines[0].name].writable:
            lines[0].note = "cannot be written"
            return False
        self.result.written += 1
        try:
            self.module.write({line.name: line.wanted for line in lines if line.wanted is not None}, self.found)
        except Refused as fault:
            for line in lines:
                line.outcome, line.note = "refused", fault.what
            return False
        for line in lines:
            # It said yes, and nobody can look.
            line.outcome = "accepted" if line.outcome == "unread" else line.outcome
        return True

    def identify_again(self) -> None:
        """The module that came back must be the one that went."""
        before = self.result.identity
        self.result.identity = self.module.identify()
        unit = self.lexicon.unit
        if unit and before.get(unit) != self.result.identity.get(unit):
            raise ModuleFault(
                f"another module came back: its {unit} is {visible(self.result.identity.get(unit, ''))}, "
                f"it was {visible(before.get(unit, ''))}",
                where=self.session.link.name,
                hint="Do not swap modules before Wexicon says that one is done.",
            )

    def _judge(self, line: SettingResult, left: Value | None) -> None:
        if line.outcome in ("accepted", "unread"):
            return
        line.left = left
        if line.wanted is None or line.outcome == "refused":
            return
        if left != line.wanted:
            line.note = line.note or (
                "was accepted and is not there" if line.outcome == "differs" else "changed by itself"
            )
            line.outcome = "differs"
        else:
            line.outcome = "kept" if line.outcome == "kept" else "changed"

    def _leave(self) -> None:
        attention = self.lexicon.attention
        if "leave" in self.lexicon.actions and self.module.attentive:
            self.module.do("leave")
        if not attention.data_pins:
            return
        if self.fixture.has(attention.data_pins):
            self.fixture.drive(self.session, attention.data_pins)
        else:
            pins = ", ".join(f"{name} {'on' if on else 'off'}" for name, on in attention.data_pins.items())
            self.module.operator.ask("release", f"Back to data mode: {pins}.")

    # -- failure ----------------------------------------------------------------------------------------------------

    def _failure(self, fault: Fault) -> Failure:
        part = fault.part if isinstance(fault, ModuleFault) else Part()
        return Failure(self.step, fault.what, part.said, part.expected, part.heard, fault.hint, fault.status)

    def _failure_of_settings(self) -> Failure:
        wrong = [
            f"{s.name} {s.outcome}" + (f" ({s.note})" if s.note else "")
            for s in self.result.settings
            if s.outcome not in _RIGHT
        ]
        return Failure("compare", "; ".join(wrong))


_RIGHT = ("kept", "changed", "accepted", "unread", "read")
