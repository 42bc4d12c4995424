"""what a session was told of how gain moves in its pauses and gaps"""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    op.add_column("session", sa.Column("moved", sa.Integer(), nullable=False, server_default="1"))


def downgrade() -> None:
    op.drop_column("session", "moved")
