"""Nuclei: the loud cores of syllables, where a vowel stands. They are what a listener takes the level of a word from.

A nucleus is a top of the vowel band (200-1000 Hz, smoothed over 50 ms) that stands DIP over the dips beside it. Tops far
under the phrase, or hardly over the room, are none: breath, reverberation, the rest of a word that has died away. Peaks of
the intensity contour between dips are how syllables have been counted without a transcript since P. Mermelstein, J. Acoust.
Soc. Am. 58 (1975), and N. H. de Jong, T. Wempe, Behavior Research Methods 41 (2009), who take dips of 2 dB; from memory.
O(n) in frames.
"""

from __future__ import annotations

import numba
import numpy as np
import numpy.typing as npt

from nivelus.core.marks.features import smooth
from nivelus.core.marks.kernel import tops
from nivelus.core.measure.filters import FloatArray

DIP = 2.0
"""dB that a top stands over the dips beside it."""
FAR = 22.0
"""dB under the loud parts of the vowel band of a phrase from which a top is no syllable any more."""
OVER_ROOM = 6.0
_SMOOTH, _LOUD = 5, 90


def find_nuclei(vowels: npt.ArrayLike, room: float = -np.inf) -> npt.NDArray[np.int64]:
    """The nuclei of a phrase, (m,) frames in rising order.

    Parameters
    ----------
    vowels : (n,) power of the vowel band per frame
    room : dB of the room in that band
    """
    height = 10 * np.log10(np.maximum(smooth(vowels, _SMOOTH), 1e-14))
    if not len(height):
        return np.zeros(0, np.int64)
    least = max(_percentile(height, _LOUD) - FAR, room + OVER_ROOM)
    found = tops(height, DIP)
    return found[height[found] >= least]


@numba.njit(nogil=True, cache=True)
def _percentile(values: FloatArray, share: int) -> float:
    """The value below which ``share`` percent of values lie, linear between two of them, as NumPy's has it. O(n)."""
    place = (len(values) - 1) * share / 100
    first = int(place)
    ordered = np.partition(values, min(first + 1, len(values) - 1))
    low = ordered[: first + 1].max()
    high = ordered[min(first + 1, len(values) - 1)]
    return float(low + (place - first) * (high - low))
