"""Whether a recording is a bed - music, ambience - and no voice: a voice pauses, and its pauses lie far below it.

Heuristic of our own: it is a proposal, and the person says what holds.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from nivelus.core.measure.grid import FRAME, LevelGrid
from nivelus.core.measure.loudness import integrated, to_lufs

SPARSE = 6.0
"""Phrases a minute: fewer are no talk."""
DENSE = 0.95
"""Share of the time in phrases: more is no talk either."""
NEAR = 15.0
"""LU under the whole within which what lies between phrases is no pause of a voice."""
SHORT = 20.0
"""Seconds under which nothing is said of a recording that has a phrase."""


def is_bed(grid: LevelGrid, phrases: Sequence[slice]) -> bool:
    """Whether a recording with these phrases (slices of frames) is no voice. O(frames)."""
    if not phrases:
        return True
    seconds = len(grid.data) * FRAME
    if seconds < SHORT:
        return False
    inside = np.zeros(len(grid.data), bool)
    for span in phrases:
        inside[span] = True
    if inside.mean() > DENSE:
        return True
    if len(phrases) / seconds * 60 >= SPARSE:
        return False
    power = np.asarray(grid.column("k"), np.float64)
    return float(np.median(to_lufs(np.maximum(power[~inside], 1e-12)))) > integrated(power) - NEAR
