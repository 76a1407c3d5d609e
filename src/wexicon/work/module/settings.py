"""What a module keeps, read and written by its lexicon: single settings, groups in one answer, bits in a block.

The rule: a pass of reading is believed when nothing unexpected was heard during it and the module answered the closing
question, who it is, as before; otherwise all of it is read again, in silence. What a group holds besides what was named
is written back as it was read twice.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import Protocol

import msgspec

from wexicon.core.faults import ModuleFault, Part
from wexicon.core.formats.lexicon import Lexicon, Phrase, Setting, SettingGroup
from wexicon.core.formats.lexicon.blocks import BlockFault, bits_of, put_bits, take_block
from wexicon.core.protocol.dialect import OK, Expectation, Reply, ReplyStatus
from wexicon.core.protocol.insertion import Filled, InsertionFault, Template
from wexicon.core.protocol.matching import Either
from wexicon.core.protocol.session import Session
from wexicon.core.text import HIDDEN, Secret, written
from wexicon.core.values import UNSET, ClockKind, List, Value, ValueFault
from wexicon.core.values.base import OUT_OF_RANGE

MOST_PASSES = 4
# How long an event that reports what was granted may take (seconds).
GRANTED_WITHIN = 2.0


class Refused(ModuleFault):
    """The module understood and returned an error."""


class Speaks(Protocol):
    """What settings need of the module whose they are."""

    session: Session
    lexicon: Lexicon
    identity: dict[str, str]

    def say(
        self, said: Filled, phrase: Phrase, *, tells: Collection[str] = (), expect: Expectation | None = None
    ) -> Reply: ...

    def ask(
        self, phrase: Phrase, values: Mapping[str, object] | None = None, *, tells: Collection[str] = ()
    ) -> Reply: ...

    def still_there(self) -> bool: ...

    def only_here(self) -> bool: ...

    def identify(self) -> dict[str, str]: ...

    def has(self, name: str) -> bool: ...

    def can_follow(self, setting: Setting, value: Value) -> None: ...

    def moved(self, setting: Setting, value: Value) -> None: ...

    def fault(self, what: str, outcome: Reply) -> ModuleFault: ...

    def error(self, code: str) -> str: ...


class Reading(msgspec.Struct, frozen=True):
    """What was read of a setting: the module's words, and the value unless `why` says why they are not understood."""

    text: str
    value: Value | None
    why: str = ""
    part: Part | None = None

    def same_as(self, other: Reading) -> bool:
        """Whether both mean the same."""
        if self.value is None or other.value is None:
            return self.text == other.text
        return self.value == other.value

    def understood(self, name: str) -> Value:
        """The value. Raises ModuleFault where there is none."""
        if self.value is None:
            raise ModuleFault(f"{name}: the module's answer is not understood: it {self.why}", part=self.part)
        return self.value

    def shown(self, setting: Setting) -> str:
        """The reading as a person sees it."""
        if setting.secret:
            return HIDDEN
        if self.value is not None:
            return setting.show(self.value)
        return f"{self.text} ({'out of range' if self.why == OUT_OF_RANGE else 'unknown'})"


