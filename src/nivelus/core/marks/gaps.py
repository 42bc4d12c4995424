"""Gaps: what remains between the phrases once what leaves gaps is out, such as breaths, and what is in it besides room tone.

What stands out of a gap for one or two frames is a *click*. Clicks that keep time are *bleed*: the count-in of a
headphone. They are tested for a common period by the Rayleigh statistic, count times the squared length of the mean
phase vector, which chance alone leaves small (K. V. Mardia, P. E. Jupp, "Directional Statistics", 2000). What stands
out for longer came in from somewhere else and is bleed too.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from nivelus.core.marks.endings import closings
from nivelus.core.marks.features import Features
from nivelus.core.marks.kernel import runs
from nivelus.core.marks.mark import Mark, Span, new_mark
from nivelus.core.measure.grid import FRAME, LevelGrid

SHORTEST = 10
STANDS_OUT = 4.5
"""dB over the middle level of the gap that make a frame more than room tone."""
CLICK = 4
"""Frames that a click lasts at most."""
_STRETCH = 60.0
_PERIODS = (0.25, 1.5)
_LEAST_TICKS, _LEAST_STATISTIC = 8, 10.0
_IN_TIME = 0.025


def find_gaps(grid: LevelGrid, f: Features, phrases: list[Span], left: list[Mark]) -> list[Mark]:
    """The gaps of a recording: what is neither in ``phrases``, nor their ending, nor in what has ``left`` them.

    Parameters
    ----------
    grid : that of the recording
    f : its features
    phrases : spans of frames
    left : marks that were found and are no part of a gap
    """
    free = np.ones(len(f.loud), bool)
    for (a, _), b in zip(phrases, closings(f, phrases), strict=True):
        free[a:b] = False
    for mark in left:
        free[round(mark.start / FRAME) : round(mark.end / FRAME)] = False
    spans = [(a, b) for a, b in runs(free).tolist() if b - a >= SHORTEST]
    bumps = [_bumps(f, a, b) for a, b in spans]
    ticks = np.array([at for found in bumps for at, frames in found if frames <= CLICK]) * FRAME
    keeps_time = dict(zip(ticks.tolist(), _keeps_time(ticks).tolist(), strict=True))
    found = []
    for (a, b), there in zip(spans, bumps, strict=True):
        bleeds = [frames > CLICK or keeps_time[at * FRAME] for at, frames in there]
        holds = (("clicks",) if not all(bleeds) else ()) + (("bleed",) if any(bleeds) else ())
        found.append(new_mark("gap", grid, (a, b), 0.8 if holds else 1.0, holds=holds))
    return found


def _bumps(f: Features, a: int, b: int) -> list[tuple[int, int]]:
    """What stands out of a gap: frame of the loudest and number of frames. The first and last 30 ms are its neighbours'."""
    first, last = a + 3, b - 3
    part = f.loud[first:last]
    over = runs(part > np.median(part) + STANDS_OUT).tolist()
    return [(first + start + int(np.argmax(part[start:end])), end - start) for start, end in over]


def _keeps_time(ticks: npt.NDArray[np.float64]) -> npt.NDArray[np.bool_]:
    """Which of the ``ticks`` (n,) in rising seconds fall into a common time with the others of their minute."""
    result = np.zeros(len(ticks), bool)
    longest = _STRETCH
    # two periods that differ by this drift apart by a tenth of a period within the stretch
    rate = np.arange(1 / _PERIODS[1], 1 / _PERIODS[0], 0.1 / longest)
    for start in np.arange(0.0, ticks[-1] + 1e-9 if len(ticks) else 0.0, longest):
        chosen = np.flatnonzero((ticks >= start) & (ticks < start + longest))
        if len(chosen) < _LEAST_TICKS:
            continue
        phases = np.exp(2j * np.pi * rate[:, None] * (ticks[chosen] - start))
        mean = phases.mean(axis=1)
        best = int(np.argmax(np.abs(mean)))
        if len(chosen) * np.abs(mean[best]) ** 2 < _LEAST_STATISTIC:
            continue
        away = np.abs(np.angle(phases[best] * np.conj(mean[best]))) / (2 * np.pi * rate[best])
        result[chosen] = away < _IN_TIME
    return result
