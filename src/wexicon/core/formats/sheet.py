"""A sheet: what the finished units should be, checked against their lexicons before a byte is sent.

The rule: after reading, every value is one that its module can take, and every secret is in memory only: the sheet itself
says only where it comes from (see `secret_sources`). What is filled in for each unit (see `filling`) is worked out by `jobs`.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from hashlib import sha256
from typing import Any

import msgspec

from wexicon.core.dialogue import Program
from wexicon.core.dialogue.given import given
from wexicon.core.faults import Fault
from wexicon.core.formats.lexicon import Lexicon, Setting
from wexicon.core.formats.lexicon.checks import check_tolerance
from wexicon.core.formats.lexicon.extending import load_of, shaping
from wexicon.core.formats.sheet_files import (
    ELSEWHERE,
    FETCHED,
    GENERATED,
    Generated,
    Image,
    ImageTable,
    generated,
    read_image,
    source_of,
    told,
)
from wexicon.core.formats.sheet_tests import SeatOfTest, SheetTest, TestTable, read_tests
from wexicon.core.formats.toml import Source
from wexicon.core.formats.units import NUMBER, ROW, Filling, UnitsTable, filling
from wexicon.core.protocol.masking import Secrets
from wexicon.core.text import Secret, meant, to_text
from wexicon.core.values import UNSET, Content, List, Value, ValueFault
from wexicon.core.values.numbers import Int

# What `others` may be.
FACTORY = "factory"


class SeatTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[seat.NAME]`: a part that a module plays. `each = "row"` where every row of the table is one unit in this seat, `count`
    if there are this many units without a table. `trust` are settings that cannot be read, for which the module's
    acknowledgement is enough; `tolerance` by how much a number may differ when it is read back, because the module rounds or
    lowers it; `given` what the lexicon's actions need (a SIM's PIN); `before` and `afterwards` dialogues, run before anything
    is written and after the last reading; `image` the firmware image that it needs. `others = "factory"`: settings that are not
    named here, lists among them, are brought to their factory defaults."""

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


class Seat(msgspec.Struct, frozen=True):
    """A part that a module plays, with its lexicon and the plain values of its settings; `deferred` are filled in
    for each unit, `hidden` the secrets whose source is (its kind, and its name), `generated` those that are drawn. `sources`
    has the kind and text of every secret's source. `columns` are those of the table that it uses, `secret_columns` those whose
    cells are secrets."""

    name: str
    lexicon: Lexicon
    wanted: dict[str, Value]
    trust: tuple[str, ...] = ()
    given: dict[str, object] = {}
    deferred: dict[str, Filling] = {}
    each: bool = False
    count: int = 0
    before: tuple[str, ...] = ()
    afterwards: tuple[str, ...] = ()
    hidden: dict[str, tuple[str, Filling]] = {}
    generated: dict[str, Generated] = {}
    sources: dict[str, tuple[str, str]] = {}
    columns: tuple[str, ...] = ()
    secret_columns: tuple[str, ...] = ()
    image: Image | None = None
    others: bool = False

    def filled(self) -> dict[str, Filling]:
        """All that is filled in for each unit: values, and the sources of secrets."""
        return {**self.deferred, **{name: one for name, (_, one) in self.hidden.items()}}

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


