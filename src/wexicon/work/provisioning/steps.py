"""The steps of provisioning one unit: read, write, save, have it start, come back, read again.

The rule: each step notes in the ledger what was observed; whether the last reading stands is known after each.
"""

from __future__ import annotations

from collections.abc import Sequence

from wexicon.core.faults import ModuleFault
from wexicon.core.protocol.observations import Started
from wexicon.core.results.result import Evidence
from wexicon.core.results.unit import SettingResult, StepTime, UnitResult
from wexicon.core.text import visible
from wexicon.core.values import Value
from wexicon.work.contact.ledger import AllRead, Sign, Written
from wexicon.work.module.module import MOST_TIMES, Module
from wexicon.work.module.readings import Reading
from wexicon.work.module.settings import Refused
from wexicon.work.module.starts import Witness, announces_starts, start
from wexicon.work.provisioning.facts import SettingFacts
from wexicon.work.provisioning.plan import ordered, together
from wexicon.work.provisioning.policy import (
    Order,
    is_pending,
    saved_by,
    start_by,
)
from wexicon.work.provisioning.unfinished import BegunWork, Store


class Steps:
    """One unit, and what was done to it so far. `begun` is its unfinished work, once it is known who it is."""

    begun: BegunWork

    def __init__(self, module: Module, order: Order, *, write: bool, store: Store) -> None:
        self.module = module
        self.session = module.session
        self.lexicon = module.lexicon
        self.order = order
        self.write = write
        self.store = store
        self.result = UnitResult()
        self.lines: dict[str, SettingFacts] = {}
        # Settings that are wanted only because the order brings others to their factory defaults.
        self.others: frozenset[str] = frozenset()
        self.failed: dict[str, str] = {}
        # What all settings were before the first write of this run, and those that were not ordered and that differ after it.
        self.earlier: dict[str, Reading] = {}
        self.effects: list[SettingResult] = []
        self.ledger = module.attention.ledger
        # Whether the last reading stands: nothing was written, and the module did not start, since.
        self.final = False
        self.step = ""
        self._step_began = self.session.clock.now()
        self._group_before: dict[str, Reading] = {}
        self.witness = Witness(module)
        # How many starts were requested.
        self._requested = 0
        # Whether this run has written or saved anything, a start was due for that, and a witness was planted.
        self._stored = self._due = self._witnessed = False
        self._ordered = Evidence.READING
        # Settings whose acknowledgement counts only if nothing unexpected comes until they are saved, and what had come before.
        self._blind: set[str] = set()
        self._calm = (0, 0)

    @property
    def evidence(self) -> Evidence:
        """The evidence for the last reading, as the ledger has it."""
        return self.ledger.evidence(
            reloads=self.lexicon.start.restart_reloads,
            announced=announces_starts(self.lexicon) and not self.order.replayed,
        )

    def _enter(self, step: str, *, searching: bool = False) -> None:
        self._end_step()
        self.step = step
        self._step_began = self.session.clock.now()
        self.session.begin_step(step, searching=searching)

    def _end_step(self) -> None:
        if self.step:
            self.result.steps.append(StepTime(self.step, round(self.session.clock.now() - self._step_began, 6)))

    def _read(self, *, first: bool = False, planted: bool = False) -> bool:
        """Reads everything; a failure of what is not wanted is reported, not raised. Whether a witness that was `planted` was
        undone; if not, it has its value again."""
        failed = None if self.order.wanted else self.failed
        found = self.module.settings.read(self.lines, failed)
        undone = False
        if planted:
            name = self.witness.name
            undone = self.witness.look(found[name].value if name in found else None)
            if not undone:
                found = self.module.settings.read(self.lines, failed)
        for name, line in self.lines.items():
            reading = found.get(name)
            if first:
                line.before = reading
            line.after = reading
            if (told := line.misread()) and reading and not self.order.wanted:
                self.failed[name] = f"{told} (heard “{visible(reading.shown(line.setting))}”)"
        for name, line in self.lines.items():
            if line.setting.shows and line.wanted is not None:
                line.part = self.module.settings.part_of(name)
        self.ledger.note(AllRead(self.session.clock.now()))
        if first:
            others = [name for name in self.module.settings.whole_group(self.order.wanted) if name not in found]
            self._group_before = {**found, **self.module.settings.read(others)} if others else found
        return undone

    def _known(self) -> dict[str, Value]:
        """The values of what was read."""
        return {name: found.value for name, found in self._group_before.items() if found.value is not None}

    def _pending(self, line: SettingFacts) -> bool:
        return is_pending(line, self.lexicon, self.session.link.tuning, fixed=bool(self.session.fixed))

    def _remember(self) -> None:
        self.begun.remember(self.witness.planted)

    def _wanted(self) -> list[SettingFacts]:
        return [line for line in self.lines.values() if line.wanted is not None]

    def _write_all(self, todo: Sequence[SettingFacts]) -> None:
        lines = {line.setting.name: line for line in todo if not line.setting.volatile}
        self.final = False
        for names in together(self.lexicon, ordered(self.lexicon, lines)):
            self._enter(f"write {', '.join(names)}")
            self._write([lines[name] for name in names])

    def _write(self, lines: Sequence[SettingFacts]) -> None:
        self._stored, said = True, self.session.changes
        if not lines[0].setting.volatile:
            self.ledger.note(Written(self.session.clock.now()))
        values = {line.setting.name: line.wanted for line in lines if line.wanted is not None}
        for line in lines:
            # Said is written, until it is read otherwise: the answer may be lost.
            line.written = True
        names = ", ".join(values)
        blind = not all(line.setting.readable for line in lines)
        if blind and not self._blind:
            self._calm = self.module.doubts()
        try:
            self.module.surely(names, lambda: self.module.settings.write(values, self._known()), plainly=not blind)
        except Refused as fault:
            for line in lines:
                line.written, line.refused, line.note = False, fault.what, fault.what
        except ModuleFault:
            for line in lines:
                line.written = line.written and line.setting.readable
            raise
        finally:
            # A question that goes before the write may end the run.
            self.result.written += self.session.changes > said
        if blind and any(self.lexicon.saves(line.setting) for line in lines):
            self._blind |= {line.setting.name for line in lines}

    def _persist(self, todo: Sequence[SettingFacts], *, again: bool) -> None:
        """Does what makes settings persist: for those written, and with `again` for all wanted ones, because no reading can
        tell that it was done."""
        for name in saved_by(self.lexicon, self._wanted() if again else todo):
            self._remember()
            self._save(name)

    def _void(self) -> None:
        """If the module may have started between an acknowledgement and the save, what it acknowledged may be gone: settings
        that cannot be read are written and saved again."""
        for _ in range(MOST_TIMES):
            if not self._blind or self.module.doubts() == self._calm:
                break
            lines = [self.lines[name] for name in self.lines if name in self._blind]
            self.session.log("the module may have started before the save; writing again what cannot be read")
            self._blind = set()
            self._write_all(lines)
            self._persist(lines, again=True)
        else:
            for name in self._blind:
                self.lines[name].written = False
                self.lines[
                    name
                ].note = "its acknowledgement is in doubt: the module may have started before it was saved"
        self._blind = set()

    def _start(self, how: Evidence, *, witnessed: bool = True) -> None:
        """Has the module start, comes back, asks who it is, reads. A run that has stored something plants a witness, if it is
        `witnessed`; one that the start did not undo is put back, saved, and the module started once more."""
        for name, line in self.lines.items():
            # What the network granted may be gone for a while after a start.
            self._note_granted(name, line)
        how = start_by(self.lexicon, self._wanted(), how, due=self.write and not self.final)
        self.final = False
        signs: set[Sign] = set()
        planted = False
        if how is not Evidence.READING:
            plants = witnessed and how is Evidence.RESTART and self._stored
            planted = plants and self.witness.plant(self._expected(), self._remember)
            self._witnessed = self._witnessed or planted
            self._due = self._due or how is Evidence.POWER or self._stored
            self._enter("power cycle" if how is Evidence.POWER else "restart", searching=True)
            signs = start(self.module, how, self.witness.undone if planted else None)
            self._identify_again()
            self._requested, self._ordered = self._requested + 1, how
        self._enter("read back")
        if not self.module.attention.held:
            self._come_back()
        undone = self._read(planted=planted)
        if signs or undone:
            seen = Evidence.POWER if Sign.POWER in signs else Evidence.RESTART
            self.session.tell(Started(self.session.clock.now(), seen))
        self.final = True
        if planted and not undone:
            self._undo_witness(how)

    def _wrote(self, name: str) -> None:
        """A setting that was not ordered was written, to be as it was before: that is saved too."""
        self.result.written += 1
        self.ledger.note(Written(self.session.clock.now()))
        for action in self.lexicon.saves(self.lexicon.settings[name]):
            self._save(action)

    def _save(self, action: str) -> None:
        self._stored = True
        self._enter(action)
        self.module.persist(action)
        self.ledger.note(Written(self.session.clock.now()))
        self.session.quiet(self.lexicon.saves_within)
        self.final = False
        if self.lexicon.actions[action].ends_attention:
            self._come_back()

    def _undo_witness(self, how: Evidence) -> None:
        """The start did not undo the witness, so that it may be stored: it has its value again, which is saved, and read after
        one more start. Raises ModuleFault if it has not."""
        name, value = self.witness.name, self.witness.value
        self.result.remarks.append(f"an unsaved change of {name} was still there after the restart")
        self._wrote(name)
        self._start(how, witnessed=False)
        found = self.module.settings.read([name])[name]
        if found.value != value:
            setting = self.lexicon.settings[name]
            raise ModuleFault(
                f"{name} was changed for a moment to see the restart, and is not as before: it was "
                f"{visible(setting.show(value))}, and is {visible(found.shown(setting))}",
                where=self.session.link.name,
                hint=f"Run it again, or write it: {name} = {visible(setting.show(value))}",
            )

    def _expected(self) -> dict[str, Value]:
        """The values that the settings have, if the module keeps what it was told."""
        found = {
            name: line.after.value for name, line in self.lines.items() if line.after and line.after.value is not None
        }
        return {**found, **self.order.wanted}

    def _come_back(self) -> None:
        self._enter("come back", searching=True)
        self.module.attention.gain(self.module.expected_links(), just_left=True)
        self._identify_again()

    def _identify_again(self) -> None:
        self.module.identify_again(dict(self.module.identity))

    def _note_granted(self, name: str, line: SettingFacts) -> None:
        """What was asked and what the network granted are both told."""
        granted = self.module.settings.granted(name)
        if granted is not None and granted.value is not None:
            line.granted = granted
            line.note = f"granted {line.setting.show(granted.value)}"
