"""Breaths: airflow in the pauses.

Air is noise with most of its energy around 1-4 kHz, and it stands out there even where the whole of it is hardly louder
than the room. So it is looked for in that band, with everything shorter than 50 ms taken away first (ticks of bleed,
clicks of the mouth), over the room tone of the pauses around it. Outside phrases only: what is loud and voiced is a phrase.

Edges lie where the air comes out of the room, or where it is EDGE_DROP below its loudest: a loud breath has long feet.
O(n) in frames. The thresholds were chosen on labelled synthetic programmes, see ``bench/marks.py``.
"""

from __future__ import annotations

import numpy as np

from nivelus.core.marks.features import LOWEST, Features
from nivelus.core.marks.kernel import ranked, runs
from nivelus.core.marks.mark import Mark, Span, new_mark
from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import FRAMES_PER_SECOND, LevelGrid

OPEN, EDGE, EDGE_DROP = 3.0, 1.5, 20.0
SHORTEST, LONGEST = 9, 150
AWAY = 2
MOST_VOICED = 6.0
"""dB of the vowel band over the air, both over their rooms: more is a hum, a murmur, or another voice."""
_REACH, _SHARE = 8, 25


def find_breaths(grid: LevelGrid, f: Features, phrases: list[Span]) -> list[Mark]:
    """Find the breaths between ``phrases`` (spans of frames)."""
    free = np.ones(len(f.air), bool)
    for a, b in phrases:
        free[max(0, a - AWAY) : b + AWAY] = False
    over = f.air - _room(f.air, free)
    found = []
    for first, last in runs((over > EDGE) & free).tolist():
        top = float(over[first:last].max())
        if top < OPEN:
            continue
        for start, end in runs(over[first:last] > max(EDGE, top - EDGE_DROP)).tolist():
            a, b = first + start, first + end
            if SHORTEST <= b - a <= LONGEST and over[a:b].max() >= OPEN and _is_air(f, over, a, b):
                found.append(new_mark("breath", grid, (a, b), (over[a:b].max() - EDGE) / 10))
    return found


def _is_air(f: Features, over: FloatArray, a: int, b: int) -> bool:
    return float(np.median(f.voiced[a:b] - over[a:b])) < MOST_VOICED


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
    return np.interp((np.arange(len(air)) + 0.5) / second - 0.5, np.arange(blocks), values)
