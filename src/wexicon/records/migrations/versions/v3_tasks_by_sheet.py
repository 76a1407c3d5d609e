"""Version 3: tasks are looked up by sheet and unit together; with an index on the sheet alone each look-up read all rows."""

from alembic import op

revision = "3"
down_revision = "2"


def upgrade() -> None:
    """Replaces the index on the sheet by one on sheet and unit."""
    op.drop_index("ix_wexicon_task_sheet", "wexicon_task")
    op.create_index("ix_wexicon_task_sheet_unit", "wexicon_task", ["sheet", "unit"])
