"""Alembic's environment: the connection is handed in by the ledger."""

from alembic import context

from diadoche.services.ledger.models import Base

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=Base.metadata, render_as_batch=True)
with context.begin_transaction():
    context.run_migrations()
