"""rules that are kept, and what a session has set of its rides"""

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"


def upgrade() -> None:
    op.add_column("session", sa.Column("ride", sa.JSON(), nullable=False, server_default="{}"))
    op.create_table(
        "kept_rule",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("created", sa.DateTime(), nullable=False),
        sa.Column("values", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )


def downgrade() -> None:
    op.drop_table("kept_rule")
    op.drop_column("session", "ride")
