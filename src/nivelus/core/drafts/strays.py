"""Strays: the spans inside phrases whose loudness lies furthest from that of their phrase. They are what a ride has to do.

A span strays where the loudness of the 400 ms around each moment of it lies more than a band over its phrase, or under it.
Pauses inside a phrase say nothing and are no strays.

Conventions
-----------
Frames are those of the level grid. Deviations are LU from the loudness of the phrase, so lifting a span by as much the
other way brings it to its phrase.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from nivelus.core.drafts.ride import around, is_voiced
from nivelus.core.gain.curve import FloatArray
from nivelus.core.measure.grid import FRAME
from nivelus.core.measure.loudness import gated_loudness

SHORTEST = 0.12
"""Seconds that a stray lasts at least."""
WINDOW = 0.4


@dataclass(frozen=True, slots=True)
class Stray:
    """A span of ``frames`` in the phrase ``phrase``, and how far its loudness lies from that of its phrase, LU."""

    phrase: int
    frames: slice
    deviation: float


def find_strays(power: FloatArray, phrases: Sequence[slice], band: float) -> list[Stray]:
    """Where the inside of phrases strays by more than ``band`` LU, in order of time. O(frames).

    Parameters
    ----------
    power : (frames,) K-weighted mean square, with whatever gain is to be judged
    phrases : frames of every phrase
    band : LU
    """
    strays = []
    for number, span in enumerate(phrases):
        inside = power[span]
        level, own = around(inside, WINDOW), gated_loudness(inside)
        voiced = is_voiced(level, own)
        for side in (1, -1):
            off = (voiced & (side * (level - own) > band)).astype(np.int8)
            edges = np.flatnonzero(np.diff(off, prepend=0, append=0)).reshape(-1, 2)
            for start, end in edges.tolist():
                if (end - start) * FRAME < SHORTEST:
                    continue
                frames = slice(span.start + start, span.start + end)
                strays.append(Stray(number, frames, float((level - own)[start:end].mean())))
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
