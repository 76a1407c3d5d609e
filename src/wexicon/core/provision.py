"""One unit brought from what it is to what it should be, and proved: found, wanted, left.

The rule: nothing is called right that was not read back. Only what differs is written, what moves the link comes last,
and every step leaves the module where the next run can find it. `verify` is the same walk without writing.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec

from wexicon.core.faults import Fault, ModuleFault, Part, Stopped
from wexicon.core.hail import Hail
from wexicon.core.lexicon import Lexicon, Setting
from wexicon.core.module import Module, Refused
from wexicon.core.operator import Operator
from wexicon.core.session import Session
from wexicon.core.text import visible
from wexicon.core.tuning import Tuning
from wexicon.core.values import Value

PATIENCE = 60.0


class SettingResult(msgspec.Struct):
    """What became of one setting: kept, changed, accepted, refused, differs; or read, where nothing was wanted."""

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
        watch: Callable[[str], None] = lambda step: None,
    ) -> None:
        self.session = session
        self.lexicon = lexicon
        self.module = Module(session, lexicon, operator)
        self.wanted = wanted or {}
        self.write = write
        self.patience = patience
        self.likely = likely
        self.watch = watch
        self.step = ""
        self.result = UnitResult()
        self.found: dict[str, Value] = {}

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
        self._enter("identify")
        self.result.identity = self.module.identify()
        self._enter("read")
        names = [name for name in self.lexicon.settings if not self.wanted or self._concerns(name)]
        self.found = self.read_all(names)
        self._compare(names)
        changes = [s for s in self.result.settings if s.outcome == "differs"] if self.write else []
        unread = [s for s in self.result.settings if s.outcome == "accepted"] if self.write else []
        if changes or unread:
            self._change([*changes, *unread])
        self._enter("leave")
        self._leave()

    def _concerns(self, name: str) -> bool:
        """Whether the setting is wanted, or something that is wanted needs it."""
        return name in self.wanted or any(name in self.lexicon.settings[other].needs for other in self.wanted)

    def _enter(self, step: str) -> None:
        self.step = step
        self.session.decide(step)
        self.watch(step)

    # -- reaching it ------------------------------------------------------------------------------------------------

    def _hail(self, likely: Sequence[Tuning]) -> None:
        Hail(self.session, self.lexicon, self.module.operator, self.patience).find(likely)
        self.module.attentive = True

    # -- reading ----------------------------------------------------------------------------------------------------

    def read_all(self, names: Sequence[str]) -> dict[str, Value]:
        """Every readable setting of `names`, decoded."""
        return {name: self.module.read(name) for name in names if self.lexicon.settings[name].read}

    def _compare(self, names: Sequence[str]) -> None:
        for name in names:
            setting, found, wanted = self.lexicon.settings[name], self.found.get(name), self.wanted.get(name)
            line = SettingResult(name, found, wanted, found)
            if wanted is None:
                line.outcome = "read"
            elif setting.read is None:
                line.outcome, line.note = "accepted", "not readable"
            else:
                line.outcome = "kept" if found == wanted else "differs"
            self.result.settings.append(line)

    # -- writing ----------------------------------------------------------------------------------------------------

    def _change(self, changes: list[SettingResult]) -> None:
        lexicon = self.lexicon
        todo = {line.name: line for line in changes}
        actions: list[str] = []
        for name in self.order(list(todo)):
            setting = lexicon.settings[name]
            self._enter(f"write {name}")
            if self._write(setting, todo[name]):
                actions += [action for action in setting.then if action not in actions]
        for action in [a for a in lexicon.order if a in actions] + [a for a in actions if a not in lexicon.order]:
            self._enter(action)
            self.module.do(action)
        if not self.module.attentive:
            self._enter("come back")
            self.session.quiet(lexicon.attention.starts_in)
            self._hail([self.session.link.tuning, self.module.data_link])
            self.identify_again()
        self._enter("read back")
        left = self.read_all([s.name for s in self.result.settings])
        for line in self.result.settings:
            self._judge(line, left.get(line.name))

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

    def _write(self, setting: Setting, line: SettingResult) -> bool:
        if setting.write is None:
            line.note = "cannot be written"
            return False
        assert line.wanted is not None
        self.result.written += 1
        try:
            self.module.write(setting.name, line.wanted)
        except Refused as fault:
            line.outcome, line.note = "refused", fault.what
            return False
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
        if line.outcome == "accepted":
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
        if "leave" in self.lexicon.actions and self.module.attentive:
            self.module.do("leave")

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


_RIGHT = ("kept", "changed", "accepted", "read")
