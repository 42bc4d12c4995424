"""The lanes of a track that are drawn, as curves: the ride, and the trim that lies over it."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace
from functools import lru_cache

from sqlalchemy import inspect, select
from sqlalchemy.orm import Session as DbSession

from nivelus.core.gain.compile import compile_curves
from nivelus.core.gain.curve import GainCurve, add_curves
from nivelus.core.gain.curves import Curve, curve_of
from nivelus.store.packing import unpack_curve
from nivelus.store.tables import Lane

LANES = ("ride", "trim")
NOTHING = ("", 0.0)
"""Points and offset of a lane in which nothing is drawn."""


def lane_curve(points: str, offset: float) -> Curve:
    """A lane as one curve: its points, moved by its offset."""
    curve = unpack_curve(points)
    if offset == 0.0:
        return curve
    return replace(curve, db=curve.db + offset) if len(curve) else curve_of([(0.0, offset)])


def lane_values(db: DbSession, track_id: str) -> dict[str, tuple[str, float]]:
    """Packed points and offset of every lane by name; NOTHING where none was drawn."""
    c = inspect(Lane).local_table.c
    rows = db.execute(select(c.name, c.points, c.offset).where(c.track_id == track_id))
    return dict.fromkeys(LANES, NOTHING) | {name: (points, offset) for name, points, offset in rows}


def drawn_gain(db: DbSession, track_id: str, rate: int, names: Collection[str] = LANES) -> GainCurve | None:
    """The compiled gain of some lanes; None where they do nothing."""
    values = lane_values(db, track_id)
    drawn = tuple(values[name] for name in LANES if name in names and values[name] != NOTHING)
    return _compiled(drawn, rate) if drawn else None


def with_drawn(dips: GainCurve, drawn: GainCurve | None) -> GainCurve:
    """All gain beyond that of the clips: ``dips`` with what is drawn."""
    return dips if drawn is None else add_curves([dips, drawn])


@lru_cache(maxsize=16)
def _compiled(lanes: tuple[tuple[str, float], ...], rate: int) -> GainCurve:
    return compile_curves([lane_curve(points, offset) for points, offset in lanes], rate)
