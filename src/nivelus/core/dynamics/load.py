"""Load: how hard a compressor works on a voice, and how evenly from phrase to phrase.

Conventions
-----------
A reduction is told every STEP samples (see ``core.dynamics.compressor``); spans are those of phrases, in samples.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numba
import numpy as np
import numpy.typing as npt

from nivelus.core.dynamics.compressor import FAINT, STEP, Compressor, Reduction, Worked, whole_reduction, work_on_all
from nivelus.core.gain.compiled import FloatArray, GainCurve
from nivelus.core.sound.source import SoundSource
from nivelus.core.stopping import step

MARKS = (3.0, 6.0, 10.0)
"""Reductions (dB) of which the share of time beyond them is told."""
HARD = 3.0
"""How far (dB) over the average the reduction of a phrase is hard work."""
LOWEST, HIGHEST = -80.0, 0.0
"""Where a threshold is looked for, dBFS."""
MOST_TRIES = 24
_SILENT = 1e-6

Spans = npt.NDArray[np.float64]
Opener = Callable[[], SoundSource]


@dataclass(frozen=True, slots=True)
class LoadFigures:
    """How hard a compressor works while the voice speaks.

    ``average`` and ``highest`` reduction (dB); ``spread`` is the standard deviation of the phrases' mean reductions (dB):
    how evenly it works; ``beyond`` the share of time over each of MARKS.
    """

    average: float
    spread: float
    highest: float
    beyond: tuple[float, ...]


def by_phrase(reduction: Reduction, spans: Spans) -> FloatArray:
    """Mean reduction in each span, dB, (n,). O(steps + n)."""
    first, last = _steps(len(reduction), spans)
    total = np.concatenate([[0.0], np.cumsum(reduction, dtype=np.float64)])
    return np.asarray((total[last] - total[first]) / (last - first))


def load_figures(reduction: Reduction, spans: Spans) -> LoadFigures:
    """The figures of a reduction in some spans. Without any, all are 0. O(steps + n)."""
    if not len(spans) or not len(reduction):
        return LoadFigures(0.0, 0.0, 0.0, (0.0,) * len(MARKS))
    inside = reduction[_inside(len(reduction), spans)]
    return LoadFigures(
        average=float(inside.mean(dtype=np.float64)),
        spread=float(by_phrase(reduction, spans).std()),
        highest=float(inside.max()),
        beyond=tuple(float((inside > mark).mean()) for mark in MARKS),
    )


def threshold_for(
    open_source: Opener, gain: GainCurve | None, compressor: Compressor, spans: Spans, wanted: float, worked: Worked
) -> tuple[float, Reduction]:
    """The threshold (dBFS, in tenths) at which a compressor reduces a voice by ``wanted`` dB on the average of ``spans``.

    ``worked`` is what it does at the threshold that it has. The way is found on the peaks of every STEP samples, whose average
    lies in about the same ratio to that of all samples whatever the threshold is, and is seen on all samples; where another
    tenth would be nearer by the ratio seen there, that one is tried. Returned with the reduction at that threshold. O(samples).
    """
    peaks = worked.peaks.astype(np.float32)
    inside = _inside(len(peaks), spans)
    with open_source() as source:
        rate = source.info.sample_rate

    def rough(threshold: float) -> float:
        step()
        return _rough(peaks, inside, replace(compressor, threshold=threshold), rate)

    def search(goal: float) -> float:
        # the chord of both ends meets the goal nearby; an end that stays twice counts half (Dowell and Jarratt, BIT 11, 1971)
        low, high = LOWEST, HIGHEST
        over, under = rough(low) - goal, rough(high) - goal
        if over <= 0 or under >= 0:
            return low if over <= 0 else high
        side = 0
        for _ in range(MOST_TRIES):
            middle = (low * under - high * over) / (under - over)
            off = rough(middle) - goal
            if abs(off) < 0.002 or high - low < 0.01:
                return middle
            if off > 0:
                low, over, under, side = middle, off, under / 2 if side > 0 else under, 1
            else:
                high, under, over, side = middle, off, over / 2 if side < 0 else over, -1
        return middle

    known, here = float(worked.reduction[inside].mean(dtype=np.float64)), rough(compressor.threshold)
    ratio = here / known if known > _SILENT and here > _SILENT else 1.0
    found = round(search(wanted * ratio), 1)
    for _ in range(3):
        seen, there = found, whole_reduction(open_source, gain, replace(compressor, threshold=found))
        exact = float(there[inside].mean(dtype=np.float64))
        found = round(search(wanted * rough(seen) / exact), 1) if exact > _SILENT else seen
        if found == seen:
            break
    return seen, there


@dataclass(frozen=True, slots=True)
class LoadCompared:
    """How hard and how evenly a compressor works before and after, and ``at_proposed``: after, with the ``proposed`` threshold
    at which it works as hard as before on the average."""

    before: LoadFigures
    after: LoadFigures
    proposed: float
    at_proposed: LoadFigures


def compare(open_source: Opener, gain: GainCurve, compressor: Compressor, spans: Spans) -> LoadCompared:
    """The load of a voice before its gain and after it. O(samples)."""

    before, worked = (work_on_all(open_source, own, compressor) for own in (None, gain))
    first, after = load_figures(before.reduction, spans), load_figures(worked.reduction, spans)
    if not len(spans) or first.average <= _SILENT:
        return LoadCompared(first, after, compressor.threshold, after)
    found, there = threshold_for(open_source, gain, compressor, spans, first.average, worked)
    return LoadCompared(first, after, found, load_figures(there, spans))


def _steps(count: int, spans: Spans) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
    """First step of each span and the one after its last; at least one."""
    first = np.clip(np.ceil(spans[:, 0] / STEP).astype(np.int64), 0, count - 1)
    return first, np.clip(np.ceil(spans[:, 1] / STEP).astype(np.int64), first + 1, count)


def _inside(count: int, spans: Spans) -> npt.NDArray[np.bool_]:
    edges = np.zeros(count + 1, np.int64)
    first, last = _steps(count, spans)
    np.add.at(edges, first, 1)
    np.add.at(edges, last, -1)
    return np.asarray(np.cumsum(edges[:-1]) > 0)


def _rough(levels: npt.NDArray[np.float32], inside: npt.NDArray[np.bool_], compressor: Compressor, rate: int) -> float:
    """The mean reduction ``inside`` of a sound of which only the peaks of every STEP samples are known."""
    times = (max(seconds, 1e-9) for seconds in (compressor.attack, compressor.release))
    attack, release = (float(np.exp(-STEP / (seconds * rate))) for seconds in times)
    return float(_follow(levels, inside, compressor.threshold, 1 - 1 / compressor.ratio, compressor.knee, attack, release))


@numba.njit(nogil=True, cache=True, error_model="numpy", fastmath={"contract", "nnan", "nsz"})
def _follow(
    levels: npt.NDArray[np.float32],
    inside: npt.NDArray[np.bool_],
    threshold: float,
    slope: float,
    knee: float,
    attack: float,
    release: float,
) -> float:
    held = smooth = total = 0.0
    count = 0
    for i in range(len(levels)):
        over = levels[i] - threshold
        # never quite nothing: numbers too small to be normal ones take a processor ten times as long
        wanted = FAINT
        if 2 * over >= knee:
            wanted = slope * over
        elif 2 * over > -knee:
            wanted = slope * (over + knee / 2) ** 2 / (2 * knee)
        held = max(wanted, release * held + (1 - release) * wanted)
        smooth = attack * smooth + (1 - attack) * held
        if inside[i]:
            total += smooth
            count += 1
    return total / max(count, 1)
