"""Alembic's entry: migrations run on the connection that `store.database` hands over."""

from alembic import context

from kuppel.store.tables import metadata

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=metadata, render_as_batch=True)
with context.begin_transaction():
    context.run_migrations()
