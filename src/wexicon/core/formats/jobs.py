"""The units that a sheet asks for, each with its values: a seat is one unit, or one for each row of the table.

The rule: what can be known before a module is asked is filled in and checked before anything is said; what cannot (an
address that only the module knows) is named, and waited for. What must agree is checked over all units at once.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping

import msgspec

from wexicon.core.dialogue.given import given
from wexicon.core.faults import CallFault, Complaint, FileFault
from wexicon.core.formats.sheet import GivenByRow, Seat, Sheet
from wexicon.core.formats.units import DRAWN, NUMBER, OWN, ROW, Filling, Row, ValueReference, filling
from wexicon.core.formats.wanted import GENERATED, Fetched, FilledIn, Origin
from wexicon.core.protocol.masking import Secrets
from wexicon.core.text import Secret, meant
from wexicon.core.values import UNSET, Value, ValueFault

Known = Mapping[tuple[str, str], str]


class Job(msgspec.Struct, frozen=True):
    """One unit to be made: its seat, its row (None where the seat is one unit), its number among its seat's units from 1, the
    values that are known, and those that wait for what a module says of itself."""

    seat: Seat
    row: Row | None
    number: int
    wanted: dict[str, Value]
    deferred: dict[str, Filling]

    @property
    def name(self) -> str:
        """What it is called: the seat, and the key of its row or its number."""
        if self.row:
            return f"{self.seat.name} {self.row.key}"
        return f"{self.seat.name} {self.number}" if self.seat.count else self.seat.name

    @property
    def is_plain(self) -> bool:
        """Whether its settings are all that there is to do, and their values are known."""
        return not (self.deferred or self.seat.generated or self.seat.before or self.seat.afterwards)

    @property
    def recorded_row(self) -> dict[str, str]:
        """The cells of its row that may be recorded: those that the sheet uses, and no secret."""
        return {name: self.row.cells[name] for name in self.seat.columns if name in self.row.cells} if self.row else {}

    def waits_for(self) -> set[str]:
        """The seats whose units must have said who they are before this one can be made."""
        return {source.whose for one in self.deferred.values() for source in one.sources if source.whose not in _FIRST}

    def resolved(self, known: Known) -> dict[str, Value]:
        """All of its values, once what it waits for is `known`, by source and part. Raises ValueFault; KeyError where
        something is still not known."""
        values = dict(self.wanted)
        for name, one in self.deferred.items():
            text = one.fill({**known, **_first(self.row, self.number)})
            values[name] = self.seat.lexicon.settings[name].typed(text)
        return values

    def shown(self, name: str, value: object) -> str:
        """A value of one of its settings as it may be shown; empty if it is a secret."""
        setting = self.seat.lexicon.settings[name]
        return "" if setting.secret else setting.show(value)  # type: ignore[arg-type]

    def given(self, fetch: Callable[[str, str], str] | None = None) -> dict[str, object]:
        """What its dialogues and its module's actions need; `fetch` has what comes from outside. Raises CallFault."""
        made: dict[str, object] = {}
        for name, value in self.seat.given.items():
            if isinstance(value, GivenByRow):
                try:
                    text = value.filling.fill(_first(self.row, self.number))
                    if value.source:
                        text = fetch(value.source, text) if fetch else ""
                    plain = given(name, value.kind, text, secret=bool(value.source))
                except (KeyError, ValueError) as fault:
                    raise CallFault(f"{self.name}: {name} cannot be given: {fault}") from None
                made[name] = Secret(plain) if value.source else plain
            else:
                made[name] = value
        return made

    def secret_sources(self) -> list[str]:
        """Where its secrets come from, in words."""
        found = []
        for name, origin in self.seat.origins.items():
            if by_row := filling(origin.text) if origin.kind != GENERATED else None:
                origin = Origin(origin.kind, by_row.fill(_first(self.row, self.number)))
            found.append(f"{name}: {origin}")
        return found

    def series(self) -> set[str]:
        """The series of which it draws a number."""
        return {source.part for one in self.deferred.values() for source in one.sources if source.whose == DRAWN}

    def secrets(self) -> Secrets:
        """Its values that appear nowhere."""
        return self.seat.secrets(self.wanted)

    def known_of(self, identity: Mapping[str, str], values: Mapping[str, Value]) -> dict[tuple[str, str], str]:
        """What others may fill in from this unit: who it said it is, and its settings."""
        show = self.seat.lexicon.settings
        told = {
            name: show[name].kind.show(value) for name, value in values.items() if not _hidden(self.seat, name, value)
        }
        return {(self.seat.name, name): text for name, text in {**told, **identity}.items()}


_FIRST = (NUMBER, ROW, OWN, DRAWN)


