"""Compiling curves: from what is drawn to the gain that is heard, measured, drawn and rendered.

Conventions are those of ``core.gain.drawn``: seconds, dB; compiled gain is in samples.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from nivelus.core.gain.clips import DECLICK_SECONDS
from nivelus.core.gain.compiled import FloatArray, GainCurve
from nivelus.core.gain.drawn import EMPTY, SILENT, Curve, add, area, finite, flatten, limit, plain

_STEEP = 0.2
"""dB per millisecond from which a move that is over too soon is spread over the de-click ramp."""


def compile_curves(curves: Sequence[Curve], rate: int, low: float = SILENT, high: float = np.inf) -> GainCurve:
    """Compile the sum of curves, each kept within a working range of ``low`` ... ``high`` dB, to a gain curve in samples.

    A move that is over in less than the de-click ramp is spread over it, so that nothing clicks whatever was drawn.
    """
    total = EMPTY
    for curve in curves:
        kept = limit(curve, low, high)
        total = add(total, kept) if len(total) else kept
    if not len(total):
        return GainCurve(np.zeros(1), np.zeros(1))
    straight = flatten(total)
    at, db = _spread(straight.at, finite(straight.db))
    return GainCurve(at * rate, db)


def _spread(at: FloatArray, db: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Spread moves that are steep and over within less than the de-click ramp: there, the mean over the ramp's length."""
    slope = np.diff(db) / np.diff(at) / 1000
    steep = np.abs(slope) > _STEEP
    regions: list[list[float]] = []
    i = 0
    while i < len(slope):
        j = i + 1
        if steep[i]:
            while j < len(slope) and steep[j] and (slope[j] > 0) == (slope[i] > 0):
                j += 1
            if at[j] - at[i] < DECLICK_SECONDS * 0.999:
                region = [float(at[i]) - DECLICK_SECONDS / 2, float(at[j]) + DECLICK_SECONDS / 2]
                if regions and region[0] <= regions[-1][1]:
                    regions[-1][1] = region[1]
                else:
                    regions.append(region)
        i = j
    if not regions:
        return at, db
    line = plain(at, db)
    half = DECLICK_SECONDS / 2
    outside = np.ones(len(at), bool)
    new_at, new_db = [], []
    for start, end in regions:
        outside &= (at < start) | (at > end)
        inner = np.concatenate([at - half, at + half, np.linspace(start, end, 9)])
        inner = np.unique(inner[(inner >= start) & (inner <= end)])
        value = (area(line, inner + half) - area(line, inner - half)) / DECLICK_SECONDS
        value[0], value[-1] = line.finite_at(inner[[0, -1]])
        new_at.append(inner)
        new_db.append(value)
    all_at = np.concatenate([at[outside], *new_at])
    all_db = np.concatenate([db[outside], *new_db])
    order = np.argsort(all_at, kind="stable")
    all_at, all_db = all_at[order], all_db[order]
    rising = np.concatenate([[True], np.diff(all_at) > 1e-9])
    return all_at[rising], all_db[rising]
