"""A sheet: what the finished units should be. First the tables of its file, then what they are once they are checked.

The rule: every value is one that its module can take, and every secret is in memory only: the sheet itself says only where
it comes from. What is filled in for each unit is worked out by `jobs`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import msgspec

from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.formats.sheet_tests import SheetTest, TestTable
from wexicon.core.formats.units import Filling, UnitsTable
from wexicon.core.formats.wanted import Fetched, FilledIn, Generated, Origin, Wanted, known_values
from wexicon.core.protocol.masking import Secrets
from wexicon.core.text import visible
from wexicon.core.values import UNSET, Value

# What `others` may be.
FACTORY = "factory"


class ImageTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`image = { ... }` of a seat: the `file` of a firmware image beside the sheet, and what a module that has it says of
    itself: its `identity`, as `{ firmware = "0C10" }`."""

    file: str
    identity: dict[str, str]


class SeatTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[seat.NAME]`: a part that a module plays. `each = "row"` where every row of the table is one unit in this seat, `count`
    if there are this many units without a table. `trust` are settings that cannot be read, for which the module's
    acknowledgement is enough; `tolerance` by how much a number may differ when it is read back, because the module rounds or
    lowers it; `given` what the lexicon's actions need (a SIM's PIN); `before` and `afterwards` dialogues, run before anything
    is written and after the last reading; `image` the firmware image that it needs. `others = "factory"`: settings that are not
    named here, lists among them, are brought to their factory defaults. `side_effects` are settings that are not named here and
    may change with those that are."""

    lexicon: str
    settings: dict[str, object]
    each: str = ""
    count: int = 0
    before: tuple[str, ...] = ()
    afterwards: tuple[str, ...] = ()
    meaning: str = ""
    trust: tuple[str, ...] = ()
    tolerance: dict[str, float] = msgspec.field(default_factory=dict)
    others: str = ""
    side_effects: tuple[str, ...] = ()
    given: dict[str, Any] = msgspec.field(default_factory=dict)
    image: ImageTable | None = None


class AgreeTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[agree]`: settings that are the `same` in all units that have them, and those that are `different` in each."""

    same: tuple[str, ...] = ()
    different: tuple[str, ...] = ()


class DrawnTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[drawn.NAME]`: numbers that the register assigns, each to one unit, from `first` to `last`. Sheets that name the same
    `series` draw from the same numbers; otherwise they are this sheet's alone, by its title."""

    first: int
    last: int
    series: str = ""


class HandOverTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[hand_over]`: where generated secrets are kept, and how they reach those who need them: an encrypted `file` beside the
    sheet, whose `password` comes from the environment, a file or a prompt; those named in `label` may be printed on labels."""

    file: str
    password: dict[str, str]
    label: tuple[str, ...] = ()


class SheetFile(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A whole sheet file. `units` is the table of units (CSV, beside the sheet), `key` the column that names a row (the
    first, where it is left out); `common` are settings of every seat whose lexicon has them, unless the seat says otherwise."""

    format: int
    seat: dict[str, SeatTable]
    title: str = ""
    units: str = ""
    key: str = ""
    common: dict[str, object] = msgspec.field(default_factory=dict)
    agree: AgreeTable = AgreeTable()
    drawn: dict[str, DrawnTable] = msgspec.field(default_factory=dict)
    hand_over: HandOverTable | None = None
    test: dict[str, TestTable] = msgspec.field(default_factory=dict)


class GivenByRow(msgspec.Struct, frozen=True):
    """A value for dialogues and actions, filled in for each unit: of which kind it is, where it comes from (`env`, `file`;
    empty: the filled text itself)."""

    kind: str
    source: str
    filling: Filling


class Image(msgspec.Struct, frozen=True):
    """An image, read: the whole path of its `file`, the `identity` of a module that has it, the `action` that loads it and the
    `parameter` of that."""

    file: str
    identity: dict[str, str]
    action: str
    parameter: str

    def differs(self, identity: Mapping[str, str]) -> str:
        """What a module with this identity says otherwise; empty if it has the image."""
        told = [
            f"{name} is {visible(identity.get(name, 'not told'))}, and {visible(wanted)} is wanted"
            for name, wanted in self.identity.items()
            if identity.get(name) != wanted
        ]
        return "; ".join(told)


class Seat(msgspec.Struct, frozen=True):
    """A part that a module plays, with its lexicon and what is wanted of its settings. `columns` are those of the table that it
    uses, `secret_columns` those whose cells are secrets; `given_from` says where secrets among `given` come from."""

    name: str
    lexicon: Lexicon
    wishes: dict[str, Wanted]
    trust: tuple[str, ...] = ()
    given: dict[str, object] = {}
    each: bool = False
    count: int = 0
    before: tuple[str, ...] = ()
    afterwards: tuple[str, ...] = ()
    columns: tuple[str, ...] = ()
    secret_columns: tuple[str, ...] = ()
    image: Image | None = None
    others: bool = False
    given_from: dict[str, Origin] = {}
    side_effects: tuple[str, ...] = ()

    @property
    def wanted(self) -> dict[str, Value]:
        """The values that are the same for each unit."""
        return known_values(self.wishes)

    @property
    def generated(self) -> dict[str, Generated]:
        """The secrets that are drawn for each unit."""
        return {name: one for name, one in self.wishes.items() if isinstance(one, Generated)}

    @property
    def filled(self) -> dict[str, FilledIn | Fetched]:
        """All that is filled in for each unit: values, and the sources of secrets."""
        return {name: one for name, one in self.wishes.items() if isinstance(one, FilledIn | Fetched)}

    @property
    def origins(self) -> dict[str, Origin]:
        """Where each secret comes from."""
        drawn = {name: one.origin for name, one in self.generated.items()}
        others = {
            name: one.origin for name, one in self.wishes.items() if not isinstance(one, Generated) and one.origin
        }
        return {**others, **drawn, **self.given_from}

    def secrets(self, wanted: Mapping[str, Value] | None = None, into: Secrets | None = None) -> Secrets:
        """The values that appear nowhere, in the module's words and in ours: the seat's, or a unit's; added to `into`."""
        found = Secrets() if into is None else into
        for name, value in (self.wanted if wanted is None else wanted).items():
            setting = self.lexicon.settings[name]
            if setting.secret and value is not UNSET:
                found.learn(value)
                found.learn(setting.kind.encode(value))
        return found


class Sheet(msgspec.Struct, frozen=True):
    """All of a sheet, and its table of units where it has one; `secret` fetches those whose source is filled in by row; `notes`
    are values that may have been meant otherwise."""

    path: str
    title: str
    seats: dict[str, Seat]
    digest: str = ""
    table: UnitsTable | None = None
    agree: AgreeTable = AgreeTable()
    drawn: dict[str, DrawnTable] = {}
    secret: Callable[[str, str], str] | None = None
    notes: tuple[str, ...] = ()
    hand_over: HandOverTable | None = None
    tests: dict[str, SheetTest] = {}

    @property
    def called(self) -> str:
        """What it is called in the register."""
        return self.title or self.path.replace("\\", "/").rpartition("/")[2]

    @property
    def has_fixed_units(self) -> bool:
        """Whether each of its units is made once, not for as many modules as there are."""
        return self.table is not None or any(seat.count for seat in self.seats.values())
