"""Where a compressor stands: ahead of the pre-fader gain or behind it, and what that does to quiet and loud phrases."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from nivelus.core.chain.state import TrackState
from nivelus.core.dynamics.detector import STEP, Reduction
from nivelus.core.dynamics.load import Spans, by_phrase
from nivelus.core.measure.loudness import gated_loudness, to_db


@dataclass(frozen=True, slots=True)
class Order:
    """The quieter and the louder half of the phrases with the gain ahead of the compressor and behind it.

    Each has the mean reduction (dB) and the mean crest, true peak over loudness (LU), of both halves, and the standard
    deviation of the loudness of all phrases (LU). A half without a phrase has 0.
    """

    ahead_quiet: float
    ahead_loud: float
    ahead_quiet_crest: float
    ahead_loud_crest: float
    ahead_spread: float
    behind_quiet: float
    behind_loud: float
    behind_quiet_crest: float
    behind_loud_crest: float
    behind_spread: float


def order(state: TrackState, before: Reduction, after: Reduction, spans: Spans) -> Order:
    """Compare both orders. O(frames + steps).

    Parameters
    ----------
    state : the track, which has a grid
    before, after : what the compressor does to it without its gain and with it, dB every STEP samples
    spans : of the phrases that are judged, samples, (n, 2)
    """
    grid = state.grid
    assert grid is not None
    slices = state.clips.phrase_slices(grid, state.clips.judged)
    levels = state.clips.loudness[state.clips.judged]
    is_loud = levels >= np.median(levels)
    power = np.asarray(grid.column("k"), np.float64) * state.gain_per_frame[:, 0]
    peaks = np.asarray(grid.column("true_peak"), np.float64) * state.gain_per_frame[:, 1]
    steps = np.minimum(np.arange(len(power)) * grid.sample_rate // 100 // STEP, len(before) - 1)
    figures: dict[str, float] = {}
    for name, reduction in (("ahead", after), ("behind", before)):
        own = by_phrase(reduction, spans)
        factor = 10 ** (-reduction[steps].astype(np.float64) / 20)
        out, highest = power * factor**2, peaks * factor
        heard = np.array([gated_loudness(out[span]) for span in slices])
        crest = to_db(np.array([highest[span].max() for span in slices])) - heard
        for part, which in (("quiet", ~is_loud), ("loud", is_loud)):
            figures[f"{name}_{part}"] = float(own[which].mean()) if which.any() else 0.0
            figures[f"{name}_{part}_crest"] = float(crest[which].mean()) if which.any() else 0.0
        figures[f"{name}_spread"] = float(heard.std())
    return Order(**figures)
