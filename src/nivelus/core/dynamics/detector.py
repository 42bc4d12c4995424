"""The detector of a compressor on its way through a sound: the reduction, for several gains and thresholds at once.

Source: see ``core.dynamics.compressor``.

Conventions
-----------
A reduction is told every STEP samples, at the positions that are a whole number of STEP; between them it is linear in dB.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numba
import numpy as np
import numpy.typing as npt

from nivelus.core.dynamics.compressor import RMS_SECONDS, Compressor
from nivelus.core.gain.compiled import FloatArray, GainCurve, apply_gain
from nivelus.core.sound.reader import Samples
from nivelus.core.sound.source import SoundSource
from nivelus.core.stopping import kept, step

STEP = 64
"""Samples between two values of the reduction: 1.3 ms at 48 kHz."""
FAINT = 1e-50
"""dB that keep what dies away from becoming a number too small to be a normal one."""
LOWEST_PEAK = -200.0
"""dBFS below which no peak is told."""
_STRETCH_SECONDS = 60
_BLOCK = 1 << 17

Reduction = npt.NDArray[np.float32]
Opener = Callable[[], SoundSource]
_f = np.float32


@dataclass(frozen=True, slots=True)
class Side:
    """One side of a comparison: the pre-fader gain of the sound, in its samples (None for the sound as it is), and the
    thresholds (dBFS) that are tried on it."""

    gain: GainCurve | None
    thresholds: tuple[float, ...]


@dataclass(frozen=True, slots=True)
class Worked:
    """What a compressor did: ``reduction`` (n,) dB every STEP samples, and ``peaks`` (n,) the highest level that it can have
    seen from each of them to the next, dBFS, float16."""

    reduction: Reduction
    peaks: npt.NDArray[np.float16]


def reduction_of(
    source: SoundSource, gain: GainCurve | None, compressor: Compressor, start: int = 0, stop: int | None = None
) -> Reduction:
    """What the compressor does to a stretch of a sound.

    Parameters
    ----------
    source : the sound
    gain : its pre-fader gain, in samples of the source; None for the sound as it is
    compressor : the compressor
    start, stop : the stretch in samples, all of the sound if not given; it is settled by what lies before

    Returns
    -------
    Reduction
        at ``STEP * ceil(start / STEP)`` and every STEP samples from there to below ``stop``. O(stop - start).
    """
    return work_on(source, [Side(gain, (compressor.threshold,))], compressor, start, stop)[0][0].reduction


def work_on(
    source: SoundSource, sides: Sequence[Side], compressor: Compressor, start: int = 0, stop: int | None = None
) -> list[list[Worked]]:
    """What ``reduction_of`` tells, of several sides of one sound with several thresholds each: it is read once for all.

    The threshold of the compressor itself is not looked at. O(stop - start), and what lies below every threshold costs
    little more than to be read.

    Parameters
    ----------
    source : the sound
    sides : gains, each with its thresholds (dBFS)
    compressor : what works on it
    start, stop : the first and one-past-last sample
    """
    rate = source.info.sample_rate
    stop = source.info.frames if stop is None else min(stop, source.info.frames)
    first, last = -(-start // STEP), -(-stop // STEP)
    # whole steps, so that what is told begins with the first sample that is read
    at = max(first - math.ceil(compressor.memory * rate / STEP), 0) * STEP
    detectors = [_Detector(side, compressor, rate, max(last - first, 0)) for side in sides]
    while at < stop:
        step()
        block = source.read(at, min(_BLOCK, stop - at))
        for detector in detectors:
            detector.run(block, at, first)
        at += _BLOCK
    return [detector.told() for detector in detectors]


def whole_reduction(open_source: Opener, gain: GainCurve | None, compressor: Compressor, threads: int = 2) -> Reduction:
    """``reduction_of`` all of a sound, on several threads. ``open_source()`` opens it, once for each stretch of it.

    Parameters
    ----------
    open_source : opens the sound
    gain : what the sound has before the compressor
    compressor : what works on it
    threads : how many work at once
    """
    return work_on_all(open_source, [Side(gain, (compressor.threshold,))], compressor, threads)[0][0].reduction


def work_on_all(open_source: Opener, sides: Sequence[Side], compressor: Compressor, threads: int = 2) -> list[list[Worked]]:
    """``work_on`` all of a sound, on several threads. ``open_source()`` opens it, once for each stretch of it.

    Parameters
    ----------
    open_source : opens the sound
    sides : gains, each with its thresholds (dBFS)
    compressor : what works on it
    threads : how many work at once
    """
    with open_source() as source:
        frames, rate = source.info.frames, source.info.sample_rate
    # long ones: each has to be opened, and settled before it begins
    length = max(_STRETCH_SECONDS * rate, math.ceil(10 * compressor.memory * rate), -(-frames // (4 * threads))) // STEP * STEP

    def stretch(start: int) -> list[list[Worked]]:
        with open_source() as source:
            return work_on(source, sides, compressor, start, start + length)

    with ThreadPoolExecutor(threads) as pool:
        parts = list(pool.map(kept(stretch), range(0, frames, length)))
    if not parts:
        return [[Worked(np.zeros(0, np.float32), np.zeros(0, np.float16)) for _ in side.thresholds] for side in sides]
    return [
        [
            Worked(*(np.concatenate([getattr(part[i][k], name) for part in parts]) for name in ("reduction", "peaks")))
            for k in range(len(side.thresholds))
        ]
        for i, side in enumerate(sides)
    ]


class _Detector:
    """The detector of one side on its way through a sound, with one state for each threshold."""

    def __init__(self, side: Side, compressor: Compressor, rate: int, steps: int) -> None:
        count = len(side.thresholds)
        self._gain, self._is_rms = side.gain, compressor.detector == "rms"
        self._constants, self._average = _constants(compressor, rate), math.exp(-1 / (RMS_SECONDS * rate))
        self._thresholds, self._state, self._power = np.array(side.thresholds, np.float64), np.zeros((2, count)), np.zeros(1)
        self._size = np.empty(_BLOCK, np.float32)
        self._out, self._peaks = np.zeros((count, steps), np.float32), np.zeros(steps, np.float32)
        self._told, self._seen = np.empty((count, _BLOCK // STEP), np.float32), np.empty(_BLOCK // STEP, np.float32)

    def run(self, block: Samples, at: int, first: int) -> None:
        """Take in what is read ``at`` a sample, of which what lies from step ``first`` on is told."""
        lift, size = _NO_GAIN, self._size[: len(block)]
        if self._is_rms:
            _power(block if self._gain is None else apply_gain(block, self._gain, at), self._average, self._power, size)
        else:
            np.abs(block[:, 0] if block.shape[1] == 1 else np.abs(block).max(axis=1), out=size, casting="same_kind")
            if self._gain is not None:
                # to a peak gain adds in dB
                lift = self._gain.window(at, at + len(block))
        bits = size.view(np.int32)
        factor = 10.0 if self._is_rms else 20.0
        _reduce(bits, factor, self._constants, self._thresholds, lift.at, lift.db, at, self._state, self._told, self._seen)
        told, place = -(-len(block) // STEP), at // STEP - first
        begin = max(-place, 0)
        if begin < told:
            self._out[:, place + begin : place + told] = self._told[:, begin:told]
            self._peaks[place + begin : place + told] = self._seen[begin:told]

    def told(self) -> list[Worked]:
        """What was done at each threshold."""
        peaks = np.maximum(self._peaks, LOWEST_PEAK).astype(np.float16)
        return [Worked(reduction, peaks) for reduction in self._out]


def _constants(compressor: Compressor, rate: int) -> FloatArray:
    """What the inner loop needs: slope, knee, and coefficients of attack and release."""

    def coefficient(seconds: float) -> float:
        return math.exp(-1 / (seconds * rate)) if seconds > 0 else 0.0

    times = coefficient(compressor.attack), coefficient(compressor.release)
    return np.array([1 - 1 / compressor.ratio, compressor.knee, *times])


@numba.njit(nogil=True, cache=True, error_model="numpy", fastmath={"contract", "nnan", "nsz"})
def _reduce(
    bits: npt.NDArray[np.int32],
    factor: float,
    constants: FloatArray,
    thresholds: FloatArray,
    gain_at: FloatArray,
    gain_db: FloatArray,
    start: int,
    state: FloatArray,
    out: Reduction,
    peaks: Reduction,
) -> None:
    """Run the detector over a block that begins at sample ``start`` of the gain, a step at a time, for several thresholds.

    ``bits`` are those of the float32 sizes of the samples. A step in which nothing reaches the knee is done at once: there the
    detector only dies away, and what it has come to at the end is known beforehand. What does not hang on the sample before is
    done for all of a step, so that the processor does several at once.
    """
    slope, knee, attack, release = constants
    bend = slope / (2 * knee) if knee > 1e-9 else 0.0
    level, wanted, ramp = np.empty(STEP), np.empty(STEP), np.arange(float(STEP))
    part_of, exponents = np.empty(STEP, np.float32), np.empty(STEP, np.int32)
    # what is left of a detector, and what it gives to the smoothed one, after all of a step but its first sample
    away, slower, given = 1.0, 1.0, 0.0
    for _ in range(STEP - 1):
        away *= release
        slower *= attack
        given = attack * given + (1 - attack) * away
    lowest, k = thresholds.min() - knee / 2, int(np.searchsorted(gain_at, np.float64(start), "right"))
    for begin in range(0, len(bits), STEP):
        part, place = bits[begin : begin + STEP], begin // STEP
        count = len(part)
        # of what is not negative the greater number has the greater bits
        top = np.int32(0)
        for i in range(count):
            top = max(top, part[i])
        high, after, k = _highest(gain_at, gain_db, k, start + begin, start + begin + count - 1)
        peak = factor * np.log10(2.0) * ((top >> 23) - 127) + factor * np.log10(1 + (top & 0x7FFFFF) / 8388608.0) + high
        peaks[place] = peak
        if peak > lowest or count < STEP:
            _decibels(part, part_of, exponents, level, factor)
            _add(gain_at, gain_db, after, start + begin, level, ramp, count)
        for lane in range(len(thresholds)):
            held, smooth = state[0, lane], state[1, lane]
            low, full = thresholds[lane] - knee / 2, thresholds[lane] + knee / 2
            if peak <= low and count == STEP:
                held = max(FAINT, release * held)
                smooth = attack * smooth + (1 - attack) * held
                out[lane, place] = smooth
                smooth = slower * smooth + given * held
                held = max(FAINT, away * held)
            else:
                for i in range(count):
                    bent = min(max(level[i] - low, 0.0), knee)
                    wanted[i] = bend * bent * bent + slope * max(level[i] - full, 0.0) + FAINT
                held = max(wanted[0], release * held + (1 - release) * wanted[0])
                smooth = attack * smooth + (1 - attack) * held
                out[lane, place] = smooth
                for i in range(1, count):
                    held = max(wanted[i], release * held + (1 - release) * wanted[i])
                    smooth = attack * smooth + (1 - attack) * held
            state[0, lane], state[1, lane] = held, smooth


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _power(x: Samples, average: float, state: FloatArray, power: npt.NDArray[np.float32]) -> None:
    """The smoothed mean power of all channels."""
    smooth = state[0]
    for i in range(len(x)):
        total = 0.0
        for c in range(x.shape[1]):
            total += np.float64(x[i, c]) * np.float64(x[i, c])
        smooth = average * smooth + (1 - average) * total / x.shape[1]
        power[i] = smooth
    state[0] = smooth


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _highest(at: FloatArray, db: FloatArray, k: int, first: int, last: int) -> tuple[float, int, int]:
    """The highest gain from sample ``first`` to ``last``, and the first points after each; ``k`` is one at or before them."""
    while k < len(at) and at[k] <= first:
        k += 1
    high, after = _value(at, db, k, first), k
    while k < len(at) and at[k] <= last:
        high = max(high, db[k])
        k += 1
    return max(high, _value(at, db, k, last)), after, k


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _value(at: FloatArray, db: FloatArray, k: int, x: float) -> Any:
    """The gain at ``x``, where ``k`` is the first point after it."""
    if k == 0:
        return db[0]
    if k == len(at):
        return db[k - 1]
    return db[k - 1] + (db[k] - db[k - 1]) * (x - at[k - 1]) / (at[k] - at[k - 1])


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _decibels(
    bits: npt.NDArray[np.int32],
    fraction: npt.NDArray[np.float32],
    exponent: npt.NDArray[np.int32],
    level: FloatArray,
    factor: float,
) -> None:
    """``factor`` times the common logarithm of each float32 that is not negative, within 5e-7; 0 is far below all that matters.

    It is m times a power of two, m between 0.71 and 1.41; ln m = 2 artanh z with z = (m - 1) / (m + 1), of which five terms of
    the series are enough. ``fraction`` and ``exponent`` are room for as many; all numbers are short, so that the processor does
    eight at once.
    """
    part = np.float32(2 * factor / np.log(10.0))
    one, two, third, fifth, seventh, ninth = _f(1.0), _f(2.0), _f(1 / 3), _f(1 / 5), _f(1 / 7), _f(1 / 9)
    upper, lower = _f(2.0**-23), _f(2.0**-24)
    for i in range(len(bits)):
        # from the root of a half on
        power = np.int32(np.int32(bits[i] - np.int32(0x3F3504F3)) >> np.int32(23))
        over = np.int32(np.int32(bits[i] - np.int32(power << np.int32(23))) - np.int32(0x3F800000))
        m = np.float32(over) * (upper if over >= np.int32(0) else lower)
        z = m / (m + two)
        s = z * z
        fraction[i] = part * z * (one + s * (third + s * (fifth + s * (seventh + s * ninth))))
        exponent[i] = power
    whole = factor * np.log10(2.0)
    for i in range(len(bits)):
        level[i] = whole * exponent[i] + fraction[i]


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _add(at: FloatArray, db: FloatArray, k: int, start: int, level: FloatArray, ramp: FloatArray, count: int) -> None:
    """Add a gain to the levels of samples from ``start`` on; ``k`` is the first point after it, ``ramp`` counts from 0."""
    i = 0
    while i < count:
        until = count if k == len(at) else min(count, max(int(np.ceil(at[k])) - start, i))
        first = _value(at, db, k, start)
        slope = 0.0 if k in (0, len(at)) else (db[k] - db[k - 1]) / (at[k] - at[k - 1])
        for j in range(i, until):
            level[j] += first + slope * ramp[j]
        i = until
        k += 1


_NO_GAIN = GainCurve(np.zeros(1), np.zeros(1))
