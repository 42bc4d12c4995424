"""balance: kinds of tracks, what of them is heard, and what is asked of bed and compressor"""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"


def upgrade() -> None:
    op.add_column("track", sa.Column("kind", sa.String(), nullable=False, server_default="voice"))
    op.add_column("track", sa.Column("mute", sa.Boolean(), nullable=False, server_default="0"))
    op.add_column("track", sa.Column("solo", sa.Boolean(), nullable=False, server_default="0"))
    op.add_column("track", sa.Column("load", sa.JSON(), nullable=False, server_default="{}"))
    op.add_column("track", sa.Column("duck", sa.JSON(), nullable=False, server_default="{}"))


def downgrade() -> None:
    for column in ("duck", "load", "solo", "mute", "kind"):
        op.drop_column("track", column)
