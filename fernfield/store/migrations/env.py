"""Alembic's entry: runs the migrations on the connection that `open_database` hands over."""

from alembic import context

from fernfield.store.schema import metadata

connection = context.config.attributes["connection"]
# One transaction for all of them: a stop in the middle leaves the database as it was, and the disk is waited for once.
context.configure(connection=connection, target_metadata=metadata, render_as_batch=True, transactional_ddl=True)
with context.begin_transaction():
    context.run_migrations()
