"""What the commands list, line by line, for `--json`: settings in force, actions, lexicons, stand-ins, sums, wiring.

The rule: each kind of line has its own type, and with that a schema.
"""

from __future__ import annotations

import msgspec

from wexicon.work.results.port import PortInfo


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


class SumResult(msgspec.Struct, frozen=True):
    """One result of a sum: its value in the base unit (None: there is none), the unit, and the text for people."""

    value: float | int | str | bool | None
    unit: str
    shown: str


class Sum(msgspec.Struct, frozen=True):
    """A sum: the arguments that vary, its results by name, rows of a table, steps that lead there, notes."""

    given: dict[str, str]
    results: dict[str, SumResult]
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