def jobs_of(sheet: Sheet) -> list[Job]:
    """Every unit of a sheet, those that others wait for first. Raises FileFault with every complaint: a source that is not
    known, a value that is not allowed, units that do not agree."""
    complaints: list[Complaint] = []
    made: list[Job] = []
    for seat in sheet.seats.values():
        for key, one in seat.filled.items():
            for source in one.filling.sources:
                if what := _unknown(sheet, seat, source):
                    complaints.append(Complaint(what, f"seat.{seat.name}.settings.{key}"))
        for key, value in seat.given.items():
            for source in value.filling.sources if isinstance(value, GivenByRow) else ():
                if what := _unknown(sheet, seat, source):
                    complaints.append(Complaint(what, f"seat.{seat.name}.given.{key}"))
    if not complaints:
        constant = _constants(sheet)
        for seat in sheet.seats.values():
            rows: Iterable[Row | None] = [None] * max(1, seat.count)
            if seat.each and sheet.table:
                rows = sheet.table.rows
            for number, row in enumerate(rows, 1):
                made.append(_job(sheet, seat, row, number, constant, complaints))
        complaints += _draws_too_many(sheet, made)
        for job in made:
            try:
                job.given(sheet.secret)
            except CallFault as fault:
                complaints.append(Complaint(fault.what))
        units = [(job.name, job.wanted, job.shown) for job in made]
        complaints += [one.complaint for one in disagreements(sheet, units)]
    if complaints:
        raise FileFault(sheet.path, complaints[:50])
    return _in_order(made)


class Disagreement(msgspec.Struct, frozen=True):
    """Two units that break a rule of `[agree]`, by their numbers among those given, and the complaint."""

    first: int
    second: int
    complaint: Complaint


# A unit with its values, and what shows one of them (empty: it is a secret).
AgreeingUnit = tuple[str, Mapping[str, object], Callable[[str, object], str]]


def disagreements(sheet: Sheet, units: Iterable[AgreeingUnit]) -> list[Disagreement]:
    """Where these units break the rules of `[agree]`. Secrets are compared, and not shown."""
    units, found = list(units), []
    for name in sheet.agree.same:
        having = [(number, values[name]) for number, (_, values, _) in enumerate(units) if name in values]
        other = next((one for one in having if one[1] != having[0][1]), None)
        if other:
            told = [_has(units[number], name, value) for number, value in (having[0], other)]
            complaint = Complaint(f"{name} must be the same: {', '.join(told)}", "agree.same")
            found.append(Disagreement(having[0][0], other[0], complaint))
    for name in sheet.agree.different:
        seen: dict[str, int] = {}
        for number, (unit, values, show) in enumerate(units):
            if name in values:
                first = seen.setdefault(_plain(values[name]), number)
                if first != number:
                    shown = show(name, values[name]) or "the same secret value"
                    pair = f"{units[first][0]} and {unit} both have {shown}"
                    complaint = Complaint(f"{name} must be different: {pair}", "agree.different")
                    found.append(Disagreement(first, number, complaint))
    return found


def _has(unit: AgreeingUnit, name: str, value: object) -> str:
    return f"{unit[0]} has {unit[2](name, value) or 'another secret value'}"


def _plain(value: object) -> str:
    return "unset" if value is UNSET else str(value)


def _hidden(seat: Seat, name: str, value: Value) -> bool:
    return value is UNSET or seat.lexicon.settings[name].secret


def _unknown(sheet: Sheet, seat: Seat, source: ValueReference) -> str:
    """What is wrong with a source; empty where it leads somewhere."""
    if source.whose == NUMBER:
        return ""
    if source.whose == ROW:
        columns = sheet.table.columns if sheet.table and seat.each else ()
        if source.part in columns:
            return ""
        why = meant(source.part, columns) if columns else 'this seat has no rows: write each = "row"'
        return f"there is no column {source.part}; {why}"
    if source.whose == DRAWN:
        known = source.part in sheet.drawn
        return "" if known else f"there is no [drawn.{source.part}]; {meant(source.part, sheet.drawn)}"
    told = _told(seat if source.whose == OWN else sheet.seats.get(source.whose))
    if source.whose != OWN and source.whose not in sheet.seats:
        return f"there is no seat {source.whose}; {meant(source.whose, [*sheet.seats, *_FIRST])}"
    if source.whose != OWN and (sheet.seats[source.whose].each or sheet.seats[source.whose].count):
        return f"{source.whose} is several units: which of them is meant?"
    return "" if source.part in told else f"{source.whose} tells no {source.part}; {meant(source.part, told)}"


def _told(seat: Seat | None) -> list[str]:
    """What can be filled in from a unit of a seat."""
    if seat is None:
        return []
    captures = [name for one in seat.lexicon.identify for want in one.expect.wants for name in want.pattern.names]
    return [*captures, *(name for name in seat.wanted if not _hidden(seat, name, seat.wanted[name]))]


def _constants(sheet: Sheet) -> dict[tuple[str, str], str]:
    """What the seats that are one unit are given by the sheet itself."""
    found = {}
    for seat in sheet.seats.values():
        for name, value in seat.wanted.items():
            if not seat.each and not seat.count and not _hidden(seat, name, value):
                found[seat.name, name] = seat.lexicon.settings[name].kind.show(value)
    return found


