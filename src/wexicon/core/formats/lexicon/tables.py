"""The tables of a lexicon file, field for field; `lexicon schema` prints them for editors.

The rule: a key stands here, or in `phrase`, or it is a fault. What a key means is in its table's docstring, and
with an example in docs/lexicon.md.
"""

from __future__ import annotations

from enum import StrEnum
from functools import cached_property
from typing import Any, Literal

import msgspec

from wexicon.core.formats.lexicon.phrase import Duration, Granted, Part, Phrase
from wexicon.core.formats.lexicon.wiring import WiringTable
from wexicon.core.protocol.dialect import Closing, Expectation, Want
from wexicon.core.protocol.insertion import Template
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.speech import Speech
from wexicon.core.tuning import Tuning


class AttentionBy(StrEnum):
    """How a module is brought to listen to commands."""

    ALWAYS = "always"
    HELD_KEY = "held-key"
    ESCAPE = "escape"
    CONTROL_LINE = "control-line"


class Moves(StrEnum):
    """When the link moves because of a setting; NEVER for most."""

    NEVER = ""
    AT_ONCE = "at-once"
    SAVE = "save"
    RESTART = "restart"
    LEAVE = "leave"


class About(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[about]`: the module family."""

    family: str
    maker: str = ""
    radio: str = ""
    note: str = ""


class Link(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[link]`: rate and frame, factory default, in data mode; `flow` is the flow control that it wants (none, rts-cts,
    xon-xoff)."""

    rate: int = 9600
    frame: str = "8N1"
    flow: str = "none"


class Start(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[start]`: what the module sends when it starts, and `rate` if not at its own rate. `ready` is the word after which
    it listens; `within` how long that may take. `says` also tells, by its garbage, at which rate a module speaks. `witness`
    is a setting whose unsaved change does no harm: it is changed before a restart, and must be as it was afterwards.
    `restart_reloads`: a restart loads the saved values, as a power cycle does."""

    rate: int | None = None
    says: tuple[str, ...] = ()
    ready: Pattern | None = None
    within: Duration = msgspec.field(default_factory=Duration)
    witness: str = ""
    restart_reloads: bool = False


class AttentionTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, dict=True):
    """`[attention]`: how to enter command mode.

    `rate` where command mode has its own; `operator` what to tell the person; `probe` a harmless line that is answered when
    it listens, `whole` one that is answered only when it listens to everything. For held keys: `key` and `power` are
    the pins of a fixture, `hold` how long. For escapes: `escape` is said with `guard` of silence around it and
    answered by `answer`; `window` is how long after power-up it is heard. For pins: `pins` as they stand for command mode,
    `data_pins` for data mode. `lasts`: it stops listening after this time without a command. `ends_on`: the event
    after which it passes everything through as data. `until_joined`: it listens only while no peer is connected, whether it
    tells of one or not. `power_up`: it can only be brought to listen as it gets power.
    `unlock`: an action that is done each time it has been brought to listen, before anything is asked (a SIM's PIN).
    `locked`: what it sends with no line end while it asks for a login; then `unlock` is done only if the probe is answered
    so.
    `select` chooses the {station} that is spoken to from then on, of several (1 to `stations`) behind the same port.
    `wake`: the bytes that wake a module which sleeps (`"\\r"`), sent only if the probe is not answered; it listens
    `wakes_within` after them.
    """

    how: AttentionBy = AttentionBy.ALWAYS
    rate: int | None = None
    frame: str = "8N1"
    operator: str = ""
    probe: Phrase = msgspec.field(default_factory=lambda: Phrase(Template("AT")))
    whole: Phrase | None = None
    key: str = "key"
    power: str = "power"
    hold: Duration = msgspec.field(default_factory=lambda: Duration(1))
    escape: str = "+++"
    answer: Pattern | None = None
    guard: Duration = msgspec.field(default_factory=Duration)
    window: Duration = msgspec.field(default_factory=Duration)
    pins: dict[str, bool] = msgspec.field(default_factory=dict)
    data_pins: dict[str, bool] = msgspec.field(default_factory=dict)
    lasts: Duration = msgspec.field(default_factory=Duration)
    ends_on: str = ""
    until_joined: bool = False
    power_up: bool = False
    unlock: str = ""
    locked: tuple[str, ...] = ()
    select: Phrase | None = None
    stations: int = 1
    wake: str = ""
    wakes_within: Duration = msgspec.field(default_factory=lambda: Duration(0.1))

    @cached_property
    def tuning(self) -> Tuning | None:
        """Rate and frame of command mode, where it has its own."""
        return None if self.rate is None else Tuning.of(self.rate, self.frame)

    @cached_property
    def answered(self) -> Expectation:
        """What answers the escape."""
        return Expectation((Want(self.answer),) if self.answer else (), closing=Closing.ALONE)

    @property
    def passes_on(self) -> bool:
        """Whether it passes everything on, commands too, while a peer is connected."""
        return self.until_joined or bool(self.ends_on)

    @property
    def escape_opens(self) -> bool:
        """Whether an escape brings it to listen at any time."""
        return self.how is AttentionBy.ESCAPE and not self.window


