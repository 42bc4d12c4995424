"""Esses: where a phrase hisses - s, z, sh, ch and their voiced kin.

The idea, in the order it is done
---------------------------------
1. *Candidates* are stretches of a phrase in which the band above 4.5 kHz is strong: against everything below it, against
   the voice, and over the room. Their edges lie 12 dB below their loudest.
2. A candidate is an *ess* by a weighted sum of what sets a hiss apart from a released t or k and from an f: how long it
   is, how loud it is against the voice, how much more there is above than below (throughout, against the middle band, and
   against 600-2500 Hz where the air of the others stands), how silent it is just before (a closure), how suddenly it
   begins, and where in it the loudest lies (a release bursts and dies down). Products of two measures count as well: a
   short hiss may be an ess if it stands far over what is below it, and a loud one is none if it bursts out of silence.
3. Its *excess* is how far its high band, against the voice around it, stands over what is usual: the middle of all esses
   of the recording and of those nearest in time.

The weights were fitted by logistic regression on labelled synthetic programmes (see ``bench/marks.py``) and on recorded
prompts whose sounds an independent recogniser had aligned with their words. O(n) in frames.
"""

from __future__ import annotations

import numpy as np

from nivelus.core.marks.features import Features
from nivelus.core.marks.kernel import hisses, ranked
from nivelus.core.marks.mark import Mark, Span, new_mark
from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import LevelGrid

OVER_REST, UNDER_VOICE, OVER_ROOM = -12.0, -27.0, 3.0
FEET = 12.0
SHORTEST, LONGEST, LONG = 2, 40, 14
AROUND_PHRASE = 6
_CLOSURE = (4, 1)
_NEAREST = 15
_VOICE_REACH = 75

_LEVELS = np.array([OVER_REST, UNDER_VOICE, OVER_ROOM, FEET])
_FRAMES = np.array([AROUND_PHRASE, SHORTEST, LONGEST, LONG, *_CLOSURE], np.int64)

MEASURES = ("length", "height", "over rest", "over body", "over middle", "before", "onset", "place")
"""What is measured of a candidate: frames, dB, and a share for the place of its loudest."""
_USUAL = np.array([7.3, -13.71, 0.12, 6.75, 3.43, -16.71, 21.21, 0.52])
_SPREAD = np.array([3.46, 6.36, 6.43, 7.31, 6.92, 13.49, 10.17, 0.14])
_WEIGHTS = np.array([1.8, 1.44, -2.24, 3.73, -1.25, 0.78, -0.55, 0.67])
_PRODUCTS = np.array(
    [
        [-0.53, 0.56, 0.23, -0.83, 0.79, -0.38, 0.19, -0.25],
        [0, -0.42, 2.04, -0.7, -1.99, 0.09, 1.07, 0.83],
        [0, 0, -0.37, -0.48, -0.08, 0.14, -0.01, -0.6],
        [0, 0, 0, -0.35, -0.18, -0.29, 0.23, 0.48],
        [0, 0, 0, 0, 2.56, -0.2, -0.56, -0.4],
        [0, 0, 0, 0, 0, -0.15, -0.6, -0.29],
        [0, 0, 0, 0, 0, 0, -0.85, -0.27],
        [0, 0, 0, 0, 0, 0, 0, -0.02],
    ]
)
_BIAS = 2.02


def find_esses(grid: LevelGrid, f: Features, phrases: list[Span]) -> list[Mark]:
    """Find the esses in ``phrases`` (spans of frames); none where the recording cannot show any."""
    if not f.highs:
        return []
    spans, owners, measures = candidates(f, phrases)
    if not spans:
        return []
    sure = 1 / (1 + np.exp(-_score(measures)))
    chosen = np.flatnonzero(sure >= 0.5).tolist()
    heights = [height(f, spans[i], owners[i]) for i in chosen]
    return [
        new_mark("ess", grid, spans[i], float(sure[i]), excess, stands=stands)
        for i, excess, stands in zip(chosen, excess_of(heights).tolist(), heights, strict=True)
    ]


def candidates(f: Features, phrases: list[Span]) -> tuple[list[Span], list[Span], FloatArray]:
    """Stretches that may be esses, the phrase of each, and what is measured of it: (n, len(MEASURES))."""
    table = np.array(phrases, np.int64).reshape(-1, 2)
    found, rows = hisses(f.high, f.high - f.below, f.hiss, f.loud, f.body, f.mid, table, _LEVELS, _FRAMES)
    spans = [(a, b) for a, b, _, _ in found.tolist()]
    return spans, [(start, end) for _, _, start, end in found.tolist()], rows


def _score(measures: FloatArray) -> FloatArray:
    """How much speaks for an ess, above 0 more than against it, (n,)."""
    z = (measures - _USUAL) / _SPREAD
    return np.asarray(z @ _WEIGHTS + ((z @ _PRODUCTS) * z).sum(axis=1) + _BIAS)


def excess_of(heights: list[float]) -> FloatArray:
    """How far each of the ``heights`` (dB over the voice, in order of time) stands over what is usual, dB."""
    values = np.array(heights, np.float64)
    if len(values) < 2:
        return np.zeros(len(values))
    count = min(_NEAREST, len(values))
    near = np.median(np.lib.stride_tricks.sliding_window_view(values, count), axis=1)
    first = np.clip(np.arange(len(values)) - count // 2, 0, len(values) - count)
    return np.asarray(values - (near[first] + np.median(values)) / 2)


def height(f: Features, span: Span, phrase: Span) -> float:
    """How far the high band of an ess stands over the voice within 0.75 s of it, in its own phrase; dB."""
    a, b = span
    part = f.below[max(phrase[0], a - _VOICE_REACH) : min(phrase[1], b + _VOICE_REACH)]
    voice = ranked(part, 80) if len(part) else float(f.below[a:b].max())
    return float(f.high[a:b].max()) - voice
