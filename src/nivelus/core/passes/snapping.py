"""Pulling a pass to the voice: moves that belong to a phrase begin before it sets in and end in its pause.

A hand reacts to what it hears, so its moves lie behind the onset that they are for, and before the end that they wait for.
What a *move* is, is told from the thinned gesture: gains that go one way faster than SLOWEST. Between moves a hand holds, so
only the lengths of what it holds change. The figures are ours, of what a hand does in practice.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np

from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import CLOSEST
from nivelus.core.passes.gesture import Gesture, Run, reduced

SLOWEST = 2.0
"""dB per second from which a change is a move."""
REACH = 0.6
"""Seconds within which a move belongs to an edge of a phrase."""
BEFORE = 0.02
"""Seconds before an onset at which its move is done, and behind an end at which its move begins."""
_STEEPEST = 20.0
"""dB per second that what is held between two moves may change by at most when it becomes shorter."""
_SMALLEST = 0.5
"""dB from which a move counts."""


def snapped(gesture: Gesture, phrases: FloatArray) -> Gesture:
    """A gesture with its moves pulled to phrases: (n, 2) seconds, in order of time. O(runs log phrases + moments)."""
    if not len(phrases):
        return gesture
    return Gesture(tuple(_pulled(run, phrases) for run in gesture.runs))


def moves_of(run: Run) -> FloatArray:
    """The moves of a run: (n, 2) seconds from where to where it changes in one direction."""
    (few,) = reduced(Gesture((run,)), _SMALLEST / 2).runs
    slope = np.diff(few.db) / np.diff(few.at)
    way = np.where(np.abs(slope) >= SLOWEST, np.sign(slope), 0.0)
    moves: list[tuple[float, float]] = []
    i = 0
    while i < len(way):
        j = i + 1
        while j < len(way) and way[j] == way[i]:
            j += 1
        if way[i] and abs(few.db[j] - few.db[i]) >= _SMALLEST:
            moves.append((float(few.at[i]), float(few.at[j])))
        i = j
    return np.array(moves).reshape(-1, 2)


def _pulled(run: Run, phrases: FloatArray) -> Run:
    moves = moves_of(run)
    if not len(moves):
        return run
    to = moves.copy()
    for i, (start, end) in enumerate(moves.tolist()):
        to[i] += _pull(start, end, phrases)
    source = np.concatenate([[run.start], moves.ravel(), [run.end]])
    # moves stay in order and within the run; what creeps between two of them is not made a move
    held = source.reshape(-1, 2)
    creeps = np.abs(np.diff(np.interp(held, run.at, run.db))[:, 0])
    room = np.minimum(held[:, 1] - held[:, 0], np.maximum(creeps / _STEEPEST, 2 * CLOSEST))
    for i in range(len(to)):
        to[i] += max((to[i - 1, 1] if i else run.start) + room[i] - to[i, 0], 0.0)
    for i in reversed(range(len(to))):
        to[i] -= max(to[i, 1] + room[i + 1] - (to[i + 1, 0] if i + 1 < len(to) else run.end), 0.0)
    target = np.concatenate([[run.start], to.ravel(), [run.end]])
    at, db = [], []
    # what is held between two moves may become longer or shorter, also where there was nothing between them
    for (a, b), (first, last) in zip(pairwise(source.tolist()), pairwise(target.tolist()), strict=True):
        own = np.concatenate([[a], run.at[(run.at > a) & (run.at < b)], [b]])
        share = (own - a) / (b - a) if b > a else np.array([0.0, 1.0])
        at.append(first + share * (last - first))
        db.append(np.interp(own, run.at, run.db))
    all_at, all_db = np.concatenate(at), np.concatenate(db)
    kept = np.concatenate([[True], np.diff(np.maximum.accumulate(all_at)) > CLOSEST])
    # its ends are what they were
    last = int(np.flatnonzero(kept)[-1])
    all_at[last], all_db[last] = run.end, run.db[-1]
    return Run(all_at[kept], all_db[kept]) if kept.sum() >= 2 else run


def _pull(start: float, end: float, phrases: FloatArray) -> float:
    """By how many seconds a move is pulled: to the edge of a phrase that is nearest to it, if one is near."""
    middle = (start + end) / 2
    pulls = []
    for edges, is_onset in ((phrases[:, 0], True), (phrases[:, 1], False)):
        i = int(np.searchsorted(edges, middle))
        for edge in edges[max(i - 1, 0) : i + 1].tolist():
            by = min(edge - BEFORE - end, 0.0) if is_onset else max(edge + BEFORE - start, 0.0)
            pulls.append((abs(middle - edge), by))
    distance, by = min(pulls)
    return by if distance <= REACH else 0.0