class Identify(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[identify]`: questions whose captures tell the module; `must` is what they have to give, `unit` the capture that
    no two modules share, `firmware` the one that `since` and `before` are compared with. `also` are questions about what is
    in or around the module (its SIM, its addresses): one that it refuses is left out, and another answer is no other module."""

    ask: tuple[Phrase, ...]
    also: tuple[Phrase, ...] = ()
    must: dict[str, str] = msgspec.field(default_factory=dict)
    unit: str = ""
    firmware: str = "firmware"


class Writing(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[writing]`: the actions that a written setting needs to persist, unless the setting says otherwise; `saves_within` how
    long these may take after they were acknowledged."""

    then: tuple[str, ...] = ()
    saves_within: Duration = msgspec.field(default_factory=Duration)


class BitField(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Where a packed setting is in its block: `bits` bits from byte `byte` on (from 0), whose lowest bit is `low`
    bits above the lowest of the last byte; several bytes have the highest first."""

    byte: int
    bits: int = 8
    low: int = 0


class GroupTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[group.NAME]`: settings that are read from one answer, written together in one command, or both. The captures and
    insertions are called as the settings are. A block of packed bytes is captured and said as {block}: `size` is its bytes,
    `checksum` (sum, xor) its last byte, `fixed` bytes that must be as they are."""

    read: Phrase | None = None
    write: Phrase | None = None
    size: int = 0
    checksum: Literal["", "sum", "xor"] = ""
    fixed: dict[int, int] = msgspec.field(default_factory=dict)


class SettingTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[setting.NAME]`: one setting. `value` is its kind with the limits of that kind, `read` the question that reads it
    (`{value}` in the answer), `write` the line that writes it (`{value}` in the line); without `read` it cannot be read,
    without `write` it cannot be written. A `secret` value is masked everywhere. `moves_link`: when our side must follow;
    `moves_after`: how long after that the link moves; `settles`: how long after a write the module needs before the next
    command. `needs`: values that other settings must have first. `then`: the actions after which it persists. `since` and
    `before`: the firmware versions that have it. `appends`: what the module adds to the value by itself. `read = "link"`: a
    rate or frame that cannot be queried; it is known from the link. `volatile`: lost when the power is cut. `group`: the group
    that it is read or written with; `place`: its bits there; `unset`: the text that stands for "not set". `factory`: the
    factory default. `granted`: the question, or the event, that reports what the network granted. `tolerance`: by how much a
    number may differ when it is read back, because the module rounds or lowers it; the result has the value read. `shows`:
    the part of a value that is answered for it, `first 2` or `last 4` characters: it is compared as far as that. `add` and
    `remove` are the lines that put one {value} into a list and take it out; with {index} the list has numbered places, from
    `first_index` on. `also_changes`: other settings that the module changes with it. `varies`: the module changes it by itself
    (a counter, a clock, a timer that a network grants): another value than before is no side effect."""

    value: dict[str, object]
    meaning: str = ""
    reads: Phrase | Literal["link"] | None = msgspec.field(name="read", default=None)
    write: Phrase | None = None
    moves_link: Moves = Moves.NEVER
    needs: dict[str, Any] = msgspec.field(default_factory=dict)
    then: tuple[str, ...] | None = None
    secret: bool = False
    since: str = ""
    before: str = ""
    appends: Template | None = None
    group: str = ""
    place: BitField | None = None
    granted: Granted | None = None
    volatile: bool = False
    moves_after: Duration = msgspec.field(default_factory=Duration)
    settles: Duration = msgspec.field(default_factory=Duration)
    unset: str | None = None
    factory: Any = None
    tolerance: float | None = None
    shows: Part = msgspec.field(default_factory=Part)
    add: Phrase | None = None
    remove: Phrase | None = None
    first_index: int = 1
    also_changes: tuple[str, ...] = ()
    varies: bool = False


class ActionTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[action.NAME]`: what the module does, as a dialogue. `needs_attention`: it must listen for this, and
    command mode is entered again where it timed out; `ends_attention` where command mode ends with it, `restarts` where it
    starts again, `resets` where it goes back to its factory defaults, `loads` where it gets another firmware image: then
    identity and settings are read again. `settles` is how long it needs afterwards before it listens."""

    dialogue: str
    meaning: str = ""
    needs_attention: bool = True
    ends_attention: bool = False
    restarts: bool = False
    resets: bool = False
    loads: bool = False
    settles: Duration = msgspec.field(default_factory=Duration)


class TrafficTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[traffic]`: how a module that is not a transparent link sends data. `send` is the action that sends and `arrives` the
    event that reports received data; `data` names the payload in both. `address` is the setting that addresses the other
    module, if the action has a parameter `to`; `most` is the largest payload in bytes; `signal` lists captures of the event
    that give the signal's strength and quality."""

    send: str
    arrives: str
    data: str = "data"
    address: str = ""
    most: int = 240
    signal: tuple[str, ...] = ()


class MessageTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`message` in `[listening]`: the event that reports a message, and the action that reads it, given what the event
    captures; it keeps `sender` and `message`."""

    event: str
    read: str


class TimerTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[listening.timers.SETTING]`: the setting is how long it takes from one state to another."""

    from_: dict[str, str] = msgspec.field(name="from")
    to: dict[str, str]


class ListeningTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[listening]`: `states` are the states that last, each with the events that report it and their captures; `message` is
    the event that reports a message; `timers` are the settings that are seen between two states."""

    states: dict[str, dict[str, str]] = msgspec.field(default_factory=dict)
    message: MessageTable | None = None
    timers: dict[str, TimerTable] = msgspec.field(default_factory=dict)


class Stream(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[stream]`: what the module sends by itself must fit its rate. `list` is the setting that lists what is sent, `every`
    the one with the time between two reports, `bytes` how long each part is at most, with its line end. Where that depends on
    another setting, `by` names it, and a part with its value counts before the part alone: `"GSA GN" = 280`."""

    list: str
    every: str
    bytes: dict[str, int]
    by: str = ""


class LexiconFile(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A whole lexicon file. `extends` names another lexicon, all of which is this one's too but for what `without` names
    (`setting.apn`, `action.attach`)."""

    format: int
    about: About
    extends: str = ""
    without: tuple[str, ...] = ()
    link: Link = Link()
    start: Start = msgspec.field(default_factory=Start)
    attention: AttentionTable = msgspec.field(default_factory=AttentionTable)
    speech: Speech = Speech()
    errors: dict[str, str] = msgspec.field(default_factory=dict)
    events: dict[str, str] = msgspec.field(default_factory=dict)
    identify: Identify | None = None
    writing: Writing = msgspec.field(default_factory=Writing)
    group: dict[str, GroupTable] = msgspec.field(default_factory=dict)
    setting: dict[str, SettingTable] = msgspec.field(default_factory=dict)
    action: dict[str, ActionTable] = msgspec.field(default_factory=dict)
    traffic: TrafficTable | None = None
    decoded: dict[str, dict[str, dict[str, object]]] = msgspec.field(default_factory=dict)
    listening: ListeningTable = msgspec.field(default_factory=ListeningTable)
    stream: Stream | None = None
    wiring: WiringTable | None = None
