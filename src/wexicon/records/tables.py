"""The register's tables, as queries know them; `migrations` makes them, and a test compares the two.

The rule: a table changes by a new migration only. Times that benches compare are the database's own, in seconds since 1970.
"""

from __future__ import annotations

from sqlalchemy import BigInteger, Column, Float, Index, Integer, MetaData, String, Table, Text, UniqueConstraint

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
