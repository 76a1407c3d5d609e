"""Opens a database, a SQLite file or a PostgreSQL server, and migrates its tables, which stand here as queries know them.

The rule: an outage that may end raises `RegisterAway`; a database that can never be used raises `CallFault`. No message
contains a password. A table changes by a new migration only, and a test compares the two; a database made by a newer version
is refused. Times that benches compare are the database's own, in seconds since 1970.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, TypeVar

import msgspec
import sqlalchemy as sql
from sqlalchemy import BigInteger, Column, Float, Index, Integer, MetaData, String, Table, Text, UniqueConstraint
from sqlalchemy.dialects import postgresql, sqlite

from wexicon.core.faults import CallFault, RegisterAway
from wexicon.core.text import visible
from wexicon.files import private_folder

# The newest migration (see `migrations/versions`).
VERSION = "4"
VERSION_TABLE = "wexicon_version"
MIGRATIONS = Path(__file__).parent / "migrations"
# A lock of PostgreSQL that is ours alone, while tables are created: any number.
_MAKING = 7_105_622_841
# How long a server that does not answer is waited for (seconds); a connection that went dead is noticed after as long.
PATIENCE = 5
Result = TypeVar("Result")
_USABLE = ("sqlite", "postgresql")
# What does not pass by waiting.
_REFUSALS = (sql.exc.ProgrammingError, sql.exc.DataError, sql.exc.NotSupportedError, sql.exc.IntegrityError)
# Primary result codes of SQLite (its manual, "Result and Error Codes"): SQLITE_CORRUPT, SQLITE_NOTADB.
_DAMAGED = (11, 26)
_DAMAGED_HINT = "Restore a copy of it, or name another register."
_RIGHTS = "May this user make and write tables there?"
_HINT = "A file, sqlite:///FILE, or postgresql+psycopg://USER@HOST/DATABASE."


class Database:
    """The database at a file name or a URL; opened when it is first used."""

    def __init__(self, where: str) -> None:
        self._url = where if "://" in where else f"sqlite:///{where}"
        self.name = _without_password(where)
        self.transport_note = transport_note(where)
        self._pool: sql.Engine | None = None
        self._opening, self._writing, self._waiting = threading.Lock(), threading.Lock(), threading.Lock()
        self._writes: list[_Write] = []

    @contextmanager
    def reading(self) -> Iterator[sql.Connection]:
        """A transaction that only reads. Raises Fault."""
        with self._told():
            engine = self._opened()
            with engine.begin() as connection:
                yield connection

    def write(self, work: Callable[[sql.Connection], Result]) -> Result:
        """Does some work in a transaction: kept whole, or not at all. Raises Fault, and what the work raises.

        Of SQLite one writes at a time, and what waits meanwhile is written together: to have it on the disk takes far longer
        than to write it.
        """
        with self._told():
            engine = self._opened()
            if not self._is_sqlite():
                with engine.begin() as connection:
                    return work(connection)
            mine = _Write(work)
            with self._waiting:
                self._writes.append(mine)
            with self._writing:
                if not mine.ended:
                    with self._waiting:
                        all_, self._writes = self._writes, []
                    _write_together(engine, all_)
            gave: Result = mine.result()
            return gave

    def insert(self, table: sql.Table) -> sql.Insert:
        """An insertion into a table that leaves an existing row as it is."""
        made = sqlite.insert(table) if self._is_sqlite() else postgresql.insert(table)
        return made.on_conflict_do_nothing()

    def insert_all(self, connection: sql.Connection, table: sql.Table, rows: Sequence[Mapping[str, object]]) -> None:
        """Inserts many rows in one statement, leaving existing ones as they are."""
        if not rows:
            return
        names = list(rows[0])
        given = self.given([table.c[name] for name in names], [[row[name] for name in names] for row in rows])
        # SQLite needs the WHERE to tell the conflict clause from a join (its manual, "UPSERT", 2.2).
        connection.execute(self.insert(table).from_select(names, given.where(sql.true())))

    def given(self, columns: Sequence[sql.Column[Any]], rows: Sequence[Sequence[object]]) -> sql.Select[Any]:
        """Values as a query with these columns: one parameter holds them all, as JSON."""
        text = msgspec.json.encode(rows).decode()
        values: list[sql.ColumnElement[Any]]
        if self._is_sqlite():
            each = sql.func.json_each(text).table_valued("value")
            values = [sql.func.json_extract(each.c.value, f"$[{at}]") for at in range(len(columns))]
        else:
            each = sql.func.json_array_elements(sql.cast(sql.literal(text, sql.Text), postgresql.JSON)).table_valued(
                "value"
            )
            parts = [each.c.value.op("->>")(at) for at in range(len(columns))]
            values = [sql.cast(part, column.type) for part, column in zip(parts, columns, strict=True)]
        return sql.select(*(value.label(column.name) for value, column in zip(values, columns, strict=True)))

    def lock(self, connection: sql.Connection, name: str) -> None:
        """Holds a lock of this name until the transaction ends. SQLite has one writer at a time without it."""
        if not self._is_sqlite():
            connection.execute(sql.select(sql.func.pg_advisory_xact_lock(sql.func.hashtext(name))))

    def now(self) -> sql.ColumnElement[Any]:
        """The database's own time, in seconds since 1970: the same for all benches."""
        if self._is_sqlite():
            return (sql.func.julianday("now") - 2440587.5) * 86400.0
        return sql.func.extract("epoch", sql.func.clock_timestamp())

    def up_since(self) -> object:
        """Since when the server is there, on the same clock: before that no sign of life could reach it."""
        return sql.literal(0.0) if self._is_sqlite() else sql.func.extract("epoch", sql.func.pg_postmaster_start_time())

    def close(self) -> None:
        """Lets go of the database."""
        if self._pool is not None:
            self._pool.dispose()
            self._pool = None

    def _is_sqlite(self) -> bool:
        return self._url.startswith("sqlite")

    @contextmanager
    def _told(self) -> Iterator[None]:
        """Faults of the database are reported as ours."""
        try:
            yield
        except UnicodeDecodeError:
            # SQLite names what it finds damaged, and that is no text.
            raise CallFault("it is no register, or it is damaged", where=self.name, hint=_DAMAGED_HINT) from None
        except (sql.exc.DBAPIError, sql.exc.TimeoutError, OSError) as fault:
            what = str(getattr(fault, "orig", None) or fault).strip().splitlines()[0]
            if getattr(getattr(fault, "orig", None), "sqlite_errorcode", 0) & 0xFF in _DAMAGED:
                raise CallFault(
                    f"it is no register, or it is damaged: {what}", where=self.name, hint=_DAMAGED_HINT
                ) from None
            if isinstance(fault, _REFUSALS):
                raise CallFault(f"the register refused: {what}", where=self.name, hint=_RIGHTS) from None
            hint = "Records wait on disk and are entered as soon as it is back."
            raise RegisterAway(f"the register cannot be reached: {what}", where=self.name, hint=hint) from None

    def _opened(self) -> sql.Engine:
        with self._opening:
            return self._opened_once()

    def _opened_once(self) -> sql.Engine:
        if self._pool is None:
            engine = self._made()
            with engine.connect() as connection, connection.begin():
                found = _version(connection)
            # Usually the version is right, and the file need not be taken.
            if found != VERSION:
                with engine.connect().execution_options(writes=True) as connection, connection.begin():
                    _bring_up_to_date(connection, self.name)
            self._pool = engine
        return self._pool

    def _made(self) -> sql.Engine:
        try:
            url = sql.make_url(self._url)
            if url.get_backend_name() not in _USABLE:
                raise CallFault("this database cannot be a register", where=self.name, hint=_HINT)
            if self._is_sqlite():
                _own_file(Path(url.database or "").absolute())
                engine = sql.create_engine(url)
                sql.event.listen(engine, "connect", _as_log)
                sql.event.listen(engine, "begin", _begin)
                return engine
            alive = {"connect_timeout": PATIENCE, "keepalives_idle": PATIENCE, "tcp_user_timeout": PATIENCE * 1000}
            return sql.create_engine(url, pool_pre_ping=True, pool_size=4, max_overflow=8, connect_args=alive)
        except ModuleNotFoundError as fault:
            hint = "pip install 'wexicon[postgresql]' brings it."
            raise CallFault(f"{fault.name} is not installed", where=self.name, hint=hint) from None
        except (sql.exc.ArgumentError, sql.exc.NoSuchModuleError, ValueError):
            raise CallFault("this is not the URL of a register", where=self.name, hint=_HINT) from None


