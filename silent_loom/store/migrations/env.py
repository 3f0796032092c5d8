"""Alembic environment: the connection is handed over by `store.database`."""

from alembic import context

from silent_loom.store.tables import Base

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=Base.metadata, render_as_batch=True)
with context.begin_transaction():
    context.run_migrations()
