"""Onsets: where sound sets in, in the waveform, to the bin. They are what an edge of an edit snaps to.

An onset is where the power of the next 8 ms stands highest over that of the 30 ms before. Nothing quieter than the room
counts, and of several within 60 ms only the strongest.

Conventions
-----------
Times are seconds. The numbers are our own, set by ear and eye on recorded voices; no source.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from nivelus.core.gain.curve import FloatArray
from nivelus.core.measure.grid import FRAME
from nivelus.core.measure.kernel import BINS_PER_FRAME

BIN = FRAME / BINS_PER_FRAME
NEXT, BEFORE, APART = 0.008, 0.030, 0.060
RISE = 8.0
"""dB by which the sound after an onset stands over that before it."""
OVER_ROOM = 7.0
"""dB over the room from which something is an onset at all."""


def find_onsets(wave: npt.NDArray[np.floating[Any]], room_tone: float) -> FloatArray:
    """Where sound sets in. O(n).

    Parameters
    ----------
    wave : (n, 2) lowest and highest sample of each bin, level 0 of ``core.measure.waveform``
    room_tone : RMS of the room, dBFS

    Returns
    -------
    (m,) float64 seconds, rising
    """
    ahead, back, apart = (max(round(seconds / BIN), 1) for seconds in (NEXT, BEFORE, APART))
    if len(wave) < ahead + back:
        return np.zeros(0)
    peak = np.maximum(np.abs(wave[:, 0]), np.abs(wave[:, 1])).astype(np.float64)
    total = np.concatenate([[0.0], np.cumsum(peak**2)])
    at = np.arange(len(peak) - ahead + 1)
    after = (total[at + ahead] - total[at]) / ahead
    start = np.maximum(at - back, 0)
    before = (total[at] - total[start]) / np.maximum(at - start, 1)
    # peaks of a bin stand some dB over its RMS, the room's alike
    floor = 10 ** ((room_tone + OVER_ROOM) / 10)
    rise = 10 * np.log10(np.maximum(after, 1e-12) / np.maximum(before, max(floor / 10, 1e-12)))
    # at its very beginning a recording has nothing to stand over
    rise[:ahead] = -np.inf
    is_top = (rise > np.insert(rise[:-1], 0, -np.inf)) & (rise >= np.append(rise[1:], -np.inf))
    kept: list[int] = []
    for place in np.flatnonzero(is_top & (rise >= RISE) & (after > floor)).tolist():
        if not kept or place - kept[-1] > apart:
            kept.append(place)
        elif rise[place] > rise[kept[-1]]:
            kept[-1] = place
    return np.array(kept, np.float64) * BIN
