"""Runs the migrations on the connection that the records hand over."""

from alembic import context

from invio.records.tables import metadata

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=metadata, render_as_batch=True)
with context.begin_transaction():
    context.run_migrations()
