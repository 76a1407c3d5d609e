"""One unit brought from what it is to what it should be, and proved: found, wanted, left.

The rule: nothing is called right that was not read back. Only what differs is written, what moves the link comes last,
and every step leaves the module where the next run can find it. `verify` is the same walk without writing.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import msgspec

from wexicon.core.dialogue import Program
from wexicon.core.exchange import Outcome
from wexicon.core.faults import Fault, ModuleFault, Part, Stopped
from wexicon.core.hail import Hail
from wexicon.core.insertion import InsertionFault
from wexicon.core.lexicon import Action, Lexicon, Phrase, Setting
from wexicon.core.operator import Operator
from wexicon.core.session import HIDDEN, Session
from wexicon.core.text import visible
from wexicon.core.tuning import Tuning
from wexicon.core.values import Value, ValueFault, retuned

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
        self.operator = operator
        self.wanted = wanted or {}
        self.write = write
        self.patience = patience
        self.likely = likely
        self.watch = watch
        self.step = ""
        self.result = UnitResult()
        self.found: dict[str, Value] = {}
        self.data_link = lexicon.delivered
        self.attentive = False

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
        self.identify()
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
        Hail(self.session, self.lexicon, self.operator, self.patience).find(likely)
        self.attentive = True

    def identify(self) -> None:
        """Asks who it is; a module that is not what the lexicon speaks for is refused."""
        for phrase in self.lexicon.identify:
            outcome = self._ask(phrase)
            if not outcome.ok:
                raise self._module_fault("the module does not say who it is as this family does", outcome)
            self.result.identity.update({name: str(value) for name, value in outcome.captures.items()})
        for name, wanted in self.lexicon.expect.items():
            found = self.result.identity.get(name, "")
            if found != wanted:
                raise ModuleFault(
                    f"this is another module: its {name} is {visible(found)}, the lexicon speaks for {wanted}",
                    where=self.session.link.name,
                    hint="Nothing was changed. Put the right module on this port, or name its lexicon.",
                )

    # -- reading ----------------------------------------------------------------------------------------------------

    def read_all(self, names: Sequence[str]) -> dict[str, Value]:
        """Every readable setting of `names`, decoded."""
        found = {}
        for name in names:
            setting = self.lexicon.settings[name]
            if setting.read:
                found[name] = self.read(setting)
        return found

    def read(self, setting: Setting) -> Value:
        """One setting. Reading is harmless, so a reading that fails is said again once."""
        assert setting.read
        outcome = self._ask(setting.read, secret=setting.secret)
        if not outcome.ok:
            raise self._module_fault(f"{setting.name} cannot be read", outcome)
        try:
            return setting.kind.decode(str(outcome.captures["value"]))
        except ValueFault as fault:
            raise self._module_fault(
                f"{setting.name}: the module's answer is not understood: it {fault.why}", outcome
            ) from None

    def _ask(self, phrase: Phrase, *, secret: bool = False) -> Outcome:
        said = phrase.say.fill({})
        shown = said if secret else None
        outcome = self.session.exchange(said, phrase.expect, phrase.within, shown=shown)
        if outcome.ok:
            return outcome
        self.session.settle(0.05, 0.5)
        return self.session.exchange(said, phrase.expect, phrase.within, shown=shown)

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
            self.act(lexicon.actions[action])
            self._follow(action, changes)
        if not self.attentive:
            self._enter("come back")
            self.session.quiet(lexicon.attention.starts_in)
            self._hail([self.session.link.tuning, self.data_link])
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
            line.outcome, line.note = "differs", "cannot be written"
            return False
        assert line.wanted is not None
        try:
            said = setting.write.say.fill({"value": setting.kind.encode(line.wanted)})
        except InsertionFault as fault:
            raise ModuleFault(f"{setting.name}: {fault}") from None
        shown = setting.write.say.fill({"value": HIDDEN}) if setting.secret else None
        outcome = self.session.exchange(said, setting.write.expect, setting.write.within, shown=shown)
        self.result.written += 1
        if outcome.how == "error":
            meaning = self.lexicon.errors.get(outcome.code, "no meaning known")
            line.outcome = "refused"
            line.note = f"error {outcome.code}: {meaning}" if outcome.code else "the module said no"
            return False
        if not outcome.ok:
            raise self._module_fault(f"{setting.name}: the module did not confirm the new value", outcome)
        if setting.moves_link == "at-once":
            self._retune(setting, line.wanted)
        return True

    def _follow(self, action: str, changes: list[SettingResult]) -> None:
        """Follows the link where a setting that was written moves it with this action."""
        for line in changes:
            setting = self.lexicon.settings[line.name]
            if setting.moves_link == action and line.outcome != "refused" and line.wanted is not None:
                self._retune(setting, line.wanted)

    def _retune(self, setting: Setting, value: Value) -> None:
        if self.lexicon.attention.tuning:
            self.data_link = retuned(self.data_link, setting.kind, value)
        else:
            self.session.tune(retuned(self.session.link.tuning, setting.kind, value))

    def act(self, action: Action) -> None:
        """Has the module do something, checking each reply."""
        self.hold(action.program)
        if action.ends_attention:
            self.attentive = False

    def hold(self, program: Program) -> None:
        for say in program.statements:
            outcome = self.session.exchange(say.template.fill({}), say.expect)
            if not outcome.ok:
                raise self._module_fault(f"{self.step} failed", outcome)

    def identify_again(self) -> None:
        """The module that came back must be the one that went."""
        before = dict(self.result.identity)
        self.identify()
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
        action = self.lexicon.actions.get("leave")
        if action and self.attentive:
            self.act(action)

    # -- failure ----------------------------------------------------------------------------------------------------

    def _module_fault(self, what: str, outcome: Outcome) -> ModuleFault:
        if outcome.how == "error":
            meaning = self.lexicon.errors.get(outcome.code, "")
            what += f": error {outcome.code}" + (f" ({meaning})" if meaning else "") if outcome.code else ": it said no"
        elif outcome.how == "silence":
            what += ": no answer" if not outcome.heard else ": no full answer"
        elif outcome.how == "closed":
            what += ": the answer lacks what was expected"
        part = Part(outcome.said, outcome.expected, outcome.heard, outcome.waited)
        return ModuleFault(what, part=part, where=self.session.link.name)

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


def masked(lexicon: Lexicon, result: UnitResult) -> list[dict[str, Any]]:
    """The settings of a result as they may be shown: a secret only as being there."""
    rows = []
    for line in result.settings:
        setting = lexicon.settings[line.name]
        row = msgspec.structs.asdict(line)
        for key in ("found", "wanted", "left"):
            row[key] = setting.show(row[key])
        rows.append(row)
    return rows