class _Write:
    """One pending write, and its result."""

    def __init__(self, work: Callable[[sql.Connection], Any]) -> None:
        self.work = work
        self.ended = False
        self.gave: object = None
        self.fault: Exception | None = None

    def result(self) -> Any:
        """What it gave; raises what it raised."""
        if self.fault:
            raise self.fault
        return self.gave


def _write_together(engine: sql.Engine, writes: list[_Write]) -> None:
    """Writes all in one transaction. If one fails none is kept, and each is done again by itself: what is written must be
    repeatable."""
    try:
        with engine.connect().execution_options(writes=True) as connection, connection.begin():
            for one in writes:
                one.gave = one.work(connection)
    except Exception as fault:
        if len(writes) > 1:
            for one in writes:
                _write_together(engine, [one])
        else:
            writes[0].fault = fault
    for one in writes:
        one.ended = True


def _bring_up_to_date(connection: sql.Connection, name: str) -> None:
    """Makes the tables that are missing, by the migrations. Raises CallFault where another version made them."""
    found = _version(connection)
    if found == VERSION:
        return
    if connection.dialect.name == "postgresql":
        connection.execute(sql.select(sql.func.pg_advisory_xact_lock(_MAKING)))
        found = _version(connection)
    if found not in ("", "1", "2", "3", VERSION):
        hint = "Use the version of Wexicon that made it, or another register."
        raise CallFault(f"this register has version {found}, and {VERSION} is known", where=name, hint=hint)
    if found == VERSION:
        return
    # Only now: it takes long to import, and is needed once in the life of a register.
    from alembic import command
    from alembic.config import Config

    ways = Config()
    ways.set_main_option("script_location", str(MIGRATIONS).replace("%", "%%"))
    ways.attributes["connection"] = connection
    if found == "1" and not sql.inspect(connection).has_table(VERSION_TABLE):
        command.stamp(ways, "1")
    command.upgrade(ways, "head")


