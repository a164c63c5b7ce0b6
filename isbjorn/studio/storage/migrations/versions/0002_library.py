"""The library of emitters."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "preset",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.String, nullable=False),
        sa.Column("tags", sa.String, nullable=False),
        sa.Column("document", sa.String, nullable=False),
        sa.Column("created", sa.DateTime, nullable=False),
    )
