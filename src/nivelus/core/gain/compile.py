"""Compiling curves: from what is drawn to the gain that is heard, measured, drawn and rendered.

Conventions are those of ``core.gain.drawn``: seconds, dB; compiled gain is in samples.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from nivelus.core.gain.clips import DECLICK_SECONDS
from nivelus.core.gain.compiled import FloatArray, GainCurve, add_curves
from nivelus.core.gain.drawn import FINE, SILENT, Curve, area, finite, flatten, plain
from nivelus.core.gain.together import limit

_STEEP = 0.2
"""dB per millisecond from which a move may be too quick."""
_BLINK = 0.001
"""Seconds over which a move is looked at: over less, what a straight piece strays from a bent one would count."""
_QUICKEST = 1.12 * np.pi / 2 * _BLINK / DECLICK_SECONDS
"""Share of a move over the de-click ramp that a raised cosine does in its quickest blink, and a little more."""
_BEFORE = 2 * round(DECLICK_SECONDS / _BLINK)
_AROUND = np.arange(-_BEFORE, _BEFORE + 1) * _BLINK / 2
"""Half blinks around a moment, seconds: a ramp before it and one after."""
_MOST_PIECES = 200
"""Into which such a move is divided."""


def compile_curves(curves: Sequence[Curve], rate: int, low: float = SILENT, high: float = np.inf) -> GainCurve:
    """Compile the sum of curves, each kept within a working range of ``low`` ... ``high`` dB, to a gain curve in samples.

    A move that is quicker than a raised cosine of the de-click ramp is spread over that ramp, so that nothing clicks whatever
    was drawn.

    Parameters
    ----------
    curves : what is added up
    rate : Hz
    low, high : dB that each is kept within
    """
    kept = [limit(curve, low, high) for curve in curves if len(curve)]
    if not kept:
        return GainCurve(np.zeros(1), np.zeros(1))
    lines = [flatten(curve, FINE / len(kept)) for curve in kept]
    # straight curves add up exactly, and much sooner than what is bent does
    total = add_curves([GainCurve(line.at, finite(line.db)) for line in lines])
    at, db = _spread(total.at, total.db)
    return GainCurve(at * rate, db)


def _too_quick(at: FloatArray, db: FloatArray) -> npt.NDArray[np.bool_]:
    """Which of the pieces between points do more in a blink than a raised cosine of the de-click ramp would, (n - 1,).

    Moves of little more than a ramp that touch one of these belong to it: cut, they would become steeper.
    """
    slope = np.diff(db) / np.diff(at) / 1000
    quick = np.abs(slope) > _STEEP
    steep = np.flatnonzero(quick)
    way = np.where(quick, np.sign(slope), 0)
    around = (at[steep] + at[steep + 1])[:, None] / 2 + _AROUND
    heights = np.interp(around, at, db)
    blink = np.abs(heights[:, _BEFORE + 1] - heights[:, _BEFORE - 1])
    # before a turn or after it a slow move has but half a window to itself, so it is also looked at before and after
    ramp = np.max([np.ptp(heights[:, first : first + _BEFORE + 1], axis=1) for first in (0, _BEFORE // 2, _BEFORE)], axis=0)
    quick[steep] = blink > np.maximum(_QUICKEST * ramp, _STEEP)
    if not quick.any():
        return quick
    first = np.flatnonzero((way != 0) & (np.append(0, way[:-1]) != way))
    last = np.flatnonzero((way != 0) & (np.append(way[1:], 0) != way))
    reach = 1.05 * DECLICK_SECONDS
    started = np.searchsorted(at[:-1][quick], at[last + 1] + reach, "right")
    ended = np.searchsorted(at[1:][quick], at[first] - reach)
    for i in np.flatnonzero((started > ended) & (at[last + 1] - at[first] < 2 * reach)).tolist():
        quick[first[i] : last[i] + 1] = True
    return quick


def _spread(at: FloatArray, db: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Spread moves that are too quick: around them, the mean over the de-click ramp's length."""
    quick = _too_quick(at, db)
    if not quick.any():
        return at, db
    half = DECLICK_SECONDS / 2
    # the mean is another half before and after the move, which may itself begin a little before it becomes too quick
    starts, ends = at[:-1][quick] - 2 * half, at[1:][quick] + 2 * half
    apart = starts[1:] > ends[:-1]
    regions = zip(starts[np.append(True, apart)].tolist(), ends[np.append(apart, True)].tolist(), strict=True)
    outside = np.ones(len(at), bool)
    new_at, new_db = [], []
    slope = np.diff(db) / np.diff(at)
    for start, end in regions:
        # what lies further off has no part in any mean
        here = slice(*np.searchsorted(at, (start - half, end + half)))
        outside[slice(np.searchsorted(at, start), np.searchsorted(at, end, "right"))] = False
        # between its bends the mean is a parabola: a chord strays from it by h^2 / 8 of its second derivative
        bend = np.ptp(slope[max(here.start - 1, 0) : here.stop]) / DECLICK_SECONDS
        pieces = int((end - start) * np.sqrt(bend / 8 / (FINE / 5)))
        inner = np.linspace(start, end, min(max(pieces, 8), _MOST_PIECES) + 1)
        inner = np.concatenate([at[here], at[here] - half, at[here] + half, inner])
        inner = np.unique(inner[(inner >= start) & (inner <= end)])
        part = slice(max(here.start - 1, 0), here.stop + 1)
        near = plain(at[part], db[part])
        mean = (area(near, inner + half) - area(near, inner - half)) / DECLICK_SECONDS
        # at both ends it begins as what it was, so that another move that reaches over them is not cut
        share = np.clip(np.minimum(inner - start, end - inner) / half, 0.0, 1.0)
        new_at.append(inner)
        new_db.append(mean * share + near.finite_at(inner) * (1.0 - share))
    all_at = np.concatenate([at[outside], *new_at])
    all_db = np.concatenate([db[outside], *new_db])
    order = np.argsort(all_at, kind="stable")
    all_at, all_db = all_at[order], all_db[order]
    rising = np.concatenate([[True], np.diff(all_at) > 1e-9])
    return all_at[rising], all_db[rising]
