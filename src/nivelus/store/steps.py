"""How a step of the history is kept: for each row it touched what is different, packed small.

A row is ``{"table", "id", "before", "after"}``, and ``"names"`` where it is known which columns differ; a side is None where
there is no row. Of a row that stays only the columns that differ are kept, and of a curve only the points that do: of an
hour's ride with ten thousand points, lifting a phrase keeps some hundred bytes.
"""

from __future__ import annotations

import json
import zlib
from functools import lru_cache
from typing import Any

from nivelus.store.packing import difference, splice

CURVES = {("lane", "points"), ("clip", "curve")}
"""Columns that hold packed curves."""
_SPLICE = "splice"


def pack_step(rows: list[dict[str, Any]]) -> bytes:
    """Pack the rows of a step. Rows hold every column of both sides."""
    return pack_again([_differing(row) for row in rows])


def pack_again(rows: list[dict[str, Any]]) -> bytes:
    """Pack rows that were unpacked before."""
    return zlib.compress(json.dumps(rows, separators=(",", ":")).encode(), 6)


def join_steps(packed: list[dict[str, Any]], rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """The rows of two steps that follow each other as those of one, packed: ``packed`` ones, and ``rows`` with all columns.

    What the second takes back of the first is in neither.
    """
    old = {(row["table"], row["id"]): row for row in packed}
    for row in rows:
        key = row["table"], row["id"]
        before, after = row["before"], row["after"]
        if key in old:
            was = values_to_put(old[key], "before", before)
            before = was if before is None or was is None else before | was
        if before == after:
            old.pop(key, None)
        else:
            old[key] = _differing({"table": row["table"], "id": row["id"], "before": before, "after": after})
    return list(old.values())


def unpack_step(data: bytes) -> list[dict[str, Any]]:
    """The rows of a step, as ``sides_of`` reads them."""
    rows: list[dict[str, Any]] = json.loads(zlib.decompress(data))
    return rows


def values_to_put(row: dict[str, Any], side: str, present: dict[str, Any] | None) -> dict[str, Any] | None:
    """The values that an unpacked row has on ``side``, before or after, those of a curve worked out from ``present``."""
    values = row[side]
    if values is None or not row.get(_SPLICE):
        return values  # type: ignore[no-any-return]
    whole = dict(values)
    for name, (at, old, new) in row[_SPLICE].items():
        if present is not None:
            gone, put = (old, new) if side == "after" else (new, old)
            whole[name] = splice(present[name], at, gone, put)
    return whole


def recordings_in(rows: list[dict[str, Any]]) -> set[str]:
    """The recordings that rows refer to."""
    sides = [side for row in rows for side in (row["before"], row["after"]) if side]
    return {side["recording_id"] for side in sides if side.get("recording_id")}


def names_changed(row: dict[str, Any]) -> tuple[str, ...]:
    """The columns of a row of which both sides are there that differ, worked out once."""
    if "names" not in row:
        before, after = row["before"], row["after"]
        row["names"] = tuple([name for name, value in after.items() if before.get(name) != value])
    names: tuple[str, ...] = row["names"]
    return names


def _differing(row: dict[str, Any]) -> dict[str, Any]:
    before, after = row["before"], row["after"]
    if before is None or after is None:
        return {name: row[name] for name in ("table", "id", "before", "after")}
    plain, curves = _parted(row["table"], names_changed(row))
    small = {
        "table": row["table"],
        "id": row["id"],
        "before": {name: before.get(name) for name in plain},
        "after": {name: after[name] for name in plain},
    }
    return small | ({_SPLICE: {name: difference(before[name], after[name]) for name in curves}} if curves else {})


@lru_cache(maxsize=64)
def _parted(table: str, names: tuple[str, ...]) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Columns that hold values, and those that hold curves."""
    curves = tuple(name for name in names if (table, name) in CURVES)
    return tuple(name for name in names if name not in curves), curves
