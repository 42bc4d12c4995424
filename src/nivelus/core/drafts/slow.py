"""Slow ride drafts: levelling what has no phrases - a bed, an ensemble in a room - by its short-term loudness, in few points.

It goes down ahead of what is too loud, since all of it is known, and moves so slowly that it is not heard as a move.

Conventions
-----------
Seconds and dB; ``power`` is K-weighted power per 10 ms frame, (frames,), with all gain but the ride.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from nivelus.core.errors import LevelError
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import Curve, plain
from nivelus.core.gain.edits import thin
from nivelus.core.measure.grid import FRAME
from nivelus.core.measure.loudness import ABSOLUTE_GATE, loudness_range, power_around, to_lufs
from nivelus.core.rule import DEFAULT

GATE = 20.0
"""LU under the mean of what is heard below which nothing is asked for, as that of the loudness range (EBU Tech 3342)."""
PAUSE = 30.0
"""LU under the mean of all of it below which a frame counts as silence."""
EVERY = 10
"""Frames between two values of the course."""


@dataclass(frozen=True, slots=True)
class SlowRule:
    """``target`` is LUFS, or None for the track's own median.

    ``strength`` 0 ... 1; ``most_up`` and ``most_down`` in dB; ``window`` is what loudness is taken of (seconds), ``fastest``
    the steepest move (dB a second), ``error`` how far the line may lie from what was asked (dB).
    """

    target: float | None = None
    strength: float = DEFAULT.slow.strength / 100
    most_up: float = DEFAULT.slow.most_up
    most_down: float = DEFAULT.slow.most_down
    window: float = 3.0
    fastest: float = 3.0
    error: float = 0.5


@dataclass(frozen=True, slots=True)
class SlowDraft:
    """A drafted slow ride: its ``curve``, the ``target`` that it went for, and the loudness range before and after, LU."""

    curve: Curve
    target: float
    before: float
    after: float


def draft_slow(power: FloatArray, rule: SlowRule) -> SlowDraft:
    """Draft a slow ride. O(frames).

    Raises
    ------
    LevelError
        If nothing in it passes the gate, so that there is no level to even out.
    """
    # what is silent in a window is no part of its loudness: it would ask for more beside every silence
    sounds = power > max(float(power.mean()) * 10 ** (-PAUSE / 10), 10 ** ((ABSOLUTE_GATE + 0.691) / 10))
    window = round(rule.window / FRAME)
    middle = np.arange(0, len(power), EVERY)
    reach = window // 2, (window + 1) // 2
    share = power_around(sounds.astype(np.float64), middle, *reach)
    around = power_around(power * sounds, middle, *reach) / np.maximum(share, 1e-9)
    levels = to_lufs(around)
    passing = levels > ABSOLUTE_GATE
    mean = float(to_lufs(around[passing].mean())) if passing.any() else -np.inf
    heard = levels > max(ABSOLUTE_GATE, mean - GATE)
    if not heard.any():
        raise LevelError("This track is too quiet all the way through: there is no level to even out.")
    target = float(np.median(levels[heard])) if rule.target is None else rule.target
    ask = np.clip((target - levels) * rule.strength, -rule.most_down, rule.most_up)
    # where nothing is heard, what came before holds
    places = np.where(heard, np.arange(len(levels)), -1)
    held = np.maximum.accumulate(places)
    held[held < 0] = int(np.argmax(heard))
    course = _slow(ask[held], rule.fastest * FRAME * EVERY)
    at = np.asarray((np.arange(len(course)) * EVERY + 0.5) * FRAME, np.float64)
    curve = thin(plain(at, course), rule.error) if len(course) > 1 else plain(at, course)
    gain = 10 ** (curve.finite_at(np.asarray((np.arange(len(power)) + 0.5) * FRAME, np.float64)) / 10)
    return SlowDraft(curve, target, loudness_range(power), loudness_range(power * gain))


@numba.njit(cache=True)
def _slow(ask: FloatArray, step: float) -> FloatArray:
    """The highest line that never passes what is asked for, and moves by no more than ``step`` from value to value."""
    out = ask.copy()
    for i in range(1, len(out)):
        out[i] = min(out[i], out[i - 1] + step)
    for i in range(len(out) - 2, -1, -1):
        out[i] = min(out[i], out[i + 1] + step)
    return out
