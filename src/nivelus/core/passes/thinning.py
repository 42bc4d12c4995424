"""The fewest points for what a hand did: straight pieces that stray no further than an error, not bound to points of it.

What may be passed is a corridor around the line, as high as the error allows. The way through it with the fewest corners is
that of Imai and Iri ("An optimal algorithm for approximating a piecewise linear function", Journal of Information Processing
9, 1986): the straight piece that reaches furthest touches one wall and then the other, and leaves through the first. What lies
behind is seen through its end alone, from the last contact to where it leaves, so the next piece has to cross that *window*,
and a corner lies where it does. The piece that reaches furthest is found as by O'Rourke ("An on-line algorithm for fitting
straight lines between data ranges", Communications of the ACM 24, 1981): the steepest and the least steep line that pass are
turned on the hulls of both walls.
"""

from __future__ import annotations

import numba
import numpy as np

from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import CLOSEST

_ENDS = 0.25
"""Seconds before the end over which the error that is allowed goes down to none, so that the last value is exact."""
_SUDDEN = 2e-4
"""Seconds within which a step is no movement of a hand."""
_NEAR = 1e-7
"""dB from which on less is not looked for."""
_HALVINGS = 6


def fewest(at: FloatArray, db: FloatArray, error: float) -> tuple[FloatArray, FloatArray]:
    """Seconds and dB (n,) in the fewest points, within ``error`` dB everywhere, exact at both ends. O(n) as a rule.

    Of all that have as few points it is, about, the one that strays least.
    """
    if len(at) < 3:
        return at, db
    found = _within(at, db, error)
    nearest = _within(at, db, min(_NEAR, error))
    if nearest.shape == found.shape:
        found = nearest
    else:
        low, high = 0.0, error
        for _ in range(_HALVINGS):
            middle = (low + high) / 2
            nearer = _within(at, db, middle)
            if nearer.shape == found.shape:
                found, high = nearer, middle
            else:
                low = middle
    # times of a curve are whole microseconds, of which none holds two points
    whole = np.round(found[0], 6)
    kept = np.append(True, np.diff(whole) > CLOSEST / 2) & (whole < whole[-1])
    kept[-1] = True
    return found[0][kept], found[1][kept]


def _within(at: FloatArray, db: FloatArray, error: float) -> FloatArray:
    allowed = np.minimum(error, error * (at[-1] - at) / _ENDS)
    # what is over in no time stays as it is, and so do both ends
    sudden = np.diff(at) < _SUDDEN
    allowed[np.append(True, sudden) | np.append(sudden, True)] = 0.0
    return np.asarray(_corners(at, db - allowed, db + allowed))


@numba.njit(nogil=True, cache=True)
def _corners(at: FloatArray, low: FloatArray, high: FloatArray) -> FloatArray:
    """Where the way through a corridor turns: seconds and dB, (2, m), from its first point to its last."""
    n, count = len(at), 1
    out = np.empty((2, n + 1))
    out[0, 0], out[1, 0] = at[0], low[0]
    room = np.empty((4, n + 1))
    # the window: from a point of one wall to where it meets the other, between two moments. The first is but a point
    sign, first, before = 1.0, 0, 0
    # seen upside down, a way down is a way up
    upright, turned = (low, high), (-high, -low)
    x, y, slope, end = at[0], low[0], 0.0, at[0]
    while before < n - 1:
        walls = upright if sign > 0 else turned
        i, steep, reached, up = _furthest(at, walls[0], walls[1], first, before, (x, y, slope, end), room)
        here, there = at[i], (walls[1] if up else walls[0])[i]
        if before > 0:
            moment = x if steep == slope else (y - slope * x - there + steep * here) / (steep - slope)
            moment = min(max(moment, x), end)
            out[0, count], out[1, count] = moment, sign * (y + slope * (moment - x))
            count += 1
        if reached == n:
            break
        if not up:
            sign, there, steep = -sign, -there, -steep
            walls = upright if sign > 0 else turned
        # where it leaves through the lower wall
        above = max(there + steep * (at[reached - 1] - here) - walls[0][reached - 1], 0.0)
        below = max(walls[0][reached] - there - steep * (at[reached] - here), 1e-6 * above + 1e-12)
        end = at[reached - 1] + (at[reached] - at[reached - 1]) * above / (above + below)
        x, y, slope, first, before = here, there, steep, i, reached - 1
    out[0, count], out[1, count] = at[n - 1], low[n - 1]
    return out[:, : count + 1]


@numba.njit(nogil=True, cache=True)
def _furthest(
    at: FloatArray,
    low: FloatArray,
    high: FloatArray,
    first: int,
    before: int,
    window: tuple[float, float, float, float],
    room: FloatArray,
) -> tuple[int, float, int, bool]:
    """The straight piece through a window that reaches furthest.

    The window goes from the upper wall at ``first`` down to the lower, behind ``before``. Told are the last contact, the slope,
    the first moment whose height it cannot pass (n if there is none), and whether it would have to turn up for it.
    """
    n = len(at)
    x, y, slope, end = window
    # hulls, of the lower wall seen from above and of the upper seen from below; their beginnings follow the lines
    upper, lower = room[:2], room[2:]
    lower[0, 0], lower[1, 0] = end, y + slope * (end - x)
    low_from, low_to = 0, 0
    upper[0, 0], upper[1, 0] = x, y
    up_from, up_to = 0, 0
    for j in range(first + 1, before + 1):
        up_to = _put(upper, up_from, up_to, at[j], high[j], -1.0)
    steepest, flattest, above, below = 0.0, 0.0, first, first
    for j in range(before + 1, n):
        ceiling, floor = np.inf, -np.inf
        # through a window the next height is always reached
        if j > before + 1:
            ceiling, floor = high[above] + steepest * (at[j] - at[above]), low[below] + flattest * (at[j] - at[below])
        if ceiling < low[j]:
            return above, steepest, j, True
        if floor > high[j]:
            return below, flattest, j, False
        if high[j] < ceiling:
            low_from = _tangent(lower, low_from, low_to, at[j], high[j], 1.0)
            steepest, above = (high[j] - lower[1, low_from]) / (at[j] - lower[0, low_from]), j
        if low[j] > floor:
            up_from = _tangent(upper, up_from, up_to, at[j], low[j], -1.0)
            flattest, below = (low[j] - upper[1, up_from]) / (at[j] - upper[0, up_from]), j
        low_to = _put(lower, low_from, low_to, at[j], low[j], 1.0)
        up_to = _put(upper, up_from, up_to, at[j], high[j], -1.0)
    # at its end the corridor is closed: all that pass meet there
    return n - 1, (steepest + flattest) / 2, n, True


@numba.njit(nogil=True, cache=True)
def _put(hull: FloatArray, start: int, end: int, x: float, y: float, side: float) -> int:
    """Lay a point onto a hull from ``start`` to ``end``, (2, n), of what lies below (``side`` 1) or above (-1): its new end."""
    while end > start and (
        side * ((hull[0, end] - hull[0, end - 1]) * (y - hull[1, end]) - (hull[1, end] - hull[1, end - 1]) * (x - hull[0, end]))
        >= 0
    ):
        end -= 1
    hull[0, end + 1], hull[1, end + 1] = x, y
    return end + 1


@numba.njit(nogil=True, cache=True)
def _tangent(hull: FloatArray, start: int, end: int, x: float, y: float, side: float) -> int:
    """Where a line through a point behind a hull touches it."""
    while start < end and side * (y - hull[1, start + 1]) / (x - hull[0, start + 1]) <= side * (y - hull[1, start]) / (
        x - hull[0, start]
    ):
        start += 1
    return start
