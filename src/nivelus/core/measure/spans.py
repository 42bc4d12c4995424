"""The level of a span of a recording - a phrase, a clip - with or without gain, from the level grid."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import LevelGrid
from nivelus.core.measure.loudness import gated_loudness, power_to_db, to_db

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

    ``gain`` (frames of the span, 2) is that of ``core.gain.curve.frame_gain``; none if not given.
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
