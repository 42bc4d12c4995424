"""which gesture a step of the history was made in, and by how much it moved what it did"""

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    op.add_column("change", sa.Column("gesture", sa.String(), nullable=False, server_default=""))
    op.add_column("change", sa.Column("moved", sa.Float(), nullable=False, server_default="0"))


def downgrade() -> None:
    op.drop_column("change", "moved")
    op.drop_column("change", "gesture")
