"""A lexicon: how one family of modules speaks, what it can be told, and what it answers.

The rule: all that is wrong with the file is said before it is used, each fault with its place; what comes out can be
relied upon. The shapes that the file has are the records below, field for field.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import msgspec

from wexicon.core.dialogue import Program, read_dialogue
from wexicon.core.durations import seconds
from wexicon.core.exchange import Expectation, Want
from wexicon.core.faults import FileFault
from wexicon.core.insertion import Template
from wexicon.core.patterns import Pattern
from wexicon.core.speech import Speech
from wexicon.core.text import meant, nearest
from wexicon.core.toml import Source
from wexicon.core.tuning import Tuning
from wexicon.core.values import AnyKind, Value, ValueFault, known_rates

FORMAT = 1
HOWS = ("always", "held-key", "escape", "control-line")
MOVES = ("at-once", "save", "restart", "leave")


class About(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[about]`: whose words these are."""

    family: str
    maker: str = ""
    radio: str = ""
    note: str = ""


class Delivered(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[link]`: rate and frame as delivered, in data mode."""

    rate: int = 9600
    frame: str = "8N1"


class SayHear(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A line to say and what answers it: one pattern, several, or none for the success word alone."""

    say: str
    hear: str | tuple[str, ...] = ()
    within: str = ""


class AttentionTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[attention]`: how the module is brought to listen. `probe` is a harmless line that is answered when it does;
    `whole` one that is answered only when it listens to everything."""

    how: str = "always"
    rate: int | None = None
    frame: str = "8N1"
    operator: str = ""
    probe: SayHear = SayHear("AT")
    whole: SayHear | None = None
    escape: str = "+++"
    guard: str = "1s"
    signal: dict[str, bool] = {}
    starts_in: str = "0s"


class Identify(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[identify]`: questions whose captures tell the module; `expect` is what they must give, `unit` the capture that
    no two modules share."""

    ask: tuple[SayHear, ...]
    expect: dict[str, str] = {}
    unit: str = ""


class Writing(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[writing]`: the actions that a written setting needs before it is kept, unless the setting says otherwise."""

    then: tuple[str, ...] = ()


class SettingTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[setting.NAME]`. `moves_link` says when our side must follow; `needs` what other settings must be first;
    `then` the actions that it needs to be kept."""

    value: AnyKind
    meaning: str = ""
    read: SayHear | None = None
    write: SayHear | None = None
    moves_link: str = ""
    needs: dict[str, Any] = {}
    then: tuple[str, ...] | None = None
    secret: bool = False


class ActionTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[action.NAME]`: what the module does, as a dialogue. `ends_attention` where it listens no more afterwards."""

    dialogue: str
    meaning: str = ""
    needs_attention: bool = True
    ends_attention: bool = False


@dataclass(frozen=True)
class Phrase:
    """A line to say with its values, what must answer it, and the seconds that the answer may take (None: as usual)."""

    say: Template
    expect: Expectation
    within: float | None


@dataclass(frozen=True)
class Attention:
    """How the module is brought to listen; `tuning` where command mode has its own rate."""

    how: str
    tuning: Tuning | None
    operator: str
    probe: Phrase
    whole: Phrase | None
    escape: str
    guard: float
    signal: dict[str, bool]
    starts_in: float


@dataclass(frozen=True)
class Setting:
    """A named thing that a module keeps."""

    name: str
    meaning: str
    kind: AnyKind
    read: Phrase | None
    write: Phrase | None
    moves_link: str
    needs: dict[str, Value]
    then: tuple[str, ...]
    secret: bool

    def show(self, value: Value | None) -> str:
        """The value as a person reads it; a secret only as being there."""
        if value is None:
            return ""
        return "(secret)" if self.secret else self.kind.show(value)


@dataclass(frozen=True)
class Action:
    """A named thing that a module does."""

    name: str
    meaning: str
    program: Program
    ends_attention: bool


@dataclass(frozen=True)
class Lexicon:
    """All of a lexicon file, checked."""

    path: str
    about: About
    delivered: Tuning
    attention: Attention
    speech: Speech
    errors: dict[str, str]
    events: dict[str, Pattern]
    identify: tuple[Phrase, ...]
    expect: dict[str, str]
    unit: str
    settings: dict[str, Setting]
    actions: dict[str, Action]
    order: tuple[str, ...] = field(default=())

    def rates(self) -> list[int]:
        """Every rate that the module can have, the delivered one first."""
        found = [self.delivered.rate]
        for setting in self.settings.values():
            found += [rate for rate in known_rates(setting.kind) if rate not in found]
        return found

    def setting(self, name: str) -> Setting:
        """The setting called `name`; raises KeyError with a suggestion."""
        if name not in self.settings:
            raise KeyError(meant(name, self.settings))
        return self.settings[name]


_TABLES = (
    "format",
    "about",
    "link",
    "attention",
    "speech",
    "errors",
    "events",
    "identify",
    "writing",
    "setting",
    "action",
)


def read_lexicon(data: bytes, path: str) -> Lexicon:
    """The lexicon in the bytes of a TOML file. Raises FileFault with every complaint."""
    return _Reading(Source(data, path)).lexicon()


class _Reading:
    """One reading of one file; complaints gather in the source."""

    def __init__(self, source: Source) -> None:
        self.source = source
        self.data = source.data

    def lexicon(self) -> Lexicon:
        source, data = self.source, self.data
        for key in data:
            if key not in _TABLES:
                source.complain((key,), "no such table", meant(key, _TABLES))
        if data.get("format") != FORMAT:
            source.complain(("format",), f"format = {FORMAT} is missing", "this Wexicon reads format 1")
        about = self.table("about", About, required=True)
        delivered = self.table("link", Delivered)
        attention = self.table("attention", AttentionTable)
        speech = self.table("speech", Speech)
        identify = self.table("identify", Identify) if "identify" in data else None
        writing = self.table("writing", Writing) or Writing()
        for key, what in speech.faults() if speech else ():
            source.complain(("speech", key), what)
        actions = {name: made for name, made in self.each("action", ActionTable, self.action) if made}
        settings = {
            name: made
            for name, made in self.each("setting", SettingTable, lambda n, t: self.setting(n, t, writing, actions))
            if made
        }
        for name, setting in settings.items():
            self.check_needs(name, setting, settings)
        errors = {str(code): str(text) for code, text in self.mapping("errors").items()}
        events = {
            name: made
            for name, text in self.mapping("events").items()
            if (made := self.pattern(("events", name), text))
        }
        tuning = self.tuning(("link",), delivered.rate, delivered.frame) if delivered else None
        listens = self.attention(attention) if attention else None
        asked = tuple(self.phrase(("identify", "ask"), ask) for ask in identify.ask) if identify else ()
        source.finish()
        assert about and tuning and speech and listens
        return Lexicon(
            path=source.path,
            about=about,
            delivered=tuning,
            attention=listens,
            speech=speech,
            errors=errors,
            events=events,
            identify=tuple(phrase for phrase in asked if phrase),
            expect=dict(identify.expect) if identify else {},
            unit=identify.unit if identify else "",
            settings=settings,
            actions=actions,
            order=writing.then,
        )

    # -- tables -------------------------------------------------------------------------------------------------

    def table(self, name: str, kind: type[Any], *, required: bool = False) -> Any:
        if required and name not in self.data:
            self.source.complain((name,), f"the table [{name}] is missing")
            return None
        return self.source.record(self.data.get(name, {}), kind, (name,))

    def mapping(self, name: str) -> dict[str, Any]:
        found = self.data.get(name, {})
        if not isinstance(found, dict):
            self.source.complain((name,), "is not a table")
            return {}
        return found

    def each(self, name: str, kind: type[Any], make: Any) -> list[tuple[str, Any]]:
        made = []
        for key, data in self.mapping(name).items():
            table = self.source.record(data, kind, (name, key))
            made.append((key, make(key, table) if table else None))
        return made

    # -- parts --------------------------------------------------------------------------------------------------

    def pattern(self, place: tuple[str, ...], text: Any) -> Pattern | None:
        if not isinstance(text, str):
            self.source.complain(place, "is not text")
            return None
        try:
            return Pattern(text)
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
            return seconds(text)
        except ValueError as fault:
            self.source.complain(place, str(fault))
            return 0.0

    def word(self, place: tuple[str, ...], word: str, known: tuple[str, ...]) -> None:
        if word not in known:
            close = nearest(word, known)
            self.source.complain(
                place, f"{word!r} is none of {', '.join(known)}", f"did you mean {close}?" if close else ""
            )

    def phrase(self, place: tuple[str, ...], table: SayHear | None) -> Phrase | None:
        if table is None:
            return None
        hear = (table.hear,) if isinstance(table.hear, str) else table.hear
        patterns = [self.pattern((*place, "hear"), text) for text in hear if text]
        within = self.duration((*place, "within"), table.within) if table.within else None
        try:
            say = Template(table.say)
        except ValueError as fault:
            self.source.complain((*place, "say"), f"{table.say!r}: {fault}", getattr(fault, "hint", ""))
            return None
        wants = tuple(Want(pattern) for pattern in patterns if pattern)
        return Phrase(say, Expectation(wants, silent=hear == ("",)), within)

    def attention(self, table: AttentionTable) -> Attention | None:
        place = ("attention",)
        self.word((*place, "how"), table.how, HOWS)
        if table.how == "held-key" and not table.operator:
            self.source.complain((*place, "operator"), "is missing", "say what the operator does to get its attention")
        tuning = self.tuning(place, table.rate, table.frame) if table.rate is not None else None
        probe = self.phrase((*place, "probe"), table.probe)
        if not probe:
            return None
        return Attention(
            table.how,
            tuning,
            table.operator,
            probe,
            self.phrase((*place, "whole"), table.whole),
            table.escape,
            self.duration((*place, "guard"), table.guard),
            table.signal,
            self.duration((*place, "starts_in"), table.starts_in),
        )

    def setting(self, name: str, table: SettingTable, writing: Writing, actions: dict[str, Action]) -> Setting:
        place = ("setting", name)
        if table.moves_link:
            self.word((*place, "moves_link"), table.moves_link, MOVES)
        read, write = self.phrase((*place, "read"), table.read), self.phrase((*place, "write"), table.write)
        if read and not any("value" in want.pattern.names for want in read.expect.wants):
            self.source.complain((*place, "read"), "hears no {value}", 'write hear = "+NAME {value}"')
        if write and "value" not in write.say.names:
            self.source.complain((*place, "write"), "says no {value}", 'write say = "AT+NAME={value}"')
        if not read and not write:
            self.source.complain(place, "can neither be read nor written")
        then = writing.then if table.then is None else table.then
        for action in then:
            if action not in self.mapping("action"):
                self.source.complain((*place, "then"), f"there is no action {action}", meant(action, actions))
        return Setting(name, table.meaning, table.value, read, write, table.moves_link, table.needs, then, table.secret)

    def check_needs(self, name: str, setting: Setting, settings: dict[str, Setting]) -> None:
        for other, value in setting.needs.items():
            place = ("setting", name, "needs")
            if other not in settings:
                self.source.complain(place, f"there is no setting {other}", meant(other, settings))
                continue
            try:
                setting.needs[other] = settings[other].kind.check(value)
            except ValueFault as fault:
                self.source.complain(place, str(fault))

    def action(self, name: str, table: ActionTable) -> Action | None:
        try:
            program = read_dialogue(table.dialogue, f"{self.source.path}: action.{name}")
        except FileFault as fault:
            for complaint in fault.complaints:
                self.source.complain(("action", name), f"{complaint.what}: {complaint.source.strip()}", complaint.hint)
            return None
        return Action(name, table.meaning, program, table.ends_attention)
