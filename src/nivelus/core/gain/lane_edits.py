"""What an edit of a lane does to curves besides the edit itself: what is left alone, and how far values may go together."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from nivelus.core.errors import Refused
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import CLOSEST, COLUMNS, Curve, Shape, chained, curve_of, finite, with_points
from nivelus.core.gain.point_edits import delete_points

RAMP = 0.06
"""Seconds of the ramps of a lift."""


def alone(curve: Curve, start: float, end: float) -> Curve:
    """What a curve does in a span, and nothing outside of it but the ramps of a lift."""
    if end - start < 4 * CLOSEST:
        raise Refused("Select a span first.")
    cut = with_points(curve, (start, end))
    inside = cut.keep(cut.inside(start - CLOSEST / 2, end + CLOSEST / 2))
    shape = inside.shape.copy()
    shape[-1] = Shape.LINEAR
    return chained(curve_of([(start - RAMP, 0.0)]), replace(inside, shape=shape), curve_of([(end + RAMP, 0.0)]))


def kept_within(by: float, lying: FloatArray, within: tuple[float, float]) -> float:
    """How far values may move together by ``by`` dB: none of them further out of a range than it is."""
    db = finite(lying)
    return min(max(by, min(within[0] - float(db.min()), 0.0)), max(within[1] - float(db.max()), 0.0))


def without_rests(curve: Curve) -> Curve:
    """A curve without points that lie at 0 dB between two of the same: they do nothing. All at 0 dB, it has none."""
    zero = np.abs(finite(curve.db)) < 1e-9
    if zero.all():
        return curve.keep(~zero)
    between = zero & np.append(zero[1:], False) & np.insert(zero[:-1], 0, False)
    return delete_points(curve, np.flatnonzero(between)) if between.any() else curve


def draw_alike(first: Curve, second: Curve) -> bool:
    """Whether two curves draw the same, whatever their points are called."""
    return len(first) == len(second) and all(
        np.array_equal(getattr(first, name), getattr(second, name)) for name in COLUMNS if name != "ids"
    )


def with_ramps(curve: Curve, start: float, end: float) -> tuple[float, float]:
    """A range with the points that lie beside it no further than the ramps of a lift."""
    near = curve.at[(curve.at >= start - RAMP - CLOSEST) & (curve.at <= end + RAMP + CLOSEST)]
    return min([start, *near[:1].tolist()]), max([end, *near[-1:].tolist()])
