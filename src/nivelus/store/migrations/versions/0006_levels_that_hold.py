"""the base of a rule, whether phrases settle, and what a recording can show"""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    op.add_column("recording", sa.Column("shows_esses", sa.Boolean(), nullable=False, server_default=sa.true()))
    # what was measured by an older rule is measured again at the next start
    op.add_column("recording", sa.Column("measured", sa.Integer(), nullable=False, server_default="0"))
    op.execute("UPDATE recording SET shows_esses = (sample_rate >= 12000)")
    # sessions that are there were drafted without a base
    op.add_column("session", sa.Column("base_kind", sa.String(), nullable=False, server_default="none"))
    op.add_column("session", sa.Column("base", sa.Float(), nullable=False, server_default="0"))
    op.add_column("session", sa.Column("settle", sa.Boolean(), nullable=False, server_default=sa.true()))
    op.add_column("clip", sa.Column("drafted", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.execute("UPDATE clip SET drafted = (gain != 0 AND NOT by_hand)")


def downgrade() -> None:
    op.drop_column("clip", "drafted")
    op.drop_column("session", "settle")
    op.drop_column("session", "base")
    op.drop_column("session", "base_kind")
    op.drop_column("recording", "measured")
    op.drop_column("recording", "shows_esses")
