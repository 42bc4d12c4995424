"""the longest phrase of a session"""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    op.add_column("session", sa.Column("longest", sa.Float(), nullable=False, server_default="8"))


def downgrade() -> None:
    op.drop_column("session", "longest")
