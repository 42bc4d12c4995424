"""Edits of single points of a curve; those around them stay what they are."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.typing as npt

from nivelus.core.gain.clips import DECLICK_SECONDS
from nivelus.core.gain.drawn import (
    CLOSEST,
    SPACING,
    Curve,
    Shape,
    finite,
)

Indices = npt.NDArray[np.int64]


def add_point(curve: Curve, at: float, db: float, shape: Shape = Shape.LINEAR) -> Curve:
    """A curve with one point more; a point that is there already gets the new gain and shape.

    Parameters
    ----------
    curve : what is drawn
    at : seconds
    db : gain
    shape : that of the way to the next point
    """
    near = np.abs(curve.at - at)
    if len(curve) and near.min() < SPACING - CLOSEST:
        return set_points(curve, np.array([near.argmin()]), db=db, shape=shape)
    i = int(np.searchsorted(curve.at, at))
    # a way that is parted is no longer part of a cosine that was cut
    phase = curve.phase.copy()
    if i > 0:
        phase[i - 1] = (0.0, 1.0)
    return Curve(
        np.insert(curve.at, i, at),
        np.insert(curve.db, i, db),
        np.insert(curve.shape, i, np.int8(shape)),
        np.insert(phase, i, (0.0, 1.0), axis=0),
        np.insert(curve.ids, i, 0),
    )


def set_points(curve: Curve, points: Indices, db: float | None = None, shape: Shape | None = None) -> Curve:
    """Give points an exact gain, a shape, or both; where nothing is given they stay.

    Parameters
    ----------
    curve : what is drawn
    points : (n,) places of points
    db : their gain
    shape : their shape
    """
    gains, shapes, phase = curve.db.copy(), curve.shape.copy(), curve.phase.copy()
    if db is not None:
        gains[points] = db
    if shape is not None:
        shapes[points] = np.int8(shape)
        phase[points] = (0.0, 1.0)
    return replace(curve, db=gains, shape=shapes, phase=phase)


def hold_points(curve: Curve, points: Indices, ramp: float) -> Curve:
    """Let a curve stay at each of some points until the next, so that what is held has its edges where it begins and ends.

    Ramps (seconds, at most) that a lift made beside what stays at one gain become as short as the de-click ramp, without moving
    it: they would let it end a ramp too late, and rise into it from a ramp before.
    """
    curve = set_points(curve, points, shape=Shape.HOLD)
    level, gaps = finite(curve.db), np.diff(curve.at)
    stays = np.abs(np.diff(level)) < 1e-9
    steep = ~stays & (gaps <= ramp + CLOSEST) & (gaps > 2 * DECLICK_SECONDS)
    chosen = np.zeros(len(curve), bool)
    chosen[points] = True
    # ways that stay at one gain and begin or end at a chosen point: the ramps before and behind them
    kept = stays & (chosen[:-1] | chosen[1:])
    into = np.flatnonzero(steep[:-1] & kept[1:])
    out = np.flatnonzero(kept[:-1] & steep[1:]) + 1
    curve = set_points(curve, into, shape=Shape.HOLD)
    for at, db in [(float(curve.at[i]) + DECLICK_SECONDS, float(curve.db[i + 1])) for i in out]:
        curve = add_point(curve, at, db)
    return curve


def move_points(curve: Curve, points: Indices, seconds: float = 0.0, db: float = 0.0) -> Curve:
    """Move points in time, in gain, or both. In time they go as far as their neighbours that stay let them.

    Parameters
    ----------
    curve : what is drawn
    points : (n,) places of points
    seconds, db : by how much they move
    """
    chosen = np.zeros(len(curve), bool)
    chosen[points] = True
    if not chosen.any():
        return curve
    gaps = np.diff(curve.at) - SPACING
    back, forth = chosen[1:] & ~chosen[:-1], chosen[:-1] & ~chosen[1:]
    least = max(-float(np.min(gaps[back], initial=np.inf)), -float(curve.at[chosen][0]))
    seconds = min(max(seconds, least), float(np.min(gaps[forth], initial=np.inf)))
    return replace(curve, at=curve.at + seconds * chosen, db=curve.db + db * chosen)


def delete_points(curve: Curve, points: Indices) -> Curve:
    """A curve without some of its points."""
    chosen = np.zeros(len(curve), bool)
    chosen[points] = True
    phase = curve.phase.copy()
    phase[:-1][chosen[1:]] = (0.0, 1.0)
    return replace(curve, phase=phase).keep(~chosen)


def shift(curve: Curve, seconds: float) -> Curve:
    """The whole curve earlier or later."""
    return replace(curve, at=curve.at + seconds)
