"""Load: how hard a compressor works on a voice, and how evenly from phrase to phrase.

Conventions
-----------
A reduction is told every STEP samples (see ``core.dynamics.detector``); spans are those of phrases, in samples.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numba
import numpy as np
import numpy.typing as npt

from nivelus.core.dynamics.compressor import Compressor
from nivelus.core.dynamics.detector import FAINT, STEP, Opener, Reduction, Side, Worked, work_on, work_on_all
from nivelus.core.gain.compiled import FloatArray, GainCurve
from nivelus.core.stopping import step

MARKS = (3.0, 6.0, 10.0)
"""Reductions (dB) of which the share of time beyond them is told."""
HARD = 3.0
"""How far (dB) over the average the reduction of a phrase is hard work."""
LOWEST, HIGHEST = -80.0, 0.0
"""Where a threshold is looked for, dBFS."""
MOST_TRIES, MOST_PASSES = 24, 3
NEAR = 1.0
"""dB around a threshold in which a better one is looked for first."""
SOME, SOME_SECONDS = 24, 3.0
"""How many stretches of how many seconds tell how all samples differ from their peaks."""
_SILENT = 1e-6

Spans = npt.NDArray[np.float64]


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
    return _means(reduction, *_steps(len(reduction), spans))


def load_figures(reduction: Reduction, spans: Spans) -> LoadFigures:
    """The figures of a reduction in some spans. Without any, all are 0. O(steps + n)."""
    if not len(spans) or not len(reduction):
        return LoadFigures(0.0, 0.0, 0.0, (0.0,) * len(MARKS))
    total, highest, over, count = _told(reduction, _inside(len(reduction), spans), np.array(MARKS))
    return LoadFigures(
        average=total / count,
        spread=float(by_phrase(reduction, spans).std()),
        highest=highest,
        beyond=tuple((over / count).tolist()),
    )


def threshold_for(
    open_source: Opener, gain: GainCurve | None, compressor: Compressor, spans: Spans, wanted: float, worked: Worked
) -> tuple[float, Reduction]:
    """The threshold (dBFS, in tenths) at which a compressor reduces a voice by ``wanted`` dB on the average of ``spans``.

    ``worked`` is what it does at the threshold that it has. The way is found on the peaks of every STEP samples, whose average
    lies over that of all samples by a ratio that hangs on little else than how hard it works; some seconds here and there tell
    it. Then the tenths below and above are tried on all samples at once, until what is wanted lies between them; the nearer one
    is returned, with the reduction at that threshold. O(samples).

    Parameters
    ----------
    open_source : opens the sound
    gain : what the sound has before the compressor
    compressor : what works on it
    spans : (n, 2) samples of the phrases
    wanted : average reduction, dB
    worked : the reduction at the present threshold
    """
    peaks = worked.peaks.astype(np.float32)
    inside = _inside(len(peaks), spans)
    with open_source() as source:
        rate = source.info.sample_rate

    def rough(threshold: float) -> float:
        step()
        return _rough(peaks, inside, replace(compressor, threshold=threshold), rate)

    def search(goal: float, low: float, high: float) -> float:
        # the chord of both ends meets the goal nearby; an end that stays twice counts half (Dowell and Jarratt, BIT 11, 1971)
        over, under = rough(low) - goal, rough(high) - goal
        if over <= 0 or under >= 0:
            return search(goal, LOWEST, HIGHEST) if low > LOWEST or high < HIGHEST else low if over <= 0 else high
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

    def near(goal: float, threshold: float) -> float:
        return search(goal, max(threshold - NEAR, LOWEST), min(threshold + NEAR, HIGHEST))

    found = search(wanted * _ratio(rough(compressor.threshold), _mean(worked.reduction, inside)), LOWEST, HIGHEST)
    found = near(wanted * _ratio(*_some(open_source, gain, replace(compressor, threshold=found), peaks, inside)), found)
    for _ in range(MOST_PASSES):
        low = min(max(math.floor(found * 10) / 10, LOWEST), HIGHEST - 0.1)
        tried = (round(low, 1), round(low + 0.1, 1))
        sides = work_on_all(open_source, [Side(gain, tried)], compressor)[0]
        averages = [_mean(side.reduction, inside) for side in sides]
        nearest = int(abs(averages[1] - wanted) < abs(averages[0] - wanted))
        if averages[0] >= wanted >= averages[1] or tried[nearest] in {LOWEST, HIGHEST}:
            break
        found = near(wanted * _ratio(rough(tried[nearest]), averages[nearest]), tried[nearest])
    return tried[nearest], sides[nearest].reduction


def _some(
    open_source: Opener, gain: GainCurve | None, compressor: Compressor, peaks: Reduction, inside: npt.NDArray[np.bool_]
) -> tuple[float, float]:
    """The sums of the reduction ``inside`` of SOME stretches, as peaks tell them and as all samples do."""
    by_peaks = by_samples = 0.0
    with open_source() as source:
        rate = source.info.sample_rate
        length, before = round(SOME_SECONDS * rate / STEP), math.ceil(compressor.memory * rate / STEP)
        for first in np.linspace(0, max(len(peaks) - length, 0), SOME).astype(np.int64).tolist():
            step()
            last, begin = min(first + length, len(peaks)), max(first - before, 0)
            told = work_on(source, [Side(gain, (compressor.threshold,))], compressor, first * STEP, last * STEP)[0][0]
            by_samples += float(told.reduction[inside[first:last]].sum(dtype=np.float64))
            counted = inside[begin:last].copy()
            counted[: first - begin] = False
            by_peaks += _rough(peaks[begin:last], counted, compressor, rate) * np.count_nonzero(counted)
    return by_peaks, by_samples


def _mean(reduction: Reduction, inside: npt.NDArray[np.bool_]) -> float:
    total, _, _, count = _told(reduction, inside, np.zeros(0))
    return total / max(count, 1)


def _ratio(by_peaks: float, by_samples: float) -> float:
    return by_peaks / by_samples if by_samples > _SILENT and by_peaks > _SILENT else 1.0


@dataclass(frozen=True, slots=True)
class LoadCompared:
    """How hard and how evenly a compressor works before and after, and ``at_proposed``: after, with the ``proposed`` threshold
    at which it works as hard as before on the average."""

    before: LoadFigures
    after: LoadFigures
    proposed: float
    at_proposed: LoadFigures


def compare(open_source: Opener, gain: GainCurve, compressor: Compressor, spans: Spans) -> LoadCompared:
    """The load of a voice before its gain and after it. O(samples).

    Parameters
    ----------
    open_source : opens the sound
    gain : that of the voice before its fader
    compressor : what works on it
    spans : (n, 2) samples of the phrases
    """

    thresholds = (compressor.threshold,)
    (before,), (worked,) = work_on_all(open_source, [Side(None, thresholds), Side(gain, thresholds)], compressor)
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


@numba.njit(nogil=True, cache=True)
def _told(
    reduction: Reduction, inside: npt.NDArray[np.bool_], marks: FloatArray
) -> tuple[float, float, npt.NDArray[np.int64], int]:
    """Sum and maximum of a reduction ``inside``, how much of it is over each mark, and how much there is."""
    total = highest = 0.0
    count, over = 0, np.zeros(len(marks), np.int64)
    for i in range(len(reduction)):
        if inside[i]:
            value = np.float64(reduction[i])
            total, highest, count = total + value, max(highest, value), count + 1
            for k in range(len(marks)):
                over[k] += value > marks[k]
    return total, highest, over, count


@numba.njit(nogil=True, cache=True)
def _means(reduction: Reduction, first: npt.NDArray[np.int64], last: npt.NDArray[np.int64]) -> FloatArray:
    """The mean of each stretch of a reduction."""
    out = np.zeros(len(first))
    for i in range(len(first)):
        for at in range(first[i], last[i]):
            out[i] += reduction[at]
        out[i] /= last[i] - first[i]
    return out
