"""The register: for every unit, the values read, changed and proved, by which sheet, when, on which bench.

The rule: a result goes to the disk of this machine first, synced, and into the database after; while the database is away it
waits there, and is stored once, by its own id. Nothing secret is in a result, so none stands here.
"""

from __future__ import annotations

import threading
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from datetime import UTC, date, datetime
from functools import cache, cached_property
from hashlib import sha256
from pathlib import Path
from typing import Any, TypeVar

import msgspec
import sqlalchemy as sql

from wexicon.core.faults import CallFault, Fault, RegisterAway
from wexicon.core.results.unit import Shown, Unfinished
from wexicon.core.text import encodable, visible
from wexicon.files import read_record, write_whole
from wexicon.records.database import RECORD, TASK, UNFINISHED, Database
from wexicon.records.entry import Entry, RecordedResult, bench_name

T = TypeVar("T")
# The most characters of a result that are read.
LARGEST = 16_000_000
# How many records are in memory at once while they are read.
AT_ONCE = 200
# When work began, if what another bench wrote there is no time.
UNKNOWN_TIME = datetime(1970, 1, 1, tzinfo=UTC)
# The ending of a waiting record that the database refused.
REFUSED = ".refused"
# What a unit is finished with; all other verdicts leave it to be done again.
FINISHED = ("conforms", "unproved")
# What writes a unit's settings. After a restore a module is no unit of a sheet any more.
WROTE = ("provision", "restore")


# Built once: building a statement takes longer than running it.
_WORK_ON = sql.select(UNFINISHED).where(UNFINISHED.c.unit == sql.bindparam("its_unit"))
_ALL_WORK = sql.select(UNFINISHED).order_by(UNFINISHED.c.began)
_FINISHED_WORK = sql.delete(UNFINISHED).where(UNFINISHED.c.unit == sql.bindparam("its_unit"))
_STARTED_WORK = UNFINISHED.insert()
_REPLACED = sql.delete(RECORD).where(RECORD.c.id == sql.bindparam("its_id"))


