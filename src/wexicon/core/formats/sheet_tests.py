"""Tests of a sheet, `[test.NAME]`: what its finished modules must be able to do, once or at each point of a sweep.

The rule: a test names a dialogue, and a seat for each party in it, and is run once, or for each row. All that can be wrong
with it is found when the sheet is read: at a point each setting can be read, written and put back without a restart.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from itertools import product
from typing import Any

import msgspec

from wexicon.core.dialogue import Program
from wexicon.core.dialogue.given import given
from wexicon.core.dialogue.statements import Needs
from wexicon.core.faults import CallFault, Fault
from wexicon.core.formats.lexicon import Lexicon, Moves, Setting
from wexicon.core.formats.toml import Source
from wexicon.core.formats.units import NUMBER, ROW, Filling, Row, filling
from wexicon.core.formats.wanted import ELSEWHERE, GENERATED, source_of
from wexicon.core.text import Secret, meant, seconds
from wexicon.core.values import Value, ValueFault

# How many points a sweep may have.
MOST_POINTS = 500

Points = list[dict[str, Value]]


def points_of(text: str, lexicon: Lexicon) -> Points:
    """The points of a sweep such as `spreading=7..12,power=2,8,14`, in the order of its names. Raises CallFault."""
    axes: dict[str, list[str]] = {}
    name = ""
    for part in text.split(","):
        head, equals, value = part.partition("=")
        if equals:
            name, part = head.strip(), value
            axes[name] = []
        if name not in axes:
            raise CallFault(
                f"{part!r} belongs to no setting", hint="Write NAME=VALUES, such as spreading=7..12,power=2,14."
            )
        axes[name] += _values(part.strip())
    return points_over(axes, lexicon)


def points_over(axes: Mapping[str, Sequence[object]], lexicon: Lexicon) -> Points:
    """All combinations of these values of a lexicon's settings. Raises CallFault."""
    typed: dict[str, list[Value]] = {}
    for name, values in axes.items():
        setting = lexicon.settings.get(name)
        if setting is None:
            raise CallFault(f"{lexicon.about.family} has no setting {name}", hint=meant(name, lexicon.settings))
        if why := _unswept(setting, lexicon):
            raise CallFault(f"{name} cannot be swept: {why}")
        try:
            typed[name] = [setting.typed(one) if isinstance(one, str) else setting.check(one) for one in values]
        except ValueFault as fault:
            raise CallFault(f"{name}: {fault.value!r} {fault.why}", hint=f"Allowed: {fault.allowed}") from None
    made = [dict(zip(typed, values, strict=True)) for values in product(*typed.values())]
    if len(made) > MOST_POINTS:
        raise CallFault(f"the sweep has {len(made)} points, more than {MOST_POINTS}")
    return made


def _unswept(setting: Setting, lexicon: Lexicon) -> str:
    """Why a setting cannot be swept; empty if it can."""
    if not setting.readable or not setting.writable:
        return "it must be readable and writable"
    if setting.secret:
        return "it is a secret"
    if setting.moves_link in (Moves.SAVE, Moves.RESTART) or any(lexicon.actions[one].restarts for one in setting.then):
        return "it takes effect after a save or a restart, and what is swept is not saved"
    return ""


def _values(text: str) -> Iterator[str]:
    """The values of a range such as 7..12, or one value."""
    first, dots, last = text.partition("..")
    if not dots:
        yield text
        return
    if not (first.isdecimal() and last.isdecimal() and int(first) <= int(last) <= int(first) + MOST_POINTS):
        raise CallFault(f"{text!r} is not a range such as 7..12")
    yield from map(str, range(int(first), int(last) + 1))


# How many packets a test may send.
MOST_PACKETS = 10_000


