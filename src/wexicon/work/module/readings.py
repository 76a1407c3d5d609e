"""What a module keeps, read by its lexicon: single settings, groups in one answer, bits in a block.

The rule: a pass of reading is believed when nothing unexpected was heard during it and the module answered the closing
question, who it is, as before; otherwise all of it is read again, in silence.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from typing import Protocol

import msgspec

from wexicon.core.faults import ModuleFault, Part
from wexicon.core.formats.lexicon import Lexicon, Phrase, Setting, SettingGroup
from wexicon.core.formats.lexicon.blocks import BlockFault, bits_of, take_block
from wexicon.core.protocol.dialect import Expectation, Reply, ReplyStatus
from wexicon.core.protocol.insertion import Filled
from wexicon.core.protocol.session import Session
from wexicon.core.text import HIDDEN, visible
from wexicon.core.values import UNSET, ClockKind, List, Value, ValueFault
from wexicon.core.values.base import OUT_OF_RANGE

MOST_PASSES = 4


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

    def surely(self, what: str, act: Callable[[], object], *, plainly: bool = False) -> None: ...

    def only_here(self, *, frame: bool = False) -> bool: ...

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


class SettingsReader:
    """Reads the settings of one module."""

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
        whole = outcome.ok and not outcome.strange
        return self._decoded(setting, str(outcome.captures.get("value", ""))).value if whole else None

    def part_of(self, name: str) -> str | None:
        """The part of a value that the module answers for it, masked or cut; None if it answers nothing of it."""
        setting = self.lexicon.setting(name)
        if not setting.shows or setting.read is None:
            return None
        outcome = self.module.ask(setting.read, tells=["value"] if setting.secret else ())
        return str(outcome.captures["value"]) if outcome.ok and not outcome.unset else None

    def _pass(self, names: Sequence[str], failed: dict[str, str] | None, *, in_silence: bool) -> dict[str, Reading]:
        found: dict[str, Reading] = {}
        groups: dict[str, dict[str, str] | Reply | None] = {}
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

    def _one(self, setting: Setting, groups: dict[str, dict[str, str] | Reply | None]) -> Reading:
        if setting.from_link:
            return self._from_link(setting)
        if setting.read:
            outcome = self.module.ask(setting.read, tells=["value"] if setting.secret else ())
            if outcome.status is ReplyStatus.ERROR and self._may_be_the_value(setting, outcome):
                # It can be overwritten; until then it may be either.
                return Reading(outcome.heard[-1], None, "is also how the module says an error")
            if not outcome.ok:
                raise self.module.fault(f"{setting.name} cannot be read", outcome)
            if outcome.strange:
                return _interrupted(setting, outcome)
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
        if isinstance(told, Reply):
            return _interrupted(setting, told)
        if told is None:
            value = setting.in_group.told.get(setting.name)
            return Reading("", UNSET) if value is None else Reading(setting.kind.encode(value), value)
        found = self._decoded(setting, told[setting.name])
        if found.value is not None and found.value is not UNSET:
            self._words[setting.name] = (found.value, told[setting.name])
        return found

    def _from_link(self, setting: Setting) -> Reading:
        """What cannot be asked is told by the link: the module answers here, and not where it must not."""
        frame, tuning = not setting.kind.rates(), self.session.link.tuning
        value = setting.kind.from_link(tuning)
        if value is None:
            return Reading("", None, "is not on the link")
        frames = setting.kind.frames() or ["8N1", "8N2"]
        if frame and any(one[:2] == tuning.frame[:2] and one != tuning.frame for one in frames):
            return Reading("", None, "may differ by its stop bits: the link does not tell them apart")
        if not self.module.only_here(frame=frame):
            return Reading(
                "", None, f"answers {'with another parity' if frame else 'at another rate'} too: the link tells nothing"
            )
        return Reading(setting.kind.show(value), value)

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

    def _read_group(self, group: SettingGroup) -> dict[str, str] | Reply | None:
        """The module's words for each member; None where it says that none is set; the reply with a line that no pattern
        takes."""
        assert group.read
        members = self._members(group)
        outcome = self.module.ask(group.read, tells=_secrets(group, members))
        if not outcome.ok:
            raise self.module.fault(f"{group.name} cannot be read", outcome)
        if outcome.strange:
            return outcome
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

    def _read_twice(self, group: SettingGroup) -> bytes:
        """The block as two readings one after the other agree on."""
        before: bytes | None = None
        for _ in range(MOST_PASSES):
            if isinstance(self._read_group(group), Reply):
                before = None
                continue
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


def _interrupted(setting: Setting, outcome: Reply) -> Reading:
    """A reading with a line inside that is no part of it and no known event: the value may have lost a part."""
    line = HIDDEN if setting.secret else visible(outcome.strange)
    part = Part(heard=[HIDDEN] if setting.secret else outcome.heard)
    return Reading(line, None, f"has a line inside that no pattern takes: “{line}”", part)


def _secrets(group: SettingGroup, members: Iterable[Setting]) -> list[str]:
    """The captures of a group's answer that are secret; a block is, where one of its members is."""
    found = [one.name for one in members if one.secret and group.tells(one.name)]
    return ["block"] if found and group.size else found
