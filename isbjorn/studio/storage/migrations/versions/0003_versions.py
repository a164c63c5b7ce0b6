"""Versions: named states of shots."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "version",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("shot_id", sa.Integer, sa.ForeignKey("shot.id"), nullable=False, index=True),
        sa.Column("name", sa.String, nullable=False),
        sa.Column("document", sa.String, nullable=False),
        sa.Column("created", sa.DateTime, nullable=False),
    )
