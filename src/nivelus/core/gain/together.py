"""Curves together: their sum, what is within a range or a span, and from where to where two of them differ."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.typing as npt

from nivelus.core.gain.drawn import (
    CLOSEST,
    FINE,
    MANY,
    SILENT,
    Curve,
    Shape,
    finite,
    flatten,
    is_bent,
    moves,
    straightened,
    with_points,
)


def add(first: Curve, second: Curve) -> Curve:
    """The sum of two curves: exact where both are straight or one is constant, else within FINE dB. O(n log n).

    Points keep the ids that they have in ``first``.

    This is what folds a trim into a ride.
    """
    a, b = _joined(first, second)
    crossed = (is_bent(a) & moves(b)) | (is_bent(b) & moves(a))
    if crossed.any():
        a, b = _joined(straightened(a, crossed, FINE / 2), straightened(b, crossed, FINE / 2))
    bent_a, bent_b = is_bent(a), is_bent(b)
    shape = np.where(bent_b, b.shape, np.where(bent_a, a.shape, Shape.LINEAR)).astype(np.int8)
    total = finite(a.db) + finite(b.db)
    return Curve(a.at, total, shape, np.where(bent_b[:, None], b.phase, a.phase), a.ids)


def limit(curve: Curve, low: float, high: float) -> Curve:
    """A curve kept within ``low`` ... ``high`` dB, exactly: with straight pieces and points where it meets them.

    One that lies within stays as it is. A ``low`` of SILENT lets silence be.
    """
    low = -np.inf if low <= SILENT else low
    db = finite(curve.db)
    if not len(curve) or (db.min() >= low and db.max() <= high):
        return curve
    line = flatten(curve)
    value = finite(line.db)
    meets = []
    for bound in (low, high):
        crossed = np.flatnonzero((value[:-1] < bound) != (value[1:] < bound)) if np.isfinite(bound) else np.zeros(0, int)
        share = (bound - value[crossed]) / (value[crossed + 1] - value[crossed])
        meets.append(line.at[crossed] + share * (line.at[crossed + 1] - line.at[crossed]))
    cut = with_points(line, np.concatenate(meets))
    return replace(cut, db=np.clip(finite(cut.db), low, high))


def changed_span(before: Curve, after: Curve) -> tuple[float, float] | None:
    """From where to where two curves differ, seconds (infinite where they do to the end); None where they do not.

    Of curves with many points it is the points that are compared, so the span may reach to the next that are the same.
    """
    if min(len(before), len(after)) > MANY:
        return _span_of_points(before, after)
    a, b = _joined(before, after)
    if not len(a):
        return None
    value = np.abs(finite(a.db) - finite(b.db)) > 1e-9
    # between two points that agree, another way of going there is a difference too
    way = (a.shape != b.shape) | (a.phase != b.phase).any(axis=1)
    touched = np.flatnonzero(value | (way & (moves(a) | moves(b))))
    if not len(touched):
        return None
    first, last = int(touched[0]), int(touched[-1])
    start = -np.inf if first == 0 and value[0] else float(a.at[max(first - 1, 0)])
    return start, np.inf if last == len(a) - 1 else float(a.at[last + 1])


def inside_of(curve: Curve, start: float, end: float) -> Curve:
    """A curve without what lies before ``start`` and after ``end``; between them it is identical."""
    if not len(curve) or (curve.at[0] >= start and curve.at[-1] <= end):
        return curve
    cut = with_points(curve, (start, end))
    return cut.keep(cut.inside(start - CLOSEST / 2, end + CLOSEST / 2))


def _span_of_points(before: Curve, after: Curve) -> tuple[float, float] | None:
    """``changed_span`` from the points that the two have in common at both ends. O(n)."""

    def alike(a: slice, b: slice) -> npt.NDArray[np.bool_]:
        same = (before.at[a] == after.at[b]) & (before.db[a] == after.db[b]) & (before.shape[a] == after.shape[b])
        return np.asarray(same & (before.phase[a] == after.phase[b]).all(axis=1))

    count = min(len(before), len(after))
    first = int(np.argmin(np.append(alike(slice(0, count), slice(0, count)), False)))
    if first == len(before) == len(after):
        return None
    tail = alike(slice(len(before) - count + first, None), slice(len(after) - count + first, None))[::-1]
    kept = int(np.argmin(np.append(tail, False)))
    start = -np.inf if first == 0 else float(before.at[first - 1])
    return start, np.inf if kept == 0 else float(before.at[len(before) - kept])


def _joined(first: Curve, second: Curve) -> tuple[Curve, Curve]:
    """Two curves with points wherever one of them has one."""
    if not len(first) or not len(second):
        both = first if len(first) else second
        silent = replace(both, db=np.zeros(len(both)))
        return (both, silent) if len(first) else (silent, both)
    a, b = with_points(first, second.at), second
    while len(a) != len(b):
        # a hold that is cut gets a point of its own
        b = with_points(b, a.at)
        a = with_points(a, b.at)
    return a, b
