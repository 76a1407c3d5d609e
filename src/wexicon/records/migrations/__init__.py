"""How the register's tables came to be, one step a file in `versions`; Alembic goes through those that a register lacks."""
