"""Tries on a module what a restart does and how long a save takes.

The rule: what is changed for a trial is written down first as unfinished work, put back after each try, and compared at the
end. What is reported was observed.
"""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Generic, TypeVar

from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Setting
from wexicon.core.results.result import Evidence, Verdict, masked
from wexicon.core.results.unit import StartTrial, Unfinished, WriteTrial
from wexicon.core.text import spoken
from wexicon.core.values import UNSET, Value
from wexicon.work.contact.ledger import Answered, Ordered, Sign
from wexicon.work.module.module import Module
from wexicon.work.module.starts import start
from wexicon.work.provisioning.unfinished import Store

Made = TypeVar("Made", bound=StartTrial | WriteTrial)


class ModuleTrial(Generic[Made]):
    """One trial; what is changed for it is written down in `store`."""

    def __init__(self, module: Module, store: Store, result: Made) -> None:
        self.module, self.store = module, store
        self.result: Made = result
        self.lexicon, self.session = module.lexicon, module.session
        self.step = ""

    def run(self) -> Made:
        """The whole trial; faults end in the result."""
        result, began = self.result, self.session.clock.now()
        try:
            self.walk()
            self.judge()
        except (Exception, KeyboardInterrupt) as fault:
            result.ended_by(fault, self.step, self.session)
        result.remarks += self.module.attention.remarks
        result.timed(self.session, began)
        masked(result, self.session.secrets)
        return result

    def walk(self) -> None:
        """What is done, step by step."""
        raise NotImplementedError

    def judge(self) -> None:
        """The verdict, once all of it is done."""
        raise NotImplementedError

    def enter(self, step: str, *, searching: bool = False) -> None:
        """The next step begins; `searching` if answers at several rates are tried in it."""
        self.step = step
        self.session.begin_step(step, searching=searching)


# How long after its acknowledgement a save is given, one after another (seconds).
WAITS = (0.0, 0.5, 1.0, 2.0, 4.0, 8.0)


class _Trial(ModuleTrial[StartTrial]):
    def __init__(self, module: Module, store: Store) -> None:
        super().__init__(module, store, StartTrial(longest=WAITS[-1]))
        self.ledger = module.attention.ledger
        self.by_power = False

    def judge(self) -> None:
        self.result.verdict = Verdict.DONE

    def walk(self) -> None:
        module, result = self.module, self.result
        self.enter("attention", searching=True)
        if not self.lexicon.restart():
            raise CallFault("the lexicon has no action that restarts the module", hint="Nothing was tried.")
        if self.lexicon.attention.power_up and not self.lexicon.attention.window:
            what = "this family answers after a restart only with a power cycle: what the restart does cannot be tried"
            raise CallFault(what, hint="Nothing was tried.")
        module.attention.gain([*module.likely, self.lexicon.factory])
        self.enter("identify")
        result.identity = dict(module.identify())
        found = self._setting()
        if found is None:
            result.remarks.append("no setting is read, written and saved by itself: only the restart was tried")
            self.enter("restart", searching=True)
            self._restart(first=True)
            return
        setting, value, other = found
        result.setting = setting.name
        unit = self.lexicon.unit_of(module.identity, self.session.link.name)
        planted = {setting.name: setting.kind.encode(value)}
        self.store.open(Unfinished(unit, datetime.now(UTC), [], planted=planted))
        self.enter("restart", searching=True)
        self._write(setting, other)
        taken = self._read(setting) == other
        if not taken:
            result.remarks.append(
                f"{setting.name} was acknowledged and not taken: what a restart does to it cannot be seen"
            )
        self._restart(first=True)
        # If it was brought back by a power cycle, that may have undone the change.
        result.reloads = None if self.by_power or not taken else self._read(setting) != other
        if result.reloads:
            self.enter("save")
            result.saves_within = self._save_time(setting, value, other)
        self.enter("put back")
        self._write(setting, value)
        self._save(setting, WAITS[-1] if result.saves_within is None else result.saves_within)
        self._restart()
        result.restored = self._read(setting) == value
        if result.restored:
            self.store.close(unit)
        self._tell(setting)

    def _setting(self) -> tuple[Setting, Value, Value] | None:
        """The lexicon's witness, or the first setting that can be one; its value, and another."""
        names = [self.lexicon.start.witness] if self.lexicon.start.witness else list(self.lexicon.settings)
        for name in names:
            setting = self.lexicon.settings[name]
            if self.lexicon.may_be_witness(setting) or setting.needs or not self.module.has(name):
                continue
            value = self._read(setting)
            other = setting.kind.another(value) if value is not None and value is not UNSET else None
            if value is not None and other is not None:
                return setting, value, other
        return None

    def _save_time(self, setting: Setting, value: Value, other: Value) -> float | None:
        """How long after its acknowledgement a save is done; None if it was not in the longest time that is tried."""
        for wait in WAITS:
            # Not the value that an earlier save may have stored late.
            target = other if self._read(setting) != other else value
            self._write(setting, target)
            self._save(setting, wait)
            self._restart()
            if self._read(setting) == target:
                return wait
        return None

    def _tell(self, setting: Setting) -> None:
        result = self.result
        if result.reloads:
            result.lines += ["[start]", f'witness = "{setting.name}"', "restart_reloads = true"]
        if result.saves_within:
            result.lines += ["[writing]", f'saves_within = "{spoken(result.saves_within).replace(" ", "")}"']

    # -- steps ----------------------------------------------------------------------------------------------------

    def _read(self, setting: Setting) -> Value | None:
        return self.module.settings.read([setting.name])[setting.name].value

    def _write(self, setting: Setting, value: Value) -> None:
        self.module.settings.write({setting.name: value}, {})

    def _save(self, setting: Setting, wait: float) -> None:
        for name in self.lexicon.saves(setting):
            self.module.persist(name)
        self.session.quiet(wait)

    def _restart(self, *, first: bool = False) -> None:
        began = len(self.ledger.entries)
        signs = start(self.module, Evidence.RESTART)
        self.by_power = Sign.POWER in signs
        self.module.identify_again(dict(self.module.identity))
        if first:
            self.result.signs = sorted(str(sign) for sign in signs if sign is not Sign.WITNESS)
            new = self.ledger.entries[began:]
            said = next((entry.at for entry in new if isinstance(entry, Ordered)), 0.0)
            back = [entry.at for entry in new if isinstance(entry, Answered) and entry.at > said]
            self.result.back_after = round(back[0] - said, 3) if back and signs else None


def try_starts(module: Module, store: Store) -> StartTrial:
    """Tries a restart and a save on a module, and puts back what it changed; `store` remembers that until it is done."""
    return _Trial(module, store).run()
