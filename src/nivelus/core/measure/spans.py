"""The level of a span of a recording - a phrase, a clip - with or without gain, from the level grid."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

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
    frames, owner, _, length = _frames_of(spans)
    power = column[frames].astype(np.float64)
    before, after = (np.bincount(owner, values, len(length)) for values in (power, power * gain))
    return np.asarray(10 * np.log10(np.maximum(after, 1e-24) / np.maximum(before, 1e-24)))


def _frames_of(spans: npt.NDArray[np.int64]) -> tuple[npt.NDArray[np.int64], ...]:
    """All frames of spans one after the other, whose they are, where each span begins among them, and its length."""
    length = spans[:, 1] - spans[:, 0]
    first = np.concatenate([[0], np.cumsum(length)[:-1]]).astype(np.int64)
    owner = np.repeat(np.arange(len(spans)), length)
    return np.arange(len(owner)) - np.repeat(first - spans[:, 0], length), owner, first, length


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
    frames, owner, first, length = _frames_of(spans)
    column = {"loudness": "k", "rms": "plain", "peak": "true_peak"}[unit]
    values = grid.column(column)[frames].astype(np.float64) * gain[:, 1 if unit == "peak" else 0]
    if not len(spans):
        return np.zeros(0)
    if unit == "peak":
        return np.maximum(to_db(np.maximum.reduceat(values, first)), LOWEST_DB)
    mean = np.bincount(owner, values) / length
    if unit == "rms":
        return np.maximum(power_to_db(mean), LOWEST_DB)
    # the gate of loudness.gated_loudness
    kept = values >= mean[owner] * PHRASE_GATE_SHARE
    return np.maximum(to_lufs(np.bincount(owner, values * kept) / np.bincount(owner, kept)), LOWEST_DB)
