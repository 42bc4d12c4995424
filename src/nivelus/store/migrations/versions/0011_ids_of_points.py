"""ids of points: every point of a curve has a number of its own, also those in the steps of the history"""

import base64
import json
import zlib
from collections.abc import Iterator
from itertools import count
from typing import Any

import numpy as np
import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"

# as they were when this was written
OLD, NEW = 5, 6
CURVES = {"lane": "points", "clip": "curve"}


def upgrade() -> None:
    # ids are negative here, so that none meets one that is given later
    ids = count(1)

    def with_ids(text: str) -> str:
        raw = _unpacked(text)
        if raw is None or len(raw) % (8 * OLD):
            return text
        own = np.array([-next(ids) for _ in range(len(raw) // 8 // OLD)], "<f8")
        return _packed(raw + own.tobytes())

    _convert(with_ids)


def downgrade() -> None:
    def without_ids(text: str) -> str:
        raw = _unpacked(text)
        if raw is None or len(raw) % (8 * NEW):
            return text
        return _packed(raw[: len(raw) // NEW * OLD])

    _convert(without_ids)


def _convert(convert: Any) -> None:
    """Every packed curve there is, in rows and in steps, made another; what cannot be read stays as it is, to be examined."""
    db = op.get_bind()
    for table, column in CURVES.items():
        for (id,) in _all(f"SELECT id FROM \"{table}\" WHERE {column} != ''"):
            text = db.execute(sa.text(f'SELECT {column} FROM "{table}" WHERE id = :id'), {"id": id}).scalar_one()
            db.execute(sa.text(f'UPDATE "{table}" SET {column} = :text WHERE id = :id'), {"text": convert(text), "id": id})
    for (id,) in _all("SELECT id FROM change"):
        step = db.execute(sa.text("SELECT data FROM change WHERE id = :id"), {"id": id}).scalar_one()
        changed = _step(step, convert)
        if changed is not None:
            db.execute(sa.text("UPDATE change SET data = :data WHERE id = :id"), {"data": changed, "id": id})


def _all(query: str) -> Iterator[Any]:
    return iter(op.get_bind().execute(sa.text(query)).fetchall())


def _step(step: bytes, convert: Any) -> bytes | None:
    """A step with every curve in it converted; None where there is none."""
    try:
        rows = json.loads(zlib.decompress(step))
        found = False
        for row in rows:
            column = CURVES.get(row["table"])
            if column is None:
                continue
            for side in (row["before"], row["after"]):
                if side and side.get(column):
                    side[column], found = convert(side[column]), True
            if column in row.get("splice", {}):
                at, old, new = row["splice"][column]
                row["splice"][column], found = [at, convert(old), convert(new)], True
    except (ValueError, TypeError, KeyError, zlib.error):
        return None
    return zlib.compress(json.dumps(rows, separators=(",", ":")).encode(), 6) if found else None


def _unpacked(text: str) -> bytes | None:
    try:
        return zlib.decompress(base64.b64decode(text))
    except (ValueError, zlib.error):
        return None


def _packed(raw: bytes) -> str:
    return base64.b64encode(zlib.compress(raw, 1)).decode("ascii")
