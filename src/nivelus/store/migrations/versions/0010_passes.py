"""passes: what a hand did to a lane while it played, until it is decided on"""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    op.create_table(
        "pass",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("session_id", sa.String(), sa.ForeignKey("session.id", ondelete="CASCADE"), nullable=False),
        sa.Column("track_id", sa.String(), nullable=False),
        sa.Column("take", sa.Integer(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("lane", sa.String(), nullable=False),
        sa.Column("mode", sa.String(), nullable=False),
        sa.Column("stamp", sa.String(), nullable=False),
        sa.Column("span_start", sa.Float(), nullable=True),
        sa.Column("span_end", sa.Float(), nullable=True),
        sa.Column("glide", sa.Float(), nullable=False),
        sa.Column("lead", sa.Float(), nullable=False),
        sa.Column("error", sa.Float(), nullable=False),
        sa.Column("snap", sa.Boolean(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("created", sa.DateTime(), nullable=False),
    )
    op.create_index("ix_pass_session_id", "pass", ["session_id"])
    op.create_index("ix_pass_track_id", "pass", ["track_id"])
    op.create_table(
        "pass_piece",
        sa.Column("pass_id", sa.String(), primary_key=True),
        sa.Column("first", sa.Integer(), primary_key=True),
        sa.Column("session_id", sa.String(), sa.ForeignKey("session.id", ondelete="CASCADE"), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=False),
    )
    op.create_index("ix_pass_piece_session_id", "pass_piece", ["session_id"])


def downgrade() -> None:
    op.drop_table("pass_piece")
    op.drop_table("pass")
