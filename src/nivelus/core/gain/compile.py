"""Compiling curves: from what is drawn to the gain that is heard, measured, drawn and rendered.

Conventions are those of ``core.gain.drawn``: seconds, dB; compiled gain is in samples.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from nivelus.core.gain.clips import DECLICK_SECONDS
from nivelus.core.gain.compiled import FloatArray, GainCurve, add_curves
from nivelus.core.gain.drawn import FINE, SILENT, Curve, area, finite, flatten, limit, plain

_STEEP = 0.2
"""dB per millisecond from which a move that is over too soon is spread over the de-click ramp."""
_MOST_PIECES = 200
"""Into which such a move is divided."""


def compile_curves(curves: Sequence[Curve], rate: int, low: float = SILENT, high: float = np.inf) -> GainCurve:
    """Compile the sum of curves, each kept within a working range of ``low`` ... ``high`` dB, to a gain curve in samples.

    A move that is over in less than the de-click ramp is spread over it, so that nothing clicks whatever was drawn.
    """
    lines = [flatten(limit(curve, low, high), FINE / len(curves)) for curve in curves if len(curve)]
    if not lines:
        return GainCurve(np.zeros(1), np.zeros(1))
    # straight curves add up exactly, and much sooner than what is bent does
    total = add_curves([GainCurve(line.at, finite(line.db)) for line in lines])
    at, db = _spread(total.at, total.db)
    return GainCurve(at * rate, db)


def _spread(at: FloatArray, db: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Spread moves that are steep and over within less than the de-click ramp: there, the mean over the ramp's length."""
    slope = np.diff(db) / np.diff(at) / 1000
    steep = np.abs(slope) > _STEEP
    if not steep.any():
        return at, db
    # a move goes on for as long as it is steep and goes the same way
    way = np.where(steep, np.sign(slope), 0)
    first = np.flatnonzero(steep & (np.append(0, way[:-1]) != way))
    last = np.flatnonzero(steep & (np.append(way[1:], 0) != way)) + 1
    quick = at[last] - at[first] < DECLICK_SECONDS * 0.999
    if not quick.any():
        return at, db
    half = DECLICK_SECONDS / 2
    starts, ends = at[first[quick]] - half, at[last[quick]] + half
    apart = starts[1:] > ends[:-1]
    regions = zip(starts[np.append(True, apart)].tolist(), ends[np.append(apart, True)].tolist(), strict=True)
    outside = np.ones(len(at), bool)
    new_at, new_db = [], []
    for start, end in regions:
        # what lies further off has no part in any mean
        here = slice(*np.searchsorted(at, (start - 2 * half, end + 2 * half)))
        outside[slice(np.searchsorted(at, start), np.searchsorted(at, end, "right"))] = False
        # between its bends the mean is a parabola: a chord strays from it by h^2 / 8 of its second derivative
        slopes = slope[max(here.start - 1, 0) : here.stop] * 1000
        pieces = int((end - start) * np.sqrt(np.ptp(slopes) / DECLICK_SECONDS / 8 / (FINE / 5)))
        inner = np.linspace(start, end, min(max(pieces, 8), _MOST_PIECES) + 1)
        inner = np.concatenate([at[here] - half, at[here] + half, inner])
        inner = np.unique(inner[(inner >= start) & (inner <= end)])
        part = slice(max(here.start - 1, 0), here.stop + 1)
        near = plain(at[part], db[part])
        value = (area(near, inner + half) - area(near, inner - half)) / DECLICK_SECONDS
        value[0], value[-1] = near.finite_at(inner[[0, -1]])
        new_at.append(inner)
        new_db.append(value)
    all_at = np.concatenate([at[outside], *new_at])
    all_db = np.concatenate([db[outside], *new_db])
    order = np.argsort(all_at, kind="stable")
    all_at, all_db = all_at[order], all_db[order]
    rising = np.concatenate([[True], np.diff(all_at) > 1e-9])
    return all_at[rising], all_db[rising]
