"""Few points for what a hand did: straight pieces that stray no further than an error, none of which has to lie on the line.

The greedy way of Elmeleegy et al., "Online Piece-wise Linear Approximation of Numerical Streams with Precision Guarantees"
(VLDB 2009), there called the swing filter: from each point on, the slopes are kept that pass all that follows within the error,
until there is none. Since its pieces may lie on both sides of the line they are longer than those whose points lie on it.
"""

from __future__ import annotations

import numpy as np

from nivelus.core.gain.compiled import FloatArray

_ENDS = 0.25
"""Seconds before the end over which the error that is allowed goes down to none, so that the last value is exact."""


def fewest(at: FloatArray, db: FloatArray, error: float) -> tuple[FloatArray, FloatArray]:
    """Seconds and dB (n,) in fewer points, within ``error`` dB everywhere, exact at both ends. O(n)."""
    if len(at) < 3:
        return at, db
    # a new piece begins in the middle of where it could, or as near to the line as it may: of a smooth line the one has
    # fewer points, of one with steps the other
    return min((_swing(at, db, error, nearest) for nearest in (False, True)), key=lambda found: len(found[0]))


def _swing(at: FloatArray, db: FloatArray, error: float, nearest: bool) -> tuple[FloatArray, FloatArray]:
    allowed = np.maximum(np.minimum(error, error * (at[-1] - at) / _ENDS), 0.0)
    low, high = db - allowed, db + allowed
    times, there, lows, highs = at.tolist(), db.tolist(), low.tolist(), high.tolist()
    knots, values = [0], [float(db[0])]
    x, y = times[0], float(db[0])
    least, most = -np.inf, np.inf
    i, n = 1, len(times)
    while i < n:
        length = times[i] - x
        first, last = max(least, (lows[i] - y) / length), min(most, (highs[i] - y) / length)
        if first <= last:
            least, most = first, last
            i += 1
            continue
        # what follows cannot be passed any more: a point where the last could be
        knot = i - 1
        length = times[knot] - x
        slope = min(max((there[knot] - y) / length, least), most) if nearest else (least + most) / 2
        x, y = times[knot], y + slope * length
        knots.append(knot)
        values.append(y)
        least, most = -np.inf, np.inf
    knots.append(n - 1)
    values.append(float(db[-1]))
    return at[np.array(knots)], np.array(values)
