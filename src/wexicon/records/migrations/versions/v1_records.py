"""Version 1: the record of each result."""

import sqlalchemy as sql
from alembic import op

revision = "1"
down_revision = None


def upgrade() -> None:
    """Makes the table of records."""
    words = (("name", 200), ("lexicon", 100), ("did", 20), ("verdict", 20), ("evidence", 20), ("digest", 64))
    op.create_table(
        "wexicon_record",
        sql.Column("id", sql.String(32), primary_key=True),
        sql.Column("unit", sql.String(200), nullable=False, index=True),
        *(sql.Column(name, sql.String(size), nullable=False) for name, size in words),
        sql.Column("sheet", sql.String(500), nullable=False, index=True),
        sql.Column("row", sql.Text, nullable=False),
        sql.Column("bench", sql.String(100), nullable=False),
        sql.Column("at", sql.String(40), nullable=False, index=True),
        sql.Column("result", sql.Text, nullable=False),
    )
