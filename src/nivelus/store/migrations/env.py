"""Runs the migrations on the engine it is given."""

from alembic import context
from sqlmodel import SQLModel

import nivelus.store.tables  # noqa: F401  (fills the metadata)

engine = context.config.attributes["engine"]
with engine.connect() as connection:
    context.configure(connection=connection, target_metadata=SQLModel.metadata, render_as_batch=True)
    with context.begin_transaction():
        context.run_migrations()
    connection.commit()
