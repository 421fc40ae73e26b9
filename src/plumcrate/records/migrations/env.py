"""Alembic's entry: runs the migrations on the connection that the caller opened."""

from alembic import context

from plumcrate.records.tables import Base

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=Base.metadata)
with context.begin_transaction():
    context.run_migrations()
