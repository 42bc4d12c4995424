"""The level of a span of a recording - a phrase, a clip - with or without gain, from the level grid."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numba
import numpy as np
import numpy.typing as npt

from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import LevelGrid
from nivelus.core.measure.loudness import PHRASE_GATE_SHARE, gated_loudness, power_to_db, to_db, to_lufs

UNITS = ("loudness", "rms", "peak")
"""What a level can be judged by: LUFS, RMS dBFS, or dBTP."""

LOWEST_DB = -120.0
"""Stands for silence: no level is reported below it."""


@dataclass(frozen=True, slots=True)
class SpanLevels:
    """Levels of one span: LUFS, RMS dBFS, dBTP and dBFS; never below LOWEST_DB."""

    loudness: float
    rms: float
    true_peak: float
    sample_peak: float

    def by(self, unit: str) -> float:
        """The level in one of UNITS."""
        return {"loudness": self.loudness, "rms": self.rms, "peak": self.true_peak}[unit]


def span_levels(grid: LevelGrid, start: float, end: float, gain: FloatArray | None = None) -> SpanLevels:
    """Measure a span given in seconds; loudness is gated as in ``loudness.gated_loudness``. O(frames of the span).

    ``gain`` (frames of the span, 2) is that of ``core.gain.compiled.frame_gain``; none if not given.

    Parameters
    ----------
    grid : that of the recording
    start, end : seconds
    gain : (frames, 2) that of the frames of the span; none if not given
    """
    frames = grid.span(start, end)
    names = ("k", "plain", "true_peak", "peak")
    k, plain, top, peak = (grid.column(name)[frames].astype(np.float64) for name in names)
    if gain is not None:
        k, plain, top, peak = k * gain[:, 0], plain * gain[:, 0], top * gain[:, 1], peak * gain[:, 1]
    return SpanLevels(
        loudness=max(gated_loudness(k), LOWEST_DB),
        rms=max(float(power_to_db(plain.mean())), LOWEST_DB),
        true_peak=max(float(to_db(top.max())), LOWEST_DB),
        sample_peak=max(float(to_db(peak.max())), LOWEST_DB),
    )


def moved_by_gain(column: npt.NDArray[np.floating[Any]], spans: npt.NDArray[np.int64], gain: FloatArray) -> FloatArray:
    """How many dB gain moves the power of many spans. O(frames of the spans).

    Parameters
    ----------
    column : (frames,) mean squares of a grid
    spans : (n, 2) first frame and the one after the last, at least one frame each
    gain : (frames of the spans,) linear power, see ``core.gain.compiled.span_gain``

    Returns
    -------
    (n,) dB
    """
    before, after = np.empty(len(spans)), np.empty(len(spans))
    _powers(np.asarray(column), spans, gain, before, after)
    return np.asarray(10 * np.log10(np.maximum(after, 1e-24) / np.maximum(before, 1e-24)))


def levels_of_spans(grid: LevelGrid, spans: npt.NDArray[np.int64], gain: FloatArray, unit: str) -> FloatArray:
    """The level of many spans at once, as ``span_levels`` has it for one. O(frames of the spans).

    Parameters
    ----------
    grid : the level grid
    spans : (n, 2) first frame and the one after the last, at least one frame each
    gain : (frames of the spans, 2) from ``core.gain.compiled.span_gain``
    unit : one of UNITS

    Returns
    -------
    (n,) levels, never below LOWEST_DB
    """
    column = np.asarray(grid.column({"loudness": "k", "rms": "plain", "peak": "true_peak"}[unit]))
    out = np.empty(len(spans))
    if unit == "peak":
        _highest(column, spans, gain[:, 1], out)
        return np.maximum(to_db(out), LOWEST_DB)
    # the gate is that of loudness.gated_loudness
    _means(column, spans, gain[:, 0], PHRASE_GATE_SHARE if unit == "loudness" else 0.0, out)
    return np.maximum(to_lufs(out) if unit == "loudness" else power_to_db(out), LOWEST_DB)


# --- how it is done: a column of a grid is read once, without a copy of what is read


@numba.njit(nogil=True, cache=True)
def _powers(
    column: npt.NDArray[Any], spans: npt.NDArray[np.int64], gain: FloatArray, before: FloatArray, after: FloatArray
) -> None:
    """The sums of spans as they are, and with the gain of their frames."""
    count = 0
    for n in range(len(spans)):
        own, moved = 0.0, 0.0
        for frame in range(spans[n, 0], spans[n, 1]):
            power = np.float64(column[frame])
            own += power
            moved += power * gain[count]
            count += 1
        before[n], after[n] = own, moved


@numba.njit(nogil=True, cache=True)
def _means(column: npt.NDArray[Any], spans: npt.NDArray[np.int64], gain: FloatArray, share: float, out: FloatArray) -> None:
    """The means of spans with the gain of their frames, of the frames that reach a share of the mean."""
    begin = 0
    for n in range(len(spans)):
        first, length = spans[n, 0], spans[n, 1] - spans[n, 0]
        total = 0.0
        for i in range(length):
            total += np.float64(column[first + i]) * gain[begin + i]
        gate = total / length * share
        kept, count = 0.0, 0
        for i in range(length):
            power = np.float64(column[first + i]) * gain[begin + i]
            if power >= gate:
                kept += power
                count += 1
        out[n] = kept / max(count, 1)
        begin += length


@numba.njit(nogil=True, cache=True)
def _highest(column: npt.NDArray[Any], spans: npt.NDArray[np.int64], gain: FloatArray, out: FloatArray) -> None:
    """The highest frame of each span with its gain."""
    count = 0
    for n in range(len(spans)):
        highest = 0.0
        for frame in range(spans[n, 0], spans[n, 1]):
            highest = max(highest, np.float64(column[frame]) * gain[count])
            count += 1
        out[n] = highest
