"""The inside of a phrase: how loud it is around every moment, and how much that varies."""

from __future__ import annotations

import numba
import numpy as np

from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import FRAME
from nivelus.core.measure.loudness import MOMENTARY, PHRASE_GATE_SHARE, gated_power, power_around, to_lufs
from nivelus.core.stopping import step

GATE = 12.0
"""LU under its phrase from which a window is a pause inside it, and no part of its spread."""


def inner_spread(power: FloatArray) -> float:
    """Spread inside a phrase: the standard deviation, LU, of momentary loudness (400 ms) every 100 ms.

    Windows more than GATE under the phrase are pauses and do not count. 0 for a phrase with fewer than two windows.
    ``power`` (n,) is the K-weighted mean square per frame.
    """
    step()
    frames = np.ascontiguousarray(power, np.float64)
    return float(_spread(frames, gated_power(frames, PHRASE_GATE_SHARE) * 10 ** (-GATE / 10))) if len(frames) else 0.0


@numba.njit(nogil=True, cache=True)
def _spread(power: FloatArray, least: float) -> float:
    """The standard deviation of the loudness of every tenth window whose mean power is above ``least``, LU."""
    count = max((len(power) - MOMENTARY) // 10 + 1, 0)
    levels = np.empty(count)
    kept = 0
    for window in range(count):
        mean = power[10 * window : 10 * window + MOMENTARY].sum() / MOMENTARY
        if mean > least:
            levels[kept] = 10 * np.log10(mean)
            kept += 1
    return float(levels[:kept].std()) if kept > 1 else 0.0


def around(power: FloatArray, window: float) -> FloatArray:
    """Loudness of ``window`` seconds around every frame of a phrase, LUFS, (n,); of less at its edges."""
    count, half = len(power), max(round(window / FRAME / 2), 1)
    return to_lufs(power_around(power, np.arange(count), half, half + 1))
