"""The register: every unit that was worked on, what was found, changed and left, by which sheet, when, on which bench.

The rule: a result goes to the disk of this machine first, synced, and into the database after; while the database is away it
waits there, and goes in once, by its own id. Nothing secret stands in a result, so none stands here. A file that this version
did not make is refused, never guessed at.
"""

from __future__ import annotations

import os
import socket
import time
from collections.abc import Iterator
from contextlib import suppress
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any
from uuid import uuid4

import msgspec
import sqlalchemy as sql

from wexicon.core.faults import CallFault, Fault
from wexicon.files import private_folder, write_whole

VERSION = 1
# How often it is tried to make the tables, where another does so too.
TURNS = 8
_META = sql.MetaData()
_VERSION = sql.Table("wexicon_register", _META, sql.Column("version", sql.Integer, nullable=False))
_RECORDS = sql.Table(
    "wexicon_record",
    _META,
    sql.Column("id", sql.String(32), primary_key=True),
    sql.Column("unit", sql.String(200), nullable=False, index=True),
    sql.Column("name", sql.String(200), nullable=False),
    sql.Column("lexicon", sql.String(100), nullable=False),
    sql.Column("did", sql.String(20), nullable=False),
    sql.Column("verdict", sql.String(20), nullable=False),
    sql.Column("evidence", sql.String(20), nullable=False),
    sql.Column("sheet", sql.String(500), nullable=False, index=True),
    sql.Column("digest", sql.String(64), nullable=False),
    sql.Column("row", sql.Text, nullable=False),
    sql.Column("bench", sql.String(100), nullable=False),
    sql.Column("at", sql.String(40), nullable=False, index=True),
    sql.Column("result", sql.Text, nullable=False),
)


class Entry(msgspec.Struct):
    """One record: which unit it was (its family and its identity), what it is called in the sheet, what was done (`did`), the
    verdict and its evidence, the sheet's title and digest, the row of the table, the bench, when (UTC), the whole result."""

    unit: str
    name: str
    lexicon: str
    did: str
    verdict: str
    evidence: str
    sheet: str
    digest: str
    row: dict[str, str]
    result: dict[str, Any]
    id: str = msgspec.field(default_factory=lambda: uuid4().hex)
    bench: str = msgspec.field(default_factory=socket.gethostname)
    at: str = msgspec.field(default_factory=lambda: datetime.now(UTC).isoformat(timespec="milliseconds"))


