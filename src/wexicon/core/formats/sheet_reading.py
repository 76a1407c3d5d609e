"""Reads a sheet, and checks it against its lexicons before a byte is sent.

The rule: every fault is reported at once, with its place and what to write instead. What a sheet names (lexicons, tables,
dialogues, images, secrets) is fetched by its caller: nothing is opened here.
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
from wexicon.core.formats.lexicon import Action, Lexicon
from wexicon.core.formats.lexicon.checks import check_tolerance
from wexicon.core.formats.lexicon.extending import load_of, shaping
from wexicon.core.formats.sheet import (
    FACTORY,
    GivenByRow,
    HandOverTable,
    Image,
    ImageTable,
    Seat,
    SeatTable,
    Sheet,
    SheetFile,
)
from wexicon.core.formats.sheet_tests import SeatOfTest, SheetTest, read_tests
from wexicon.core.formats.toml import Source
from wexicon.core.formats.units import NUMBER, ROW, UnitsTable, filling
from wexicon.core.formats.wanted import (
    ELSEWHERE,
    FETCHED,
    GENERATED,
    IN_A_SHEET,
    Fetch,
    Origin,
    check_wanted,
    known_values,
    source_of,
)
from wexicon.core.text import Secret, meant
from wexicon.core.values.numbers import Int

Place = tuple[str, ...]


class Around(msgspec.Struct, frozen=True):
    """What a sheet names, and how it is had: the lexicon of a name, what an environment variable, a file or a prompt holds
    (`secret`; raises ValueError), the table of a name by its key column, the dialogue of a name, an image's whole path, the
    bytes of a file that is a setting's value. What is None is not looked at."""

    lexicon: Callable[[str], Lexicon]
    secret: Callable[[str, str], str]
    units: Callable[[str, str], UnitsTable] | None = None
    dialogue: Callable[[str], Program] | None = None
    image: Callable[[str], str] | None = None
    content: Callable[[str], bytes] | None = None


def read_sheet(data: bytes, path: str, around: Around, seat: str | None = None) -> Sheet:
    """The sheet in the bytes of a TOML file; only the secrets of `seat`, where given, are asked for. Raises FileFault with
    every complaint."""
    source = Source(data, path)
    source.check_top(SheetFile.__struct_fields__)
    tables = source.data.get("seat", {})
    if not isinstance(tables, dict) or not tables:
        source.complain(("seat",), "there is no seat", "a sheet holds one table [seat.NAME] or more")
        tables = {}
    whole = source.typed({**source.data, "seat": {}}, SheetFile, ())
    rows = _table(source, whole, around) if whole and whole.units else None
    common = whole.common if whole else {}
    seats = {}
    for name, given_table in tables.items():
        if table := source.typed(given_table, SeatTable, ("seat", name)):
            _check_units(source, name, table, bool(whole and whole.units))
            if made := _Reading(source, name, table, around, rows, asked=seat in (None, name)).seat(common):
                seats[name] = made
    tests: dict[str, SheetTest] = {}
    if whole:
        for name, drawn in whole.drawn.items():
            if not 0 <= drawn.first <= drawn.last < 2**63:
                source.complain(("drawn", name), "first must be 0 or more, and last not less than first")
        _check_hand_over(source, whole.hand_over, seats)
        if whole.test and around.dialogue:
            known = {one.name: SeatOfTest(one.lexicon, one.each, one.count) for one in seats.values()}
            columns = rows.columns if rows else ()
            tests = read_tests(source, whole.test, known, around.dialogue, around.secret, columns)
    source.finish()
    assert whole
    return Sheet(
        path,
        whole.title,
        seats,
        sha256(data).hexdigest(),
        rows,
        whole.agree,
        whole.drawn,
        around.secret,
        tuple(note for one in seats.values() for note in _decimals(source, one)),
        whole.hand_over,
        tests,
    )


def _table(source: Source, whole: SheetFile, around: Around) -> UnitsTable | None:
    """The rows of a sheet."""
    if around.units is None:
        source.complain(("units",), "tables cannot be read here")
        return None
    try:
        return around.units(whole.units, whole.key)
    except Fault as fault:
        source.complain(("units",), str(fault))
        return None


def _check_units(source: Source, name: str, table: SeatTable, has_rows: bool) -> None:
    """How many units a seat is."""
    if table.each not in ("", "row"):
        source.complain(("seat", name, "each"), f"{table.each!r} is not row")
    elif table.each and not has_rows:
        source.complain(("seat", name, "each"), "there is no table of units", 'write units = "masts.csv" at the top')
    if table.count < 0 or (table.count and table.each):
        source.complain(("seat", name, "count"), "is how many units there are, where there are no rows")


