"""Breaths: airflow in the pauses.

Air is noise with most of its energy around 1-4 kHz, and it stands out there even where the whole of it is hardly louder
than the room. So it is looked for in that band, with everything shorter than 50 ms taken away first (ticks of bleed,
clicks of the mouth), over the room tone of the pauses around it. Outside phrases only: what is loud and voiced is a phrase.
Air has no pitch, see ``core.measure.pitch``: what has one is music, or a voice.

A breath swells and ebbs. What only falls, from the end of a word on, is its tail, and what only rises is the beginning of
the next; neither is a breath, and of what had begun before the recording did nobody can tell.

What may be a word all the same is in doubt: it is nearly as loud as the voice and not all air, has some pitch, an ess, or
syllables in it, is no more than the end of a word, or stands over music. To turn a word down is worse than to leave a breath.

Edges lie where the air comes out of the room, or where it is EDGE_DROP below its loudest: a loud breath has long feet.
O(n) in frames. The thresholds were chosen on labelled synthetic programmes, see ``bench/marks.py``.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from nivelus.core.kinds import BREATH
from nivelus.core.marks.features import Features
from nivelus.core.marks.kernel import ranked, runs, tops
from nivelus.core.marks.mark import Mark, Span, new_mark
from nivelus.core.marks.room import LOWEST, spread
from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import FRAMES_PER_SECOND, LevelGrid

OPEN, EDGE, EDGE_DROP = 3.0, 1.5, 20.0
SHORTEST, LONGEST = 9, 150
AWAY = 2
MOST_VOICED = 6.0
"""dB of the vowel band over the air, both over their rooms: more is a hum, a murmur, or another voice."""
SWELL, SWELL_REACH = 4.5, 10
"""dB that a breath comes up and goes down, within its own frames and so many beside it."""
PITCHES = ((0.7, 0.15), (0.6, 0.5))
"""From what pitch on how large a share of it is no air."""
LONG = 22
"""Frames from which on a breath may begin or end in the voice itself."""
UNREST = 1.4
"""By how much more than the floor what is air comes up where music goes on."""
LEAST_OVER = 1.0
"""dB that all of it together stands over the room at its loudest."""
MOST_SHARP, CLEARLY_OVER = 0.0, 20.0
"""dB of the highest band over the middle one: more is an ess that stands alone, where it is clearly over the room."""
LOUD_OVER, LOUD_UNDER, LOUD_TILT = 15.0, 16.0, -6.5
"""dB over the room and under the voice, and the tilt, from which on it may be a word."""
SOME_PITCH, SOME_MUSIC = (0.6, 0.3), 2.0
"""From what pitch on how large a share of it may be a word; from how many dB of unrest on it may be music."""
ESS_OVER, ESS_AROUND, ESS_FRAMES = 10.0, -3.0, 4
"""dB of an ess over the room of the highest band, the sharpness of what is around it, and how many frames it lasts."""
SYLLABLE = 8.0
"""dB that the level falls between two syllables."""
TAIL, BESIDE = 30, 5
"""Frames that a breath lasts which begins within so many frames of a word: what is shorter may be the end of it."""
_REACH, _SHARE = 8, 25


def find_breaths(grid: LevelGrid, f: Features, phrases: list[Span]) -> list[Mark]:
    """Find the breaths between ``phrases`` (spans of frames)."""
    free = np.ones(len(f.air), bool)
    for a, b in phrases:
        free[max(0, a - AWAY) : b + AWAY] = False
    over = f.air - _room(f.air, free) - UNREST * f.unrest
    found = []
    for first, last in runs((over > EDGE) & free).tolist():
        top = float(over[first:last].max())
        if top < OPEN:
            continue
        for start, end in runs(over[first:last] > max(EDGE, top - EDGE_DROP)).tolist():
            a, b = first + start, first + end
            if not a > AWAY or not SHORTEST <= b - a <= LONGEST or over[a:b].max() < OPEN:
                continue
            if _is_air(f, over, a, b) and _swells(f, free, a, b):
                sure = (over[a:b].max() - EDGE) / 10
                sure = 0.0 if _is_doubtful(f, free, a, b) else max(sure, BREATH.doubtful)
                found.append(new_mark(BREATH.name, grid, (a, b), sure))
    return found


def _is_air(f: Features, over: FloatArray, a: int, b: int) -> bool:
    clear = float((f.level[a:b] - f.floor[a:b]).max()) > CLEARLY_OVER
    hisses = f.highs and clear and float(np.median(f.sharp[a:b])) > MOST_SHARP
    pitched = any(float(np.mean(f.pitch[a:b] > least)) > share for least, share in PITCHES)
    return not pitched and not hisses and float(np.median(f.voiced[a:b] - over[a:b])) < MOST_VOICED


def _swells(f: Features, free: npt.NDArray[np.bool_], a: int, b: int) -> bool:
    top = a + int(np.argmax(f.air[a:b]))
    if float((f.level[a:b] - f.floor[a:b]).max()) < LEAST_OVER:
        return False
    first, last = a, b
    while first > max(0, a - SWELL_REACH) and free[first - 1]:
        first -= 1
    while last < min(len(free), b + SWELL_REACH) and free[last]:
        last += 1
    if b - a < LONG:
        return float(f.air[top] - max(f.air[first : top + 1].min(), f.air[top:last].min())) >= SWELL
    # beside the voice its dip may be too short for the air to show it
    up = max(f.air[top] - f.air[first : top + 1].min(), f.level[top] - f.level[max(0, first - AWAY) : top + 1].min())
    down = max(f.air[top] - f.air[top:last].min(), f.level[top] - f.level[top : last + AWAY].min())
    return float(min(up, down)) >= SWELL


def _is_doubtful(f: Features, free: npt.NDArray[np.bool_], a: int, b: int) -> bool:
    """Whether what looks like a breath may be a word, its end, or music."""
    span = slice(a, b)
    level = f.level[span]
    loud = ranked(level, 80)
    nearly_voice = (
        loud > f.floor[span].mean() + LOUD_OVER
        and loud > f.voice[span].mean() - LOUD_UNDER
        and float(np.median(f.tilt[span])) > LOUD_TILT
    )
    is_tail = b - a < TAIL and not free[max(0, a - BESIDE) : a + 1].all()
    return bool(
        _syllables(level) > 1
        or nearly_voice
        or is_tail
        or float(np.mean(f.pitch[span] > SOME_PITCH[0])) > SOME_PITCH[1]
        or float(f.unrest[span].mean()) > SOME_MUSIC
        or _has_ess(f, span)
    )


def _syllables(level: FloatArray) -> int:
    """How often a level comes up and falls again."""
    return sum(bool(level[top] - level[top:].min() > SYLLABLE) for top in tops(level, SYLLABLE))


def _has_ess(f: Features, span: slice) -> bool:
    """Whether an ess stands in what is air otherwise."""
    sharp = f.sharp[span]
    esses = runs((sharp > 0) & (f.hiss[span] > ESS_OVER))
    return f.highs and float(np.median(sharp)) < ESS_AROUND and bool((esses[:, 1] - esses[:, 0] >= ESS_FRAMES).any())


def _room(air: FloatArray, free: np.ndarray) -> FloatArray:
    """Room tone under the air of the pauses, followed over time."""
    second = FRAMES_PER_SECOND
    blocks = max(1, -(-len(air) // second))
    usual = ranked(air[free], _SHARE) if free.any() else LOWEST
    values = np.empty(blocks)
    for block in range(blocks):
        around = slice(max(0, (block - _REACH) * second), (block + _REACH + 1) * second)
        part = air[around][free[around]]
        values[block] = ranked(part, _SHARE) if len(part) >= second // 2 else usual
    return spread(values, len(air))