class Settings:
    """The settings of one module."""

    def __init__(self, module: Speaks) -> None:
        self.module = module
        self.session = module.session
        self.lexicon = module.lexicon
        self._blocks: dict[str, bytes] = {}
        # The module's own words for the members of a group: several may mean the same value.
        self._words: dict[str, tuple[Value, str]] = {}
        # The numbered places of lists that were read.
        self._places: dict[str, list[int]] = {}

    # -- reading ------------------------------------------------------------------------------------------------

    def read(self, names: Iterable[str], failed: dict[str, str] | None = None) -> dict[str, Reading]:
        """All settings among `names` that can be read and that this firmware has; a group is asked once. What cannot be
        read is a ModuleFault, or put into `failed` where that is given."""
        wanted = [name for name in names if self.lexicon.setting(name).readable and self.module.has(name)]
        if not wanted:
            return {}
        before: dict[str, Reading] | None = None
        for turn in range(MOST_PASSES):
            anomalies = self.session.anomalies
            if failed is not None:
                failed.clear()
            found = self._pass(wanted, failed, in_silence=turn > 0)
            if self.session.anomalies == anomalies:
                if self.module.identity:
                    if self.module.still_there():
                        return found
                elif self.lexicon.identify:
                    # Who it is was never asked: in a dialogue that is the person's own business.
                    return found
                elif before == found:
                    # Without an identity to compare, two passes must agree.
                    return found
                else:
                    before = found
                    continue
            before = None
            self.session.log("unexpected data while reading; reading again")
            self.session.wait_until_quiet(self.session.dialect.within, 2 * self.session.dialect.within)
        raise ModuleFault(
            "the settings cannot be read reliably: unexpected data each time",
            where=self.session.link.name,
            hint="Look for a loose wire, a missing ground, or a module that talks unasked (the trace shows what came).",
        )

    def glance(self, name: str, within: float) -> Value | None:
        """A setting's value by one question, which proves nothing by itself; None if it is not answered or not understood."""
        setting = self.lexicon.setting(name)
        if setting.read is None:
            return None
        outcome = self.session.exchange(setting.read.say.fill({}), setting.read.expect, within)
        return self._decoded(setting, str(outcome.captures.get("value", ""))).value if outcome.ok else None

    def part_of(self, name: str) -> str | None:
        """The part of a value that the module answers for it, masked or cut; None if it answers nothing of it."""
        setting = self.lexicon.setting(name)
        if not setting.shows or setting.read is None:
            return None
        outcome = self.module.ask(setting.read, tells=["value"] if setting.secret else ())
        return str(outcome.captures["value"]) if outcome.ok and not outcome.unset else None

    def _pass(self, names: Sequence[str], failed: dict[str, str] | None, *, in_silence: bool) -> dict[str, Reading]:
        found: dict[str, Reading] = {}
        groups: dict[str, dict[str, str] | None] = {}
        for name in names:
            setting = self.lexicon.setting(name)
            try:
                if in_silence:
                    self.session.wait_until_quiet(0.05, 0.5)
                found[name] = self._one(setting, groups)
            except ModuleFault as fault:
                if failed is None:
                    raise
                failed[name] = fault.reason
        return found

    def _one(self, setting: Setting, groups: dict[str, dict[str, str] | None]) -> Reading:
        if setting.from_link:
            # What cannot be asked is reported by the link: the module answers at this rate, and not at another.
            if not self.module.only_here():
                return Reading("", None, "answers at another rate too: the link tells nothing")
            value = setting.kind.from_link(self.session.link.tuning)
            return (
                Reading(setting.kind.show(value), value)
                if value is not None
                else Reading("", None, "is not on the link")
            )
        if setting.read:
            outcome = self.module.ask(setting.read, tells=["value"] if setting.secret else ())
            if outcome.status is ReplyStatus.ERROR and self._may_be_the_value(setting, outcome):
                # It can be overwritten; until then it may be either.
                return Reading(outcome.heard[-1], None, "is also how the module says an error")
            if not outcome.ok:
                raise self.module.fault(f"{setting.name} cannot be read", outcome)
            if outcome.rows or any(want.gather for want in setting.read.expect.wants):
                return self._listed(setting, outcome)
            text = str(outcome.captures.get("value", ""))
            if outcome.unset or (setting.read.expect.bare and not text):
                return Reading("", UNSET)
            return self._decoded(setting, text)
        assert setting.in_group
        if setting.in_group.name not in groups:
            groups[setting.in_group.name] = self._read_group(setting.in_group)
        told = groups[setting.in_group.name]
        if told is None:
            value = setting.in_group.told.get(setting.name)
            return Reading("", UNSET) if value is None else Reading(setting.kind.encode(value), value)
        found = self._decoded(setting, told[setting.name])
        if found.value is not None and found.value is not UNSET:
            self._words[setting.name] = (found.value, told[setting.name])
        return found

    def _listed(self, setting: Setting, outcome: Reply) -> Reading:
        """A list whose items were answered row by row."""
        rows = outcome.rows
        if any("index" in row for row in rows):
            rows = sorted(rows, key=lambda row: int(str(row["index"])))
        self._places[setting.name] = [int(str(row["index"])) for row in rows if "index" in row]
        texts = [str(row.get("value", "")) for row in rows]
        part = Part(heard=[HIDDEN] if setting.secret else outcome.heard)
        if setting.secret and not setting.by_origin:
            for text in texts:
                self.session.secrets.learn(text, read=True)
        assert isinstance(setting.kind, List)
        try:
            return Reading(", ".join(texts), setting.kind.of_items(texts), "", part)
        except ValueFault as fault:
            return Reading(", ".join(texts), None, fault.why, part)

    @staticmethod
    def _may_be_the_value(setting: Setting, outcome: Reply) -> bool:
        """Whether what counted as an error may be the value itself: its answer has no words of its own around it."""
        wants = setting.read.expect.wants if setting.read else ()
        if not wants or not wants[0].pattern.catches_all or not outcome.heard:
            return False
        try:
            setting.kind.decode(outcome.heard[-1])
        except ValueFault:
            return False
        return True

    def granted(self, name: str) -> Reading | None:
        """What the network granted; None if unknown."""
        setting = self.lexicon.setting(name)
        granted = setting.granted
        if granted is None:
            return None
        if granted.event:
            told = self.session.latest.get(granted.event)
            return self._decoded(setting, str(told[granted.capture])) if told and granted.capture in told else None
        assert granted.question
        outcome = self.module.say(granted.question.say.fill({}), granted.question)
        if not outcome.ok or not str(outcome.captures.get("value", "")):
            return None
        return self._decoded(setting, str(outcome.captures["value"]))

    def _members(self, group: SettingGroup) -> list[Setting]:
        return [setting for setting in self.lexicon.settings.values() if setting.in_group is group]

    def _read_group(self, group: SettingGroup) -> dict[str, str] | None:
        """The module's words for each member; None where it says that none is set."""
        assert group.read
        members = self._members(group)
        outcome = self.module.ask(group.read, tells=_secrets(group, members))
        if not outcome.ok:
            raise self.module.fault(f"{group.name} cannot be read", outcome)
        if outcome.unset:
            return None
        if not group.size:
            return {name: str(value) for name, value in outcome.captures.items()}
        try:
            block = take_block(group, str(outcome.captures["block"]))
        except BlockFault as fault:
            raise self.module.fault(f"{group.name}: {fault}", outcome) from None
        self._blocks[group.name] = block
        return {setting.name: str(bits_of(block, setting.place)) for setting in members if setting.place}

    def _decoded(self, setting: Setting, text: str) -> Reading:
        if setting.appends:
            if not self.module.identity:
                self.module.identify()
            text = text.removesuffix(setting.appends.render(self.module.identity))
        if text == setting.unset:
            return Reading(text, UNSET)
        part = Part(heard=[HIDDEN if setting.secret else text])
        secrets = self.session.secrets
        told = setting.secret and not setting.by_origin
        if told:
            secrets.learn(text, read=True)
        try:
            if isinstance(setting.kind, ClockKind):
                value = setting.kind.compared(text, self.session.clock.wall(self.session.clock.now()))
            else:
                value = setting.kind.decode(text)
        except ValueFault as fault:
            return Reading(text, None, fault.why, part)
        if told:
            secrets.learn(value, read=True)
        return Reading(text, value, "", part)

    # -- writing ------------------------------------------------------------------------------------------------

    def write(self, values: Mapping[str, Value], others: Mapping[str, Value]) -> None:
        """Writes plain values: one setting, or settings of one group together. `others` are the values that the rest of the
        group has. Raises Refused where the module returns an error."""
        names = list(values)
        setting = self.lexicon.setting(names[0])
        if setting.add:
            self._write_list(setting, values[names[0]])
            return
        what = ", ".join(names)
        said, phrase, filled = self.line_for(values, others)
        for name in names:
            self.module.can_follow(self.lexicon.setting(name), values[name])
        granted_by = setting.granted.event if setting.granted and setting.write else ""
        before = self.session.latest.get(granted_by)
        outcome = self._changed(said, phrase, filled, values)
        if granted_by and outcome.ok:
            # What the network grants comes by itself, a moment later.
            until = self.session.clock.now() + GRANTED_WITHIN
            self.session.listen(until, lambda: self.session.latest.get(granted_by) is not before)
        self._confirmed(what, outcome)
        for name in names:
            if setting.settles:
                self.session.quiet(setting.settles)
            self.module.moved(self.lexicon.setting(name), values[name])

    def _changed(
        self, said: Filled, phrase: Phrase, filled: Mapping[str, object], values: Mapping[str, Value]
    ) -> Reply:
        self.session.changes += 1
        with self.session.watching((), filled):
            return self._say(said, phrase, filled, values)

    def _confirmed(self, what: str, outcome: Reply) -> None:
        """Raises Refused where the module returned an error, ModuleFault where it did not confirm."""
        if (
            outcome.status is ReplyStatus.SILENCE
            and self.lexicon.speech.error == "silence"
            and self.module.still_there()
        ):
            raise Refused("it did not answer, which is how this family refuses", part=Part.of(outcome))
        if outcome.status is ReplyStatus.ERROR:
            raise Refused(self.module.error(outcome.code), part=Part.of(outcome), where=self.session.link.name)
        if not outcome.ok:
            raise self.module.fault(f"{what}: the module did not confirm the new value", outcome)

    def _write_list(self, setting: Setting, wanted: Value) -> None:
        """Brings a list about, item by item, from what it is now."""
        for said, phrase, filled in self.lines_for_list(setting, wanted):
            self._confirmed(setting.name, self._changed(said, phrase, filled, {setting.name: wanted}))
            if setting.settles:
                self.session.quiet(setting.settles)
        self.module.moved(setting, wanted)

    def lines_for_list(self, setting: Setting, wanted: Value) -> list[tuple[Filled, Phrase, dict[str, object]]]:
        """The lines that bring a list about from what it is now, each with what must answer it and what was put in."""
        assert isinstance(setting.kind, List)
        assert setting.add
        assert setting.remove
        found = self.read([setting.name])[setting.name]
        have = setting.kind.items(found.understood(setting.name))
        numbered = "index" in setting.add.say.names
        numbers = self._places.get(setting.name, []) if numbered else []
        removed, added = list_steps(setting.kind, have, wanted, setting.first_index if numbered else None, numbers)
        steps = [(setting.remove, *one) for one in removed] + [(setting.add, *one) for one in added]
        return [self._item_line(setting, phrase, item, index) for phrase, item, index in steps]

    def _item_line(
        self, setting: Setting, phrase: Phrase, item: Value, index: int
    ) -> tuple[Filled, Phrase, dict[str, object]]:
        assert isinstance(setting.kind, List)
        filled: dict[str, object] = {"value": setting.kind.of.encode(item), "index": str(index)}
        if setting.secret:
            filled["value"] = Secret(filled["value"])
        speech, shaped = self.session.dialect.speech, {"index"} if setting.kind.free else {"index", "value"}
        try:
            return (
                phrase.say.fill(filled, quoting=speech.quoting, separators=speech.parting, shaped=shaped),
                phrase,
                filled,
            )
        except InsertionFault as fault:
            raise ModuleFault(f"{setting.name}: {fault}") from None

    def _say(self, said: Filled, phrase: Phrase, filled: Mapping[str, object], values: Mapping[str, Value]) -> Reply:
        """Says the line that writes, and its payload where it has one; the line of a case has none."""
        secret = bool(said.secrets) or any(isinstance(one, Secret) for one in filled.values())
        tells = [*filled, *values] if secret else ()
        if phrase.payload is None:
            return self.module.say(said, phrase, tells=tells)
        if any(value is UNSET for value in values.values()):
            return self.module.say(said, phrase, tells=tells, expect=OK)
        for one in filled.values():
            if isinstance(one, Secret):
                self.session.secrets.learn(one)
        outcome = self.module.say(said, phrase, tells=tells, expect=phrase.prompted)
        if not outcome.ok:
            return outcome
        payload = phrase.payload.fill_exactly(filled, counted=filled, prompted=True)
        return self.session.exchange(payload, phrase.expect, phrase.within, exact=True, tells=tells)

    def line_for(
        self, values: Mapping[str, Value], others: Mapping[str, Value]
    ) -> tuple[Filled, Phrase, dict[str, object]]:
        """The very line that writes these values, what must answer it, and what was put in. Raises ModuleFault where they
        cannot be written."""
        names = list(values)
        setting = self.lexicon.setting(names[0])
        what = ", ".join(names)
        if setting.write:
            phrase = setting.write
            value = values[names[0]]
            line = phrase.line_for(value)
            if value is UNSET and line is phrase.say:
                raise ModuleFault(f"{what} cannot be unset", where=self.session.link.name)
            coded = setting.kind.encode(value) if value is not UNSET else ""
            if isinstance(setting.kind, ClockKind):
                coded = setting.kind.written(self.session.clock.wall(self.session.clock.now()))
            filled: dict[str, object] = {"value": Either(coded, written(value)) if phrase.expect.wants else coded}
        elif setting.in_group and setting.in_group.write:
            phrase = setting.in_group.write
            case = setting.in_group.line_for({**others, **values})
            line = case or phrase.say
            filled = self._group_fields(setting.in_group, line, values, others)
        else:
            raise ModuleFault(f"{what} cannot be written", where=self.session.link.name)
        members = (
            {one.name: one for one in self._members(setting.in_group)} if setting.in_group and not setting.write else {}
        )
        if setting.secret or any(one.secret for one in members.values()):
            # A block holds all of its members; a line of fields has each in its place.
            open_ones = {name for name in filled if name in members and not members[name].secret}
            filled = {name: value if name in open_ones else Secret(value) for name, value in filled.items()}
        speech = self.session.dialect.speech
        kinds = {name: members[name].kind if name in members else setting.kind for name in filled}
        shaped = {name for name, kind in kinds.items() if not kind.free}
        try:
            said = line.fill(filled, quoting=speech.quoting, separators=speech.parting, shaped=shaped)
        except InsertionFault as fault:
            raise ModuleFault(f"{what}: {fault}") from None
        return said, phrase, filled

    def _group_fields(
        self, group: SettingGroup, line: Template, values: Mapping[str, Value], others: Mapping[str, Value]
    ) -> dict[str, object]:
        members = {setting.name: setting for setting in self._members(group)}
        if not group.size:
            known = {**others, **values}
            missing = [name for name in line.names if name not in known]
            for name in missing:
                if not members[name].readable:
                    what = f"{name} must be given too: it is written in the same command, and cannot be read"
                    raise ModuleFault(what, where=self.session.link.name)
            known.update({name: found.understood(name) for name, found in self.read(missing).items()})
            bare = [name for name in line.names if known[name] is UNSET and members[name].unset is None]
            if bare:
                what = f"{bare[0]} must be given too: it is written in the same command, and is not set"
                raise ModuleFault(what, where=self.session.link.name)
            return {
                name: self._as_it_is(members[name], known[name], kept=name not in values)
                for name in line.names
                if name in known
            }
        block = self._read_twice(group) if group.read else bytes(group.size)
        places = {name: setting.place for name, setting in members.items() if setting.place}
        numbers = {name: int(members[name].kind.encode(value)) for name, value in values.items()}
        try:
            return {"block": put_bits(group, block, numbers, places)}
        except BlockFault as fault:
            raise ModuleFault(f"{group.name}: {fault}") from None

    def _as_it_is(self, setting: Setting, value: Value, *, kept: bool) -> str:
        """A value in the module's words; of one that is `kept`, in those that were read."""
        if value is UNSET:
            return setting.unset or ""
        before, words = self._words.get(setting.name, (None, ""))
        return words if kept and before == value else setting.kind.encode(value)

    def _read_twice(self, group: SettingGroup) -> bytes:
        """The block as two readings one after the other agree on."""
        before: bytes | None = None
        for _ in range(MOST_PASSES):
            self._read_group(group)
            if self._blocks[group.name] == before:
                return before
            before = self._blocks[group.name]
        raise ModuleFault(f"{group.name}: no two readings agree", where=self.session.link.name)

    def whole_group(self, names: Iterable[str]) -> list[str]:
        """All settings that are in the same groups as `names`, and can be read."""
        groups = {
            s.in_group.name
            for name in names
            if (s := self.lexicon.setting(name)).in_group and not s.write and s.in_group
        }
        return [
            s.name for s in self.lexicon.settings.values() if s.in_group and s.in_group.name in groups and s.readable
        ]


