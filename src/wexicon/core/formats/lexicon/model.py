"""A lexicon once it has been read and checked: what all above rely upon.

The rule: nothing here can be wrong any more; patterns and templates are compiled, references lead somewhere.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from decimal import Decimal

import msgspec

from wexicon.core.dialogue import Program
from wexicon.core.formats.lexicon.listening import Listening
from wexicon.core.formats.lexicon.phrase import Phrase
from wexicon.core.formats.lexicon.tables import (
    About,
    ActionTable,
    AttentionTable,
    GroupTable,
    SettingTable,
    Start,
    Stream,
    TrafficTable,
)
from wexicon.core.formats.lexicon.wiring import Wiring
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.insertion import Template
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.speech import Speech
from wexicon.core.text import meant
from wexicon.core.tuning import Tuning
from wexicon.core.values import UNSET, Hex, Kind, List, StationKind, Value


class SettingGroup(GroupTable, frozen=True):
    """Settings read or written together. `told`: the values of members in an answer that says that none is set;
    `lines`: the lines for single values of members."""

    name: str = ""
    told: dict[str, Value] = msgspec.field(default_factory=dict)
    lines: list[tuple[str, Value, Template]] = msgspec.field(default_factory=list)

    def line_for(self, values: Mapping[str, Value]) -> Template | None:
        """The line of a case that these values are; None if there is none."""
        return next((line for name, value, line in self.lines if values.get(name) == value), None)

    def tells(self, name: str) -> bool:
        """Whether its answer tells a setting: a block tells all, fields those that are captured."""
        if not self.read:
            return False
        return bool(self.size) or any(name in want.pattern.names for want in self.read.expect.wants)


class Setting(SettingTable, frozen=True, kw_only=True):
    """A named thing that a module keeps: what its table says, and what was made of that. `then` has the actions of `[writing]`
    where it has none of its own; `factory` and `needs` are plain values. `by_origin`: secret because of where its wanted value
    comes from; what the module had before is hidden, and no secret elsewhere."""

    name: str
    kind: Kind
    in_group: SettingGroup | None = None
    then: tuple[str, ...] = ()
    by_origin: bool = False

    @property
    def read(self) -> Phrase | None:
        """The question that reads it by itself."""
        return None if self.reads == "link" else self.reads

    @property
    def from_link(self) -> bool:
        """Whether it cannot be asked, and is known from the link's own rate and frame."""
        return self.reads == "link"

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
        return abs(Decimal(str(found)) - Decimal(str(wanted))) <= Decimal(str(self.tolerance))

    @property
    def readable(self) -> bool:
        """Whether it can be read, by itself or with its group."""
        return not self.shows and bool(
            self.read or self.from_link or (self.in_group and self.in_group.tells(self.name))
        )

    @property
    def writable(self) -> bool:
        """Whether it can be written, by itself or with its group."""
        return bool(self.write or self.add or (self.in_group and self.in_group.write))

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
        phrases = [self.read, self.in_group.read if self.in_group else None]
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


class Action(ActionTable, frozen=True, kw_only=True):
    """A named thing that a module does; `program` is its dialogue."""

    name: str
    program: Program


class Lexicon(msgspec.Struct, frozen=True):
    """All of a lexicon file, checked."""

    path: str
    digest: str
    about: About
    factory: Tuning
    start: Start
    attention: AttentionTable
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

    def with_tolerance(self, name: str, tolerance: float) -> Lexicon:
        """The same, where a setting may differ by this much when it is read back."""
        setting = msgspec.structs.replace(self.settings[name], tolerance=tolerance)
        return msgspec.structs.replace(self, settings={**self.settings, name: setting})

    def secret_lines(self) -> Iterator[tuple[Pattern, list[str]]]:
        """The lines in which a module tells a secret setting, each with the names of its captures that are secret."""
        for setting in self.settings.values():
            if setting.secret and not setting.by_origin:
                phrases = [setting.read, setting.write] if setting.read or setting.write else []
                names = ["value"]
                if setting.in_group:
                    phrases, names = [*phrases, setting.in_group.read], [*names, setting.name]
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
