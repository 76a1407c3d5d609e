"""Version 4: unfinished work has what the module's settings were before the first write; runs say how far they are."""

import sqlalchemy as sql
from alembic import op

revision = "4"
down_revision = "3"


def upgrade() -> None:
    """Adds the column and the table."""
    op.add_column("wexicon_unfinished", sql.Column("prior", sql.Text, nullable=False, server_default="{}"))
    op.create_table(
        "wexicon_progress",
        sql.Column("run", sql.String(32), primary_key=True),
        sql.Column("bench", sql.String(100), nullable=False),
        sql.Column("sheet", sql.String(500), nullable=False),
        sql.Column("total", sql.Integer, nullable=False),
        sql.Column("done", sql.Integer, nullable=False),
        sql.Column("failed", sql.Integer, nullable=False),
        sql.Column("began", sql.Float, nullable=False),
        sql.Column("seen", sql.Float, nullable=False),
        sql.Column("ended", sql.Float),
        sql.Column("doing", sql.Text, nullable=False),
        sql.Column("failure", sql.Text, nullable=False),
    )
