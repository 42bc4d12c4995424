"""marks besides phrases, and their dips"""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.add_column("track", sa.Column("dip_rules", sa.JSON(), nullable=False, server_default="{}"))
    op.create_table(
        "mark_set",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("track_id", sa.String(), nullable=False),
        sa.Column("data", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["track_id"], ["track.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("track_id"),
    )
    op.create_table(
        "detail",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("track_id", sa.String(), nullable=False),
        sa.Column("found", sa.String(), nullable=True),
        sa.Column("found_end", sa.Integer(), nullable=True),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("start", sa.Integer(), nullable=False),
        sa.Column("end", sa.Integer(), nullable=False),
        sa.Column("moved", sa.Boolean(), nullable=False),
        sa.Column("level", sa.Float(), nullable=False),
        sa.Column("excess", sa.Float(), nullable=True),
        sa.Column("gone", sa.Boolean(), nullable=False),
        sa.Column("keep", sa.String(), nullable=False),
        sa.Column("offset", sa.Float(), nullable=False),
        sa.Column("pinned", sa.Float(), nullable=True),
        sa.Column("notch", sa.Boolean(), nullable=False),
        sa.Column("dip_start", sa.Integer(), nullable=True),
        sa.Column("dip_end", sa.Integer(), nullable=True),
        sa.Column("ramp_in", sa.Float(), nullable=True),
        sa.Column("ramp_out", sa.Float(), nullable=True),
        sa.ForeignKeyConstraint(["track_id"], ["track.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_detail_track_id", "detail", ["track_id"], unique=False)


def downgrade() -> None:
    op.drop_index("ix_detail_track_id", "detail")
    op.drop_table("detail")
    op.drop_table("mark_set")
    op.drop_column("track", "dip_rules")
