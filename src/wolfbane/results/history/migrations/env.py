"""Run the migrations on the connection from the store."""

from __future__ import annotations

from alembic import context

from wolfbane.results.history.tables import metadata

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=metadata, render_as_batch=True)
with context.begin_transaction():
    context.run_migrations()