def _check_hand_over(source: Source, table: HandOverTable | None, seats: Mapping[str, Seat]) -> None:
    """Generated secrets must be handed over, or the module could not be used."""
    names = {name: seat for seat in seats.values() for name in seat.generated}
    if table is None:
        for name, seat in names.items():
            hint = 'write [hand_over] file = "NAME", password = { prompt = "password of the file" }'
            source.complain(("seat", seat.name, "settings", name), "is generated and handed over to nobody", hint)
        return
    found = source_of(table.password)
    if not found or found.kind not in FETCHED:
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


class _Reading:
    """Reads one seat. Unless its secrets are `asked` for, others only need to know something of it."""

    def __init__(
        self, source: Source, name: str, table: SeatTable, around: Around, rows: UnitsTable | None, *, asked: bool
    ) -> None:
        self.source, self.name, self.around, self.asked = source, name, around, asked
        self.place: Place = ("seat", name)
        self.rows = rows if table.each else None
        self.is_empty = not table.settings
        if not asked:
            settings = {key: value for key, value in table.settings.items() if not source_of(value)}
            table = msgspec.structs.replace(table, settings=settings, given={}, trust=())
        self.table = table

    def complain(self, place: Place, what: str, hint: str = "") -> None:
        """A fault of the seat, at a place in it."""
        self.source.complain((*self.place, *place), what, hint)

    def seat(self, common: dict[str, Any]) -> Seat | None:
        """The seat; None if its lexicon cannot be read."""
        table = self.table
        programs = self._programs()
        try:
            lexicon = self.around.lexicon(table.lexicon)
        except Fault as fault:
            self.complain(("lexicon",), str(fault))
            return None
        wishes = {key: wish for key, wish in common.items() if key in lexicon.settings} | table.settings
        fetch = self._fetch()
        lexicon, wanted, complaints = check_wanted(lexicon, wishes, IN_A_SHEET, fetch, self.around.content)
        for one in complaints:
            self.complain(("settings", one.place), one.what, one.hint)
        if not complaints:
            self._check_load(lexicon, known_values(wanted))
        lexicon = self._with_tolerances(lexicon)
        made = Seat(
            self.name,
            lexicon,
            wanted,
            table.trust,
            self._given(lexicon, programs, fetch),
            bool(table.each),
            table.count,
            table.before,
            table.afterwards,
            others=table.others == FACTORY,
            given_from={key: origin for key, value in table.given.items() if (origin := source_of(value))},
            side_effects=table.side_effects,
        )
        for key in table.side_effects:
            if key not in lexicon.settings:
                self.complain(("side_effects",), f"there is no setting {key}", meant(key, lexicon.settings))
            elif key in wanted:
                self.complain(("side_effects",), f"{key} is among the settings", "remove it")
        if table.others not in ("", FACTORY):
            self.complain(("others",), f"{table.others!r} is not {FACTORY}", "leave it out to let others be")
        if table.image and self.around.image:
            made = msgspec.structs.replace(made, image=self._image(table.image, lexicon, self.around.image))
        if self.rows:
            made = _with_columns(made, programs, self.rows)
        if self.asked:
            self._require_given(made, programs, self.rows.columns if self.rows else ())
        if self.is_empty and not wanted:
            self.complain(("settings",), "is empty: there is nothing to bring about and nothing to prove")
        return made

    def _fetch(self) -> Fetch:
        """Asks for secrets, with prompts that begin with seat and name: none looks like the question of another program."""

        def fetch(name: str, origin: Origin) -> str:
            whose, text = f"{self.name}, {name}", origin.text
            if origin.kind == "prompt":
                text = whose if text == name else f"{whose}: {text}"
            return self.around.secret(origin.kind, text)

        return fetch

    def _programs(self) -> list[Program]:
        """The dialogues of the seat."""
        found = []
        for key in ("before", "afterwards") if self.around.dialogue else ():
            for file in getattr(self.table, key):
                try:
                    found.append(self.around.dialogue(file))  # type: ignore[misc]
                except Fault as fault:
                    self.complain((key,), str(fault))
        return found

    def _check_load(self, lexicon: Lexicon, wanted: Mapping[str, Any]) -> None:
        """What the module would send by itself must fit into its rate."""
        changed = [key for key in shaping(lexicon) if key in wanted]
        if changed and (load := load_of(lexicon, wanted)) and not load.fits:
            self.complain(
                ("settings", changed[0]),
                f"the module would send more than its rate can carry: {load.calculation}, at {load.rate} baud",
                "send fewer, send them less often, or raise the rate",
            )

    def _with_tolerances(self, lexicon: Lexicon) -> Lexicon:
        """Checks what is trusted; the lexicon in which numbers may differ by the seat's tolerances."""
        table, settings = self.table, lexicon.settings
        for key in table.trust:
            if key not in table.settings:
                self.complain(("trust",), f"{key} is not among the settings", meant(key, table.settings))
            elif key in settings and settings[key].readable:
                self.complain(("trust",), f"{key} can be read, so it needs no trust", "remove it")
        for key, allowed in table.tolerance.items():
            if key not in table.settings or key not in settings:
                self.complain(("tolerance",), f"{key} is not among the settings", meant(key, table.settings))
            elif check_tolerance(self.source, (*self.place, "tolerance", key), settings[key].kind, allowed):
                lexicon = lexicon.with_tolerance(key, allowed)
        return lexicon

    def _given(self, lexicon: Lexicon, programs: Sequence[Program], fetch: Fetch) -> dict[str, object]:
        """What the actions of a lexicon and the sheet's dialogues are given, each of its kind."""
        all_ = [*(action.program for action in lexicon.actions.values()), *programs]
        needs = {need.name: need for program in all_ for need in program.needs()}
        made: dict[str, object] = {}
        for name, value in self.table.given.items():
            here, origin = ("given", name), source_of(value)
            if name not in needs:
                self.complain(here, "no action and no dialogue of this seat needs it", meant(name, needs))
                continue
            if origin and origin.kind == GENERATED:
                what = "cannot be generated: a module only keeps what is written to its settings"
                self.complain(here, what)
                continue
            if needs[name].secret and not origin:
                self.complain(here, "is a secret and does not belong into a sheet", ELSEWHERE.format(name=name))
                continue
            wording = origin.text if origin else value if isinstance(value, str) else ""
            try:
                if by_row := filling(wording):
                    for one in by_row.sources:
                        if one.whose not in (ROW, NUMBER):
                            self.complain(here, "is filled in from the row or the number only")
                    made[name] = GivenByRow(needs[name].kind, origin.kind if origin else "", by_row)
                    continue
                text = fetch(name, origin) if origin else str(value)
                plain = given(name, needs[name].kind, text, secret=bool(origin))
            except ValueError as fault:
                self.complain(here, str(fault))
                continue
            made[name] = Secret(plain) if origin else plain
        return made

    def _image(self, table: ImageTable, lexicon: Lexicon, located: Callable[[str], str]) -> Image | None:
        """The image of the seat."""
        here, found = ("image",), _loading(lexicon)
        if found is None:
            what = f"{lexicon.about.family} has no action that loads an image"
            self.complain(here, what, "its lexicon says: loads = true")
            return None
        known = [name for phrase in lexicon.identify for want in phrase.expect.wants for name in want.pattern.names]
        for name in table.identity:
            if name not in known:
                what = "the module does not say this of itself"
                self.complain((*here, "identity", name), what, meant(name, known))
        if not table.identity:
            what = "is empty: when is another image found?"
            self.complain((*here, "identity"), what, 'write { firmware = "0C10" }')
        try:
            path = located(table.file)
        except Fault as fault:
            self.complain((*here, "file"), str(fault))
            return None
        return Image(path, table.identity, found[0].name, found[1])

    def _require_given(self, seat: Seat, programs: Sequence[Program], columns: Collection[str]) -> None:
        """What a dialogue needs must come from somewhere, before anything is said."""
        for program in programs:
            for need in program.needs():
                if need.default is None and need.name not in seat.given and need.name not in columns:
                    self.complain(
                        ("given",),
                        f"{program.path} needs {need.name}, and nothing gives it",
                        f'write given = {{ {need.name} = ... }}, or "{{row.COLUMN}}" for a value of the table',
                    )


def _loading(lexicon: Lexicon) -> tuple[Action, str] | None:
    """The action of a lexicon that loads an image into a module in command mode, and its parameter for the file."""
    for action in lexicon.actions.values():
        if action.loads and action.needs_attention:
            for need in action.program.needs():
                if need.kind == "file":
                    return action, need.name
    return None


def _with_columns(seat: Seat, programs: Sequence[Program], rows: UnitsTable) -> Seat:
    """The seat with the columns that it uses; a cell that a dialogue needs as a secret is one."""
    fillings = [one.filling for one in (*seat.filled.values(), *seat.given.values()) if hasattr(one, "filling")]
    used = {source.part for one in fillings for source in one.sources if source.whose == ROW}
    needs = {need.name: need.secret for program in programs for need in program.needs() if need.name not in seat.given}
    secret = {name for name in rows.columns if needs.get(name)}
    columns = [
        name for name in rows.columns if name not in secret and (name in used or name in needs or name == rows.key)
    ]
    return msgspec.structs.replace(seat, columns=tuple(columns), secret_columns=tuple(sorted(secret)))
