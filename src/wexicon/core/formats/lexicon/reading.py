"""Reads a lexicon file and checks all of it.

The rule: all that is wrong with the file is said before it is used, each fault with its place and a suggestion; what
comes out can be relied upon.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from decimal import Decimal
from hashlib import sha256
from typing import Any

import msgspec

from wexicon.core.dialogue import read_dialogue
from wexicon.core.faults import FileFault
from wexicon.core.formats.lexicon.extending import extend, nothing_to_extend
from wexicon.core.formats.lexicon.listening import read_listening, read_stream
from wexicon.core.formats.lexicon.model import (
    Action,
    AttentionWays,
    Lexicon,
    Phrase,
    Setting,
    SettingGroup,
    Start,
    case_of,
)
from wexicon.core.formats.lexicon.tables import (
    HOWS,
    MOVES,
    About,
    ActionTable,
    AttentionBy,
    AttentionTable,
    GroupTable,
    Identify,
    LexiconFile,
    LinkTable,
    ListeningTable,
    Moves,
    SayHear,
    SettingTable,
    StartTable,
    StreamTable,
    TrafficTable,
    Writing,
)
from wexicon.core.formats.lexicon.wiring import WiringTable, read_wiring
from wexicon.core.formats.toml import Source, read_kind
from wexicon.core.protocol.dialect import Closing, Dialect, Expectation, Want, compiled
from wexicon.core.protocol.insertion import Template
from wexicon.core.protocol.patterns import Pattern, block_header
from wexicon.core.protocol.speech import Speech, pattern_in
from wexicon.core.text import meant, nearest, seconds
from wexicon.core.tuning import FLOWS, Tuning
from wexicon.core.values import UNSET, Kind, List, Value, ValueFault
from wexicon.core.values.numbers import Int, NumberKind

CHECKSUMS = ("sum", "xor")
_TABLES = tuple(LexiconFile.__struct_fields__)
_LARGEST_BLOCK = 1024


def read_lexicon(data: bytes, path: str, find: Callable[[str], bytes] = nothing_to_extend) -> Lexicon:
    """The lexicon in the bytes of a TOML file; `find` gives the bytes of one that it extends. Raises FileFault with every
    complaint."""
    source = Source(data, path)
    extend(source, find)
    return _Reading(source).lexicon()


class _Reading:
    """One reading of one file; complaints gather in the source."""

    def __init__(self, source: Source) -> None:
        self.source = source
        self.data = source.data
        speech = self.data.get("speech")
        answer = str(speech.get("answer", "")) if isinstance(speech, dict) else ""
        self.form = answer.split()[0] if answer.split() else "lines"

    def lexicon(self) -> Lexicon:
        source, data = self.source, self.data
        source.check_top(_TABLES, "no such table")
        about = self.table("about", About, required=True)
        factory = self.table("link", LinkTable)
        tuning = self.tuning(("link",), factory.rate, factory.frame) if factory else None
        if factory and factory.flow not in FLOWS:
            source.complain(("link", "flow"), f"{factory.flow!r} is not one of {', '.join(FLOWS)}")
        speech = self.table("speech", Speech)
        if tuning and speech:
            chosen = "select" in self.mapping("attention")
            tuning = msgspec.structs.replace(tuning, station=1 if chosen else speech.station)
        start = self.start(self.table("start", StartTable) or StartTable(), tuning or Tuning())
        for key, what in speech.faults() if speech else ():
            source.complain(("speech", key), what)
        attention = self.table("attention", AttentionTable)
        listens = self.attention(attention) if attention else None
        identify = self.table("identify", Identify) if "identify" in data else None
        asked = [self.phrase(("identify", "ask"), ask) for ask in identify.ask] if identify else []
        also = [self.phrase(("identify", "ask"), ask) for ask in identify.also] if identify else []
        writing = self.table("writing", Writing) or Writing()
        events = {n: made for n, text in self.mapping("events").items() if (made := self.event(n, text))}
        if listens and listens.ends_on and listens.ends_on not in events:
            source.complain(
                ("attention", "ends_on"), f"there is no event {listens.ends_on}", meant(listens.ends_on, events)
            )
        self.add_start_words(start, events)
        actions = {n: made for n, made in self.each("action", ActionTable, self.action) if made}
        if listens and listens.locked and not listens.unlock:
            source.complain(("attention", "locked"), "needs unlock, the action that logs in")
        if listens and listens.unlock and listens.unlock not in self.mapping("action"):
            what = f"there is no action {listens.unlock}"
            source.complain(("attention", "unlock"), what, meant(listens.unlock, actions))
        traffic = self.table("traffic", TrafficTable) if "traffic" in data else None
        groups = {n: made for n, made in self.each("group", GroupTable, self.group) if made}
        settings: dict[str, Setting] = {}
        for name, made in self.each("setting", SettingTable, lambda n, t: self.setting(n, t, writing, groups)):
            if made:
                settings[name] = made
        for name, setting in settings.items():
            self.check_needs(name, setting, settings)
        if traffic:
            self.check_traffic(traffic, actions, events, settings)
        for name, group in groups.items():
            self.check_group(name, group, settings)
        for name, group_table in self.each("group", GroupTable, lambda name, table: table):
            if group_table and name in groups:
                self.complete_group(groups[name], group_table, settings)
        heard = read_listening(
            source,
            self.table("listening", ListeningTable) or ListeningTable(),
            self.mapping("decoded"),
            events,
            settings,
            actions,
        )
        stream = self.table("stream", StreamTable) if "stream" in data else None
        wired = self.table("wiring", WiringTable) if "wiring" in data else None
        wiring = read_wiring(source, wired) if wired else None
        if wiring and listens and listens.operator and wiring.lamps:
            # The operator's instructions end with what the lamps mean.
            listens = msgspec.structs.replace(listens, operator=f"{listens.operator} {wiring.lamps_told()}")
        saves_within = self.duration(("writing", "saves_within"), writing.saves_within)
        source.finish()
        assert about and factory and tuning and speech and listens
        whole = Lexicon(
            path=source.path,
            digest=sha256(source.text.encode()).hexdigest(),
            about=about,
            factory=tuning,
            start=start,
            attention=listens,
            dialect=Dialect(speech, events, locked=attention.locked if attention else ()),
            errors={str(code): str(text) for code, text in self.mapping("errors").items()},
            events=events,
            identify=tuple(phrase for phrase in asked if phrase),
            must=dict(identify.must) if identify else {},
            unit=identify.unit if identify else "",
            firmware=identify.firmware if identify else "",
            groups=groups,
            settings=settings,
            actions=actions,
            order=writing.then,
            flow=factory.flow,
            traffic=traffic,
            saves_within=saves_within,
            also=tuple(phrase for phrase in also if phrase),
            listening=heard,
            stream=read_stream(source, stream, settings) if stream else None,
            wiring=wiring,
        )
        self.check_witness(whole)
        source.finish()
        return whole

    def check_witness(self, lexicon: Lexicon) -> None:
        name = lexicon.start.witness
        if not name:
            return
        setting = lexicon.settings.get(name)
        why = lexicon.may_be_witness(setting) if setting else f"is no setting; {meant(name, lexicon.settings)}"
        if why:
            hint = "name a setting that is read, written and saved by itself, and harmless"
            self.source.complain(("start", "witness"), f"{name} {why}", hint)

    def check_traffic(
        self,
        traffic: TrafficTable,
        actions: dict[str, Action],
        events: dict[str, Pattern],
        settings: dict[str, Setting],
    ) -> None:
        """What `[traffic]` names is there, and has what it says."""
        complain = self.source.complain
        for key, known in (("send", actions), ("arrives", events)):
            name = getattr(traffic, key)
            if name not in known:
                complain(("traffic", key), f"there is no {name}", meant(name, known))
        if traffic.send in actions:
            needs = {need.name for need in actions[traffic.send].program.needs()}
            for name in needs ^ ({traffic.data, "to"} if traffic.address else {traffic.data}):
                what = "needs" if name in needs else "does not need"
                complain(("traffic", "send"), f"the action {traffic.send} {what} {name}")
        if traffic.arrives in events:
            names = events[traffic.arrives].names
            for name in (traffic.data, *traffic.signal):
                if name not in names:
                    complain(("traffic", "arrives"), f"the event {traffic.arrives} has no {name}", meant(name, names))
        if traffic.address and traffic.address not in settings:
            complain(("traffic", "address"), f"there is no setting {traffic.address}", meant(traffic.address, settings))
        if not 24 <= traffic.most <= 240:
            complain(("traffic", "most"), "is from 24 to 240 bytes")

    @staticmethod
    def add_start_words(start: Start, events: dict[str, Pattern]) -> None:
        """A module's ready word is an event, never the answer to a pending command."""
        known = {pattern.source for pattern in events.values()}
        for number, text in enumerate(start.says):
            literal = text.replace("{", "{{").replace("}", "}}").replace("...", "{...}")
            if literal not in known:
                events.setdefault(f"start {number + 1}" if number else "start", Pattern(literal))
        if start.ready is not None and start.ready.source not in known:
            events.setdefault("ready", start.ready)

    # -- tables -------------------------------------------------------------------------------------------------

    def table(self, name: str, kind: type[Any], *, required: bool = False) -> Any:
        if required and name not in self.data:
            self.source.complain((name,), f"the table [{name}] is missing")
            return None
        return self.source.typed(self.data.get(name, {}), kind, (name,))

    def mapping(self, name: str) -> dict[str, object]:
        found = self.data.get(name, {})
        if not isinstance(found, dict):
            self.source.complain((name,), "is not a table")
            return {}
        return found

    def each(self, name: str, kind: type[Any], make: Any) -> list[tuple[str, Any]]:
        made = []
        for key, data in self.mapping(name).items():
            table = self.source.typed(data, kind, (name, key))
            made.append((key, make(key, table) if table else None))
        return made

    # -- parts --------------------------------------------------------------------------------------------------

    def pattern(self, place: tuple[str, ...], text: object) -> Pattern | None:
        if not isinstance(text, str):
            self.source.complain(place, "is not text")
            return None
        try:
            made = pattern_in(self.form, text)
            if self.form not in ("bytes", "frames", "json"):
                block_header(made)
        except ValueError as fault:
            self.source.complain(place, f"{text!r}: {fault}", getattr(fault, "hint", ""))
            return None
        return made

    def event(self, name: str, text: object) -> Pattern | None:
        return self.pattern(("events", name), text)

    def template(self, place: tuple[str, ...], text: str) -> Template | None:
        try:
            return Template(text)
        except ValueError as fault:
            self.source.complain(place, f"{text!r}: {fault}", getattr(fault, "hint", ""))
            return None

    def tuning(self, place: tuple[str, ...], rate: int, frame: str) -> Tuning | None:
        try:
            return Tuning.of(rate, frame)
        except ValueError as fault:
            self.source.complain(place, str(fault))
            return None

    def duration(self, place: tuple[str, ...], text: str) -> float:
        try:
            return seconds(text) if text else 0.0
        except ValueError as fault:
            self.source.complain(place, str(fault))
            return 0.0

    def word(self, place: tuple[str, ...], word: str, known: Iterable[str]) -> None:
        if word not in known:
            close = nearest(word, known)
            hint = f"did you mean {close}?" if close else ""
            self.source.complain(place, f"{word!r} is not one of {', '.join(known)}", hint)

    def expectation(
        self,
        place: tuple[str, ...],
        hear: str | tuple[str, ...],
        closing: Closing | None = None,
        unset: str | None = None,
    ) -> Expectation:
        texts = (hear,) if isinstance(hear, str) else hear
        patterns = [self.pattern(place, text) for text in texts if text]
        instead = self.pattern((*place[:-1], "unset"), unset) if unset else None
        wants = [Want(pattern, unset=None if index else instead) for index, pattern in enumerate(patterns) if pattern]
        return Expectation(tuple(wants), silent=texts == ("",), closing=closing, bare=unset == "")

    def phrase(self, place: tuple[str, ...], table: SayHear | None) -> Phrase | None:
        if table is None:
            return None
        say = self.template((*place, "say"), table.say)
        if say and place[-1] in ("read", "probe", "whole", "ask") and (names := list(say.names)):
            what = f"inserts {names[0]}, which has no value in a question"
            self.source.complain((*place, "say"), what, "write {{ and }} for braces as they are")
        within = self.duration((*place, "within"), table.within) if table.within else None
        expect = self.expectation((*place, "hear"), table.hear, unset=table.unset)
        if table.rows and (rows := self.pattern((*place, "rows"), table.rows)):
            expect = msgspec.structs.replace(expect, wants=(*expect.wants, Want(rows, gather=True)))
        cases = {case: self.template((*place, "cases"), text) for case, text in table.cases.items()}
        made = {case: one for case, one in cases.items() if one}
        if say is None or not table.payload:
            return Phrase(say, expect, within, made) if say else None
        if place[-1] != "write":
            self.source.complain((*place, "payload"), "only a write has a payload")
        payload = self.template((*place, "payload"), table.payload)
        told = any(filters[-1:] == ["length"] for _, filters in say.insertions())
        if not told:
            what = "is announced by no length"
            self.source.complain((*place, "payload"), what, "say its length in the line: {value|length}")
        return Phrase(say, expect, within, made, payload, Expectation((Want(compiled(table.prompt), prompt=True),)))

    def start(self, table: StartTable, factory: Tuning) -> Start:
        place = ("start",)
        tuning = self.tuning(place, table.rate, factory.frame) if table.rate is not None else None
        ready = self.pattern((*place, "ready"), table.ready) if table.ready else None
        within = self.duration((*place, "within"), table.within)
        return Start(tuning, table.says, ready, within, table.witness, table.restart_reloads)

    def attention(self, table: AttentionTable) -> AttentionWays | None:
        place = ("attention",)
        self.word((*place, "how"), table.how, HOWS)
        if (table.how in ("held-key", "control-line") or table.window) and not table.operator:
            self.source.complain((*place, "operator"), "is missing", "say what the operator does to get its attention")
        if table.how == "control-line" and not table.pins:
            self.source.complain((*place, "pins"), "is missing", "say how the pins stand: pins = { dtr = true }")
        tuning = self.tuning(place, table.rate, table.frame) if table.rate is not None else None
        probe = self.phrase((*place, "probe"), table.probe)
        if not probe or table.how not in HOWS:
            return None
        return AttentionWays(
            AttentionBy(table.how),
            tuning,
            table.operator,
            probe,
            self.phrase((*place, "whole"), table.whole),
            table.key,
            table.power,
            self.duration((*place, "hold"), table.hold),
            table.escape,
            self.expectation((*place, "answer"), (table.answer,) if table.answer else (), Closing.ALONE),
            self.duration((*place, "guard"), table.guard),
            self.duration((*place, "window"), table.window),
            table.pins,
            table.data_pins,
            self.duration((*place, "lasts"), table.lasts),
            table.ends_on,
            table.power_up or bool(table.window),
            table.unlock,
            table.locked,
            self.phrase((*place, "select"), table.select),
            table.stations,
            table.wake,
            self.duration((*place, "wakes_within"), table.wakes_within),
        )

    def group(self, name: str, table: GroupTable) -> SettingGroup | None:
        place = ("group", name)
        if not table.read and not table.write:
            self.source.complain(place, "can neither be read nor written")
        if table.checksum:
            self.word((*place, "checksum"), table.checksum, CHECKSUMS)
        if not 0 <= table.size <= _LARGEST_BLOCK:
            self.source.complain((*place, "size"), f"{table.size} is not a number of bytes")
            return None
        fixed: dict[int, int] = {}
        for at, byte in table.fixed.items():
            if not at.isdigit() or int(at) >= table.size or not 0 <= byte <= 255:
                self.source.complain((*place, "fixed"), f"{at} = {byte} is outside {table.size} bytes")
            else:
                fixed[int(at)] = byte
        return SettingGroup(
            name,
            self.phrase((*place, "read"), table.read),
            self.phrase((*place, "write"), table.write),
            table.size,
            table.checksum,
            fixed,
        )

    def setting(
        self, name: str, table: SettingTable, writing: Writing, groups: dict[str, SettingGroup]
    ) -> Setting | None:
        place = ("setting", name)
        kind = read_kind(self.source, table.value, (*place, "value"))
        if kind is None:
            return None
        if table.moves_link:
            self.word((*place, "moves_link"), table.moves_link, MOVES)
        asked_for = None if isinstance(table.read, str) else table.read
        read, write = self.phrase((*place, "read"), asked_for), self.phrase((*place, "write"), table.write)
        if table.read == "link" and kind.from_link(Tuning()) is None:
            self.source.complain(
                (*place, "read"), "the link tells nothing of it", "only a rate or a frame can be read so"
            )
        by_event = table.granted.event if table.granted else ""
        granted = None
        if table.granted and not by_event:
            asked_by = SayHear(table.granted.say, table.granted.hear, table.granted.within)
            granted = self.phrase((*place, "granted"), asked_by)
        granted_as = table.granted.capture if table.granted else "value"
        if by_event and f"{{{granted_as}" not in str(self.mapping("events").get(by_event, "")):
            what = f"there is no event {by_event} that captures {{{granted_as}}}"
            self.source.complain((*place, "granted"), what, meant(by_event, self.mapping("events")))
        if write:
            self.check_cases((*place, "write"), kind, write)
        add, remove = self.phrase((*place, "add"), table.add), self.phrase((*place, "remove"), table.remove)
        if isinstance(kind, List):
            self.check_list(place, table, add, remove)
        elif add or remove:
            self.source.complain((*place, "add"), "only a list has items", 'write value = { kind = "list", of = ... }')
        for key, asked in (("read", read), ("granted", granted)):
            if asked and not any("value" in want.pattern.names for want in asked.expect.wants):
                self.source.complain((*place, key), "hears no {value}", 'write hear = "+NAME {value}"')
        for key, phrase, allowed in (
            ("write", write, {"value"}),
            ("add", add, {"value", "index"}),
            ("remove", remove, {"value", "index"}),
        ):
            said = {name for one in (phrase.say, *phrase.cases.values()) for name in one.names} if phrase else set()
            for name in sorted(said - allowed):
                self.source.complain((*place, key), f"says {{{name}}}, which has no value here", "its value is {value}")
        if write and "value" not in write.say.names and not write.cases:
            self.source.complain((*place, "write"), "says no {value}", 'write say = "AT+NAME={value}"')
        group = groups.get(table.group)
        if table.group and table.group not in self.mapping("group"):
            self.source.complain((*place, "group"), f"there is no group {table.group}", meant(table.group, groups))
        if not table.read and not write and not add and not table.group:
            self.source.complain(place, "can neither be read nor written", "give it read and write, or a group")
        if group and group.size and not table.place and not (table.read and write):
            self.source.complain(
                (*place, "place"), "is missing", "give its position in the block: place = { byte = 0 }"
            )
        if table.place and group:
            end = table.place.byte * 8 + (table.place.bits + table.place.low + 7) // 8 * 8
            if table.place.bits < 1 or table.place.byte < 0 or table.place.low < 0 or end > group.size * 8:
                self.source.complain((*place, "place"), f"is outside a block of {group.size} bytes")
        then = writing.then if table.then is None else table.then
        for action in then:
            if action not in self.mapping("action"):
                self.source.complain(
                    (*place, "then"), f"there is no action {action}", meant(action, self.mapping("action"))
                )
        made = Setting(
            name,
            table.meaning,
            kind,
            read,
            write,
            Moves(table.moves_link) if table.moves_link in MOVES else Moves.NEVER,
            table.needs,
            then,
            table.secret,
            table.since,
            table.before,
            self.template((*place, "appends"), table.appends) if table.appends else None,
            group,
            table.place,
            granted,
            table.read == "link",
            table.volatile,
            by_event,
            self.duration((*place, "moves_after"), table.moves_after),
            self.duration((*place, "settles"), table.settles),
            table.unset,
            self.factory((*place, "factory"), kind, table),
            tolerance=self.tolerance((*place, "tolerance"), kind, table),
            granted_as=granted_as,
            shows=self.shows((*place, "shows"), table),
            add=add,
            remove=remove,
            first_index=table.first_index,
        )
        if made.moves_link and made.may_be_unset():
            what = "moves the link, and may be unset: then nothing says where the link is"
            self.source.complain((*place, "moves_link"), what, "remove unset, or what answers instead of a value")
        return made

    def factory(self, place: tuple[str, ...], kind: Kind, table: SettingTable) -> Value | None:
        """The factory default of a setting; a module that starts with it unset says `unset`."""
        if table.factory is None or table.factory == "unset":
            return UNSET if table.factory else None
        try:
            return kind.check(table.factory)
        except ValueFault as fault:
            self.source.complain(place, f"{fault.value!r} {fault.why}", f"allowed: {fault.allowed}")
            return None

    def tolerance(self, place: tuple[str, ...], kind: Kind, table: SettingTable) -> Decimal | None:
        """By how much a number may differ when it is read back."""
        if table.tolerance is None:
            return None
        if not isinstance(kind, (Int, NumberKind)):
            self.source.complain(place, "only a number has a tolerance")
        elif table.tolerance <= 0:
            self.source.complain(place, f"{table.tolerance:g} is not above 0")
        return Decimal(str(table.tolerance))

    def check_list(
        self, place: tuple[str, ...], table: SettingTable, add: Phrase | None, remove: Phrase | None
    ) -> None:
        """A list is read as a whole, and brought about as a whole or item by item."""
        if not isinstance(table.read, SayHear) and (add or not table.group):
            self.source.complain((*place, "read"), "is missing: a list cannot be written unseen")
        if bool(add) != bool(remove):
            self.source.complain((*place, "add"), "add and remove go together")
        if add and remove:
            for key, phrase in (("add", add), ("remove", remove)):
                if not {"value", "index"} & set(phrase.say.names):
                    self.source.complain((*place, key), "says no {value} and no {index}")
            if "index" in add.say.names and isinstance(table.read, SayHear) and "{index" not in table.read.rows:
                self.source.complain((*place, "read"), "hears no {index}", 'write rows = "+SLOT {index:int} {value}"')

    def shows(self, place: tuple[str, ...], table: SettingTable) -> int:
        """How many characters of a value are answered for it, from its end if below 0; 0: all."""
        if not table.shows:
            return 0
        found = re.fullmatch(r"(first|last) ([1-9][0-9]?)", table.shows)
        if not found:
            self.source.complain(place, f"{table.shows!r} is not a part of a value", 'write shows = "last 2"')
            return 0
        if not table.read or table.read == "link":
            self.source.complain(place, "is answered by no read", "read captures the part as {value}")
        return int(found[2]) * (-1 if found[1] == "last" else 1)

    def check_cases(self, place: tuple[str, ...], kind: Kind, write: Phrase) -> None:
        for case in write.cases:
            if case == "unset":
                continue
            tried: list[object] = [case, case == "true", int(case) if re.fullmatch(r"-?[0-9]{1,18}", case) else case]
            if not any(_takes(kind, value, case) for value in tried):
                self.source.complain((*place, "cases"), f"{case!r} is not a value of it", f"allowed: {kind.allowed()}")

    def complete_group(self, group: SettingGroup, table: GroupTable, settings: dict[str, Setting]) -> None:
        """The lines of a group for single values of its members, and what an answer that none is set tells of them."""
        place = ("group", group.name)
        members = {name: one for name, one in settings.items() if one.group and one.group.name == group.name}
        for name, given in (table.read.unset_tells if table.read else {}).items():
            if (value := self.member_value((*place, "read"), name, given, members)) is not None:
                group.unset_tells[name] = value
        cases = []
        for case, text in (table.write.cases if table.write else {}).items():
            name, equals, given = (part.strip() for part in case.partition("="))
            if not equals:
                what = f"{case!r} names no member"
                self.source.complain((*place, "write"), what, 'write cases = { "beacon = false" = "BEACON OFF" }')
                continue
            value = self.member_value(
                (*place, "write"), name, {"true": True, "false": False}.get(given, given), members
            )
            if value is not None and (line := self.template((*place, "write"), text)):
                cases.append((name, value, line))
        group.cases[:] = cases

    def member_value(
        self, place: tuple[str, ...], name: str, given: object, members: dict[str, Setting]
    ) -> Value | None:
        if name not in members:
            self.source.complain(place, f"there is no member {name}", meant(name, members))
            return None
        try:
            return members[name].check(given)
        except ValueFault as fault:
            self.source.complain(place, f"{name}: {fault}")
            return None

    def check_needs(self, name: str, setting: Setting, settings: dict[str, Setting]) -> None:
        for other, value in setting.needs.items():
            place = ("setting", name, "needs")
            if other not in settings:
                self.source.complain(place, f"there is no setting {other}", meant(other, settings))
                continue
            try:
                setting.needs[other] = settings[other].check(value)
            except ValueFault as fault:
                self.source.complain(place, str(fault))

    def check_group(self, name: str, group: SettingGroup, settings: dict[str, Setting]) -> None:
        """What a group captures and says must be its settings, or the block that holds them."""
        members = {s.name for s in settings.values() if s.group is group}
        known = {"block"} if group.size else members
        if group.read:
            captured = {n for want in group.read.expect.wants for n in want.pattern.names}
            if group.size and "block" not in captured:
                self.source.complain(("group", name, "read"), "does not hear {block}")
            for extra in sorted(captured - known) if not members & captured else ():
                self.source.complain(
                    ("group", name, "read"), f"hears {{{extra}}}, and no setting of this group", meant(extra, known)
                )
        if group.write:
            for said in group.write.say.names:
                if said not in known:
                    what = f"says {{{said}}}, which is no setting of this group"
                    self.source.complain(("group", name, "write"), what, meant(said, known))

    def action(self, name: str, table: ActionTable) -> Action | None:
        try:
            program = read_dialogue(table.dialogue, f"{self.source.path}: action.{name}")
        except FileFault as fault:
            for complaint in fault.complaints:
                self.source.complain(("action", name), f"{complaint.what}: {complaint.source.strip()}", complaint.hint)
            return None
        ends = table.ends_attention or (table.restarts and self.mapping("attention").get("how", "always") != "always")
        settles = self.duration(("action", name, "settles"), table.settles)
        needs = table.needs_attention
        return Action(name, table.meaning, program, needs, ends, table.restarts, table.resets, settles, table.loads)


def _takes(kind: Kind, value: object, case: str) -> bool:
    try:
        return case_of(kind.check(value)) == case
    except ValueFault:
        return False