class Register:
    """A register at a database URL or a file (SQLite); `waiting` is the folder in which results wait for registers, each in a
    folder of its own."""

    def __init__(self, where: str, waiting: Path) -> None:
        self.database = Database(where)
        # What waits for one register never goes into another.
        self.waiting = waiting / sha256(self.database.name.encode()).hexdigest()[:16]
        self.bench = bench_name()
        # Records that could not be read, by their ids.
        self.broken: set[str] = set()
        self._bringing = threading.Lock()

    @property
    def transport_note(self) -> str:
        """A warning if what is recorded may go over a network unencrypted; empty otherwise."""
        return self.database.transport_note

    @property
    def where(self) -> str:
        """Where it is, without a password."""
        return self.database.name

    def check(self) -> None:
        """Raises CallFault where this can never be a register: another version's, a wrong URL. One that is away may come."""
        try:
            with self.database.reading():
                pass
        except CallFault:
            raise
        except Fault:
            return

    # -- writing ----------------------------------------------------------------------------------------------------

    def keep(self, entry: Entry) -> bool:
        """Keeps a record: on disk when this returns, and in the database where it answers; whether it did. Raises CallFault if
        the database refuses it: then it is set aside."""
        if entry.replaces:
            (self.waiting / f"{entry.replaces}.json").unlink(missing_ok=True)
        path = self.waiting / f"{entry.id}.json"
        # What a module sent need be no UTF-8.
        write_whole(path, msgspec.json.encode(encodable(msgspec.to_builtins(entry))))
        try:
            with self._bringing:
                # Another thread may have brought it in with its own.
                if path.exists():
                    self.flush_pending()
        except RegisterAway:
            return False
        aside = path.with_suffix(REFUSED)
        if aside.exists():
            hint = f"It is set aside as {aside}; rename it to .json in its folder to have it brought in again."
            raise CallFault("the register refused this record", where=self.where, hint=hint)
        return True

    def flush_pending(self) -> int:
        """Puts what waits on disk into the database, each record once; how many there were. One that is refused is set aside
        and stops no other. Raises Fault where the database is away."""
        found: dict[Path, Entry] = {}
        for path in sorted(self.waiting.glob("*.json")) if self.waiting.is_dir() else ():
            try:
                entry = read_record(path, Entry)
            except CallFault:
                path.replace(path.with_suffix(".broken"))
                continue
            # Otherwise another process has just brought it in.
            if entry is not None:
                found[path] = entry
        if not found:
            return 0
        try:
            self.database.write(lambda connection: self._insert(connection, found.values()))
            for path in found:
                path.unlink(missing_ok=True)
        except CallFault:
            for path, entry in found.items():
                self._bring_one(path, entry)
        return len(found)

    def _bring_one(self, path: Path, entry: Entry) -> None:
        """Puts one record into the database, in a transaction of its own."""
        try:
            self.database.write(lambda connection: self._insert(connection, [entry]))
        except CallFault:
            with suppress(FileNotFoundError):
                path.replace(path.with_suffix(REFUSED))
        else:
            path.unlink(missing_ok=True)

    def _insert(self, connection: sql.Connection, entries: Iterable[Entry]) -> None:
        for entry in entries:
            self._insert_one(connection, entry)

    def _insert_one(self, connection: sql.Connection, entry: Entry) -> None:
        values = msgspec.structs.asdict(entry)
        if before := values.pop("replaces"):
            connection.execute(_REPLACED, {"its_id": before})
        values |= {"row": msgspec.json.encode(entry.row).decode(), "result": msgspec.json.encode(entry.result).decode()}
        values = {name: _storable(value, RECORD.c[name]) for name, value in values.items()}
        new = connection.execute(self._insert_record, values).rowcount
        if new and entry.task and entry.did == "provision" and entry.verdict in FINISHED:
            done = {"its_task": entry.task, "its_unit": values["unit"], "its_verdict": entry.verdict}
            connection.execute(self._done, done)

    @cached_property
    def _insert_record(self) -> sql.Insert:
        return self.database.insert(RECORD)

    @cached_property
    def _done(self) -> sql.Update:
        """A finished unit; a late record says nothing of a unit that is another module by now."""
        unit: sql.BindParameter[str] = sql.bindparam("its_unit")
        its = sql.and_(TASK.c.task == sql.bindparam("its_task"), sql.or_(TASK.c.unit.is_(None), TASK.c.unit == unit))
        done = {"done": self.database.now(), "verdict": sql.bindparam("its_verdict"), "unit": unit, "run": None}
        return sql.update(TASK).where(its).values(**done)

    # -- unfinished work ----------------------------------------------------------------------------------------------

    def unfinished(self, unit: str) -> Unfinished | None:
        """What was started on a unit and not seen through, on any bench. Raises Fault, as do the others."""
        return next(iter(self._unfinished(_WORK_ON, its_unit=unit)), None)

    def all_unfinished(self) -> list[Unfinished]:
        """All work that was started and not seen through, the oldest first."""
        return self._unfinished(_ALL_WORK)

    def _unfinished(self, query: sql.Executable, **asked: str) -> list[Unfinished]:
        with self.database.reading() as connection:
            return [_work_of(row) for row in connection.execute(query, asked).mappings()]

    def begin(self, record: Unfinished) -> None:
        """Work on a unit was started."""
        told = msgspec.to_builtins(record)
        values = {name: told[name] for name in ("unit", "began", "sheet", "bench", "process")}
        values |= {name: msgspec.json.encode(encodable(told[name])).decode() for name in ("settings", "prior")}
        values = {name: _storable(one, UNFINISHED.c[name]) for name, one in values.items()}

        def write(connection: sql.Connection) -> None:
            connection.execute(_FINISHED_WORK, {"its_unit": values["unit"]})
            connection.execute(_STARTED_WORK, values)

        self.database.write(write)

    def finish(self, unit: str) -> None:
        """Work on a unit was seen through."""
        self.database.write(lambda connection: connection.execute(_FINISHED_WORK, {"its_unit": unit}) and None)

    # -- reading ----------------------------------------------------------------------------------------------------

    def latest(
        self,
        *,
        sheet: str = "",
        verdict: str = "",
        bench: str = "",
        day: date | None = None,
        wrote: bool = False,
        limit: int = 0,
    ) -> Iterator[Entry]:
        """The last record of each unit, those of the filters only, the newest first, `limit` at most unless that is 0; with
        `wrote` the last that wrote its settings. They are read as they are taken: memory does not grow with the register."""
        newer = RECORD.alias()
        later = sql.select(newer.c.id).where(newer.c.unit == RECORD.c.unit, newer.c.at > RECORD.c.at)
        query = sql.select(RECORD)
        if wrote:
            query, later = query.where(RECORD.c.did.in_(WROTE)), later.where(newer.c.did.in_(WROTE))
        query = query.where(~later.exists()).limit(limit or None)
        for column, wanted in ((RECORD.c.verdict, verdict), (RECORD.c.bench, bench)):
            if wanted:
                query = query.where(column == wanted)
        if sheet:
            query = query.where(RECORD.c.sheet.contains(sheet, autoescape=True) | (RECORD.c.digest == sheet))
        if day:
            query = query.where(RECORD.c.at.startswith(day.isoformat()))
        return self._entries(query.order_by(RECORD.c.at.desc(), RECORD.c.unit))

    def history(self, unit: str) -> list[Entry]:
        """All records of a unit, by its identity or its whole name, or of the unit that had this name in a sheet last; the
        oldest first."""
        own, at = RECORD.c.unit, RECORD.c.at
        mine = (own == unit) | own.endswith(f" {unit}", autoescape=True)
        found = list(self._entries(sql.select(RECORD).where(mine).order_by(at)))
        if not found:
            last = sql.select(RECORD).where(RECORD.c.name == unit).order_by(at.desc()).limit(1)
            return next((self.history(one.unit) for one in self._entries(last)), [])
        return found

    def last_provisioned(self, *, unit: str = "", sheet: str = "", name: str = "") -> Entry | None:
        """The last finished provisioning of a unit, or of what has this name in a sheet, of its title; None where there is none
        or if that module became another unit or was restored since."""
        asked = {"unit": unit, "sheet": sheet, "name": name}
        given = {name: text for name, text in asked.items() if text}
        found = next(self._entries(_last_finished(tuple(given)), given), None)
        if found and found.did != "provision":
            return None
        if found and not unit:
            last = self.last_provisioned(unit=found.unit)
            return found if last and (last.sheet, last.name) == (found.sheet, found.name) else None
        return found

    def _entries(self, query: sql.Executable, asked: Mapping[str, str] | None = None) -> Iterator[Entry]:
        """The rows as records. They come from other benches: one that is no record is left out and named in `broken`."""
        with self.database.reading() as connection:
            streamed = connection.execution_options(yield_per=AT_ONCE)
            for row in streamed.execute(query, asked or {}).mappings():
                try:
                    yield _entry_of(row)
                except (msgspec.DecodeError, msgspec.ValidationError, TypeError, UnicodeError, ValueError):
                    self.broken.add(visible(str(row["id"]))[:32])


