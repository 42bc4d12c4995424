"""The line with few corners through a course of gain: what a ride draws instead of a point in every frame.

A course says for every frame what gain is wanted, how much that frame counts, what bounds it, and how steep it may be. Of all
lines with corners at some frames and heights, that one is found which strays least from the course, where every corner has a
price: dynamic programming over the corners, as R. Bellman showed for lines through a course (Comm. ACM 4, 1961). Then
the heights are found anew, finely, with the corners where they are.

Corners are APART frames apart at least, so that no second has more than four of them.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numba
import numpy as np
import numpy.typing as npt

from nivelus.core.errors import LevelError
from nivelus.core.gain.compiled import FloatArray

Indices = npt.NDArray[np.int64]

STEP = 5
"""Frames from a place where a corner may stand to the next."""
APART = 25
"""Frames between two corners at least."""
BACK = np.array([0, 1, 2, 3, 5, 7, 9, 12, 16, 20, 32, 56])
"""Which of the places that lie far enough before a corner may have the one before it."""
HEIGHTS = 12
"""Heights that a corner may have on either side of 0 at first, ..."""
FINE_STEP, FINE = 0.05, 8
"""... and then: dB from one to the next, and how many on either side of where it is."""
SPECK = 1e-9
"""dB by which a bound may be passed, so that what lies on it is within."""
STIFF = 2.0
"""What a change of 1 dB within a frame costs: where nothing counts the line is straight."""


@dataclass(frozen=True, slots=True)
class Course:
    """What a line goes by: ``wanted`` dB, ``weight``, ``lowest`` and ``highest`` dB, ``slope`` dB a frame, (frames,) each.

    Bounds hold 0 dB between them. ``at`` (m,) are the frames, in order, at which a corner may stand; the line begins at the
    first and ends at the last.
    """

    wanted: FloatArray
    weight: FloatArray
    lowest: FloatArray
    highest: FloatArray
    slope: FloatArray
    at: Indices


@dataclass(frozen=True, slots=True)
class Line:
    """Corners at frames ``at`` (n,) and their heights ``db`` (n,)."""

    at: Indices
    db: FloatArray


def line_of(course: Course, price: float) -> Line:
    """The line that strays least from a course, where each corner costs ``price`` (dB squared times frames of weight 1).

    O(m) in the places for corners, times heights squared.
    """
    reach = max(-course.lowest.min(), course.highest.max(), 1e-9)
    heights = np.linspace(-reach, reach, 2 * HEIGHTS + 1)
    heights[HEIGHTS] = 0.0
    heights = heights[(heights >= course.lowest.min() - SPECK) & (heights <= course.highest.max() + SPECK)]
    place, db = _found(course, np.tile(heights, (len(course.at), 1)), BACK, APART, price)
    return Line(course.at[place], db)


def settled(course: Course, line: Line) -> Line:
    """A line with the same corners at heights that are nearer to the course."""
    heights = line.db[:, None] + np.arange(-FINE, FINE + 1) * FINE_STEP
    return Line(line.at, _found(replace(course, at=line.at), heights, BACK[:1], 0, 0.0)[1])


def _found(course: Course, heights: FloatArray, back: Indices, apart: int, price: float) -> tuple[Indices, FloatArray]:
    """Which of the places have a corner in the best line, and how high."""
    turns = np.flatnonzero((np.diff(course.lowest) != 0) | (np.diff(course.highest) != 0))
    gates = np.unique(np.concatenate([turns, turns + 1]))
    place, height = _best(
        course.wanted,
        course.weight,
        course.slope,
        gates,
        course.lowest[gates] - SPECK,
        course.highest[gates] + SPECK,
        course.at,
        heights,
        course.lowest[course.at] - SPECK,
        course.highest[course.at] + SPECK,
        back,
        apart,
        price,
    )
    if not len(place):
        raise LevelError("No line goes between these bounds.")
    return place, heights[place, height]


@numba.njit(cache=True, nogil=True, error_model="numpy")
def _best(
    wanted: FloatArray,
    weight: FloatArray,
    slope: FloatArray,
    gates: Indices,
    gate_low: FloatArray,
    gate_high: FloatArray,
    at: Indices,
    heights: FloatArray,
    low: FloatArray,
    high: FloatArray,
    back: Indices,
    apart: int,
    price: float,
) -> tuple[Indices, Indices]:
    """The places of the corners of the best line, and which of their heights they have; empty where there is none."""
    places, many = heights.shape
    cost = np.full((places, many), np.inf)
    came = np.full((places, many, 2), -1, np.int32)
    for h in range(many):
        if low[0] <= heights[0, h] <= high[0]:
            cost[0, h] = 0.0
    own = np.empty(many)
    first_gate = 0
    for i in range(1, places):
        # the nearest place that lies far enough before this one; the end of the line is wherever it is
        nearest = i - 1
        while nearest > 0 and at[i] - at[nearest] < apart:
            nearest -= 1
        if at[i] - at[nearest] < apart and i < places - 1:
            continue
        last_gate = np.searchsorted(gates, at[i])
        t = at[i]
        ww = wu = uu = wy = uy = yy = 0.0
        steepest = np.inf
        first_gate = last_gate
        j = places
        for k in range(len(back)):
            if j == 0:
                break
            # from the first place there is always a way
            j = max(nearest - back[k], 0)
            while t > at[j]:
                u, w, y = float(at[i] - t), weight[t], wanted[t]
                ww += w
                wu += w * u
                uu += w * u * u
                wy += w * y
                uy += w * u * y
                yy += w * y * y
                steepest = min(steepest, slope[t])
                t -= 1
            while first_gate > 0 and gates[first_gate - 1] > at[j]:
                first_gate -= 1
            length = float(at[i] - at[j])
            stiff = STIFF / length
            a = uu / length**2 + stiff
            b = 2.0 * (wu / length - uu / length**2 - stiff)
            c = ww - 2.0 * wu / length + uu / length**2 + stiff
            d = -2.0 * uy / length
            e = -2.0 * (wy - uy / length)
            for h in range(many):
                own[h] = heights[i, h] * (c * heights[i, h] + e)
            for g in range(many):
                if cost[j, g] == np.inf:
                    continue
                before = heights[j, g]
                base = cost[j, g] + before * (a * before + d) + yy + price
                lowest, highest = (
                    max(low[i], before - steepest * length - SPECK),
                    min(high[i], before + steepest * length + SPECK),
                )
                for gate in range(first_gate, last_gate):
                    share = (gates[gate] - at[j]) / length
                    lowest = max(lowest, (gate_low[gate] - before * (1.0 - share)) / share)
                    highest = min(highest, (gate_high[gate] - before * (1.0 - share)) / share)
                tilt = b * before
                for h in range(many):
                    here = heights[i, h]
                    if here < lowest:
                        continue
                    if here > highest:
                        break
                    total = base + own[h] + tilt * here
                    if total < cost[i, h]:
                        cost[i, h] = total
                        came[i, h, 0] = j
                        came[i, h, 1] = g
    h = int(np.argmin(cost[-1]))
    if cost[-1, h] == np.inf:
        return np.empty(0, np.int64), np.empty(0, np.int64)
    place, height = [places - 1], [h]
    while place[-1] > 0:
        i, h = place[-1], height[-1]
        place.append(int(came[i, h, 0]))
        height.append(int(came[i, h, 1]))
    return np.array(place)[::-1].copy(), np.array(height)[::-1].copy()