def _version(connection: sql.Connection) -> str:
    """Which version's tables there are; empty where there are none."""
    tables = sql.inspect(connection)
    if tables.has_table(VERSION_TABLE):
        return str(connection.execute(sql.text(f"select version_num from {VERSION_TABLE}")).scalar() or "")
    # The first version kept its number in a table of its own.
    if tables.has_table("wexicon_register"):
        return str(connection.execute(sql.text("select max(version) from wexicon_register")).scalar() or "")
    return ""


def _own_file(path: Path) -> None:
    """The file of a register, made for its owner alone; what SQLite puts beside it has the same mode."""
    private_folder(path.parent, own=False)
    with suppress(FileExistsError):
        os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_RDWR, 0o600))


def _as_log(connection: Any, record: Any) -> None:
    """SQLite writes ahead, so that one who reads does not wait for one who writes; what is written is on the disk. Its driver
    begins no transaction by itself."""
    connection.isolation_level = None
    connection.execute("PRAGMA busy_timeout=10000")
    connection.execute("PRAGMA journal_mode=WAL")
    connection.execute("PRAGMA synchronous=FULL")


def _begin(connection: sql.Connection) -> None:
    """One who is to write takes the file at once: two that read first would wait for each other."""
    writes = connection.get_execution_options().get("writes")
    connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")


def transport_note(where: str) -> str:
    """A warning if the connection to a server on another machine need not be encrypted; empty otherwise. What PostgreSQL's
    sslmode means: its documentation, 34.19.1."""
    if not where.startswith("postgresql"):
        return ""
    with suppress(sql.exc.ArgumentError, ValueError):
        url = sql.make_url(where)
        mode = str(url.query.get("sslmode") or os.environ.get("PGSSLMODE") or "prefer")
        host = str(url.query.get("host") or url.host or "")
        if host in ("", "localhost", "127.0.0.1", "::1") or host.startswith("/") or mode.startswith("verify-"):
            return ""
        means = "is encrypted only if the server offers it" if mode == "prefer" else f"is as sslmode={mode} says"
        if mode == "require":
            means = "is encrypted, but the server's certificate is not verified"
        return f"the connection to the register on {visible(host)} {means}; add ?sslmode=verify-full to its URL"
    return ""


