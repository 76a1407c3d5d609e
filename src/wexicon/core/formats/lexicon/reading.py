"""Reads a lexicon file: its tables are decoded, then put together.

The rule: all that is wrong with the file is said before it is used, each fault with its place and a suggestion; what
comes out can be relied upon. What one table says of another is checked in `checks`.
"""

from __future__ import annotations

from collections.abc import Callable
from hashlib import sha256
from typing import Any, TypeVar

import msgspec

from wexicon.core.dialogue import read_dialogue
from wexicon.core.faults import FileFault
from wexicon.core.formats.lexicon.checks import Checks, check_phrase, checked, tuning_of
from wexicon.core.formats.lexicon.extending import extend, nothing_to_extend
from wexicon.core.formats.lexicon.listening import check_stream, read_listening
from wexicon.core.formats.lexicon.model import Action, Lexicon, Setting, SettingGroup
from wexicon.core.formats.lexicon.phrase import makers
from wexicon.core.formats.lexicon.tables import (
    About,
    ActionTable,
    AttentionTable,
    GroupTable,
    Identify,
    LexiconFile,
    Link,
    ListeningTable,
    SettingTable,
    Start,
    Stream,
    TrafficTable,
    Writing,
)
from wexicon.core.formats.lexicon.wiring import Wiring, WiringTable, read_wiring
from wexicon.core.formats.toml import Source, read_kind
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.speech import Speech
from wexicon.core.tuning import Tuning
from wexicon.core.values import UNSET, ValueFault

T = TypeVar("T")
_LARGEST_BLOCK = 1024


def read_lexicon(data: bytes, path: str, find: Callable[[str], bytes] = nothing_to_extend) -> Lexicon:
    """The lexicon in the bytes of a TOML file; `find` gives the bytes of one that it extends. Raises FileFault with every
    complaint."""
    source = Source(data, path)
    extend(source, find)
    speech = source.data.get("speech")
    answer = str(speech.get("answer", "")) if isinstance(speech, dict) else ""
    source.makers = makers((answer.split() or ["lines"])[0])
    return _Reading(source).lexicon()


