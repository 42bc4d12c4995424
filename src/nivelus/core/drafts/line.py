"""The line with few corners through a course of gain: what a ride draws instead of a point in every frame.

A course says for every frame what gain is wanted, how much that frame counts, and what bounds it. The line begins with a
corner every few frames, its heights by least squares. Then those corners go without which it strays least, the heights are
fitted anew, and so on: bottom-up segmentation (Keogh et al., Segmenting time series, 2004) with a fit of the whole line.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numba
import numpy as np
import numpy.typing as npt

from nivelus.core.gain.compiled import FloatArray

Indices = npt.NDArray[np.int64]

CLOSE = 10
"""Frames between two corners to begin with."""
SWEEPS, REACH = 3, 8
"""How often each corner looks for a better place, and how many frames from where it is."""
AT_ONCE = 0.2
"""Share of the corners that go before the heights are fitted anew."""


@dataclass(frozen=True, slots=True)
class Course:
    """What a line goes by: ``wanted`` dB, ``weight``, ``lowest`` and ``highest`` dB, ``slope`` dB a frame, (frames,) each.

    ``fixed`` (n,) are frames, in order, that have a corner whatever it is worth; the first and the last frame are among them.
    """

    wanted: FloatArray
    weight: FloatArray
    lowest: FloatArray
    highest: FloatArray
    slope: FloatArray
    fixed: Indices


@dataclass(frozen=True, slots=True)
class Corners:
    """Corners from which to choose: their frames ``at`` (n,), and ``stays`` (n,), how many others go before each."""

    at: Indices
    stays: Indices

    def __len__(self) -> int:
        return len(self.at)

    def best(self, count: int) -> Indices:
        """The frames of as many corners, those without which the line strays most; what is fixed is always among them."""
        return self.at[self.stays >= len(self) - max(count, 0)]


def corners_of(course: Course) -> Corners:
    """Corners from which to choose; where nothing counts between two that are fixed, there are no others.

    O(frames) for each of the rounds in which a share of them goes.
    """
    stretches = [(a, b) for a, b in pairwise(course.fixed.tolist()) if course.weight[a + 1 : b].any()]
    inner = [np.arange(a + CLOSE, b - CLOSE + 1, CLOSE) for a, b in stretches]
    at = np.sort(np.concatenate([course.fixed, *inner]))
    return Corners(at, _stays(course.wanted, at, course.weight, np.isin(at, course.fixed)))


def moved_corners(course: Course, corners: Indices) -> Indices:
    """As many corners, those that are not fixed each where the line strays least if its neighbours stay. O(frames)."""
    return np.asarray(_moved(course.wanted, course.weight, corners, np.isin(corners, course.fixed)))


def heights_of(course: Course, corners: Indices) -> FloatArray:
    """Heights of the corners, (n,) dB: nearest to the course, within its bounds, and no steeper than it may be at both ends."""
    heights = _heights(course.wanted, corners, course.weight)
    return _bounded(heights, corners, course.lowest[corners], course.highest[corners], course.slope[corners])


@numba.njit(cache=True, nogil=True, error_model="numpy")
def _moved(wanted: FloatArray, weight: FloatArray, corners: Indices, is_fixed: npt.NDArray[np.bool_]) -> Indices:
    at = corners.copy()
    for _ in range(SWEEPS):
        heights = _heights(wanted, at, weight)
        for k in range(1, len(at) - 1):
            if is_fixed[k]:
                continue
            a, b, low, high = at[k - 1], at[k + 1], heights[k - 1], heights[k + 1]
            least = np.inf
            best, height = at[k], heights[k]
            for m in range(max(a + CLOSE, at[k] - REACH), min(b - CLOSE, at[k] + REACH) + 1):
                # the height of the middle by least squares: sum of weight * (share * height - rest) squared
                ss, sr, rr = 1e-9, 0.0, 0.0
                for i in range(a, b + 1):
                    if i < m:
                        share = (i - a) / (m - a)
                        rest = wanted[i] - low * (1 - share)
                    else:
                        share = (b - i) / (b - m)
                        rest = wanted[i] - high * (1 - share)
                    ss += weight[i] * share * share
                    sr += weight[i] * share * rest
                    rr += weight[i] * rest * rest
                if rr - sr * sr / ss < least:
                    least, best, height = rr - sr * sr / ss, m, sr / ss
            at[k], heights[k] = best, height
    return at


@numba.njit(cache=True, nogil=True, error_model="numpy")
def _bounded(heights: FloatArray, corners: Indices, lowest: FloatArray, highest: FloatArray, slope: FloatArray) -> FloatArray:
    """Heights within their bounds, from the left no steeper than they may be."""
    out = np.empty_like(heights)
    for i in range(len(heights)):
        height = heights[i]
        if i > 0:
            reach = max(slope[i], slope[i - 1]) * (corners[i] - corners[i - 1])
            height = min(max(height, out[i - 1] - reach), out[i - 1] + reach)
        out[i] = min(max(height, lowest[i]), highest[i])
    return out


@numba.njit(cache=True, nogil=True, error_model="numpy")
def _heights(course: FloatArray, corners: Indices, weight: FloatArray) -> FloatArray:
    """Heights of the corners of the line that lies nearest to the course in the sense of least squares.

    Each frame touches two corners, so the normal equations are tridiagonal. O(frames).
    """
    count = len(corners)
    middle, upper, right = np.full(count, 1e-9), np.zeros(count), np.zeros(count)
    k = 0
    for i in range(len(course)):
        while k < count - 2 and i >= corners[k + 1]:
            k += 1
        b = (i - corners[k]) / (corners[k + 1] - corners[k])
        a = 1.0 - b
        middle[k] += weight[i] * a * a
        middle[k + 1] += weight[i] * b * b
        upper[k] += weight[i] * a * b
        right[k] += weight[i] * a * course[i]
        right[k + 1] += weight[i] * b * course[i]
    for k in range(1, count):
        factor = upper[k - 1] / middle[k - 1]
        middle[k] -= factor * upper[k - 1]
        right[k] -= factor * right[k - 1]
    out = np.empty(count)
    out[-1] = right[-1] / middle[-1]
    for k in range(count - 2, -1, -1):
        out[k] = (right[k] - upper[k] * out[k + 1]) / middle[k]
    return out


@numba.njit(cache=True, nogil=True, error_model="numpy")
def _stays(course: FloatArray, corners: Indices, weight: FloatArray, fixed: npt.NDArray[np.bool_]) -> Indices:
    """How many other corners go before each, (n,); those that are fixed stay. Of two neighbours one goes in a round."""
    stays = np.full(len(corners), len(corners))
    kept = np.arange(len(corners))
    gone = 0
    while True:
        at = corners[kept]
        heights = _heights(course, at, weight)
        cost = np.full(len(kept), np.inf)
        for k in range(1, len(kept) - 1):
            if fixed[kept[k]]:
                continue
            a, m, b = at[k - 1], at[k], at[k + 1]
            low, middle, high = heights[k - 1], heights[k], heights[k + 1]
            strays = 0.0
            for i in range(a, b + 1):
                without = low + (high - low) * (i - a) / (b - a)
                drawn = low + (middle - low) * (i - a) / (m - a) if i < m else middle + (high - middle) * (i - m) / (b - m)
                strays += weight[i] * ((without - course[i]) ** 2 - (drawn - course[i]) ** 2)
            cost[k] = strays
        free = int(np.isfinite(cost).sum())
        if not free:
            return stays
        keeps = np.ones(len(kept), np.bool_)
        going = max(int(free * AT_ONCE), 1)
        for k in np.argsort(cost):
            if going == 0 or not np.isfinite(cost[k]):
                break
            if keeps[k - 1] and keeps[k + 1]:
                stays[kept[k]] = gone
                keeps[k] = False
                gone += 1
                going -= 1
        kept = kept[keeps]