def _without_password(where: str) -> str:
    """A URL as it may be shown: without what follows its `?` too, where drivers take passwords."""
    if "://" not in where:
        return where
    try:
        return sql.make_url(where).set(query={}).render_as_string(hide_password=True)
    except (sql.exc.ArgumentError, ValueError):
        return where.partition("://")[0] + "://..."


META = MetaData()

# What was done to a unit: one row a result, never changed.
RECORD = Table(
    "wexicon_record",
    META,
    Column("id", String(32), primary_key=True),
    Column("unit", String(200), nullable=False, index=True),
    Column("name", String(200), nullable=False),
    Column("lexicon", String(100), nullable=False),
    Column("did", String(20), nullable=False),
    Column("verdict", String(20), nullable=False),
    Column("evidence", String(20), nullable=False),
    Column("sheet", String(500), nullable=False, index=True),
    Column("digest", String(64), nullable=False),
    Column("row", Text, nullable=False),
    Column("bench", String(100), nullable=False),
    Column("at", String(40), nullable=False, index=True),
    Column("result", Text, nullable=False),
    Column("task", String(64), nullable=False, server_default=""),
)
# A run over a sheet on a bench; `seen` is its last sign of life, `ended` when it said that it ended.
RUN = Table(
    "wexicon_run",
    META,
    Column("run", String(32), primary_key=True),
    Column("bench", String(100), nullable=False),
    Column("began", Float, nullable=False),
    Column("seen", Float, nullable=False),
    Column("ended", Float),
)
# A unit of a shared sheet: which run has claimed it, on which module it was started, when it was done.
TASK = Table(
    "wexicon_task",
    META,
    Column("task", String(64), primary_key=True),
    Column("sheet", String(64), nullable=False),
    Column("name", String(200), nullable=False),
    Column("position", Integer, nullable=False),
    Column("run", String(32), index=True),
    Column("unit", String(200), index=True),
    Column("bench", String(100)),
    Column("began", Float),
    Column("done", Float),
    Column("verdict", String(20), nullable=False, server_default=""),
    Index("ix_wexicon_task_sheet_unit", "sheet", "unit"),
)
# A series of numbers, and which unit of which sheet has drawn each.
SERIES = Table(
    "wexicon_series",
    META,
    Column("series", String(300), primary_key=True),
    Column("next", BigInteger, nullable=False),
)
DRAWN = Table(
    "wexicon_drawn",
    META,
    Column("series", String(300), primary_key=True),
    Column("number", BigInteger, primary_key=True, autoincrement=False),
    Column("holder", String(500), nullable=False),
    UniqueConstraint("series", "holder", name="wexicon_drawn_once"),
)
# Work on a module that was started and not seen through.
UNFINISHED = Table(
    "wexicon_unfinished",
    META,
    Column("unit", String(200), primary_key=True),
    Column("began", String(40), nullable=False),
    Column("settings", Text, nullable=False),
    Column("sheet", String(64), nullable=False),
    Column("bench", String(100), nullable=False),
    Column("process", Integer, nullable=False),
    Column("prior", Text, nullable=False, server_default="{}"),
)
# How far a run is: what it does now (JSON: unit, port, step), and why the last unit failed that did.
PROGRESS = Table(
    "wexicon_progress",
    META,
    Column("run", String(32), primary_key=True),
    Column("bench", String(100), nullable=False),
    Column("sheet", String(500), nullable=False),
    Column("total", Integer, nullable=False),
    Column("done", Integer, nullable=False),
    Column("failed", Integer, nullable=False),
    Column("began", Float, nullable=False),
    Column("seen", Float, nullable=False),
    Column("ended", Float),
    Column("doing", Text, nullable=False),
    Column("failure", Text, nullable=False),
)
