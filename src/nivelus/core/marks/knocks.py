"""Knocks: plosives that thump and consonants that are struck too hard.

A plosive's breath on the microphone is a bump below 150 Hz; a hard consonant is a burst in the upper bands. Either is a
knock when it rises quickly, is over within 120 ms, and stands out of its neighbourhood: of the level that this band
reaches within half a second on both sides. Inside phrases only. O(n) in frames.

A short stressed vowel rises and stands out as well, and to turn it down takes away the word. It is told by the vowel band,
which is at its highest there, while the thump of a plosive lies where that band is low, or is louder than all of it.
"""

from __future__ import annotations

import numpy as np

from nivelus.core.marks.features import Features
from nivelus.core.marks.kernel import bumps, ranked, usual
from nivelus.core.marks.mark import Mark, Span, new_mark
from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import LevelGrid

THUMP, BURST = 7.0, 9.0
"""dB that a band must stand over its neighbourhood."""
LONGEST = 12
RISE, RISE_FRAMES = 8.0, 4
DROP = 10.0
"""dB below its top where a knock ends."""
LOUD_ENOUGH = -22.0
"""dB against the voice bands of the phrase below which a bump does not matter."""
NO_VOWEL, _VOWELS = 3.0, 95
"""dB that the vowel band of a knock lies under that of the phrase's vowels, and the percentile of it that these reach."""
_NEAR, _AWAY = 50, 6
_FRAMES = np.array([RISE_FRAMES, LONGEST, _NEAR, _AWAY], np.int64)


def find_knocks(grid: LevelGrid, f: Features, phrases: list[Span], esses: list[Mark]) -> list[Mark]:
    """Find the knocks inside ``phrases`` (spans of frames); what is an ess is none, however hard.

    Parameters
    ----------
    grid : that of the recording
    f : its features
    phrases : spans of frames
    esses : those that were found
    """
    hissing = np.zeros(len(f.low), bool)
    for ess in esses:
        hissing[round(ess.start * 100) : round(ess.end * 100)] = True
    found: list[Mark] = []
    for a, b in phrases:
        voice = ranked(f.loud[a:b], 80)
        spans = _bumps(f.low, a, b, THUMP, voice)
        spans += [s for s in _bumps(f.burst, a, b, BURST, voice) if not hissing[s[0] : s[1]].any()]
        vowels = ranked(f.voiced[a:b], _VOWELS)
        spans = [(c, d, excess) for c, d, excess in spans if not _is_vowel(f, c, d, vowels)]
        found += [new_mark("knock", grid, (c, d), excess / 15, excess) for c, d, excess in _apart(spans)]
    return found


def excess_of(f: Features, a: int, b: int, first: int, last: int) -> float:
    """How far frames a ... b stand over their neighbourhood within first ... last, in the band that stands out most; dB.

    Parameters
    ----------
    f : features
    a, b : frames of what is looked at
    first, last : frames within which its neighbourhood lies
    """
    return max(float(band[a:b].max()) - _usual(band, a, b, first, last) for band in (f.low, f.burst))


def _is_vowel(f: Features, a: int, b: int, vowels: float) -> bool:
    """Whether frames a ... b are one of the ``vowels`` of their phrase (dB of the vowel band), and no thump over it."""
    thumps = f.low[a:b].max() > f.loud[a:b].max()
    return bool(f.voiced[a:b].max() > vowels - NO_VOWEL and not thumps)


def _bumps(band: FloatArray, a: int, b: int, least: float, voice: float) -> list[tuple[int, int, float]]:
    """Bumps of a band within frames a ... b: first and one-past-last frame, and dB over the neighbourhood.

    Only what passes most of the phrase can pass its neighbourhood; each is then looked at in its own.
    """
    found = bumps(band, a, b, least, voice + LOUD_ENOUGH, DROP, RISE, _FRAMES)
    return [(int(c), int(d), excess) for c, d, excess in found.tolist()]


def _usual(band: FloatArray, a: int, b: int, first: int, last: int) -> float:
    """The level that a band reaches around frames a ... b, within first ... last; infinite where there is nothing around."""
    return float(usual(band, a, b, first, last, _NEAR, _AWAY))


def _apart(spans: list[tuple[int, int, float]]) -> list[tuple[int, int, float]]:
    """Spans in order; of those that overlap, the one that stands out most."""
    kept: list[tuple[int, int, float]] = []
    for span in sorted(spans, key=lambda s: -s[2]):
        if all(span[1] <= other[0] or span[0] >= other[1] for other in kept):
            kept.append(span)
    return sorted(kept)
