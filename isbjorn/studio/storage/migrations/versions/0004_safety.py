"""One revision of a number in each shot; how often a delivery was begun."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("DELETE FROM revision WHERE id NOT IN (SELECT MAX(id) FROM revision GROUP BY shot_id, number)")
    op.create_index("one_revision_of_a_number", "revision", ["shot_id", "number"], unique=True)
    op.add_column("delivery", sa.Column("attempts", sa.Integer, nullable=False, server_default="0"))