def read_sheet(
    data: bytes,
    path: str,
    lexicon: Callable[[str], Lexicon],
    secret: Callable[[str, str], str],
    seat: str | None = None,
    units: Callable[[str, str], UnitsTable] | None = None,
    dialogue: Callable[[str], Program] | None = None,
    image: Callable[[str], str] | None = None,
    content: Callable[[str], bytes] | None = None,
) -> Sheet:
    """The sheet in the bytes of a TOML file. `lexicon` gives the lexicon of a name, `secret` what an environment
    variable, a file or a prompt holds (raises ValueError); only the secrets of `seat`, where given, are asked for. `units`
    reads the table of a name by its key column, `dialogue` the dialogue of a name; `image` gives an image's whole path,
    `content` the bytes of the file that is the setting's value.
    Raises FileFault with every complaint."""
    source = Source(data, path)
    source.check_top(SheetFile.__struct_fields__)
    seats: dict[str, Seat] = {}
    tables = source.data.get("seat", {})
    if not isinstance(tables, dict) or not tables:
        source.complain(("seat",), "there is no seat", "a sheet holds one table [seat.NAME] or more")
        tables = {}
    whole = source.typed({**source.data, "seat": {}}, SheetFile, ())
    common = whole.common if whole else {}
    rows = _table(source, whole, units) if whole and whole.units else None
    for name, data_of_seat in tables.items():
        table = source.typed(data_of_seat, SeatTable, ("seat", name))
        if table:
            if seat not in (None, name):
                table = _without_secrets(table)
            programs = _programs(source, name, table, dialogue) if dialogue else []
            made = _seat(source, name, table, lexicon, secret, common, programs, content)
            if made and table.image and image:
                loaded = read_image(source, ("seat", name, "image"), table.image, made.lexicon, image)
                made = msgspec.structs.replace(made, image=loaded)
            if made and rows and table.each:
                made = _with_columns(made, programs, rows)
            if made and seat in (None, name):
                _require_given(source, made, programs, rows.columns if rows and table.each else ())
            if made:
                seats[name] = made
                if not (made.wanted or made.filled() or made.generated or data_of_seat["settings"]):
                    what = "is empty: there is nothing to bring about and nothing to prove"
                    source.complain(("seat", name, "settings"), what)
            if table.each not in ("", "row"):
                source.complain(("seat", name, "each"), f"{table.each!r} is not row")
            elif table.each and not (whole and whole.units):
                source.complain(
                    ("seat", name, "each"), "there is no table of units", 'write units = "masts.csv" at the top'
                )
            if table.count < 0 or (table.count and table.each):
                source.complain(("seat", name, "count"), "is how many units there are, where there are no rows")
    for name, drawn in (whole.drawn if whole else {}).items():
        if not 0 <= drawn.first <= drawn.last < 2**63:
            source.complain(("drawn", name), "first must be 0 or more, and last not less than first")
    tests: dict[str, SheetTest] = {}
    if whole:
        _check_hand_over(source, whole.hand_over, seats)
        if whole.test and dialogue:
            known = {one.name: SeatOfTest(one.lexicon, one.each, one.count) for one in seats.values()}
            tests = read_tests(source, whole.test, known, dialogue, secret, rows.columns if rows else ())
    source.finish()
    assert whole
    title, digest = str(source.data.get("title", "")), sha256(data).hexdigest()
    notes = tuple(note for seat_ in seats.values() for note in _decimals(source, seat_))
    return Sheet(path, title, seats, digest, rows, whole.agree, whole.drawn, secret, notes, whole.hand_over, tests)


def _check_hand_over(source: Source, table: HandOverTable | None, seats: Mapping[str, Seat]) -> None:
    """Generated secrets must be handed over, or the module could not be used."""
    names = {name: seat for seat in seats.values() for name in seat.generated}
    if table is None:
        for name, seat in names.items():
            hint = 'write [hand_over] file = "NAME", password = { prompt = "password of the file" }'
            source.complain(("seat", seat.name, "settings", name), "is generated and handed over to nobody", hint)
        return
    found = source_of(table.password)
    if not found or found[0] not in FETCHED:
        what = "must come from the environment, a file or a prompt"
        source.complain(("hand_over", "password"), what, ELSEWHERE.format(name="password").rpartition(" or ")[0])
    for label in table.label:
        if label not in names:
            source.complain(("hand_over", "label"), f"{label} is not generated", meant(label, names))


def _decimals(source: Source, seat: Seat) -> Iterator[str]:
    """Hexadecimal settings that were given a decimal number: in TOML 34 is no 0x34."""
    for name, value in seat.wanted.items():
        kind = seat.lexicon.settings[name].kind
        hexadecimal = isinstance(kind, Int) and kind.base == 16 and isinstance(value, int) and value > 9
        if hexadecimal and re.search(rf"\b{re.escape(name)}\s*=\s*{value}\b", source.text):
            other = f"for the hexadecimal number {value} write 0x{value}"
            yield f"{seat.name}: {name} = {value} is {kind.show(value)}; {other}"


def _table(source: Source, whole: SheetFile, units: Callable[[str, str], UnitsTable] | None) -> UnitsTable | None:
    if units is None:
        source.complain(("units",), "tables cannot be read here")
        return None
    try:
        return units(whole.units, whole.key)
    except Fault as fault:
        source.complain(("units",), str(fault))
        return None


