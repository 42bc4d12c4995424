"""Gain curves: breakpoints in time and dB, and what becomes of them at a sample, a frame or a screen.

Conventions
-----------
Time is in samples of the recording (float64 positions are allowed), gain in dB and linear in dB between two points.
Before the first and after the last point the curve keeps its end value. Looking a window up is O(log points) plus
the window itself, so an hour with thousands of points is as quick as a minute.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import reduce
from typing import Any

import numba
import numpy as np
import numpy.typing as npt

from nivelus.core.errors import GainError

FloatArray = npt.NDArray[np.float64]

DB_TO_LOG = np.log(10.0) / 20.0
SILENCE = -120.0
"""Gain in dB at and below which a sample becomes exactly 0: under the last bit of 24."""


@dataclass(frozen=True, slots=True, eq=False)
class GainCurve:
    """A compiled gain: ``at`` (n,) sample positions in strictly rising order, ``db`` (n,) finite gains.

    Raises
    ------
    GainError
        If positions do not rise or a gain is not finite.
    """

    at: FloatArray
    db: FloatArray

    def __post_init__(self) -> None:
        if len(self.at) != len(self.db) or len(self.at) == 0:
            raise GainError("A gain curve needs as many gains as positions, and at least one.")
        if not np.isfinite(self.db).all() or not np.isfinite(self.at).all() or (np.diff(self.at) <= 0).any():
            raise GainError("A gain curve needs rising positions and finite gains.")

    def window(self, start: float, end: float) -> GainCurve:
        """The points that decide the gain between ``start`` and ``end``: O(log n) to find."""
        first = max(0, int(np.searchsorted(self.at, start, "right")) - 1)
        last = min(len(self.at), int(np.searchsorted(self.at, end, "left")) + 1)
        return GainCurve(self.at[first:last], self.db[first:last])

    def sample(self, start: float, step: float, count: int) -> npt.NDArray[np.float32]:
        """Gain in dB at ``start + i * step`` samples for ``i`` in 0 ... count - 1, float32."""
        part = self.window(start, start + step * count)
        return np.asarray(np.interp(start + step * np.arange(count), part.at, part.db), np.float32)

    @property
    def is_flat_zero(self) -> bool:
        """Whether the curve changes nothing at all."""
        return not self.db.any()


def add_curves(curves: Sequence[GainCurve]) -> GainCurve:
    """The sum of curves: layers of gain add in dB. Exact, for it has a point wherever one of them has. O(n).

    Raises
    ------
    GainError
        If there is no curve.
    """
    if not curves:
        raise GainError("There are no curves to add.")
    return reduce(_sum_of_two, curves)


def _sum_of_two(a: GainCurve, b: GainCurve) -> GainCurve:
    if b.is_flat_zero:
        return a
    if a.is_flat_zero:
        return b
    at, db = np.empty(len(a.at) + len(b.at)), np.empty(len(a.at) + len(b.at))
    first_at, first_db, other_at, other_db = (np.asarray(column, np.float64) for column in (a.at, a.db, b.at, b.db))
    count = _merge(first_at, first_db, other_at, other_db, at, db)
    return GainCurve(at[:count], db[:count])


def frame_gain(curve: GainCurve, borders: npt.NDArray[np.int64]) -> FloatArray:
    """Mean square and highest amplitude of the gain in each frame, exactly.

    Gain that is linear in dB is an exponential in power, whose mean between p0 and p1 is (p1 - p0) / ln(p1 / p0).
    O(frames + points).

    Parameters
    ----------
    curve : the gain
    borders : (frames + 1,) sample borders of the frames

    Returns
    -------
    (frames, 2) float64, linear power and linear amplitude
    """
    return span_gain(curve, borders, np.array([[0, len(borders) - 1]], np.int64))


def span_gain(curve: GainCurve, borders: npt.NDArray[np.int64], spans: npt.NDArray[np.int64]) -> FloatArray:
    """``frame_gain`` of the frames of some spans alone, one span after the other. O(their frames and points, spans log points).

    Parameters
    ----------
    curve : the gain
    borders : (frames + 1,) sample borders of all frames
    spans : (n, 2) first frame and the one after the last

    Returns
    -------
    (frames of the spans, 2) float64, linear power and linear amplitude
    """
    out = np.empty((int((spans[:, 1] - spans[:, 0]).sum()), 2))
    at, db = np.asarray(curve.at, np.float64), np.asarray(curve.db, np.float64)
    _spans(at, db, borders, np.ascontiguousarray(spans, np.int64), out)
    return out


def apply_gain(samples: npt.NDArray[np.floating[Any]], curve: GainCurve, start: int) -> npt.NDArray[np.floating[Any]]:
    """Multiply samples by the gain, exactly 1 where it is 0 dB and exactly 0 where it stays at or below SILENCE.

    Parameters
    ----------
    samples : (n, channels) float
    curve : the gain
    start : position of the first sample in the recording

    Returns
    -------
    (n, channels) of the same type; ``samples`` itself where the gain is 0 dB throughout
    """
    part = curve.window(start, start + len(samples))
    if part.is_flat_zero:
        return samples
    out = np.empty_like(samples)
    _apply(samples, part.at - start, part.db, out)
    return out


@numba.njit(nogil=True, cache=True)
def _merge(
    at: FloatArray, db: FloatArray, other_at: FloatArray, other_db: FloatArray, out: FloatArray, sums: FloatArray
) -> int:
    """Walk two curves side by side, note the sum wherever one of them has a point, and return how many there are."""
    i, j, count = 0, 0, 0
    while i < len(at) or j < len(other_at):
        x = other_at[j] if i == len(at) or (j < len(other_at) and other_at[j] < at[i]) else at[i]
        out[count], sums[count] = x, _value(at, db, i, x) + _value(other_at, other_db, j, x)
        count += 1
        if i < len(at) and at[i] == x:
            i += 1
        if j < len(other_at) and other_at[j] == x:
            j += 1
    return count


@numba.njit(nogil=True, cache=True)
def _value(at: FloatArray, db: FloatArray, i: int, x: float) -> Any:
    """The curve at ``x``, where ``i`` is its first point that does not lie before it."""
    if i == len(at):
        return db[-1]
    if i == 0 or at[i] == x:
        return db[i]
    return (db[i] - db[i - 1]) / (at[i] - at[i - 1]) * (x - at[i - 1]) + db[i - 1]


@numba.njit(nogil=True, cache=True)
def _spans(
    at: FloatArray, db: FloatArray, borders: npt.NDArray[np.int64], spans: npt.NDArray[np.int64], out: FloatArray
) -> None:
    """The frames of one span after the other."""
    count = 0
    for n in range(len(spans)):
        first, last = spans[n]
        _frames(at, db, borders[first : last + 1], out[count : count + last - first])
        count += last - first


@numba.njit(nogil=True, cache=True)
def _frames(at: FloatArray, db: FloatArray, borders: npt.NDArray[np.int64], out: FloatArray) -> None:
    """Walk frames and segments side by side."""
    last = len(at) - 1
    # the segment that ends at point i lies before it; before the first point and behind the last the curve is level
    i = np.searchsorted(at, np.float64(borders[0]), "right")
    known, power = np.nan, 1.0
    # of pieces of one segment that are as long as each other the power goes on by the same ratio: no exponential for each
    segment, long, until, begun, ratio, mean = i, -1.0, 0.0, 1.0, 1.0, 1.0
    for frame in range(len(borders) - 1):
        low, high = np.float64(borders[frame]), np.float64(borders[frame + 1])
        total, highest, x = 0.0, 0.0, low
        while x < high:
            end = high if i > last else min(high, at[i])
            if end > x or at[i] <= x:
                slope = 0.0 if i == 0 or i > last else (db[i] - db[i - 1]) / (at[i] - at[i - 1])
                if slope == 0.0:
                    level = db[0] if i == 0 else db[i - 1]
                    if level != known:
                        known, power = level, np.exp(2 * level * DB_TO_LOG)
                    total += power * (end - x)
                    highest = max(highest, power)
                else:
                    if i != segment or end - x != long:
                        segment, long, until = i, end - x, -1.0
                        growth = 2 * slope * long * DB_TO_LOG
                        ratio = np.exp(growth)
                        mean = 1.0 if abs(growth) < 1e-9 else np.expm1(growth) / growth
                    begun = begun * ratio if x == until else np.exp(2 * (db[i - 1] + slope * (x - at[i - 1])) * DB_TO_LOG)
                    until = end
                    total += begun * mean * long
                    highest = max(highest, begun, begun * ratio)
                x = end
            if i <= last and at[i] <= x:
                i += 1
        out[frame, 0] = total / max(high - low, 1.0)
        out[frame, 1] = np.sqrt(highest)


@numba.njit(nogil=True, cache=True)
def _apply(samples: npt.NDArray[Any], at: FloatArray, db: FloatArray, out: npt.NDArray[Any]) -> None:
    """Walk the segments; gain that is linear in dB is a geometric series in amplitude, so no exponential per sample."""
    count, channels = samples.shape
    i = 0
    for segment in range(len(at) + 1):
        end = count if segment == len(at) else min(count, int(np.ceil(at[segment])))
        if end <= i:
            continue
        if segment == 0 or segment == len(at) or db[segment] == db[segment - 1]:
            level = db[0] if segment == 0 else db[segment - 1]
            factor = 0.0 if level <= SILENCE else np.exp(level * DB_TO_LOG)
            if level == 0.0:
                out[i:end] = samples[i:end]
            else:
                for j in range(i, end):
                    for c in range(channels):
                        out[j, c] = samples[j, c] * factor
        else:
            slope = (db[segment] - db[segment - 1]) / (at[segment] - at[segment - 1])
            factor = np.exp((db[segment - 1] + slope * (i - at[segment - 1])) * DB_TO_LOG)
            ratio = np.exp(slope * DB_TO_LOG)
            for j in range(i, end):
                for c in range(channels):
                    out[j, c] = samples[j, c] * factor
                factor *= ratio
        i = end
