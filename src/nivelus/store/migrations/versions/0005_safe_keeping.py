"""steps of the history packed small, tombstones of recordings, and jobs that show that they are alive"""

import json
import zlib
from typing import Any

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    op.create_table(
        "tombstone",
        sa.Column("hash", sa.String(), nullable=False),
        sa.Column("at", sa.DateTime(), nullable=False),
        sa.PrimaryKeyConstraint("hash"),
    )
    op.add_column("job", sa.Column("run", sa.String(), nullable=False, server_default=""))
    op.add_column("job", sa.Column("beat", sa.Integer(), nullable=False, server_default="0"))
    op.add_column("job", sa.Column("tries", sa.Integer(), nullable=False, server_default="0"))
    op.drop_column("job", "stop")
    op.add_column("change", sa.Column("data", sa.LargeBinary(), nullable=False, server_default=""))
    op.add_column("change", sa.Column("recordings", sa.String(), nullable=False, server_default=""))
    db = op.get_bind()
    ids = [row[0] for row in db.execute(sa.text("SELECT id FROM change"))]
    for id in ids:
        rows = json.loads(db.execute(sa.text("SELECT rows FROM change WHERE id = :id"), {"id": id}).scalar_one())
        sides = [side for row in rows if row["table"] == "track" for side in (row["before"], row["after"]) if side]
        data = zlib.compress(json.dumps([_differing(row) for row in rows], separators=(",", ":")).encode(), 6)
        db.execute(
            sa.text("UPDATE change SET data = :data, recordings = :recordings WHERE id = :id"),
            {
                "id": id,
                "data": data,
                "recordings": " ".join(sorted({side["recording_id"] for side in sides if "recording_id" in side})),
            },
        )
    op.drop_column("change", "rows")


def downgrade() -> None:
    # what was packed has columns that differ only, which older programs put back just as well
    op.add_column("change", sa.Column("rows", sa.JSON(), nullable=False, server_default="[]"))
    db = op.get_bind()
    for id, data in list(db.execute(sa.text("SELECT id, data FROM change"))):
        rows = json.loads(zlib.decompress(data))
        if any(row.get("splice") for row in rows):
            raise RuntimeError("The history holds steps that an older version cannot read.")
        db.execute(sa.text("UPDATE change SET rows = :rows WHERE id = :id"), {"id": id, "rows": json.dumps(rows)})
    op.drop_column("change", "recordings")
    op.drop_column("change", "data")
    op.add_column("job", sa.Column("stop", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.drop_column("job", "tries")
    op.drop_column("job", "beat")
    op.drop_column("job", "run")
    op.drop_table("tombstone")


def _differing(row: dict[str, Any]) -> dict[str, Any]:
    before, after = row["before"], row["after"]
    if before is None or after is None:
        return row
    names = [name for name in after if name not in before or before[name] != after[name]]
    return {
        "table": row["table"],
        "id": row["id"],
        "before": {name: before[name] for name in names if name in before},
        "after": {name: after[name] for name in names},
    }
