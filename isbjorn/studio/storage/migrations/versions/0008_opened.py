"""When each shot was last opened."""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("shot", sa.Column("opened", sa.DateTime, nullable=True))
