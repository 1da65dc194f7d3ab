"""Alembic's environment: runs migrations on the connection it is handed."""

from alembic import context

from mivlo.server.db.tables import Base

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=Base.metadata)
with context.begin_transaction():
    context.run_migrations()
