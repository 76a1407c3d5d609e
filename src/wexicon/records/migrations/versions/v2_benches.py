"""Version 2: several benches at one register: runs, claims, numbers that are drawn, unfinished work."""

import sqlalchemy as sql
from alembic import op

revision = "2"
down_revision = "1"


def upgrade() -> None:
    """Makes what benches share; the version's number moves into Alembic's own table."""
    op.add_column("wexicon_record", sql.Column("task", sql.String(64), nullable=False, server_default=""))
    if sql.inspect(op.get_bind()).has_table("wexicon_register"):
        op.drop_table("wexicon_register")
    op.create_table(
        "wexicon_run",
        sql.Column("run", sql.String(32), primary_key=True),
        sql.Column("bench", sql.String(100), nullable=False),
        sql.Column("began", sql.Float, nullable=False),
        sql.Column("seen", sql.Float, nullable=False),
        sql.Column("ended", sql.Float),
    )
    op.create_table(
        "wexicon_task",
        sql.Column("task", sql.String(64), primary_key=True),
        sql.Column("sheet", sql.String(64), nullable=False, index=True),
        sql.Column("name", sql.String(200), nullable=False),
        sql.Column("position", sql.Integer, nullable=False),
        sql.Column("run", sql.String(32), index=True),
        sql.Column("unit", sql.String(200), index=True),
        sql.Column("bench", sql.String(100)),
        sql.Column("began", sql.Float),
        sql.Column("done", sql.Float),
        sql.Column("verdict", sql.String(20), nullable=False, server_default=""),
    )
    op.create_table(
        "wexicon_series",
        sql.Column("series", sql.String(300), primary_key=True),
        sql.Column("next", sql.BigInteger, nullable=False),
    )
    op.create_table(
        "wexicon_drawn",
        sql.Column("series", sql.String(300), primary_key=True),
        sql.Column("number", sql.BigInteger, primary_key=True, autoincrement=False),
        sql.Column("holder", sql.String(500), nullable=False),
        sql.UniqueConstraint("series", "holder", name="wexicon_drawn_once"),
    )
    op.create_table(
        "wexicon_unfinished",
        sql.Column("unit", sql.String(200), primary_key=True),
        sql.Column("began", sql.String(40), nullable=False),
        sql.Column("settings", sql.Text, nullable=False),
        sql.Column("sheet", sql.String(64), nullable=False),
        sql.Column("bench", sql.String(100), nullable=False),
        sql.Column("process", sql.Integer, nullable=False),
    )