class _Reading:
    """One reading of one file; complaints gather in the source."""

    def __init__(self, source: Source) -> None:
        self.source = source
        self.data = source.data

    def lexicon(self) -> Lexicon:
        source, data = self.source, self.data
        source.check_top(LexiconFile.__struct_fields__, "no such table")
        if "about" not in data:
            source.complain(("about",), "the table [about] is missing")
        about = self.table("about", About) or About("")
        link = self.table("link", Link) or Link()
        speech = checked(source, self.table("speech", Speech), link)
        start = self.table("start", Start) or Start()
        attention = self.table("attention", AttentionTable) or AttentionTable()
        identify = (self.table("identify", Identify) if "identify" in data else None) or Identify(())
        writing = self.table("writing", Writing) or Writing()
        traffic = self.table("traffic", TrafficTable) if "traffic" in data else None
        stream = self.table("stream", Stream) if "stream" in data else None
        factory = tuning_of(source, ("link",), link.rate, link.frame) or Tuning()
        station = 1 if "select" in self.mapping("attention") else speech.station
        factory = msgspec.structs.replace(factory, station=station)
        events = self.each("events", Pattern, lambda name, pattern: pattern)
        _add_start_words(start, events)
        actions = self.each("action", ActionTable, self.action)
        groups = self.each("group", GroupTable, self.group)
        settings = self.each("setting", SettingTable, lambda name, one: self.setting(name, one, writing, groups))
        wiring = self.wiring()
        lexicon = Lexicon(
            path=source.path,
            digest=sha256(source.text.encode()).hexdigest(),
            about=about,
            factory=factory,
            start=start,
            attention=_completed(attention, wiring),
            dialect=Dialect(speech, events, locked=attention.locked),
            errors={str(code): str(text) for code, text in self.mapping("errors").items()},
            events=events,
            identify=identify.ask,
            must=dict(identify.must),
            unit=identify.unit,
            firmware=identify.firmware if "identify" in data else "",
            groups=groups,
            settings=settings,
            actions=actions,
            order=writing.then,
            flow=link.flow,
            traffic=traffic,
            saves_within=writing.saves_within,
            also=identify.also,
            stream=stream,
            wiring=wiring,
        )
        Checks(source, lexicon).all()
        heard = self.table("listening", ListeningTable) or ListeningTable()
        named = {name: self.mapping(name) for name in ("setting", "action")}
        listening = read_listening(source, heard, self.mapping("decoded"), events, named["setting"], named["action"])
        if stream:
            check_stream(source, stream, named["setting"])
        source.finish()
        return msgspec.structs.replace(lexicon, listening=listening)

    # -- tables -------------------------------------------------------------------------------------------------

    def table(self, name: str, kind: type[T]) -> T | None:
        return self.source.typed(self.data.get(name, {}), kind, (name,))

    def mapping(self, name: str) -> dict[str, object]:
        found = self.data.get(name, {})
        if not isinstance(found, dict):
            self.source.complain((name,), "is not a table")
            return {}
        return found

    def each(self, name: str, kind: type[Any], make: Callable[[str, Any], T | None]) -> dict[str, T]:
        found: dict[str, T] = {}
        for key, data in self.mapping(name).items():
            table = self.source.typed(data, kind, (name, key))
            if table is not None and (made := make(key, table)) is not None:
                found[key] = made
        return found

    # -- parts --------------------------------------------------------------------------------------------------

    def wiring(self) -> Wiring | None:
        table = self.table("wiring", WiringTable) if "wiring" in self.data else None
        return read_wiring(self.source, table) if table else None

    def group(self, name: str, table: GroupTable) -> SettingGroup | None:
        place = ("group", name)
        if not table.read and not table.write:
            self.source.complain(place, "can neither be read nor written")
        if not 0 <= table.size <= _LARGEST_BLOCK:
            self.source.complain((*place, "size"), f"{table.size} is not a number of bytes")
            return None
        for at, byte in table.fixed.items():
            if not 0 <= at < table.size or not 0 <= byte <= 255:
                self.source.complain((*place, "fixed"), f"{at} = {byte} is outside {table.size} bytes")
        for key in ("read", "write"):
            check_phrase(self.source, (*place, key), getattr(table, key))
        return _made_of(table, SettingGroup, name=name)

    def setting(
        self, name: str, table: SettingTable, writing: Writing, groups: dict[str, SettingGroup]
    ) -> Setting | None:
        place = ("setting", name)
        kind = read_kind(self.source, table.value, (*place, "value"))
        if kind is None:
            return None
        factory = UNSET if table.factory == "unset" else table.factory
        if factory not in (None, UNSET):
            try:
                factory = kind.check(factory)
            except ValueFault as fault:
                self.source.complain((*place, "factory"), f"{fault.value!r} {fault.why}", f"allowed: {fault.allowed}")
        then = writing.then if table.then is None else table.then
        group = groups.get(table.group)
        return _made_of(table, Setting, name=name, kind=kind, factory=factory, then=then, in_group=group)

    def action(self, name: str, table: ActionTable) -> Action | None:
        try:
            program = read_dialogue(table.dialogue, f"{self.source.path}: action.{name}")
        except FileFault as fault:
            for complaint in fault.complaints:
                self.source.complain(("action", name), f"{complaint.what}: {complaint.source.strip()}", complaint.hint)
            return None
        ends = table.ends_attention or (table.restarts and self.mapping("attention").get("how", "always") != "always")
        return _made_of(table, Action, name=name, program=program, ends_attention=ends)


def _made_of(table: msgspec.Struct, shape: type[T], **more: object) -> T:
    """What a table says, with what was made of it."""
    return shape(**{key: getattr(table, key) for key in table.__struct_fields__} | more)


def _completed(attention: AttentionTable, wiring: Wiring | None) -> AttentionTable:
    """A window is one after power-up. The operator's instructions end with what the lamps mean."""
    lamps = f" {wiring.lamps_told()}" if wiring and wiring.lamps and attention.operator else ""
    power_up = attention.power_up or bool(attention.window)
    return msgspec.structs.replace(attention, operator=attention.operator + lamps, power_up=power_up)


def _add_start_words(start: Start, events: dict[str, Pattern]) -> None:
    """A module's ready word is an event, never the answer to a pending command."""
    known = {pattern.source for pattern in events.values()}
    for number, text in enumerate(start.says):
        literal = text.replace("{", "{{").replace("}", "}}").replace("...", "{...}")
        if literal not in known:
            events.setdefault(f"start {number + 1}" if number else "start", Pattern(literal))
    if start.ready is not None and start.ready.source not in known:
        events.setdefault("ready", start.ready)