class Limit(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What may be lost at most: `max` in `unit` (`%`, or empty for packets)."""

    max: float
    unit: str = ""


class TripLimit(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How long the median round trip may take, as in `max = "800ms"`."""

    max: str


class TrafficTestTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`traffic = { ... }` of a test: `count` packets of `size` bytes `from` a seat `to` another, each answered `within` a time.
    What was `lost` both ways together and the median `round_trip` have limits; without `lost` nothing may be."""

    to: str
    from_: str = msgspec.field(name="from")
    count: int = 20
    size: int = 32
    within: str = "2s"
    lost: Limit = Limit(0.0)
    round_trip: TripLimit | None = None


class TestTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[test.NAME]`: the `dialogue` (beside the sheet), the seat of each of its `parties`, or the `seat` of a dialogue that has
    none, and what it is `given`: values, sources of secrets, or what is filled in from the row. Or, instead, `traffic` between
    two seats, at each combination of the values in `sweep` if there are some."""

    dialogue: str = ""
    traffic: TrafficTestTable | None = None
    sweep: dict[str, list[Any]] = msgspec.field(default_factory=dict)
    parties: dict[str, str] = msgspec.field(default_factory=dict)
    seat: str = ""
    given: dict[str, Any] = msgspec.field(default_factory=dict)
    meaning: str = ""


class SheetTest(msgspec.Struct, frozen=True):
    """A test, read: `seats` are those of its parties, by their names ("" if the dialogue has none), `given` plain values,
    Secrets and Fillings: from the row, and from what its units say of themselves; `points` those of a sweep."""

    name: str
    program: Program
    seats: dict[str, str]
    given: dict[str, object]
    traffic: TrafficTestTable | None = None
    points: Points = []

    def values(self, row: Row | None, number: int, known: Mapping[tuple[str, str], str]) -> dict[str, object]:
        """What the dialogue needs, for one row; `known` is what its units said of themselves, by seat and name. Raises
        CallFault."""
        cells = row.cells if row else {}
        known = {**known, (NUMBER, ""): str(number), **{(ROW, name): cell for name, cell in cells.items()}}
        made: dict[str, object] = {}
        for need in self.program.needs():
            value = self.given.get(need.name, cells.get(need.name))
            if value is None:
                continue
            try:
                text = value.fill(known) if isinstance(value, Filling) else value
                made[need.name] = text if isinstance(text, Secret) else _plain(need, text)
            except KeyError as fault:
                what = ".".join(fault.args[0]) if isinstance(fault.args[0], tuple) else str(fault)
                raise CallFault(f"{need.name} cannot be given: {{{what}}} is not known") from None
            except ValueError as fault:
                raise CallFault(f"{need.name} cannot be given: {fault}") from None
        return made


class SeatOfTest(msgspec.Struct, frozen=True):
    """What a test needs to know of a seat."""

    lexicon: Lexicon
    each: bool
    count: int


def read_tests(
    source: Source,
    tables: Mapping[str, TestTable],
    seats: Mapping[str, SeatOfTest],
    dialogue: Callable[[str], Program],
    secret: Callable[[str, str], str],
    columns: Collection[str],
) -> dict[str, SheetTest]:
    """The tests of a sheet; what is wrong is complained of to `source`."""
    found: dict[str, SheetTest] = {}
    for name, table in tables.items():
        here = ("test", name)
        if table.traffic or not table.dialogue:
            if made := _traffic(source, here, name, table, seats):
                found[name] = made
            continue
        if table.sweep:
            source.complain((*here, "sweep"), "only traffic is swept", "a dialogue sets what it needs by itself")
        try:
            program = dialogue(table.dialogue)
        except Fault as fault:
            source.complain((*here, "dialogue"), str(fault))
            continue
        places = _places(source, here, table, program, seats)
        by_row = any(seats[seat].each for seat in places.values() if seat in seats)
        values = _given(source, here, table, program, secret, columns if by_row else ())
        found[name] = SheetTest(name, program, places, values)
    return found


def _traffic(
    source: Source, here: tuple[str, ...], name: str, table: TestTable, seats: Mapping[str, SeatOfTest]
) -> SheetTest | None:
    """A test that sends packets between two seats."""
    traffic = table.traffic
    if traffic is None or table.dialogue or table.parties or table.given or table.seat:
        source.complain(here, "has either a dialogue or traffic", 'write traffic = { from = "SEAT", to = "SEAT" }')
        return None
    for seat in (traffic.from_, traffic.to):
        if seat not in seats:
            source.complain((*here, "traffic"), f"there is no seat {seat}", meant(seat, seats))
        elif seats[seat].count:
            source.complain((*here, "traffic"), f"{seat} is several units: which of them is meant?")
    if traffic.from_ == traffic.to:
        source.complain((*here, "traffic"), "from and to are the same seat")
    if not 1 <= traffic.count <= MOST_PACKETS or not 24 <= traffic.size <= 240:
        source.complain((*here, "traffic"), f"count is from 1 to {MOST_PACKETS}, size from 24 to 240")
    if traffic.lost.unit not in ("", "%"):
        source.complain((*here, "traffic", "lost"), f"{traffic.lost.unit!r} is not %", "leave it out to count packets")
    for text in (traffic.within, *([traffic.round_trip.max] if traffic.round_trip else [])):
        try:
            seconds(text)
        except ValueError as fault:
            source.complain((*here, "traffic"), str(fault))
    points: Points = []
    if table.sweep and traffic.from_ in seats and traffic.to in seats:
        try:
            points = points_over(table.sweep, seats[traffic.from_].lexicon)
            if points_over(table.sweep, seats[traffic.to].lexicon) != points:
                source.complain((*here, "sweep"), "the two seats do not have the same settings")
        except CallFault as fault:
            source.complain((*here, "sweep"), fault.what, fault.hint)
    return SheetTest(name, Program(()), {"from": traffic.from_, "to": traffic.to}, {}, traffic, points)


def _places(
    source: Source, here: tuple[str, ...], table: TestTable, program: Program, seats: Mapping[str, SeatOfTest]
) -> dict[str, str]:
    """The seat of each party."""
    declared = program.parties()
    places = dict(table.parties)
    if not declared:
        if table.parties:
            source.complain((*here, "parties"), f"{table.dialogue} has no parties", "write seat = NAME")
        places = {"": table.seat or (next(iter(seats)) if len(seats) == 1 else "")}
        if not places[""]:
            source.complain(here, "which seat is it for?", f'write seat = "NAME", one of {", ".join(seats)}')
            return {}
    elif table.seat:
        source.complain((*here, "seat"), f"{table.dialogue} has parties", "write parties = { PARTY = SEAT }")
    for party in declared:
        if party not in places:
            source.complain((*here, "parties"), f"no seat for {party}", f'add {party} = "SEAT"')
    for party, seat in places.items():
        if declared and party not in declared:
            source.complain((*here, "parties"), f"{table.dialogue} has no party {party}", meant(party, declared))
        elif seat not in seats:
            source.complain((*here, "parties"), f"there is no seat {seat}", meant(seat, seats))
        elif seats[seat].count:
            source.complain((*here, "parties"), f"{seat} is several units: which of them is meant?")
        elif (wanted := declared.get(party)) and wanted != seats[seat].lexicon.about.family:
            family = seats[seat].lexicon.about.family
            source.complain((*here, "parties"), f"{party} speaks {wanted}, and the seat {seat} has {family}")
    return places


def _given(
    source: Source,
    here: tuple[str, ...],
    table: TestTable,
    program: Program,
    secret: Callable[[str, str], str],
    columns: Collection[str],
) -> dict[str, object]:
    """What the dialogue is given."""
    needs = {need.name: need for need in program.needs()}
    made: dict[str, object] = {}
    for name, value in table.given.items():
        place = (*here, "given", name)
        outside = source_of(value)
        if name not in needs:
            source.complain(place, f"{table.dialogue} does not need it", meant(name, needs))
        elif (needs[name].secret and not outside) or (outside and outside.kind == GENERATED):
            source.complain(place, "is a secret and does not belong into a sheet", ELSEWHERE.format(name=name))
        else:
            try:
                if outside:
                    made[name] = Secret(_plain(needs[name], secret(outside.kind, outside.text)))
                else:
                    made[name] = filling(str(value)) or _plain(needs[name], value)
            except ValueError as fault:
                source.complain(place, str(fault))
    for need in needs.values():
        if need.default is None and need.name not in made and need.name not in columns and need.name not in table.given:
            hint = f'write given = {{ {need.name} = ... }}, or "{{row.COLUMN}}" for a value of the table'
            source.complain(here, f"{table.dialogue} needs {need.name}, and nothing gives it", hint)
    return made


def _plain(need: Needs, value: object) -> object:
    """A value of the kind that is needed. Raises ValueError."""
    return given(need.name, need.kind, str(value), secret=need.secret)
