"""A lexicon once it has been read and checked: what all above rely upon.

The rule: nothing here can be wrong any more; patterns and templates are compiled, references lead somewhere.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from decimal import Decimal

import msgspec

from wexicon.core.dialogue import Program
from wexicon.core.formats.lexicon.listening import Listening, Stream
from wexicon.core.formats.lexicon.tables import About, AttentionBy, BitField, Moves, TrafficTable
from wexicon.core.formats.lexicon.wiring import Wiring
from wexicon.core.protocol.dialect import OK, Dialect, Expectation
from wexicon.core.protocol.insertion import Template
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.speech import Speech
from wexicon.core.text import meant
from wexicon.core.tuning import Tuning
from wexicon.core.values import UNSET, Hex, Kind, List, StationKind, Value


class Phrase(msgspec.Struct, frozen=True):
    """A line to say with its values, what must answer it, and the seconds that the answer may take (None: as usual); `cases`
    are other lines for single values, by the value in words. With a `payload` the line brings a prompt first, as `prompted`
    says; the payload is said exactly, and `expect` answers it."""

    say: Template
    expect: Expectation
    within: float | None
    cases: dict[str, Template] = {}
    payload: Template | None = None
    prompted: Expectation = OK

    @property
    def tells_unset(self) -> bool:
        """Whether it may be answered that there is nothing to tell."""
        return self.expect.bare or any(want.unset is not None for want in self.expect.wants)

    def line_for(self, value: Value) -> Template:
        """The line that says this value."""
        return self.cases.get(case_of(value), self.say)


def case_of(value: Value) -> str:
    """A value as `cases` call it."""
    return str(value).lower() if isinstance(value, bool) else str(value)


class Start(msgspec.Struct, frozen=True):
    """What the module sends when it starts; `tuning` where that is not at its own rate; seconds until it listens; the setting
    whose unsaved change shows a start, and whether a restart loads the saved values."""

    tuning: Tuning | None
    says: tuple[str, ...]
    ready: Pattern | None
    within: float
    witness: str = ""
    restart_reloads: bool = False


class AttentionWays(msgspec.Struct, frozen=True):
    """How the module is brought to listen; see AttentionTable. Durations are seconds, 0 where there is none."""

    how: AttentionBy
    tuning: Tuning | None
    operator: str
    probe: Phrase
    whole: Phrase | None
    key: str
    power: str
    hold: float
    escape: str
    answer: Expectation
    guard: float
    window: float
    pins: dict[str, bool]
    data_pins: dict[str, bool]
    lasts: float
    ends_on: str
    power_up: bool
    unlock: str = ""
    locked: tuple[str, ...] = ()
    select: Phrase | None = None
    stations: int = 1
    wake: str = ""
    wakes_within: float = 0.0

    @property
    def escape_opens(self) -> bool:
        """Whether an escape brings it to listen at any time."""
        return self.how is AttentionBy.ESCAPE and not self.window


class SettingGroup(msgspec.Struct, frozen=True):
    """Settings read or written together. `size` bytes where they are packed in a block."""

    name: str
    read: Phrase | None
    write: Phrase | None
    size: int
    checksum: str
    fixed: dict[int, int]
    # What an answer that none is set tells of members all the same; lines for single values of members.
    unset_tells: dict[str, Value] = msgspec.field(default_factory=dict)
    cases: list[tuple[str, Value, Template]] = msgspec.field(default_factory=list)

    def line_for(self, values: Mapping[str, Value]) -> Template | None:
        """The line of a case that these values are; None if there is none."""
        return next((line for name, value, line in self.cases if values.get(name) == value), None)

    def tells(self, name: str) -> bool:
        """Whether its answer tells a setting: a block tells all, fields those that are captured."""
        if not self.read:
            return False
        return bool(self.size) or any(name in want.pattern.names for want in self.read.expect.wants)


class Setting(msgspec.Struct, frozen=True):
    """A named thing that a module keeps."""

    name: str
    meaning: str
    kind: Kind
    read: Phrase | None
    write: Phrase | None
    moves_link: Moves
    needs: dict[str, Value]
    then: tuple[str, ...]
    secret: bool
    since: str
    before: str
    appends: Template | None
    group: SettingGroup | None
    place: BitField | None
    granted: Phrase | None
    from_link: bool
    volatile: bool
    granted_by: str = ""
    moves_after: float = 0.0
    settles: float = 0.0
    unset: str | None = None
    # None where the lexicon does not tell it.
    factory: Value | None = None
    # Secret because of where its wanted value comes from: what the module had before is hidden, and no secret elsewhere.
    by_origin: bool = False
    # By how much a number may differ when it is read back.
    tolerance: Decimal | None = None
    # The name of the value in the event that reports what was granted.
    granted_as: str = "value"
    # The lines that put one item into a list and take it out, and the number of its first place.
    add: Phrase | None = None
    remove: Phrase | None = None
    first_index: int = 1
    # How many characters of a value are answered for it, from its end if below 0; 0: all.
    shows: int = 0

    def shown_right(self, part: str, wanted: Value) -> bool:
        """Whether the part of a value that is answered is that of the wanted one."""
        whole = self.kind.encode(wanted)
        ways = (whole, whole[self.shows :] if self.shows < 0 else whole[: self.shows])
        return part.upper() in [one.upper() for one in ways] if isinstance(self.kind, Hex) else part in ways

    def matches(self, found: Value | None, wanted: Value | None) -> bool:
        """Whether a value that was read is the one that was wanted: the same, or within the tolerance."""
        if found is None or found == wanted:
            return found == wanted
        if isinstance(self.kind, List) and UNSET not in (found, wanted) and wanted is not None:
            return self.kind.fits(found, wanted)
        if self.tolerance is None or not (_is_number(found) and _is_number(wanted)):
            return False
        return abs(Decimal(str(found)) - Decimal(str(wanted))) <= self.tolerance

    @property
    def readable(self) -> bool:
        """Whether it can be read, by itself or with its group."""
        return not self.shows and bool(self.read or self.from_link or (self.group and self.group.tells(self.name)))

    @property
    def writable(self) -> bool:
        """Whether it can be written, by itself or with its group."""
        return bool(self.write or self.add or (self.group and self.group.write))

    def show(self, value: Value | None) -> str:
        """The value as a person reads it; a secret only as being there."""
        if value is None:
            return ""
        if self.secret:
            return "(secret)"
        if value is UNSET:
            return "unset"
        # An empty value, or one that begins or ends with a blank, is shown in quotes to be visible.
        bare = isinstance(value, str) and value == value.strip() != ""
        return self.kind.show(value) if bare or not isinstance(value, str) else f'"{self.kind.show(value)}"'

    def may_be_unset(self) -> bool:
        """Whether it can be not set at all."""
        phrases = [self.read, self.group.read if self.group else None]
        told = self.unset is not None or any(one is not None and one.tells_unset for one in phrases)
        return told or bool(self.write and "unset" in self.write.cases)

    def check(self, value: object) -> Value:
        """The plain form of a value, `unset` among them where that can be; raises ValueFault."""
        return UNSET if value in (UNSET, "unset") and self.may_be_unset() else self.kind.check(value)

    def typed(self, text: str) -> Value:
        """The plain form of a value as a person types it; raises ValueFault."""
        return UNSET if text == "unset" and self.may_be_unset() else self.kind.typed(text)

    def there(self, firmware: str) -> bool:
        """Whether this firmware has the setting."""
        have = version(firmware)
        return not (self.since and have < version(self.since)) and not (self.before and have >= version(self.before))


def _is_number(value: Value | None) -> bool:
    return isinstance(value, (int, Decimal)) and not isinstance(value, bool)


class Action(msgspec.Struct, frozen=True):
    """A named thing that a module does."""

    name: str
    meaning: str
    program: Program
    needs_attention: bool
    ends_attention: bool
    restarts: bool
    resets: bool
    settles: float = 0.0
    loads: bool = False


class Lexicon(msgspec.Struct, frozen=True):
    """All of a lexicon file, checked."""

    path: str
    digest: str
    about: About
    factory: Tuning
    start: Start
    attention: AttentionWays
    dialect: Dialect
    errors: dict[str, str]
    events: dict[str, Pattern]
    identify: tuple[Phrase, ...]
    must: dict[str, str]
    unit: str
    firmware: str
    groups: dict[str, SettingGroup]
    settings: dict[str, Setting]
    actions: dict[str, Action]
    order: tuple[str, ...] = ()
    flow: str = "none"
    traffic: TrafficTable | None = None
    # Seconds that saving may go on after it was acknowledged.
    saves_within: float = 0.0
    # Questions about what is in the module or around it, such as its SIM.
    also: tuple[Phrase, ...] = ()
    listening: Listening = Listening()
    stream: Stream | None = None
    wiring: Wiring | None = None

    def restart(self) -> str:
        """The action that has the module start again; empty where it has none."""
        return next((action.name for action in self.actions.values() if action.restarts and not action.resets), "")

    @property
    def speech(self) -> Speech:
        """The `[speech]` table."""
        return self.dialect.speech

    def rates(self) -> list[int]:
        """Every rate that the module can have, the factory default first."""
        found = [self.factory.rate]
        for setting in self.settings.values():
            found += [rate for rate in setting.kind.rates() if rate not in found]
        return found

    def stations(self) -> range:
        """Every number that the module can have among those that share its line; empty if it has none."""
        kinds = [setting.kind for setting in self.settings.values() if isinstance(setting.kind, StationKind)]
        return kinds[0].stations() if kinds else range(0)

    def frames(self) -> list[str]:
        """Every frame that the module can have besides the factory default."""
        found = [frame for setting in self.settings.values() for frame in setting.kind.frames()]
        return [frame for frame in dict.fromkeys(found) if frame != self.factory.frame]

    def saves(self, setting: Setting) -> list[str]:
        """The actions that make a setting persist, but for a restart."""
        return [name for name in setting.then if not self.actions[name].restarts]

    def may_be_witness(self, setting: Setting) -> str:
        """Why an unsaved change of a setting cannot show a start; empty if it can."""
        if not (setting.read and setting.write):
            return "cannot be both read and written by itself"
        if setting.secret or setting.volatile or setting.moves_link:
            return "is secret, volatile, or moves the link"
        if not self.saves(setting):
            return "persists without being saved"
        return ""

    def start_texts(self) -> list[bytes]:
        """What the module may send when it starts, with the line ends that it may have: at another rate each of them
        shifts all that follows."""
        return [(before + text + "\r\n").encode() for text in self.start.says for before in ("", "\r\n")]

    def with_secret(self, name: str) -> Lexicon:
        """The same, where this setting is a secret."""
        setting = self.settings[name]
        setting = msgspec.structs.replace(setting, secret=True, by_origin=not setting.secret)
        return msgspec.structs.replace(self, settings={**self.settings, name: setting})

    def with_tolerance(self, name: str, tolerance: Decimal) -> Lexicon:
        """The same, where a setting may differ by this much when it is read back."""
        setting = msgspec.structs.replace(self.settings[name], tolerance=tolerance)
        return msgspec.structs.replace(self, settings={**self.settings, name: setting})

    def secret_lines(self) -> Iterator[tuple[Pattern, list[str]]]:
        """The lines in which a module tells a secret setting, each with the names of its captures that are secret."""
        for setting in self.settings.values():
            if setting.secret and not setting.by_origin:
                phrases = [setting.read, setting.write] if setting.read or setting.write else []
                names = ["value"]
                if setting.group:
                    phrases, names = [*phrases, setting.group.read], [*names, setting.name]
                for phrase in phrases:
                    for want in phrase.expect.wants if phrase else ():
                        yield want.pattern, names

    def unmet(self, wanted: Mapping[str, Value]) -> Iterator[tuple[str, str, Value, Value]]:
        """Settings among these values that need another to be something else than it is there: the setting, the other, what
        that must be, what it is."""
        for key, value in wanted.items():
            # What is not set needs nothing.
            for other, needed in self.settings[key].needs.items() if value is not UNSET else ():
                if other in wanted and wanted[other] != needed:
                    yield key, other, needed, wanted[other]

    def unit_of(self, identity: Mapping[str, str], otherwise: str = "") -> str:
        """Which module it is, by its family and what it says of itself; where its family does not tell one from the other, by
        what is known `otherwise`, or empty."""
        own = identity.get(self.unit) or otherwise
        return f"{self.about.family} {own}" if own else ""

    def setting(self, name: str) -> Setting:
        """The setting called `name`; raises KeyError with a suggestion."""
        if name not in self.settings:
            raise KeyError(meant(name, self.settings))
        return self.settings[name]


def version(text: str) -> tuple[int, ...]:
    """A version as numbers, for comparing."""
    return tuple(int(number) for number in re.findall(r"\d{1,9}", text))
