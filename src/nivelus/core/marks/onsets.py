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

from nivelus.core.gain.compiled import FloatArray
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
    low, high = np.asarray(wave[:, 0], np.float32), np.asarray(wave[:, 1], np.float32)
    peak = np.maximum(-low, high)
    total = np.concatenate([[0.0], np.cumsum(peak * peak, dtype=np.float64)])
    at = np.arange(len(peak) - ahead + 1)
    after = (total[at + ahead] - total[at]) / ahead
    start = np.maximum(at - back, 0)
    before = (total[at] - total[start]) / np.maximum(at - start, 1)
    # peaks of a bin stand some dB over its RMS, the room's alike
    floor = 10 ** ((room_tone + OVER_ROOM) / 10)
    rise = after / np.maximum(before, max(floor / 10, 1e-12))
    # at its very beginning a recording has nothing to stand over
    rise[:ahead] = 0.0
    found = np.flatnonzero((rise >= 10 ** (RISE / 10)) & (after > floor))
    is_top = (rise[found] > rise[found - 1]) & (rise[found] >= rise[np.minimum(found + 1, len(rise) - 1)])
    kept: list[int] = []
    for place in found[is_top].tolist():
        if not kept or place - kept[-1] > apart:
            kept.append(place)
        elif rise[place] > rise[kept[-1]]:
            kept[-1] = place
    return np.array(kept, np.float64) * BIN
