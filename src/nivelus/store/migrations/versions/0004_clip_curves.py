"""the curve of a clip, the working range of a track, and lanes that are switched off"""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    op.add_column("clip", sa.Column("curve", sa.String(), nullable=False, server_default=""))
    op.add_column("lane", sa.Column("off", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("track", sa.Column("range_low", sa.Float(), nullable=False, server_default="-20"))
    op.add_column("track", sa.Column("range_high", sa.Float(), nullable=False, server_default="6"))
    # what was drawn before there was a working range must sound as it did
    op.execute("UPDATE track SET range_low = -144, range_high = 24 WHERE id IN (SELECT track_id FROM lane)")


def downgrade() -> None:
    op.drop_column("track", "range_high")
    op.drop_column("track", "range_low")
    op.drop_column("lane", "off")
    op.drop_column("clip", "curve")
