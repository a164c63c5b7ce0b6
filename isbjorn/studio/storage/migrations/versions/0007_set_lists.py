"""What comes onto the stage of a project, in which order."""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("project", sa.Column("set_list", sa.String, nullable=False, server_default=""))
