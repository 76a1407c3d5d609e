"""Run by Alembic: takes the steps on the connection that `database` gives it, in the transaction that is open there."""

from alembic import context

from wexicon.records.database import META, VERSION_TABLE

context.configure(connection=context.config.attributes["connection"], target_metadata=META, version_table=VERSION_TABLE)
with context.begin_transaction():
    context.run_migrations()