def _entry_of(row: Mapping[Any, Any]) -> Entry:
    """A row as a record: the one place where what another bench wrote becomes a result. Raises what msgspec does, or ValueError
    for one that is too long."""
    if len(row["result"]) > LARGEST:
        raise ValueError("too long")
    texts = {"row": msgspec.json.decode(row["row"]), "result": msgspec.json.decode(row["result"], type=RecordedResult)}
    return msgspec.convert({**{str(name): part for name, part in row.items()}, **texts}, Entry)


def _work_of(row: Mapping[Any, Any]) -> Unfinished:
    """A row of unfinished work. That there is some counts even where the rest, from another bench, cannot be read."""
    text = {name: visible(str(row[name])) for name in ("unit", "began", "sheet", "bench")}
    return Unfinished(
        text["unit"],
        _read(msgspec.json.encode(text["began"]), datetime, UNKNOWN_TIME),
        _read(row["settings"], list[str], []),
        text["sheet"],
        row["process"] if isinstance(row["process"], int) else 0,
        text["bench"],
        prior=_read(row["prior"], dict[str, Shown], {}),
    )


def _read(data: str | bytes, kind: type[T], otherwise: T) -> T:
    """JSON of this kind; something else where it is not."""
    try:
        return msgspec.json.decode(data, type=kind)
    except (msgspec.DecodeError, TypeError, UnicodeError):
        return otherwise


@cache
def _last_finished(names: tuple[str, ...]) -> sql.Select[tuple[object, ...]]:
    """The query for the last finished provisioning with these columns as asked."""
    query = sql.select(RECORD).where(RECORD.c.did.in_(WROTE), RECORD.c.verdict.in_(FINISHED))
    for name in names:
        query = query.where(RECORD.c[name] == sql.bindparam(name))
    return query.order_by(RECORD.c.at.desc()).limit(1)


def _storable(value: object, column: sql.Column[Any]) -> object:
    """Text that any database takes in this column: no zero byte, no half of a character, no longer than it. What is longer
    ends in a digest, so that two stay two."""
    if not isinstance(value, str):
        return value
    text = value.replace("\0", "\\x00").encode("utf-8", "backslashreplace").decode()
    most = getattr(column.type, "length", None)
    if most is None or len(text) <= most:
        return text
    return text[: most - 9] + "~" + sha256(text.encode()).hexdigest()[:8]
