"""first tables"""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    # one call per table, as the models stood at this version
    op.create_table(
        "recording",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("hash", sa.String(), nullable=False),
        sa.Column("suffix", sa.String(), nullable=False),
        sa.Column("format", sa.String(), nullable=False),
        sa.Column("subtype", sa.String(), nullable=False),
        sa.Column("sample_rate", sa.Integer(), nullable=False),
        sa.Column("channels", sa.Integer(), nullable=False),
        sa.Column("frames", sa.Integer(), nullable=False),
        sa.Column("time_reference", sa.Integer(), nullable=True),
        sa.Column("room_tone", sa.Float(), nullable=False),
        sa.Column("missing", sa.Boolean(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("hash"),
    )
    op.create_table(
        "session",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("created", sa.DateTime(), nullable=False),
        sa.Column("touched", sa.DateTime(), nullable=False),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("unit", sa.String(), nullable=False),
        sa.Column("target_kind", sa.String(), nullable=False),
        sa.Column("target", sa.Float(), nullable=False),
        sa.Column("tolerance", sa.Float(), nullable=False),
        sa.Column("strength", sa.Float(), nullable=False),
        sa.Column("most_up", sa.Float(), nullable=False),
        sa.Column("most_down", sa.Float(), nullable=False),
        sa.Column("ceiling", sa.Float(), nullable=False),
        sa.Column("noise_limit", sa.Float(), nullable=False),
        sa.Column("keep_by_hand", sa.Boolean(), nullable=False),
        sa.Column("mono_as_two", sa.Boolean(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "change",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("session_id", sa.String(), nullable=False),
        sa.Column("label", sa.String(), nullable=False),
        sa.Column("created", sa.DateTime(), nullable=False),
        sa.Column("rows", sa.JSON(), nullable=False),
        sa.Column("undone", sa.Boolean(), nullable=False),
        sa.ForeignKeyConstraint(["session_id"], ["session.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    with op.batch_alter_table("change", schema=None) as batch_op:
        batch_op.create_index(batch_op.f("ix_change_session_id"), ["session_id"], unique=False)

    op.create_table(
        "job",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("session_id", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("stage", sa.String(), nullable=False),
        sa.Column("percent", sa.Float(), nullable=False),
        sa.Column("message", sa.String(), nullable=False),
        sa.Column("stop", sa.Boolean(), nullable=False),
        sa.Column("payload", sa.JSON(), nullable=False),
        sa.Column("result", sa.JSON(), nullable=False),
        sa.Column("created", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(["session_id"], ["session.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    with op.batch_alter_table("job", schema=None) as batch_op:
        batch_op.create_index(batch_op.f("ix_job_session_id"), ["session_id"], unique=False)

    op.create_table(
        "track",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("session_id", sa.String(), nullable=False),
        sa.Column("recording_id", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.Column("fader", sa.Float(), nullable=False),
        sa.ForeignKeyConstraint(
            ["recording_id"],
            ["recording.id"],
        ),
        sa.ForeignKeyConstraint(["session_id"], ["session.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    with op.batch_alter_table("track", schema=None) as batch_op:
        batch_op.create_index(batch_op.f("ix_track_recording_id"), ["recording_id"], unique=False)
        batch_op.create_index(batch_op.f("ix_track_session_id"), ["session_id"], unique=False)

    op.create_table(
        "clip",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("track_id", sa.String(), nullable=False),
        sa.Column("start", sa.Integer(), nullable=False),
        sa.Column("end", sa.Integer(), nullable=False),
        sa.Column("gain", sa.Float(), nullable=False),
        sa.Column("phrase_start", sa.Integer(), nullable=True),
        sa.Column("phrase_end", sa.Integer(), nullable=True),
        sa.Column("confidence", sa.Float(), nullable=False),
        sa.Column("loudness", sa.Float(), nullable=True),
        sa.Column("rms", sa.Float(), nullable=True),
        sa.Column("peak", sa.Float(), nullable=True),
        sa.Column("true_peak", sa.Float(), nullable=False),
        sa.Column("room_tone", sa.Float(), nullable=False),
        sa.Column("locked", sa.Boolean(), nullable=False),
        sa.Column("left_out", sa.Boolean(), nullable=False),
        sa.Column("by_hand", sa.Boolean(), nullable=False),
        sa.Column("reference", sa.Boolean(), nullable=False),
        sa.Column("label", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["track_id"], ["track.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    with op.batch_alter_table("clip", schema=None) as batch_op:
        batch_op.create_index(batch_op.f("ix_clip_track_id"), ["track_id"], unique=False)


def downgrade() -> None:
    # one call per table, as the models stood at this version
    with op.batch_alter_table("clip", schema=None) as batch_op:
        batch_op.drop_index(batch_op.f("ix_clip_track_id"))

    op.drop_table("clip")
    with op.batch_alter_table("track", schema=None) as batch_op:
        batch_op.drop_index(batch_op.f("ix_track_session_id"))
        batch_op.drop_index(batch_op.f("ix_track_recording_id"))

    op.drop_table("track")
    with op.batch_alter_table("job", schema=None) as batch_op:
        batch_op.drop_index(batch_op.f("ix_job_session_id"))

    op.drop_table("job")
    with op.batch_alter_table("change", schema=None) as batch_op:
        batch_op.drop_index(batch_op.f("ix_change_session_id"))

    op.drop_table("change")
    op.drop_table("session")
    op.drop_table("recording")
