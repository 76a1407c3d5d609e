"""One unit brought from what it is to what it should be, and proved: before, wanted, after.

The rule: nothing is called right that was not read back, and what is called kept was read after a start that was seen.
Only what differs is written, what moves the link comes last, and every step leaves the module where the next run can
find it. `verify` is the same walk without writing; `read_out` wants nothing.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC

import msgspec

from wexicon.core.faults import ModuleFault, Unreachable
from wexicon.core.formats.lexicon.extending import load_of, shaping
from wexicon.core.formats.sheet import Image
from wexicon.core.protocol.observations import Finished, Judged
from wexicon.core.results.result import Evidence, Failure, Outcome, Prove, Verdict, masked
from wexicon.core.results.unit import SettingResult, UnitResult, judge
from wexicon.core.text import visible
from wexicon.work.contact.power import ANSWERS_WITHOUT_POWER
from wexicon.work.module.module import AnotherModule, Module
from wexicon.work.module.readings import Reading
from wexicon.work.module.side_effects import all_readings, differences, shown_as
from wexicon.work.module.starts import come_back, strongest
from wexicon.work.provisioning.facts import SettingFacts
from wexicon.work.provisioning.plan import Plan
from wexicon.work.provisioning.policy import (
    Order,
    differing,
    factory_defaults,
    lacking,
    leaves_command_mode,
    likely_links,
    may_change,
    missing_sign,
    names_to_read,
    saved_by,
    start_by,
    unsaved,
)
from wexicon.work.provisioning.steps import Steps
from wexicon.work.provisioning.unfinished import BegunWork, Store

# The walk writes, starts and reads; where the start brought back old values, again.
MOST_TURNS = 2
# How long a person takes the power away (seconds).
POWER_CYCLE_TAKES = 3.0


class ProvisioningRun(Steps):
    """One walk over one unit."""

    def run(self) -> UnitResult:
        """The whole walk. Never raises; the result says how it ended."""
        result, clock = self.result, self.session.clock
        began = clock.now()
        result.started = clock.wall(began).astimezone(UTC)
        try:
            self._walk()
        except (Exception, KeyboardInterrupt) as fault:
            other = self.lexicon.unit_of(fault.identity) if isinstance(fault, AnotherModule) else ""
            if other and self.session.changes and self.order.wanted:
                result.remarks.append(self.begun.suspect(other))
            result.ended_by(fault, self.step, self.session)
        self._end_step()
        result.remarks += self.module.attention.remarks
        result.settings = [
            line.result(final=self.final, failed=self.failed.get(name, "")) for name, line in self.lines.items()
        ]
        result.settings += self.effects
        result.evidence = self.evidence if self.final else Evidence.NONE
        result.starts = self.ledger.starts()
        if self._requested and result.evidence is Evidence.READING:
            if self._was_ordered:
                dead = next((one for one in result.remarks if one.startswith(ANSWERS_WITHOUT_POWER)), "")
                result.remarks = [one for one in result.remarks if one != dead]
                result.missing = dead or missing_sign(self.lexicon, self._ordered, self.witness.name)
            else:
                result.remarks.append("restart requested; no restart observed")
        elif self._requested and result.evidence and result.starts < self.order.prove.starts:
            result.remarks.append(f"{result.starts} of {self.order.prove.starts} restarts observed")
        result.link = str(self.session.link.tuning)
        result.timed(self.session, began)
        for line in result.settings:
            self.session.tell(Judged(clock.now(), line.name, line.outcome, line.note))
        if result.failure is None and self.order.plan:
            result.verdict, result.evidence = Verdict.PLANNED, Evidence.NONE
            result.settings = [line.planned() for line in self._wanted()]
        elif result.failure is None:
            self._judge()
        weaker = result.evidence and result.evidence is not Evidence.POWER
        if self.write and weaker and result.verdict is Verdict.CONFORMS:
            reading = sum(step.seconds for step in result.steps if step.step == "read back") / (self._requested or 1)
            cost = POWER_CYCLE_TAKES + self.lexicon.start.within + reading
            result.stronger = f"a power cycle would prove more: --prove power --operator person, about {cost:.0f} s"
        self.session.tell(Finished(clock.now(), "unit", self.lexicon.unit_of(result.identity), str(result.verdict)))
        masked(result, self.session.secrets)
        return result

    @property
    def _was_ordered(self) -> bool:
        """Whether a start must have been observed: one by fixture, rig or operator, or the one after which something that was
        stored counts. A module that is right already is restarted by its lexicon only to find what was never saved."""
        return self._due and not self.order.replayed

    def _judge(self) -> None:
        result = self.result
        if not self.order.wanted:
            result.verdict = Verdict.READ
            if self.failed:
                what = "; ".join(f"{name}: {why}" for name, why in self.failed.items())
                result.verdict, result.failure = Verdict.FAILED, Failure("read", what)
            return
        result.trust = list(self.order.trust)
        result.verdict, result.trusted = judge(
            result.settings,
            self.evidence,
            self.order.prove,
            self.order.trust if self.write else (),
            self.ledger.starts(),
            ordered=self._was_ordered,
        )
        if result.verdict is Verdict.FAILED:
            wrong = (Outcome.REFUSED, Outcome.DIFFERS, Outcome.NOT_READ)
            told = [
                f"{s.name} {s.outcome}" + (f" ({s.note})" if s.note else "")
                for s in result.settings
                if s.outcome in wrong
            ]
            result.failure = Failure("compare", "; ".join(told))

    def _walk(self) -> None:
        module = self.module
        self._enter("attention", searching=True)
        try:
            module.attention.gain(likely_links(self.order, self.lexicon, module.likely))
        except Unreachable as fault:
            recovers = next(
                (one.name for one in self.lexicon.actions.values() if one.loads and not one.needs_attention), ""
            )
            if self.order.image and recovers:
                port, file = self.session.link.name, self.order.image.file
                fault.hint += (
                    f"\nIf a load was interrupted: wexicon do {port} {recovers} {self.order.image.parameter}={file}"
                )
            raise
        self._enter("identify")
        self.result.identity = dict(module.identify())
        self.result.unit = self.result.identity.get(self.lexicon.unit, "")
        unit = self.lexicon.unit_of(module.identity, self.session.link.name)
        if self.order.unit not in ("", unit):
            raise ModuleFault(
                f"this module is {visible(unit)}, not {visible(self.order.unit)}",
                where=self.session.link.name,
                hint=f"{self.session.unchanged()}Connect that module.",
            )
        if self.order.others:
            self._want_others()
        self.begun = BegunWork(self.store, unit, list(self.order.wanted), self.order.sheet)
        if self.order.image and (differs := self.order.image.differs(module.identity)):
            self._load(self.order.image, differs)
        self._require_wanted()
        self._enter("read")
        names = names_to_read(self.order, self.lexicon, module.has)
        self.lines = {name: SettingFacts(self.lexicon.settings[name], self.order.wanted.get(name)) for name in names}
        self._read(first=True)
        self._require_room()
        if not self.order.wanted:
            self.final = True
        elif self.write and self.order.plan:
            self._plan()
        elif self.write:
            self._bring_about()
        else:
            self._look()
        for name, line in self.lines.items():
            self._note_granted(name, line)
            if name in self.others:
                line.note = "; ".join(filter(None, (line.note, "not in the sheet: factory default")))
        self._enter("leave")
        self.module.leave()

    def _want_others(self) -> None:
        """Adds the factory default of what the order does not name. What cannot be brought there is told."""
        found, left = factory_defaults(self.order, self.lexicon, self.module.has)
        self.others = frozenset(found)
        self.order = msgspec.structs.replace(self.order, wanted={**self.order.wanted, **found})
        if left:
            self.result.remarks.append(f"not brought to a factory default: {', '.join(left)}")

    def _load(self, image: Image, differs: str) -> None:
        """Another image is there: loads the one that is needed, and identifies the module again. Raises Fault."""
        module, file = self.module, image.file.replace("\\", "/").rpartition("/")[2]
        if not self.write:
            raise ModuleFault(f"another firmware image is there: {differs}", where=self.session.link.name)
        if self.order.plan:
            self.result.remarks.append(
                f"{file} would be loaded first: {differs}; the plan is for the settings as they are now"
            )
            return
        self._note_prior()
        self.result.prior = self.begun.prior
        self._enter("load")
        self.begun.remember({})
        self.session.log(f"loading {file}: {differs}")
        ordered = self.session.clock.now()
        module.do(image.action, {image.parameter: image.file})
        self.result.written += 1
        come_back(module, ordered)
        self._enter("identify")
        if not module.attention.held:
            module.attention.gain([*module.expected_links(), self.lexicon.factory])
        module.identify_again(dict(module.identity))
        self.result.identity = dict(module.identity)
        if still := image.differs(module.identity):
            raise ModuleFault(f"{file} was loaded, and still {still}", where=self.session.link.name)
        self.result.remarks.append(f"{file} loaded: before, {differs}")

    def _require_wanted(self) -> None:
        """Fails if this firmware lacks a wanted setting."""
        firmware = self.module.identity.get(self.lexicon.firmware, "")
        if what := lacking(self.order, self.lexicon, self.module.has, firmware):
            hint = f"{self.session.unchanged()}Update the firmware, or take the setting out of the sheet."
            raise ModuleFault(what, where=self.session.link.name, hint=hint)

    def _require_room(self) -> None:
        """Fails if the module would send more by itself than its rate can carry."""
        wanted = self.order.wanted
        if not self.write or not any(name in wanted for name in shaping(self.lexicon)):
            return
        load = load_of(self.lexicon, {**self._known(), **wanted})
        if load and not load.fits:
            raise ModuleFault(
                f"the module would send more than its rate can carry: {load.calculation}, at {load.rate} baud",
                where=self.session.link.name,
                hint=f"{self.session.unchanged()}Send fewer, send them less often, or raise the rate.",
            )

    def _plan(self) -> None:
        """Works out what would be said, in order, by the same choices that the walk makes."""
        can, before = strongest(self.module, self.order.prove), self.begun.before
        self._note_pending()
        todo = self._todo(first=True)
        self._require_operator(todo)
        again = before is not None or can is Evidence.READING or any(map(self._pending, self._wanted()))
        made = Plan(self.module, self._known())
        made.writes([line for line in todo if not line.setting.volatile])
        made.actions(saved_by(self.lexicon, self._wanted() if again else todo))
        how = start_by(self.lexicon, self._wanted(), can, due=not self.final)
        if todo and how is Evidence.RESTART and (values := self.witness.values(self._expected())):
            made.witness(self.witness.name, *values)
        made.start(how)
        made.reads(self.lines)
        volatile = [line for line in todo if line.setting.volatile]
        if volatile:
            made.writes(volatile)
            made.reads(self.lines)
        self.result.plan, self.final = made.lines, True

    def _look(self) -> None:
        """For `verify`: compares; has the module start before only where that is asked for."""
        self.final = True
        if self.order.prove in (Prove.POWER, Prove.RESTART, Prove.TWICE):
            for _ in range(self.order.prove.starts or 1):
                self._start(strongest(self.module, self.order.prove))
        self._note_pending()

    def _note_pending(self) -> None:
        for line in self._wanted():
            if self._pending(line):
                line.pending, line.note = True, "stored, active after restart"

    def _bring_about(self) -> None:
        """Writes what differs, does what makes it persist, has the module start, reads; again where the start brought
        back old values."""
        can = strongest(self.module, self.order.prove)
        before = self.begun.before
        self.result.prior = self.begun.prior
        if self.order.touched:
            self._note_prior()
        self._resume()
        for turn in range(MOST_TURNS):
            todo = self._todo(first=turn == 0)
            if todo:
                self._require_operator(todo)
                told = "read right but was not saved: a restart undid it"
                self.result.remarks += [f"{name} {told}" for name in unsaved(todo)]
                self._note_prior()
                self._remember()
                self._write_all(todo)
            again = turn == 0 and (
                before is not None
                or self.order.touched
                or can is Evidence.READING
                or any(map(self._pending, self._wanted()))
            )
            self._persist(todo, again=again)
            self._void()
            self._start(can)
            if self.evidence is Evidence.READING and can is not Evidence.READING:
                # No start was observed, so the settings may not persist yet: save them again.
                self._persist(todo, again=True)
                if self._may_tell_now(can):
                    self._start(can)
                if not self.evidence.at_least(Evidence.WARM):
                    can = Evidence.READING
                    self._start(can)
            if self._all_right() or not self.final or can is Evidence.READING:
                break
        for _ in range(self.ledger.starts(), self.order.prove.starts if self._all_right() else 0):
            self._start(can)
        self._write_volatile(can)
        self._note_pending()
        self._find_side_effects()
        self.final = True
        self.begun.close()

    def _may_tell_now(self, can: Evidence) -> bool:
        """Whether one more start may be observed, where one was not: something is stored now, so that a witness may tell; or
        bytes that came late spoiled the silence of a power cycle that needs no person."""
        if can is Evidence.POWER:
            dead = any(one.startswith(ANSWERS_WITHOUT_POWER) for one in self.module.attention.remarks)
            return self.module.attention.power.there() and not dead
        return can is Evidence.RESTART and not self._witnessed and bool(self.witness.name)

    def _all_right(self) -> bool:
        return all(line.right() for line in self._wanted() if line.setting.readable and not line.refused)

    def _resume(self) -> None:
        """Reports earlier work on this unit, and undoes what it changed for a moment only."""
        begun = self.begun
        if told := begun.told():
            self.result.remarks.append(told)
            self.session.log(told)
        for name, text in (begun.before.planted if begun.before else {}).items():
            setting = self.lexicon.settings.get(name)
            if setting and name not in self.order.wanted:
                value = setting.kind.decode(text)
                if self.module.settings.read([name])[name].value != value:
                    self.module.settings.write({name: value}, self._known())
                    self._wrote(name)

    def _note_prior(self) -> None:
        """Keeps what all readable settings are, before the first write of all runs that work on this: what the sheet does not
        name is read for that too."""
        if not self.begun.prior and not self.result.written:
            known = {name: line.before for name, line in self.lines.items() if line.before}
            self._enter("read other settings")
            failed: dict[str, str] = {}
            try:
                # A recording has no secret that it could answer with.
                secrets = not self.order.replayed
                known = self.earlier or all_readings(self.module, known, failed, secrets=secrets)
                self.result.remarks += [f"{name} is not compared: {why}" for name, why in failed.items()]
            except ModuleFault as fault:
                told = f"settings that were not ordered could not be read, and are not compared: {fault.reason or fault.what}"
                self.result.remarks.append(told)
                self.session.log(told)
            self.earlier = known
            for name, reading in known.items():
                setting = self.lexicon.settings[name]
                shown = None if setting.secret else shown_as(setting, reading)
                # A value that holds a secret is not kept: masked, it would be another one.
                if shown and self.session.secrets.mask(shown.shown) == shown.shown:
                    self.begun.prior[name] = shown.storable()

    def _todo(self, *, first: bool) -> list[SettingFacts]:
        """What differs and can be written."""
        found = differing(self._wanted(), first=first)
        for line in found:
            if not line.setting.writable:
                line.note = "cannot be written"
        return [line for line in found if line.setting.writable]

    def _require_operator(self, todo: Sequence[SettingFacts]) -> None:
        """Fails before writing to a module that could not be brought back to command mode."""
        if (
            leaves_command_mode(self.lexicon, todo)
            and self.module.attention.needs_operator()
            and not self.module.operator.there
        ):
            raise ModuleFault(
                "these writes need a restart, and no operator can restore command mode",
                where=self.session.link.name,
                hint=f"{self.session.unchanged()}Run it with an operator or a fixture.",
            )

    def _write_volatile(self, can: Evidence) -> None:
        """Writes the settings that a power cycle clears, after the start, and reads them."""
        lines = [line for line in self._wanted() if line.setting.volatile]
        todo = [line for line in lines if not line.right() and not line.refused and line.setting.writable]
        if todo:
            self._enter("write settings that a power cycle clears")
            for line in todo:
                self._write([line])
            self.final = False
            self._enter("read back")
            self._read()
            self.final = True
        for line in lines:
            line.note = line.note or "until power is lost"

    def _find_side_effects(self) -> None:
        """Reads again what was not ordered, and keeps what is another value than before the first write."""
        if not (self._stored or self.order.touched or self.begun.before):
            return
        self._enter("read other settings")
        differ = differences(self.module, self.earlier, self.order.wanted, self.begun.prior)
        varied = [name for name in differ if self.lexicon.settings[name].varies]
        if varied:
            self.result.remarks.append(f"{', '.join(varied)}: another value than before, which varies by itself")
        for name, one in differ.items():
            if name not in varied:
                allowed = "" if one.why else may_change(self.order, self.lexicon, name)
                if self.begun.before and name in self.begun.before.settings:
                    allowed = "unfinished work of an earlier run"
                outcome, note = (
                    Outcome.ALLOWED if allowed else Outcome.SIDE_EFFECT,
                    one.why or allowed or "not ordered",
                )
                self.effects.append(SettingResult(name, outcome, one.before, after=one.now, note=note))


def provision(
    module: Module, order: Order, *, store: Store | None = None, earlier: Mapping[str, Reading] | None = None
) -> UnitResult:
    """Writes the wanted values to the module, and proves them. Faults end in the result; `store` remembers what is not
    finished; `earlier` is what all settings were before something else wrote."""
    walk = ProvisioningRun(module, order, write=True, store=store or Store())
    walk.earlier = dict(earlier or {})
    return walk.run()


def verify(module: Module, order: Order) -> UnitResult:
    """Compares the module with the wanted values, and writes nothing."""
    return ProvisioningRun(module, order, write=False, store=Store()).run()


def read_out(module: Module) -> UnitResult:
    """Reads every setting of the module."""
    return verify(module, Order())
