"""Run by Alembic: brings the store's tables to the newest version on the connection it is given."""

from alembic import context
from sqlmodel import SQLModel

from isbjorn.studio.storage import tables  # noqa: F401

context.configure(
    connection=context.config.attributes["connection"],
    target_metadata=SQLModel.metadata,
    render_as_batch=True,
)
with context.begin_transaction():
    context.run_migrations()
