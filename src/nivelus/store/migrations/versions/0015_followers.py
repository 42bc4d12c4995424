"""which track a track follows"""

import sqlalchemy as sa
from alembic import op

revision = "0015"
down_revision = "0014"


def upgrade() -> None:
    op.add_column("track", sa.Column("follows", sa.String(), nullable=True))
    op.add_column("track", sa.Column("lag", sa.Integer(), nullable=False, server_default="0"))


def downgrade() -> None:
    op.drop_column("track", "lag")
    op.drop_column("track", "follows")
