"""Strays: the words inside phrases whose loudness lies furthest from that of their phrase. They are what a ride has to do.

A word strays where the loudness of the 400 ms around the nuclei of its syllables lies further over its phrase, or under it,
than a hand would leave it. What has no nucleus - a pause, the decay of a syllable, a long consonant - is no stray.

Conventions
-----------
Frames are those of the level grid. Deviations are LU from the loudness of the phrase, so lifting a span by as much the
other way brings it to its phrase.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from nivelus.core.gain.compiled import FloatArray
from nivelus.core.marks.kernel import runs
from nivelus.core.marks.nuclei import find_nuclei
from nivelus.core.measure.grid import FRAME
from nivelus.core.measure.inside import around
from nivelus.core.measure.loudness import gated_loudness

WINDOW = 0.4
BANDS = 2.0
"""How many times the tolerance of phrases a word may be off: inside a phrase some movement is what makes it speech."""
REACH = 0.2
"""Seconds that a stray reaches beyond its first and last nucleus at most."""


@dataclass(frozen=True, slots=True)
class Stray:
    """A span of ``frames`` in the phrase ``phrase``, and how far its loudness lies from that of its phrase, LU."""

    phrase: int
    frames: slice
    deviation: float


def find_strays(power: FloatArray, vowels: FloatArray, phrases: Sequence[slice], tolerance: float) -> list[Stray]:
    """Where the inside of phrases strays by more than BANDS times the ``tolerance`` (LU), in order of time. O(frames).

    Parameters
    ----------
    power, vowels : (frames,) mean square, K-weighted and of the vowel band, with whatever gain is to be judged
    phrases : frames of every phrase
    tolerance : LU
    """
    strays, reach = [], round(REACH / FRAME)
    for number, span in enumerate(phrases):
        inside = power[span]
        nuclei = find_nuclei(vowels[span])
        if not len(nuclei):
            continue
        off = around(inside, WINDOW) - gated_loudness(inside)
        between = (nuclei[1:] + nuclei[:-1] + 1) // 2
        first = np.maximum(np.concatenate([[0], between]), nuclei - reach)
        last = np.minimum(np.concatenate([between, [len(inside)]]), nuclei + reach)
        for side in (1, -1):
            for start, end in runs(side * off[nuclei] > BANDS * tolerance).tolist():
                frames = slice(int(first[start]), int(last[end - 1]))
                place = slice(span.start + frames.start, span.start + frames.stop)
                strays.append(Stray(number, place, float(off[frames].mean())))
    return sorted(strays, key=lambda stray: stray.frames.start)


def deviations_of(power: FloatArray, phrases: Sequence[slice], strays: Sequence[Stray]) -> list[float]:
    """How far the spans of strays, in order of time, lie from their phrases with another gain, LU; see ``find_strays``."""
    out: list[float] = []
    number, off = -1, np.zeros(0)
    for stray in strays:
        span = phrases[stray.phrase]
        if stray.phrase != number:
            number = stray.phrase
            off = around(power[span], WINDOW) - gated_loudness(power[span])
        out.append(float(off[stray.frames.start - span.start : stray.frames.stop - span.start].mean()))
    return out
