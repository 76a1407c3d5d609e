"""What commands list, for `--json`: ports, tries of `hail`, settings in force, actions, lexicons, stand-ins, formulas, wiring.

The rule: each kind of line has its own type, and with that a schema. What is not known is empty, never guessed.
"""

from __future__ import annotations

from enum import StrEnum

import msgspec


class PortInfo(msgspec.Struct, frozen=True):
    """One port: its path or URL, what it is, its maker, its USB serial number and ids, a path that stays the same (if the
    system has one), the rig's unit behind it, its given name, and the program that has it open. `key` identifies it."""

    port: str
    what: str = ""
    maker: str = ""
    serial: str = ""
    usb: str = ""
    stable: str = ""
    unit: str = ""
    name: str = ""
    used_by: str = ""
    key: str = ""


class SettingInForce(msgspec.Struct, frozen=True):
    """One setting of this bench, its value, and where that is from."""

    setting: str
    value: str
    source: str = msgspec.field(name="from")


class ActionLine(msgspec.Struct, frozen=True):
    """One action of a lexicon, the names that it needs, and what it does."""

    action: str
    needs: str
    meaning: str


class HailLine(msgspec.Struct, frozen=True):
    """What `hail` may say: when, the lines, and the lexicons that they are from."""

    when: str
    says: list[str]
    lexicons: list[str]


class LexiconLine(msgspec.Struct, frozen=True):
    """One lexicon: its name, the kind of radio, the maker, how many settings and actions it has (None: it has errors), where it
    is."""

    name: str
    radio: str = ""
    maker: str = ""
    settings: int | None = None
    actions: int | None = None
    where: str = ""


class SettingLine(msgspec.Struct, frozen=True):
    """One setting of a lexicon: what is allowed, when it takes effect, what it means."""

    setting: str
    allowed: str
    takes_effect: str
    meaning: str


class LexiconPage(msgspec.Struct, frozen=True):
    """A lexicon: its family, its settings and the names of its actions."""

    family: str
    settings: list[SettingLine]
    actions: list[str]


class Gap(msgspec.Struct, frozen=True):
    """What a lexicon does not say, and where it would stand."""

    place: str
    what: str


class Gaps(msgspec.Struct, frozen=True):
    """A lexicon file that was checked: how many settings it has, and its gaps."""

    file: str
    settings: int
    gaps: list[Gap]


class CalculationResult(msgspec.Struct, frozen=True):
    """One result of a calculation: its value in the base unit (None: there is none), the unit, and the text for people."""

    value: float | int | str | bool | None
    unit: str
    shown: str


class Calculation(msgspec.Struct, frozen=True):
    """A calculation: the arguments that vary, its results by name, rows of a table, steps that lead there, notes."""

    given: dict[str, str]
    results: dict[str, CalculationResult]
    rows: list[dict[str, str]]
    steps: list[str]
    notes: list[str]


class WiringLine(msgspec.Struct, frozen=True):
    """What one pin of a module goes to, how, and whether care is needed."""

    pin: str
    to: str
    how: str
    careful: bool


class RigPort(msgspec.Struct, frozen=True):
    """The port of one stand-in of a running rig."""

    rig: str
    unit: str
    standin: str
    port: str


class PortChange(PortInfo, frozen=True, kw_only=True):
    """A port that `appeared`, or that is `gone`."""

    change: str


class Cause(msgspec.Struct, frozen=True):
    """The likely cause, and the next step. `kind` is one of the kinds in `contact/causes`."""

    kind: str
    what: str
    next: str

    @property
    def sentence(self) -> str:
        """The cause and the next step, as text."""
        return f"{self.what[:1].upper()}{self.what[1:]}. {self.next}"


class Came(StrEnum):
    """What came back on a link."""

    NOTHING = "nothing"
    GARBAGE = "garbage"
    ECHO = "echo"
    WORDS = "words"


class Attempt(msgspec.Struct):
    """One question (empty: only listened) on one link, and what came back."""

    rate: int
    frame: str
    end: str
    asked: str
    came: Came
    heard: str
    seconds: float


class ByHand(msgspec.Struct):
    """A family that needs an operator action before it listens: the action, and the command that waits for it."""

    lexicon: str
    operator: str
    command: str


class HailResult(msgspec.Struct):
    """The result of a search on a port. `lexicons` are the matches, likeliest first; `cause` is the likely cause if no answer,
    or no legible one, came; `by_hand` are families that need the operator; `command` is what to type next."""

    port: str
    found: bool = False
    rate: int = 0
    frame: str = ""
    end: str = ""
    echo: bool | None = None
    family: str = ""
    lexicons: list[str] = []
    identity: dict[str, str] = {}
    said: str = ""
    cause: Cause | None = None
    by_hand: list[ByHand] = []
    remarks: list[str] = []
    command: str = ""
    tries: list[Attempt] = []
    seconds: float = 0.0
    trace: str = ""

    @property
    def status(self) -> int:
        """The exit status."""
        return 0 if self.found else 3