def _seat(
    source: Source,
    name: str,
    table: SeatTable,
    lexicon: Callable[[str], Lexicon],
    secret: Callable[[str, str], str],
    common: dict[str, Any],
    programs: Sequence[Program],
    content: Callable[[str], bytes] | None,
) -> Seat | None:
    place = ("seat", name)
    try:
        words = lexicon(table.lexicon)
    except Fault as fault:
        source.complain((*place, "lexicon"), str(fault))
        return None
    wanted: dict[str, Value] = {}
    deferred: dict[str, Filling] = {}
    hidden: dict[str, tuple[str, Filling]] = {}
    drawn: dict[str, Generated] = {}
    sources: dict[str, tuple[str, str]] = {}
    shared = {key: wish for key, wish in common.items() if key in words.settings}
    for key, wish in {**shared, **table.settings}.items():
        here = (*place, "settings", key)
        setting = words.settings.get(key)
        if setting is None:
            source.complain(here, f"{words.about.family} has no such setting", meant(key, words.settings))
            continue
        if content and isinstance(wish, dict) and list(wish) == ["content"] and isinstance(setting.kind, Content):
            try:
                wish = to_text(content(str(wish["content"])))
            except Fault as fault:
                source.complain(here, str(fault))
                continue
        elif isinstance(setting.kind, Content) and isinstance(wish, str) and wish != "unset":
            source.complain(here, "is a file, and no text", f'write {key} = {{ content = "FILE" }}')
            continue
        outside = source_of(wish)
        if outside:
            words = words.with_secret(key)
            setting, sources[key] = words.settings[key], outside
        try:
            if isinstance(setting.kind, List) and isinstance(wish, list) and any("{" in str(one) for one in wish):
                wish = ", ".join(map(str, wish))
            filled = filling(wish) if isinstance(wish, str) and not setting.secret else None
            if outside and outside[0] == GENERATED:
                drawn[key] = generated(outside[1])
                _check_generated(source, here, setting, drawn[key])
                continue
            by_row = filling(outside[1]) if outside else None
        except ValueError as fault:
            source.complain(here, str(fault))
            continue
        if filled:
            deferred[key] = filled
            continue
        if by_row:
            assert outside
            hidden[key] = (outside[0], by_row)
            if outside[0] == "prompt" or {one.whose for one in by_row.sources} - {ROW, NUMBER}:
                source.complain(here, "a secret's source is filled in from the row or the number: env or file")
            continue
        value = _value(source, here, setting, wish, _asks_for(secret, name, key))
        if value is not None:
            wanted[key] = value
    for key, other, needed, found in words.unmet(wanted):
        show = words.settings[other].show
        source.complain(
            (*place, "settings", key),
            f"needs {other} = {show(needed)}, and the sheet wants {other} = {show(found)}",
            f"take {key} away, or make {other} {show(needed)}",
        )
    changed = [key for key in shaping(words) if key in wanted]
    if changed and (load := load_of(words, wanted)) and not load.fits:
        source.complain(
            (*place, "settings", changed[0]),
            f"the module would send more than its rate can carry: {load.calculation}, at {load.rate} baud",
            "send fewer, send them less often, or raise the rate",
        )
    for key in table.trust:
        if key not in table.settings:
            source.complain((*place, "trust"), f"{key} is not among the settings", meant(key, table.settings))
        elif key in words.settings and words.settings[key].readable:
            source.complain((*place, "trust"), f"{key} can be read, so it needs no trust", "remove it")
    for key, allowed in table.tolerance.items():
        if key not in table.settings or key not in words.settings:
            source.complain((*place, "tolerance"), f"{key} is not among the settings", meant(key, table.settings))
        elif check_tolerance(source, (*place, "tolerance", key), words.settings[key].kind, allowed):
            words = words.with_tolerance(key, allowed)
    given_ = _given(source, place, table, words, secret, programs)
    sources |= {key: from_ for key, value in table.given.items() if (from_ := source_of(value))}
    around = (table.before, table.afterwards)
    each, count = bool(table.each), table.count
    if table.others not in ("", FACTORY):
        source.complain((*place, "others"), f"{table.others!r} is not {FACTORY}", "leave it out to let others be")
    made = Seat(name, words, wanted, table.trust, given_, deferred, each, count, *around, hidden, drawn, sources)
    return msgspec.structs.replace(made, others=table.others == FACTORY)


def _asks_for(secret: Callable[[str, str], str], seat: str, name: str) -> Callable[[str, str], str]:
    """The same, with prompts that begin with seat and name, so that none looks like the question of another program."""
    whose = f"{seat}, {name}"

    def asked(kind: str, text: str) -> str:
        return secret(kind, text if kind != "prompt" else whose if text == name else f"{whose}: {text}")

    return asked


def _check_generated(source: Source, here: tuple[str, ...], setting: Setting, drawn: Generated) -> None:
    """Every secret that can be drawn must be allowed: the first and the last possible are checked."""
    for at in (0, -1):
        try:
            setting.typed(drawn.draw(lambda alphabet, at=at: alphabet[at]))  # type: ignore[misc]
        except ValueFault as fault:
            what = f"{drawn.count} {drawn.kind} are not always allowed"
            source.complain(here, what, f"allowed: {fault.allowed}")
            return