def _first(row: Row | None, number: int) -> dict[tuple[str, str], str]:
    found = {(NUMBER, ""): str(number)}
    return found | ({(ROW, name): cell for name, cell in row.cells.items()} if row else {})


def _job(sheet: Sheet, seat: Seat, row: Row | None, number: int, constant: Known, complaints: list[Complaint]) -> Job:
    """One unit, with what can be known filled in."""
    known = {**constant, **_first(row, number)}
    wanted, late = dict(seat.wanted), {}
    table = f"{sheet.table.path}:{row.line}: " if sheet.table and row else ""

    def checked(name: str, text: str, columns: list[str]) -> Value | None:
        try:
            return seat.lexicon.settings[name].typed(text)
        except ValueFault as fault:
            where = table + (f"{', '.join(columns)}: " if columns else "")
            quoted = "the value" if seat.lexicon.settings[name].secret else repr(fault.value)
            what = f"{where}{name} of seat {seat.name}: {quoted} {fault.why}"
            complaints.append(Complaint(what, hint=f"allowed: {fault.allowed}"))
            return None

    filled = seat.filled
    for name, wish in filled.items():
        one = wish.filling
        columns = [source.part for source in one.sources if source.whose == ROW]
        empty = [column for column in columns if row and not row.cells.get(column)]
        if empty:
            what = f"{table}{empty[0]}: is empty, and {name} of seat {seat.name} is filled with it"
            complaints.append(Complaint(what))
            continue
        try:
            text = one.fill(known)
        except KeyError:
            late[name] = one
            if row is None or row.number == 1:
                # The drawn numbers are allowed values, from the first to the last.
                for end in _ends(sheet, one, known):
                    checked(name, one.fill(end), columns)
            continue
        if isinstance(wish, Fetched):
            try:
                text = sheet.secret(wish.origin.kind, text) if sheet.secret else ""
            except ValueError as fault:
                complaints.append(Complaint(f"{table}{name} of seat {seat.name}: {fault}"))
                continue
        value = checked(name, text, columns)
        if value is not None:
            wanted[name] = value
    # What is filled in later needs what is known now, whatever it will be.
    for key, other, needed, found in seat.lexicon.unmet({**dict.fromkeys(late, ""), **wanted}):
        show = seat.lexicon.settings[other].show
        if isinstance(filled.get(key), FilledIn) and other not in late:
            complaints.append(
                Complaint(f"{table}{key} of seat {seat.name} needs {other} = {show(needed)}, not {show(found)}")
            )
    return Job(seat, row, number, wanted, late)


def _ends(sheet: Sheet, one: Filling, known: Known) -> Iterator[Known]:
    """The first and the last numbers that can be drawn for a value, where nothing else of it is unknown."""
    series = [source.part for source in one.sources if source.whose == DRAWN]
    for end in ("first", "last"):
        drawn = {(DRAWN, part): str(getattr(sheet.drawn[part], end)) for part in series}
        if all((source.whose, source.part) in {**known, **drawn} for source in one.sources):
            yield {**known, **drawn}


def _draws_too_many(sheet: Sheet, jobs: Iterable[Job]) -> Iterator[Complaint]:
    """Series that have fewer numbers than there are units."""
    units = Counter(part for job in jobs for part in job.series())
    for part, count in units.items():
        have = sheet.drawn[part].last - sheet.drawn[part].first + 1
        if count > have:
            yield Complaint(f"has {have} numbers, and {count} units draw one", f"drawn.{part}")


def _in_order(jobs: list[Job]) -> list[Job]:
    """Those that others wait for first; a ring stands as it is in the sheet."""
    by_seat: dict[str, list[Job]] = {}
    for job in jobs:
        by_seat.setdefault(job.seat.name, []).append(job)
    waits = _waits(jobs)
    made: list[str] = []
    while len(made) < len(by_seat):
        left = [seat for seat in by_seat if seat not in made]
        made += [seat for seat in left if not waits[seat] & (set(left) - {seat})] or left
    return [job for seat in made for job in by_seat[seat]]


def dependency_cycle(jobs: Iterable[Job]) -> Iterator[Job]:
    """The jobs that wait for each other in a ring: who they are must be asked of all before any can be made."""
    jobs = list(jobs)
    waits = _waits(jobs)
    while True:
        free = [seat for seat, others in waits.items() if not others & waits.keys()]
        if not free:
            break
        for seat in free:
            del waits[seat]
    return (job for job in jobs if job.seat.name in waits)


def _waits(jobs: Iterable[Job]) -> dict[str, set[str]]:
    """The seats that each seat waits for."""
    found: dict[str, set[str]] = {}
    for job in jobs:
        found.setdefault(job.seat.name, set()).update(job.waits_for())
    return found
