"""Loudness from the level grid, with or without gain.

Conventions
-----------
``power`` is the K-weighted power of each 10 ms frame, (n,) float64, summed over channels; loudness is
``-0.691 + 10 log10(power)`` in LUFS. What was never reached (too short, all below the gate) is minus infinity.
Everything here is O(n) in frames: an hour is 360,000 of them.

Sources
-------
ITU-R BS.1770-5 (integrated, gates of -70 LUFS and -10 LU), EBU Tech 3341 (momentary 400 ms, short-term 3 s), EBU Tech
3342 (loudness range: short-term values, gates of -70 LUFS and -20 LU, 10th to 95th percentile).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numba
import numpy as np
import numpy.typing as npt

from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import LevelGrid

OFFSET = -0.691
MOMENTARY, SHORT_TERM = 40, 300
ABSOLUTE_GATE = -70.0
PHRASE_GATE = 20.0
"""LU under the mean of a phrase below which a frame is a pause."""
PHRASE_GATE_SHARE = 10 ** (-PHRASE_GATE / 10)
AS_TWO_LOUDSPEAKERS = 10 * np.log10(2.0)
"""What a mono voice gains in LU when it is counted as coming from two loudspeakers."""


def judged_offset(as_two: bool, channels: int, unit: str) -> float:
    """What is added to the levels of a voice that counts ``as_two`` loudspeakers; RMS and peak know none."""
    return float(AS_TWO_LOUDSPEAKERS) if as_two and channels == 1 and unit == "loudness" else 0.0


@dataclass(frozen=True, slots=True)
class Figures:
    """Level figures of a recording: LUFS, LU, dBTP and dBFS; minus infinity where nothing passed the gates."""

    integrated: float
    loudness_range: float
    momentary_max: float
    short_term_max: float
    true_peak: float
    sample_peak: float
    rms: float


def to_lufs(power: npt.ArrayLike) -> FloatArray:
    """Loudness in LUFS of K-weighted power."""
    with np.errstate(divide="ignore"):
        return np.asarray(OFFSET + 10 * np.log10(np.asarray(power, np.float64)))


def to_db(amplitude: npt.ArrayLike) -> FloatArray:
    """Decibels of a linear amplitude."""
    with np.errstate(divide="ignore"):
        return np.asarray(20 * np.log10(np.asarray(amplitude, np.float64)))


def power_to_db(power: npt.ArrayLike) -> FloatArray:
    """Decibels of a power (mean square)."""
    with np.errstate(divide="ignore"):
        return np.asarray(10 * np.log10(np.asarray(power, np.float64)))


def sliding_power(power: npt.ArrayLike, window: int) -> FloatArray:
    """Mean power of every full window, (n - window + 1,); empty if there is none."""
    power = np.asarray(power, np.float64)
    if len(power) < window:
        return np.empty(0)
    total = np.concatenate([[0.0], np.cumsum(power)])
    # the difference of two large sums can come out as a negative speck
    return np.asarray(np.maximum((total[window:] - total[:-window]) / window, 0.0))


def power_around(power: FloatArray, at: npt.NDArray[np.int64], before: int, after: int) -> FloatArray:
    """Mean power of the frames ``before`` and ``after`` some places ``at`` (n,), of fewer at both ends. O(frames + n).

    A place itself counts to what is after it.

    Parameters
    ----------
    power : (n,) of the frames
    at : (m,) places
    before, after : frames that count on each side
    """
    total = np.concatenate([[0.0], np.cumsum(power)])
    first, last = np.maximum(at - before, 0), np.minimum(at + after, len(power))
    # the difference of two large sums can come out as a negative speck
    return np.asarray(np.maximum((total[last] - total[first]) / np.maximum(last - first, 1), 0.0))


def integrated(power: npt.ArrayLike) -> float:
    """Integrated loudness in LUFS of 400 ms blocks that overlap by 75 %."""
    blocks = sliding_power(power, MOMENTARY)[::10]
    blocks = blocks[to_lufs(blocks) > ABSOLUTE_GATE]
    if not len(blocks):
        return -np.inf
    blocks = blocks[to_lufs(blocks) > to_lufs(blocks.mean()) - 10]
    return float(to_lufs(blocks.mean()))


def loudness_range(power: npt.ArrayLike) -> float:
    """Loudness range in LU, from short-term loudness taken every second; 0 if nothing passes the gates.

    The percentiles are those of the example in Tech 3342: the value of the nearest rank, not one between two.
    """
    blocks = sliding_power(power, SHORT_TERM)[::100]
    blocks = blocks[to_lufs(blocks) > ABSOLUTE_GATE]
    if not len(blocks):
        return 0.0
    levels = np.sort(to_lufs(blocks[to_lufs(blocks) >= to_lufs(blocks.mean()) - 20]))
    low, high = (levels[int((len(levels) - 1) * share + 0.5)] for share in (0.10, 0.95))
    return float(high - low)


def gated_loudness(power: npt.ArrayLike) -> float:
    """Loudness in LUFS of a phrase: the mean of its frames within PHRASE_GATE of their ungated mean.

    A pause inside the phrase so does not pull it down, and a word has the same level whether it is a phrase of its own or
    part of a longer one, however short it is. The gate lies lower than that of BS.1770, which is meant for blocks of 400 ms:
    between frames of 10 ms it would take the soft parts of words for pauses, and a phrase would come out softer to a
    meter than asked.
    """
    frames = np.ascontiguousarray(power, np.float64)
    return float(to_lufs(gated_power(frames, PHRASE_GATE_SHARE))) if len(frames) else math.nan


@numba.njit(nogil=True, cache=True)
def gated_power(frames: FloatArray, share: float) -> float:
    """Mean of the frames that are at least ``share`` of the mean of all, (n,) of at least one. A phrase is asked for often."""
    total = 0.0
    for value in frames:
        total += value
    least = total / len(frames) * share
    total, count = 0.0, 0
    for value in frames:
        if value >= least:
            total += value
            count += 1
    # rounding may leave none of frames that are all alike
    return total / count if count else least / share


def figures(grid: LevelGrid, gain: FloatArray | None = None, offset: float = 0.0) -> Figures:
    """Every level figure of a recording, from the grid alone.

    Parameters
    ----------
    grid : the level grid
    gain : (frames, 2) from ``core.gain.compiled.frame_gain``: mean square and highest amplitude of the gain per frame
    offset : LU added to the loudness figures (``AS_TWO_LOUDSPEAKERS`` for a mono voice so counted)
    """
    power = grid.column("k").astype(np.float64)
    plain = grid.column("plain").astype(np.float64)
    peak, top = grid.column("peak").astype(np.float64), grid.column("true_peak").astype(np.float64)
    if gain is not None:
        power, plain = power * gain[:, 0], plain * gain[:, 0]
        peak, top = peak * gain[:, 1], top * gain[:, 1]
    momentary, short = sliding_power(power, MOMENTARY), sliding_power(power, SHORT_TERM)
    return Figures(
        integrated=integrated(power) + offset,
        loudness_range=loudness_range(power),
        momentary_max=float(to_lufs(momentary.max(initial=0.0))) + offset,
        short_term_max=float(to_lufs(short.max(initial=0.0))) + offset,
        true_peak=float(to_db(top.max())),
        sample_peak=float(to_db(peak.max())),
        rms=float(power_to_db(plain.mean())),
    )
