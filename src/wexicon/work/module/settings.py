"""What a module keeps, written by its lexicon: single settings, groups in one command, bits in a block, lists.

The rule: a value counts as written once the module confirmed it, never as read. What a group holds besides what was named is
written back as it was read twice.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from wexicon.core.faults import ModuleFault, Part
from wexicon.core.formats.lexicon import Phrase, Setting, SettingGroup
from wexicon.core.formats.lexicon.blocks import BlockFault, put_bits
from wexicon.core.protocol.dialect import OK, Reply, ReplyStatus
from wexicon.core.protocol.insertion import Filled, InsertionFault, Template
from wexicon.core.protocol.matching import Either
from wexicon.core.text import Secret, written
from wexicon.core.values import UNSET, ClockKind, List, Value
from wexicon.work.module.readings import SettingsReader

# How long an event that reports what was granted may take (seconds).
GRANTED_WITHIN = 2.0


class Refused(ModuleFault):
    """The module understood and returned an error."""


class Settings(SettingsReader):
    """The settings of one module, read and written."""

    def write(self, values: Mapping[str, Value], others: Mapping[str, Value]) -> None:
        """Writes plain values: one setting, or settings of one group together. `others` are the values that the rest of the
        group has. Raises Refused where the module returns an error."""
        if self.lexicon.attention.select is None:
            self._write(values, others)
        else:
            # Another one behind the port may have been chosen by a damaged line.
            self.module.surely(", ".join(values), lambda: self._write(values, others))

    def _write(self, values: Mapping[str, Value], others: Mapping[str, Value]) -> None:
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