class Register:
    """A register at a database URL or a file (SQLite); `waiting` is the folder where results wait for it."""

    def __init__(self, where: str, waiting: Path) -> None:
        self.where = where
        self.waiting = waiting
        self._database: sql.Engine | None = None

    def check(self) -> None:
        """Raises CallFault where this can never be a register: another version's, a wrong URL. One that is away may come."""
        try:
            with self._working():
                pass
        except CallFault:
            raise
        except Fault:
            return

    # -- writing ----------------------------------------------------------------------------------------------------

    def keep(self, entry: Entry) -> bool:
        """Keeps a record: on disk when this returns, and in the database where that is there; whether it is."""
        write_whole(self.waiting / f"{entry.id}.json", msgspec.json.encode(entry))
        try:
            self.bring_in()
        except Fault:
            return False
        return True

    def bring_in(self) -> int:
        """Puts what waits on disk into the database, each record once; how many there were. Raises Fault where it is away."""
        count = 0
        for path in sorted(self.waiting.glob("*.json")) if self.waiting.is_dir() else ():
            try:
                entry = msgspec.json.decode(path.read_bytes(), type=Entry)
            except FileNotFoundError:
                continue  # another process has just brought it in
            except msgspec.DecodeError:
                path.replace(path.with_suffix(".broken"))
                continue
            self._insert(entry)
            with suppress(FileNotFoundError):
                path.unlink()
            count += 1
        return count

    def _insert(self, entry: Entry) -> None:
        values = msgspec.structs.asdict(entry)
        values |= {"row": msgspec.json.encode(entry.row).decode(), "result": msgspec.json.encode(entry.result).decode()}
        values = {name: _storable(value) for name, value in values.items()}
        # One statement: one that reads first would have to wait for others while it holds what they wait for.
        with suppress(sql.exc.IntegrityError), self._working() as connection:
            connection.execute(_RECORDS.insert().values(**values))

    # -- reading ----------------------------------------------------------------------------------------------------

    def latest(
        self, *, sheet: str = "", verdict: str = "", bench: str = "", day: date | None = None, did: str = ""
    ) -> list[Entry]:
        """The last record of each unit, those of the filters only, the newest first."""
        last = sql.select(_RECORDS.c.unit, sql.func.max(_RECORDS.c.at).label("at")).group_by(_RECORDS.c.unit)
        if did:
            last = last.where(_RECORDS.c.did == did)
        newest = last.subquery()
        query = sql.select(_RECORDS).join(
            newest, sql.and_(_RECORDS.c.unit == newest.c.unit, _RECORDS.c.at == newest.c.at)
        )
        for column, wanted in ((_RECORDS.c.verdict, verdict), (_RECORDS.c.bench, bench)):
            if wanted:
                query = query.where(column == wanted)
        if sheet:
            query = query.where(_RECORDS.c.sheet.contains(sheet, autoescape=True) | (_RECORDS.c.digest == sheet))
        if day:
            query = query.where(_RECORDS.c.at.startswith(day.isoformat()))
        return list(self._entries(query.order_by(_RECORDS.c.at.desc(), _RECORDS.c.unit)))

    def history(self, unit: str) -> list[Entry]:
        """All records of a unit, by its identity or its whole name, or of the unit that had this name in a sheet last; the
        oldest first."""
        own, at = _RECORDS.c.unit, _RECORDS.c.at
        mine = (own == unit) | own.endswith(f" {unit}", autoescape=True)
        found = list(self._entries(sql.select(_RECORDS).where(mine).order_by(at)))
        if not found:
            last = sql.select(_RECORDS).where(_RECORDS.c.name == unit).order_by(at.desc()).limit(1)
            return next((self.history(one.unit) for one in self._entries(last)), [])
        return found

    def _entries(self, query: Any) -> Iterator[Entry]:
        with self._working() as connection:
            for row in connection.execute(query).mappings():
                texts = {name: msgspec.json.decode(row[name]) for name in ("row", "result")}
                yield Entry(**{**row, **texts})

    # -- the database -----------------------------------------------------------------------------------------------

    def _working(self) -> Any:
        try:
            if self._database is None:
                self._database = self._opened()
            return _Translated(self._database.begin())
        except (sql.exc.SQLAlchemyError, OSError) as fault:
            raise _away(self.where, fault) from None

    def _opened(self) -> sql.Engine:
        url = self.where if "://" in self.where else f"sqlite:///{self.where}"
        try:
            if url.startswith("sqlite:///"):
                _own_file(Path(url.removeprefix("sqlite:///")).absolute())
            engine = sql.create_engine(url, pool_pre_ping=True)
        except (sql.exc.ArgumentError, sql.exc.NoSuchModuleError, ImportError) as fault:
            what = f"this register cannot be used: {fault}".splitlines()[0]
            raise CallFault(what, where=self.where, hint="A file, or a URL such as sqlite:///units.db.") from None
        if engine.dialect.name == "sqlite":
            sql.event.listen(engine, "connect", _as_log)
        for turn in range(TURNS):
            try:
                self._make(engine)
                break
            except sql.exc.DBAPIError:
                # Another bench makes the tables at this moment.
                if turn == TURNS - 1:
                    raise
                time.sleep(0.05 * (turn + 1))
        return engine

    def _make(self, engine: sql.Engine) -> None:
        """Makes the tables where they are not there. Raises CallFault where they are another version's."""
        with engine.begin() as connection:
            _META.create_all(connection)
            found = connection.execute(sql.select(sql.func.max(_VERSION.c.version))).scalar()
            if found is None:
                connection.execute(_VERSION.insert().values(version=VERSION))
            elif found != VERSION:
                hint = "Use the version of Wexicon that made it, or another file."
                raise CallFault(
                    f"this register has version {found}, and {VERSION} is known", where=self.where, hint=hint
                )


def _own_file(path: Path) -> None:
    """The file of a register, made for its owner alone; what SQLite puts beside it has the same mode."""
    private_folder(path.parent, own=False)
    with suppress(FileExistsError):
        os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_RDWR, 0o600))


class _Translated:
    """A transaction whose faults are told as ours."""

    def __init__(self, transaction: Any) -> None:
        self._transaction = transaction

    def __enter__(self) -> Any:
        try:
            return self._transaction.__enter__()
        except sql.exc.SQLAlchemyError as fault:
            raise _away("", fault) from None

    def __exit__(self, kind: Any, fault: Any, trace: Any) -> None:
        try:
            self._transaction.__exit__(kind, fault, trace)
        except sql.exc.SQLAlchemyError as other:
            raise _away("", other) from None
        if isinstance(fault, sql.exc.SQLAlchemyError) and not isinstance(fault, sql.exc.IntegrityError):
            raise _away("", fault) from None


def _as_log(connection: Any, record: Any) -> None:
    """SQLite writes ahead, so that one who reads does not wait for one who writes; what is written is on the disk."""
    connection.execute("PRAGMA busy_timeout=10000")
    connection.execute("PRAGMA journal_mode=WAL")
    connection.execute("PRAGMA synchronous=FULL")


def _storable(value: Any) -> Any:
    """Text that any database takes: no zero byte, no half of a character."""
    if isinstance(value, str):
        return value.replace("\0", "\\x00").encode("utf-8", "backslashreplace").decode()
    return value


def _away(where: str, fault: Exception) -> Fault:
    what = str(getattr(fault, "orig", None) or fault).splitlines()[0]
    hint = "What is to be recorded waits on disk, and goes in as soon as it is back."
    return Fault(f"the register cannot be reached: {what}", where=where, hint=hint)
