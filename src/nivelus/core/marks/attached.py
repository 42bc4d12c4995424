"""Breaths that a phrase has taken in: those that begin where the voice ends, or end where it begins.

Nothing of the room shows between them, so they lie on one island with the voice. What tells them from it: they have no
pitch, last as long as a breath does, stand well under the voice, hold no more in the highest band than air does, and do not
only die away as the end of a word does, but come up from a dip beside the voice. Spans are frames of 10 ms. O(n).
"""

from __future__ import annotations

import numpy as np

from nivelus.core.marks.features import Features
from nivelus.core.marks.kernel import ranked, runs
from nivelus.core.marks.mark import Span

NO_PITCH, MOST_TILT, MOST_SHARP = 0.62, 0.0, -8.0
"""Up to which a frame has no pitch; the most tilt and sharpness of air, dB."""
SHORTEST, LONGEST, BLINK = 25, 150, 2
"""Frames that such a breath lasts, and that something else may stand in it."""
UNDER, DIP, DYING = 7.0, 3.0, 4.0
"""dB under the loud parts of the phrase, of the dip beside the voice, and by how much its second half is quieter at most."""
_BESIDE, _ENDS = 3, 4
_LEAST_VOICE = 15


def without_breaths(f: Features, span: Span) -> list[Span]:
    """A phrase without the breaths at its ends; in parts where one lies within it."""
    a, b = span
    parts, start = [], a
    usual = ranked(f.level[a:b], 80)
    for c, d in _airs(f, a, b):
        top = _breath_top(f, usual, (a, b), (c, d))
        if top is None:
            continue
        end = _dip(f, max(a, c - _BESIDE), top) if c - a >= _ENDS else a
        begin = _dip(f, top, min(b, d + _BESIDE)) + 1 if b - d >= _ENDS else b
        # a part without any voice is no phrase, and whatever it is stays with one
        if (end > a and end - start < _LEAST_VOICE) or (begin < b and b - begin < _LEAST_VOICE):
            continue
        if end > start:
            parts.append((start, end))
        start = begin
    return [*parts, (start, b)] if start < b else parts or [span]


def _airs(f: Features, a: int, b: int) -> list[Span]:
    """The stretches of a phrase without pitch that are no vowel either."""
    found: list[Span] = []
    for c, d in runs((f.pitch[a:b] < NO_PITCH) & (f.tilt[a:b] < MOST_TILT)).tolist():
        if found and a + c - found[-1][1] <= BLINK:
            found[-1] = (found[-1][0], a + d)
        else:
            found.append((a + c, a + d))
    return [(c, d) for c, d in found if SHORTEST <= d - c <= LONGEST]


def _breath_top(f: Features, usual: float, phrase: Span, air: Span) -> int | None:
    """The loudest frame of a stretch that is a breath; None if it is none."""
    (a, b), (c, d) = phrase, air
    level = f.level[c:d]
    if ranked(level, 80) > usual - UNDER or (f.highs and float(np.median(f.sharp[c:d])) > MOST_SHARP):
        return None
    count = d - c
    early, late = level[count // 10 : count * 3 // 10 + 1], level[count // 2 : count * 4 // 5]
    if float(late.mean() - early.mean()) < -DYING:
        return None
    top = c + 2 + int(np.argmax(level[2:-2]))
    before = f.level[max(a, c - _BESIDE) : top + 1].min() if c - a >= _ENDS else -np.inf
    after = f.level[top : min(b, d + _BESIDE)].min() if b - d >= _ENDS else -np.inf
    return top if float(f.level[top] - max(before, after)) >= DIP else None


def _dip(f: Features, first: int, last: int) -> int:
    return first + int(np.argmin(f.level[first : last + 1]))