Items = list[tuple[Value, int]]


def list_steps(
    kind: List, have: Sequence[Value], wanted: Value, first: int | None, numbers: Sequence[int]
) -> tuple[Items, Items]:
    """What must be taken out of a list and what put in, each with its place; `first` is the number of the first place, None if
    places have no numbers; `numbers` are those that are taken."""
    want = kind.items(wanted)
    codes = [kind.of.encode(item) for item in have]
    if first is not None and not isinstance(wanted, dict):
        places = dict(zip(numbers, have, strict=False))
        right = {first + at: item for at, item in enumerate(want)}
        removed = [(item, at) for at, item in places.items() if at not in right]
        return removed, [(item, at) for at, item in right.items() if at not in places or places[at] != item]
    free = (at for at in range(first or 0, (first or 0) + len(have) + len(want)) if at not in numbers)
    if kind.ordered and not isinstance(wanted, dict):
        same = next(
            (at for at, item in enumerate(want) if at >= len(have) or codes[at] != kind.of.encode(item)), len(want)
        )
        return [(item, 0) for item in reversed(have[same:])], [(item, 0) for item in want[same:]]
    keep = {kind.of.encode(item) for item in want}
    removed = (
        []
        if isinstance(wanted, dict)
        else [(item, 0) for item, code in zip(have, codes, strict=True) if code not in keep]
    )
    return removed, [(item, next(free)) for item in want if kind.of.encode(item) not in codes]


def _secrets(group: SettingGroup, members: Iterable[Setting]) -> list[str]:
    """The captures of a group's answer that are secret; a block is, where one of its members is."""
    found = [one.name for one in members if one.secret and group.tells(one.name)]
    return ["block"] if found and group.size else found
