"""What one table of a lexicon says of another: names lead somewhere, lines have the values that they need, values are allowed.

The rule: every fault is a complaint with its place and a suggestion; a name whose own table has a fault still counts as
known.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable

from wexicon.core.formats.lexicon.model import Lexicon, Setting, SettingGroup
from wexicon.core.formats.lexicon.phrase import Phrase, value_of_case
from wexicon.core.formats.lexicon.tables import AttentionBy, Link
from wexicon.core.formats.toml import Source
from wexicon.core.protocol.insertion import Template
from wexicon.core.protocol.speech import Speech
from wexicon.core.text import meant
from wexicon.core.tuning import FLOWS, Tuning
from wexicon.core.values import Kind, List, Value, ValueFault
from wexicon.core.values.numbers import Int, NumberKind

Place = tuple[str, ...]
QUESTIONS = ("read", "probe", "whole", "ask")


def tuning_of(source: Source, place: Place, rate: int, frame: str) -> Tuning | None:
    """A rate and a frame as a tuning; None where they are none."""
    try:
        return Tuning.of(rate, frame)
    except ValueError as fault:
        source.complain(place, str(fault))
        return None


def checked(source: Source, speech: Speech | None, link: Link) -> Speech:
    """`[speech]`, or a usual one if it has faults; these, and those of the flow control in `[link]`, are complained of."""
    if link.flow not in FLOWS:
        source.complain(("link", "flow"), f"{link.flow!r} is not one of {', '.join(FLOWS)}")
    faults = list(speech.faults()) if speech else []
    for key, what in faults:
        source.complain(("speech", key), what)
    return Speech() if faults or speech is None else speech


def check_phrase(source: Source, place: Place, phrase: Phrase | None) -> None:
    """A question inserts nothing; a payload belongs to a write that says its length."""
    if phrase is None:
        return
    if place[-1] in QUESTIONS and phrase.say.names:
        what = f"inserts {phrase.say.names[0]}, which has no value in a question"
        source.complain((*place, "say"), what, "write {{ and }} for braces as they are")
    if not phrase.payload:
        return
    if place[-1] != "write":
        source.complain((*place, "payload"), "only a write has a payload")
    if not any(filters[-1:] == ["length"] for _, filters in phrase.say.insertions()):
        source.complain((*place, "payload"), "is announced by no length", "say its length in the line: {value|length}")


class Checks:
    """All that one table says of another, in one lexicon."""

    def __init__(self, source: Source, lexicon: Lexicon) -> None:
        self.source, self.lexicon = source, lexicon

    def all(self) -> None:
        """Complains of all that is wrong."""
        self.attention()
        for phrase in (*self.lexicon.identify, *self.lexicon.also):
            check_phrase(self.source, ("identify", "ask"), phrase)
        for setting in self.lexicon.settings.values():
            self.setting(setting)
        for group in self.lexicon.groups.values():
            self.group(group)
        self.traffic()
        self.witness()

    def known(self, table: str, made: Iterable[str] = ()) -> dict[str, object]:
        """The names in a table of the file, those that Wexicon adds among them."""
        found = self.source.data.get(table)
        return {**(found if isinstance(found, dict) else {}), **dict.fromkeys(made)}

    def name(self, place: Place, name: str, known: Collection[str], what: str = "there is no {}") -> None:
        """A name must be known."""
        if name not in known:
            self.source.complain(place, what.format(name), meant(name, known))

    # -- how it listens, what it sends -----------------------------------------------------------------------------

    def attention(self) -> None:
        attention, complain = self.lexicon.attention, self.source.complain
        by_hand = attention.how in (AttentionBy.HELD_KEY, AttentionBy.CONTROL_LINE) or attention.window
        if by_hand and not attention.operator:
            complain(("attention", "operator"), "is missing", "say what the operator does to get its attention")
        if attention.how is AttentionBy.CONTROL_LINE and not attention.pins:
            complain(("attention", "pins"), "is missing", "say how the pins stand: pins = { dtr = true }")
        if attention.rate is not None:
            tuning_of(self.source, ("attention",), attention.rate, attention.frame)
        if self.lexicon.start.rate is not None:
            tuning_of(self.source, ("start",), self.lexicon.start.rate, self.lexicon.factory.frame)
        for key in ("probe", "whole"):
            check_phrase(self.source, ("attention", key), getattr(attention, key))
        if attention.ends_on:
            events = self.known("events", self.lexicon.events)
            self.name(("attention", "ends_on"), attention.ends_on, events, "there is no event {}")
        if attention.locked and not attention.unlock:
            complain(("attention", "locked"), "needs unlock, the action that logs in")
        if attention.unlock:
            self.name(("attention", "unlock"), attention.unlock, self.known("action"), "there is no action {}")

    def traffic(self) -> None:
        """What `[traffic]` names is there, and has what it says."""
        traffic, complain = self.lexicon.traffic, self.source.complain
        if traffic is None:
            return
        actions, events = self.lexicon.actions, self.lexicon.events
        self.name(("traffic", "send"), traffic.send, self.known("action"))
        self.name(("traffic", "arrives"), traffic.arrives, self.known("events", events))
        if traffic.send in actions:
            needs = {need.name for need in actions[traffic.send].program.needs()}
            for name in needs ^ ({traffic.data, "to"} if traffic.address else {traffic.data}):
                what = "needs" if name in needs else "does not need"
                complain(("traffic", "send"), f"the action {traffic.send} {what} {name}")
        if traffic.arrives in events:
            names = events[traffic.arrives].names
            for name in (traffic.data, *traffic.signal):
                self.name(("traffic", "arrives"), name, names, f"the event {traffic.arrives} has no {{}}")
        if traffic.address:
            self.name(("traffic", "address"), traffic.address, self.known("setting"), "there is no setting {}")
        if not 24 <= traffic.most <= 240:
            complain(("traffic", "most"), "is from 24 to 240 bytes")

    def witness(self) -> None:
        name = self.lexicon.start.witness
        if not name or self.source.complaints:
            return
        setting = self.lexicon.settings.get(name)
        why = (
            self.lexicon.may_be_witness(setting) if setting else f"is no setting; {meant(name, self.lexicon.settings)}"
        )
        if why:
            hint = "name a setting that is read, written and saved by itself, and harmless"
            self.source.complain(("start", "witness"), f"{name} {why}", hint)

    # -- settings -------------------------------------------------------------------------------------------------

    def setting(self, setting: Setting) -> None:
        place = ("setting", setting.name)
        self.lines(place, setting)
        self.listed(place, setting)
        self.placed(place, setting)
        for action in setting.then:
            self.name((*place, "then"), action, self.known("action"), "there is no action {}")
        for other in setting.also_changes:
            self.name((*place, "also_changes"), other, self.known("setting"), "there is no setting {}")
        self.needs((*place, "needs"), setting)
        if setting.tolerance is not None:
            check_tolerance(self.source, (*place, "tolerance"), setting.kind, setting.tolerance)
        if setting.shows and setting.read is None:
            self.source.complain((*place, "shows"), "is answered by no read", "read captures the part as {value}")
        if setting.moves_link and setting.may_be_unset():
            what = "moves the link, and may be unset: then nothing says where the link is"
            self.source.complain((*place, "moves_link"), what, "remove unset, or what answers instead of a value")

    def lines(self, place: Place, setting: Setting) -> None:
        """What reads and writes it has its value, and no other."""
        complain, write, granted = self.source.complain, setting.write, setting.granted
        if setting.from_link and setting.kind.from_link(Tuning()) is None:
            complain((*place, "read"), "the link tells nothing of it", "only a rate or a frame can be read so")
        if granted and granted.event:
            event = self.lexicon.events.get(granted.event)
            if event is None or granted.capture not in event.names:
                what = f"there is no event {granted.event} that captures {{{granted.capture}}}"
                complain((*place, "granted"), what, meant(granted.event, self.known("events")))
        for key, asked in (("read", setting.read), ("granted", granted.question if granted else None)):
            check_phrase(self.source, (*place, key), asked)
            if asked and not any("value" in want.pattern.names for want in asked.expect.wants):
                complain((*place, key), "hears no {value}", 'write hear = "+NAME {value}"')
        for key, phrase, allowed in (
            ("write", write, {"value"}),
            ("add", setting.add, {"value", "index"}),
            ("remove", setting.remove, {"value", "index"}),
        ):
            check_phrase(self.source, (*place, key), phrase)
            said = {name for one in (phrase.say, *phrase.cases.values()) for name in one.names} if phrase else set()
            for name in sorted(said - allowed):
                complain((*place, key), f"says {{{name}}}, which has no value here", "its value is {value}")
        if write and "value" not in write.say.names and not write.cases:
            complain((*place, "write"), "says no {value}", 'write say = "AT+NAME={value}"')
        for case in write.cases if write else ():
            if case != "unset" and value_of_case(setting.kind, case) is None:
                hint = f"allowed: {setting.kind.allowed()}"
                complain((*place, "write", "cases"), f"{case!r} is not a value of it", hint)

    def listed(self, place: Place, setting: Setting) -> None:
        """A list is read as a whole, and brought about as a whole or item by item."""
        complain, add, remove = self.source.complain, setting.add, setting.remove
        if not isinstance(setting.kind, List):
            if add or remove:
                complain((*place, "add"), "only a list has items", 'write value = { kind = "list", of = ... }')
            return
        if not setting.read and (add or not setting.group):
            complain((*place, "read"), "is missing: a list cannot be written unseen")
        if bool(add) != bool(remove):
            complain((*place, "add"), "add and remove go together")
        if add and remove:
            for key, phrase in (("add", add), ("remove", remove)):
                if not {"value", "index"} & set(phrase.say.names):
                    complain((*place, key), "says no {value} and no {index}")
            rows = setting.read.rows if setting.read else None
            numbered = "index" in (*add.say.names, *remove.say.names)
            if numbered and setting.read and not (rows and "index" in rows.names):
                complain((*place, "read"), "hears no {index}", 'write rows = "+SLOT {index:int} {value}"')

    def placed(self, place: Place, setting: Setting) -> None:
        """It is read or written in some way; where its group is a block of bytes, it has its place in it."""
        complain, group, where = self.source.complain, setting.in_group, setting.place
        if setting.group:
            self.name((*place, "group"), setting.group, self.known("group"), "there is no group {}")
        if not (setting.reads or setting.write or setting.add or setting.group):
            complain(place, "can neither be read nor written", "give it read and write, or a group")
        if group and group.size and not where and not (setting.reads and setting.write):
            complain((*place, "place"), "is missing", "give its position in the block: place = { byte = 0 }")
        if where and group:
            end = where.byte * 8 + (where.bits + where.low + 7) // 8 * 8
            if where.bits < 1 or where.byte < 0 or where.low < 0 or end > group.size * 8:
                complain((*place, "place"), f"is outside a block of {group.size} bytes")

    def needs(self, place: Place, setting: Setting) -> None:
        for other, value in setting.needs.items():
            self.name(place, other, self.known("setting"), "there is no setting {}")
            if other in self.lexicon.settings:
                try:
                    setting.needs[other] = self.lexicon.settings[other].check(value)
                except ValueFault as fault:
                    self.source.complain(place, str(fault))

    # -- groups ---------------------------------------------------------------------------------------------------

    def group(self, group: SettingGroup) -> None:
        """What a group captures and says must be its settings, or the block that holds them."""
        place, complain = ("group", group.name), self.source.complain
        members = {name: one for name, one in self.lexicon.settings.items() if one.in_group is group}
        tables = self.known("setting").items()
        named = {name for name, table in tables if isinstance(table, dict) and table.get("group") == group.name}
        broken = set(self.known("setting")) - set(self.lexicon.settings)
        known = {"block"} if group.size else named | broken
        if group.read:
            captured = {name for want in group.read.expect.wants for name in want.pattern.names}
            if group.size and "block" not in captured:
                complain((*place, "read"), "does not hear {block}")
            for extra in sorted(captured - known) if not known & captured else ():
                complain((*place, "read"), f"hears {{{extra}}}, and no setting of this group", meant(extra, known))
        for said in group.write.say.names if group.write else ():
            self.name((*place, "write"), said, known, "says {{{}}}, which is no setting of this group")
        for name, given in (group.read.unset_tells if group.read else {}).items():
            if (value := self.member_value((*place, "read"), name, given, members)) is not None:
                group.told[name] = value
        for case, line in (group.write.cases if group.write else {}).items():
            self.case(group, case, line, members)

    def case(self, group: SettingGroup, case: str, line: Template, members: dict[str, Setting]) -> None:
        """A line of a group for a single value of a member."""
        place = ("group", group.name, "write")
        name, equals, given = (part.strip() for part in case.partition("="))
        if not equals:
            self.source.complain(
                place, f"{case!r} names no member", 'write cases = { "beacon = false" = "BEACON OFF" }'
            )
            return
        value = self.member_value(place, name, {"true": True, "false": False}.get(given, given), members)
        if value is not None:
            group.lines.append((name, value, line))

    def member_value(self, place: Place, name: str, given: object, members: dict[str, Setting]) -> Value | None:
        self.name(place, name, members, "there is no member {}")
        try:
            return members[name].check(given) if name in members else None
        except ValueFault as fault:
            self.source.complain(place, f"{name}: {fault}")
            return None


def check_tolerance(source: Source, place: Place, kind: Kind, tolerance: float) -> bool:
    """Whether a value may differ by this much when it is read back: only a number may, and by more than nothing."""
    if not isinstance(kind, (Int, NumberKind)):
        source.complain(place, "only a number has a tolerance")
    elif tolerance <= 0:
        source.complain(place, f"{tolerance:g} is not above 0")
    else:
        return True
    return False
