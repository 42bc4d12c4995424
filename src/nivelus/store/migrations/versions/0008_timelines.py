"""tracks are timelines: clips of several recordings, moved along the track, in takes

A row without these columns, in a table or in a step of a history, is one of the first take, of the track's own recording, at
the recording's own time. So nothing that is stored has to be written anew.
"""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"

_PLACED = ("clip", "detail")


def upgrade() -> None:
    op.add_column("session", sa.Column("origin", sa.Float(), nullable=True))
    op.add_column("track", sa.Column("take", sa.Integer(), nullable=False, server_default="0"))
    op.add_column("track", sa.Column("takes", sa.JSON(), nullable=False, server_default="[]"))
    for table in _PLACED:
        op.add_column(table, sa.Column("take", sa.Integer(), nullable=False, server_default="0"))
        op.add_column(table, sa.Column("recording_id", sa.String(), nullable=True))
        op.add_column(table, sa.Column("shift", sa.Integer(), nullable=False, server_default="0"))
    # a track may have marks of several recordings now, so the table is made without its unique column
    op.rename_table("mark_set", "old_mark_set")
    op.create_table(
        "mark_set",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("track_id", sa.String(), nullable=False),
        sa.Column("recording_id", sa.String(), nullable=True),
        sa.Column("data", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["track_id"], ["track.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_mark_set_track_id", "mark_set", ["track_id"])
    op.execute("INSERT INTO mark_set (id, track_id, data) SELECT id, track_id, data FROM old_mark_set")
    op.drop_table("old_mark_set")


def downgrade() -> None:
    op.drop_index("ix_mark_set_track_id", "mark_set")
    op.drop_column("mark_set", "recording_id")
    for table in reversed(_PLACED):
        for column in ("shift", "recording_id", "take"):
            op.drop_column(table, column)
    op.drop_column("track", "takes")
    op.drop_column("track", "take")
    op.drop_column("session", "origin")