def _given(
    source: Source,
    place: tuple[str, ...],
    table: SeatTable,
    words: Lexicon,
    secret: Callable[[str, str], str],
    programs: Sequence[Program],
) -> dict[str, Any]:
    """What the actions of a lexicon and the sheet's dialogues are given, each of its kind."""
    all_ = [*(action.program for action in words.actions.values()), *programs]
    needs = {need.name: need for program in all_ for need in program.needs()}
    made: dict[str, object] = {}
    for name, value in table.given.items():
        here = (*place, "given", name)
        if name not in needs:
            source.complain(here, "no action and no dialogue of this seat needs it", meant(name, needs))
            continue
        outside = source_of(value)
        if outside and outside[0] == GENERATED:
            source.complain(here, "cannot be generated: a module only keeps what is written to its settings")
            continue
        if needs[name].secret and not outside:
            source.complain(here, "is a secret and does not belong into a sheet", ELSEWHERE.format(name=name))
            continue
        wording = outside[1] if outside else value if isinstance(value, str) else ""
        try:
            if by_row := filling(wording):
                for one in by_row.sources:
                    if one.whose not in (ROW, NUMBER):
                        source.complain(here, "is filled in from the row or the number only")
                made[name] = GivenByRow(needs[name].kind, outside[0] if outside else "", by_row)
                continue
            text = _asks_for(secret, place[1], name)(outside[0], wording) if outside else str(value)
            plain = given(name, needs[name].kind, text, secret=bool(outside))
        except ValueError as fault:
            source.complain(here, str(fault))
            continue
        made[name] = Secret(plain) if outside else plain
    return made


def _programs(source: Source, name: str, table: SeatTable, dialogue: Callable[[str], Program]) -> list[Program]:
    """The dialogues of a seat."""
    found = []
    for key in ("before", "afterwards"):
        for file in getattr(table, key):
            try:
                found.append(dialogue(file))
            except Fault as fault:
                source.complain(("seat", name, key), str(fault))
    return found


def _with_columns(seat: Seat, programs: Sequence[Program], rows: UnitsTable) -> Seat:
    """The seat with the columns that it uses; a cell that a dialogue needs as a secret is one."""
    fillings = [*seat.filled().values(), *(one.filling for one in seat.given.values() if isinstance(one, GivenByRow))]
    used = {source.part for one in fillings for source in one.sources if source.whose == ROW}
    needs = {need.name: need.secret for program in programs for need in program.needs() if need.name not in seat.given}
    secret = {name for name in rows.columns if needs.get(name)}
    columns = [
        name for name in rows.columns if name not in secret and (name in used or name in needs or name == rows.key)
    ]
    return msgspec.structs.replace(seat, columns=tuple(columns), secret_columns=tuple(sorted(secret)))


def _require_given(source: Source, seat: Seat, programs: Sequence[Program], columns: Collection[str]) -> None:
    """What a dialogue needs must come from somewhere, before anything is said."""
    for program in programs:
        for need in program.needs():
            if need.default is None and need.name not in seat.given and need.name not in columns:
                source.complain(
                    ("seat", seat.name, "given"),
                    f"{program.path} needs {need.name}, and nothing gives it",
                    f'write given = {{ {need.name} = ... }}, or "{{row.COLUMN}}" for a value of the table',
                )


def _without_secrets(table: SeatTable) -> SeatTable:
    """A seat of which only others need to know something."""
    settings = {name: value for name, value in table.settings.items() if not source_of(value)}
    return msgspec.structs.replace(table, settings=settings, given={}, trust=())


def _value(
    source: Source, here: tuple[str, ...], setting: Setting, wish: Any, secret: Callable[[str, str], str]
) -> Value | None:
    comes_from = ""
    outside = source_of(wish)
    if outside:
        comes_from = f" ({told(*outside)})"
        try:
            wish = secret(*outside)
        except ValueError as fault:
            source.complain(here, str(fault))
            return None
    elif setting.secret and not (wish == "unset" and setting.may_be_unset()):
        source.complain(
            here,
            "is a secret and does not belong into a sheet",
            ELSEWHERE.format(name=setting.name),
        )
        return None
    try:
        return setting.check(wish)
    except ValueFault as fault:
        if setting.secret:
            why = fault.why if "'" not in fault.why else "holds a character that is not allowed"
            source.complain(here, f"the value{comes_from} {why}", f"allowed: {fault.allowed}")
        else:
            source.complain(here, f"{fault.value!r} {fault.why}", f"allowed: {fault.allowed}")
        return None
