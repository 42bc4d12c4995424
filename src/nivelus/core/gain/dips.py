"""Dips: short attenuations with five numbers and a shape, and the one gain curve that many of them make.

Conventions
-----------
Positions and ramps are samples of the recording (float64), depths are dB and never above 0. A dip is at its depth from
``start`` to ``end``; its ramps lie outside of that, linear in dB. A *notch* falls from the outer end of one ramp to its
depth in the middle and back along a raised cosine. Where dips overlap the deepest wins at every moment, so the curve
never jumps: it is the lower envelope of curves that do not jump. O(n log n) in dips.
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from itertools import combinations

import numpy as np
import numpy.typing as npt

from nivelus.core.errors import GainError
from nivelus.core.gain.clips import DECLICK_SECONDS
from nivelus.core.gain.compiled import FloatArray, GainCurve

SILENT_DIP = -144.0
"""Depth of a dip that silences: with any clip gain it stays below ``compiled.SILENCE``, where samples become exactly 0."""
_NOTCH_STEPS = 8
_SAME_POINT = 1e-6


@dataclass(frozen=True, slots=True)
class Dips:
    """Many dips: ``start``, ``end``, ``depth``, ``ramp_in``, ``ramp_out`` (n,) float64 and ``notch`` (n,) bool.

    Raises
    ------
    GainError
        If a value is not finite, a dip ends before it starts, a depth is above 0, or a ramp is negative.
    """

    start: FloatArray
    end: FloatArray
    depth: FloatArray
    ramp_in: FloatArray
    ramp_out: FloatArray
    notch: npt.NDArray[np.bool_]

    def __post_init__(self) -> None:
        numbers = np.stack([self.start, self.end, self.depth, self.ramp_in, self.ramp_out])
        if not np.isfinite(numbers).all():
            raise GainError("A dip holds a value that is no number.")
        if (self.end < self.start).any() or (self.depth > 0).any() or (numbers[3:] < 0).any():
            raise GainError("A dip ends after it starts, goes down, and has ramps that are not negative.")

    def __len__(self) -> int:
        return len(self.start)

    def where(self, mask: npt.NDArray[np.bool_]) -> Dips:
        """The dips that ``mask`` (n,) chooses."""
        return Dips(*(getattr(self, field.name)[mask] for field in fields(self)))


def compile_dips(dips: Dips, rate: int) -> GainCurve:
    """The gain curve of dips, 0 dB where there is none.

    Ramps shorter than the de-click slope of 5 ms are made that long. O(n log n).
    """
    dips = dips.where(dips.depth < 0)
    if not len(dips):
        return GainCurve(np.zeros(1), np.zeros(1))
    least = DECLICK_SECONDS * rate
    first, last = dips.start - np.maximum(dips.ramp_in, least), dips.end + np.maximum(dips.ramp_out, least)
    lanes = [_lane(dips, first, last, chosen) for chosen in _lanes(first, last)]
    at = np.unique(np.concatenate([lane[0] for lane in lanes]))
    values = np.stack([np.interp(at, *lane, left=0.0, right=0.0) for lane in lanes])
    crossings = [_crossings(at, values[i] - values[j]) for i, j in combinations(range(len(lanes)), 2)]
    if crossings:
        at = np.unique(np.concatenate([at, *crossings]))
        values = np.stack([np.interp(at, *lane, left=0.0, right=0.0) for lane in lanes])
    db = values.min(axis=0)
    # points nearer than this are the same one: the steepest ramp, 40 dB in 5 ms at 48 kHz, moves by 2e-7 dB within it
    apart = np.concatenate([[True], np.diff(at) > _SAME_POINT])
    return GainCurve(at[apart], np.maximum.reduceat(db, np.flatnonzero(apart)))


def _lanes(first: FloatArray, last: FloatArray) -> list[npt.NDArray[np.int64]]:
    """Deal overlapping dips out to as few lanes as it takes, so that those in one lane do not overlap."""
    ends: list[float] = []
    members: list[list[int]] = []
    for index in np.argsort(first, kind="stable").tolist():
        lane = next((number for number, end in enumerate(ends) if end <= first[index]), len(ends))
        if lane == len(ends):
            ends.append(0.0)
            members.append([])
        ends[lane] = float(last[index])
        members[lane].append(index)
    return [np.array(lane, np.int64) for lane in members]


def _lane(dips: Dips, first: FloatArray, last: FloatArray, chosen: npt.NDArray[np.int64]) -> tuple[FloatArray, FloatArray]:
    """Points of dips that do not overlap, in order of time."""
    outer, inner = (first[chosen], last[chosen]), (dips.start[chosen], dips.end[chosen])
    depth, notch = dips.depth[chosen], dips.notch[chosen]
    zero = np.zeros(len(chosen))
    flat_at = np.stack([outer[0], inner[0], inner[1], outer[1]], axis=1)
    flat_db = np.stack([zero, depth, depth, zero], axis=1)
    share = np.linspace(0.0, 1.0, 2 * _NOTCH_STEPS + 1)
    notch_at = outer[0][:, None] + share * (outer[1] - outer[0])[:, None]
    notch_db = depth[:, None] * (0.5 - 0.5 * np.cos(2 * np.pi * share))
    notch_db[:, [0, -1]] = 0.0
    order = np.concatenate([np.repeat(np.flatnonzero(~notch), 4), np.repeat(np.flatnonzero(notch), len(share))])
    at = np.concatenate([flat_at[~notch].ravel(), notch_at[notch].ravel()])
    db = np.concatenate([flat_db[~notch].ravel(), notch_db[notch].ravel()])
    sorted_by_dip = np.argsort(order, kind="stable")
    return at[sorted_by_dip], db[sorted_by_dip]


def _crossings(at: FloatArray, difference: FloatArray) -> FloatArray:
    """Where two curves that are linear between the positions ``at`` cross: their ``difference`` changes its sign."""
    left, right = difference[:-1], difference[1:]
    cross = np.flatnonzero(left * right < 0)
    share = left[cross] / (left[cross] - right[cross])
    return at[cross] + share * (at[cross + 1] - at[cross])
