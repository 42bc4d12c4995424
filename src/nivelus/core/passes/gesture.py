"""Gestures: where a hand held a lane and at which gain it was heard.

Conventions
-----------
Time is in seconds of the session, gain in dB. A *run* is a stretch over which the hand wrote without a break; between two of
its moments the gain is linear in dB, which is how it was played. The gains are those of the lane itself, or, of a lane that
is ridden as an offset, what was added to it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from nivelus.core.errors import GainError
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import CLOSEST, SILENT, finite, plain
from nivelus.core.gain.edits import thin

LOUDEST = 60.0
"""dB above which a gain is none that a hand can have held."""
EXACT = 0.02
"""dB by which a run may stray from what was reported when it is put away."""


@dataclass(frozen=True, slots=True, eq=False)
class Run:
    """``at`` (n,) seconds in rising order and ``db`` (n,) gains, at least two."""

    at: FloatArray
    db: FloatArray

    @property
    def start(self) -> float:
        """Its first moment, seconds."""
        return float(self.at[0])

    @property
    def end(self) -> float:
        """Its last moment, seconds."""
        return float(self.at[-1])


@dataclass(frozen=True, slots=True, eq=False)
class Gesture:
    """The runs of one round of playing, in order of time; they do not overlap."""

    runs: tuple[Run, ...]

    @property
    def span(self) -> tuple[float, float] | None:
        """From its first to its last moment, seconds; None where nothing was held."""
        return (self.runs[0].start, self.runs[-1].end) if self.runs else None


def gesture_of(pairs: FloatArray) -> Gesture:
    """A gesture from what was reported: (n, 2) seconds and dB, runs parted by rows of NaN.

    What is reported twice, or out of order, counts once, in order; a run of a single moment is none. O(n).

    Raises
    ------
    GainError
        If a value is no moment or no gain.
    """
    gone = np.isnan(pairs).all(axis=1)
    rest = pairs[~gone]
    if not np.isfinite(rest).all() or (rest[:, 1] > LOUDEST).any() or (rest[:, 1] < SILENT - 1).any():
        raise GainError("What was recorded of the hand holds values that are no gain.")
    runs: list[Run] = []
    latest = -np.inf
    for part in np.split(pairs, np.flatnonzero(gone)):
        own = part[~np.isnan(part[:, 0])]
        own = own[own[:, 0] > latest]
        # a moment counts where it lies behind all those before it
        reached = np.maximum.accumulate(np.concatenate([[-np.inf], own[:-1, 0]])) if len(own) else own[:, 0]
        own = own[own[:, 0] - reached >= CLOSEST]
        if len(own) >= 2:
            runs.append(Run(own[:, 0].copy(), own[:, 1].copy()))
            latest = float(own[-1, 0])
    return Gesture(tuple(runs))


def pairs_of(gesture: Gesture) -> FloatArray:
    """The opposite of ``gesture_of``: (n, 2) seconds and dB, a row of NaN behind each run."""
    rows = [np.vstack([np.column_stack([run.at, run.db]), np.full((1, 2), np.nan)]) for run in gesture.runs]
    return np.vstack(rows) if rows else np.zeros((0, 2))


def reduced(gesture: Gesture, error: float = EXACT) -> Gesture:
    """The same gesture in fewer moments, none of it further off than ``error`` dB. O(n log n)."""
    return Gesture(tuple(_thinned(run, error) for run in gesture.runs))


def earlier(gesture: Gesture, seconds: float) -> Gesture:
    """A gesture moved earlier, by the reaction of the hand; what would lie before 0 is cut off."""
    return clipped(Gesture(tuple(Run(run.at - seconds, run.db) for run in gesture.runs)), 0.0, np.inf)


def clipped(gesture: Gesture, start: float, end: float) -> Gesture:
    """What of a gesture lies between two moments, at whole microseconds as the points of curves are."""
    runs = []
    for run in gesture.runs:
        first, last = max(run.start, start), min(run.end, end)
        if last - first < CLOSEST:
            continue
        inside = run.at[(run.at > first) & (run.at < last)]
        at = np.unique(np.round(np.concatenate([[first], inside, [last]]), 6))
        if len(at) > 1:
            runs.append(Run(at, np.interp(at, run.at, run.db)))
    return Gesture(tuple(runs))


def _thinned(run: Run, error: float) -> Run:
    curve = thin(plain(run.at, run.db), error)
    return Run(curve.at, finite(curve.db))
