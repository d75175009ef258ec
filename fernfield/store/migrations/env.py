"""Alembic's entry: runs the migrations on the connection that `open_database` hands over."""

from alembic import context

from fernfield.store.schema import metadata

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=metadata, render_as_batch=True)
with context.begin_transaction():
    context.run_migrations()
