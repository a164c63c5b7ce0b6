"""Projects, shots with revisions, media, folders, deliveries."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "project",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.String, nullable=False),
        sa.Column("created", sa.DateTime, nullable=False),
        sa.Column("deleted", sa.DateTime),
    )
    op.create_table(
        "shot",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("project_id", sa.Integer, sa.ForeignKey("project.id"), nullable=False, index=True),
        sa.Column("position", sa.Integer, nullable=False),
        sa.Column("head", sa.Integer, nullable=False),
        sa.Column("created", sa.DateTime, nullable=False),
        sa.Column("deleted", sa.DateTime),
    )
    op.create_table(
        "revision",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("shot_id", sa.Integer, sa.ForeignKey("shot.id"), nullable=False, index=True),
        sa.Column("number", sa.Integer, nullable=False, index=True),
        sa.Column("document", sa.String, nullable=False),
        sa.Column("label", sa.String, nullable=False),
        sa.Column("gesture", sa.String),
        sa.Column("created", sa.DateTime, nullable=False),
    )
    op.create_table(
        "media",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("project_id", sa.Integer, sa.ForeignKey("project.id"), nullable=False, index=True),
        sa.Column("name", sa.String, nullable=False),
        sa.Column("media", sa.String, nullable=False),
        sa.Column("kind", sa.String, nullable=False),
        sa.Column("frames", sa.Integer, nullable=False),
        sa.Column("rate", sa.String),
        sa.Column("width", sa.Integer, nullable=False),
        sa.Column("height", sa.Integer, nullable=False),
        sa.Column("encoding", sa.String, nullable=False),
        sa.Column("bytes", sa.Integer, nullable=False),
        sa.Column("created", sa.DateTime, nullable=False),
    )
    op.create_table(
        "folder",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("path", sa.String, nullable=False, unique=True),
    )
    op.create_table(
        "delivery",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("shot_id", sa.Integer, sa.ForeignKey("shot.id"), nullable=False, index=True),
        sa.Column("shot_name", sa.String, nullable=False),
        sa.Column("document", sa.String, nullable=False),
        sa.Column("order", sa.String, nullable=False),
        sa.Column("state", sa.String, nullable=False, index=True),
        sa.Column("done", sa.Integer, nullable=False),
        sa.Column("total", sa.Integer, nullable=False),
        sa.Column("ms_per_frame", sa.Float, nullable=False),
        sa.Column("problem", sa.String),
        sa.Column("result", sa.String, nullable=False),
        sa.Column("created", sa.DateTime, nullable=False),
        sa.Column("started", sa.DateTime),
        sa.Column("ended", sa.DateTime),
    )


def downgrade() -> None:
    for table in ("delivery", "folder", "media", "revision", "shot", "project"):
        op.drop_table(table)
