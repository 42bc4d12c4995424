"""The reference compressor: feed-forward, in the log domain, with a smooth decoupled detector.

It is there to show and to hear how hard a compressor has to work, not to sound like anything.

Source
------
D. Giannoulis, M. Massberg, J. D. Reiss, "Digital Dynamic Range Compressor Design: A Tutorial and Analysis", J. Audio Eng. Soc.
60(6), 2012: the static curve with its knee is their equation 4, the smooth decoupled peak detector their equation 17, and it
stands behind the gain computer, as they recommend. A time constant is the time in which 1 - 1/e of a step is done.

Conventions
-----------
Levels are dBFS, reduction is in dB and never negative. It is told every STEP samples, at the positions that are a whole number
of STEP; between them it is linear in dB. Channels are linked: the louder one decides (peak), or their mean power (RMS).
"""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any, Literal

import numba
import numpy as np
import numpy.typing as npt

from nivelus.core.errors import GainError
from nivelus.core.gain.compiled import FloatArray, GainCurve, apply_gain
from nivelus.core.sound.reader import Samples
from nivelus.core.sound.source import SoundSource
from nivelus.core.stopping import kept, step

STEP = 64
"""Samples between two values of the reduction: 1.3 ms at 48 kHz."""
RMS_SECONDS = 0.01
"""Time constant of RMS detection; common practice."""
SETTLE = 20
"""Time constants after which the detector has forgotten how it began: 2e-9 of it is left."""
FAINT = 1e-50
"""dB that keep what dies away from becoming a number too small to be a normal one."""
LOWEST_PEAK = -200.0
"""dBFS below which no peak is told."""
_STRETCH_SECONDS = 60
_BLOCK = 1 << 16
_CHUNK = 1 << 10
"""Samples that are worked on at once: what is needed of them stays in the nearest cache."""

Detector = Literal["peak", "rms"]
Reduction = npt.NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class Compressor:
    """Threshold (dBFS), ratio, width of the knee (dB), attack and release (seconds), make-up (dB), and what is detected.

    Raises
    ------
    GainError
        If the ratio is below 1, or a knee or time is negative or no number.
    """

    threshold: float = -24.0
    ratio: float = 4.0
    knee: float = 6.0
    attack: float = 0.005
    release: float = 0.12
    makeup: float = 0.0
    detector: Detector = "peak"

    def __post_init__(self) -> None:
        values = (self.threshold, self.ratio, self.knee, self.attack, self.release, self.makeup)
        if not all(map(math.isfinite, values)) or self.ratio < 1 or min(self.knee, self.attack, self.release) < 0:
            raise GainError("A compressor has a ratio of at least 1, and no negative knee or time.")

    @property
    def memory(self) -> float:
        """Seconds after which it has forgotten how it began."""
        return SETTLE * (self.attack + self.release + (RMS_SECONDS if self.detector == "rms" else 0.0))


def static_reduction(level: npt.ArrayLike, compressor: Compressor) -> FloatArray:
    """Reduction of a steady level (dBFS), dB: the static curve."""
    over = np.asarray(level, np.float64) - compressor.threshold
    slope, knee = 1 - 1 / compressor.ratio, compressor.knee
    bent = slope * (over + knee / 2) ** 2 / (2 * knee) if knee else np.zeros_like(over)
    return np.where(2 * over <= -knee, 0.0, np.where(2 * over < knee, bent, slope * over))


@dataclass(frozen=True, slots=True)
class Worked:
    """What a compressor did: ``reduction`` (n,) dB every STEP samples, and ``peaks`` (n,) the highest level that it saw from
    each of them to the next, dBFS, float16."""

    reduction: Reduction
    peaks: npt.NDArray[np.float16]


def reduction_of(
    source: SoundSource, gain: GainCurve | None, compressor: Compressor, start: int = 0, stop: int | None = None
) -> Reduction:
    """What the compressor does to a stretch of a sound, see ``work_on``: its reduction alone."""
    return work_on(source, gain, compressor, start, stop).reduction


def work_on(
    source: SoundSource, gain: GainCurve | None, compressor: Compressor, start: int = 0, stop: int | None = None
) -> Worked:
    """What the compressor does to a stretch of a sound.

    Parameters
    ----------
    source : the sound
    gain : its pre-fader gain, in samples of the source; None for the sound as it is
    compressor : the compressor
    start, stop : the stretch in samples, all of the sound if not given; it is settled by what lies before

    Returns
    -------
    Worked
        at ``STEP * ceil(start / STEP)`` and every STEP samples from there to below ``stop``. O(stop - start).
    """
    rate = source.info.sample_rate
    stop = source.info.frames if stop is None else min(stop, source.info.frames)
    first, last = -(-start // STEP), -(-stop // STEP)
    out, peaks = np.zeros((2, max(last - first, 0)), np.float32)
    # whole steps, so that what is told begins with the first sample that is read
    at = max(first - math.ceil(compressor.memory * rate / STEP), 0) * STEP
    state, is_rms = np.zeros(3), compressor.detector == "rms"
    constants = _constants(compressor, rate)
    scratch = np.empty((2, _BLOCK // STEP + 1), np.float32)
    level, size = np.empty(_CHUNK), np.empty(_CHUNK, np.float32)
    bits = size.view(np.int32)
    while at < stop:
        step()
        block = source.read(at, min(_BLOCK, stop - at))
        lift = _NO_GAIN
        if gain is not None and is_rms:
            block = apply_gain(block, gain, at)
        elif gain is not None:
            # to a peak gain adds in dB
            lift = gain.window(at, at + len(block))
        _reduce(block, constants, is_rms, lift.at, lift.db, at, state, scratch[0], scratch[1], level, size, bits)
        told, place = -(-len(block) // STEP), at // STEP - first
        begin = max(-place, 0)
        if begin < told:
            out[place + begin : place + told] = scratch[0, begin:told]
            peaks[place + begin : place + told] = scratch[1, begin:told]
        at += _BLOCK
    return Worked(out, np.maximum(peaks, LOWEST_PEAK).astype(np.float16))


def whole_reduction(open_source: Any, gain: GainCurve | None, compressor: Compressor, threads: int = 2) -> Reduction:
    """``reduction_of`` all of a sound, on several threads. ``open_source()`` opens it, once for each stretch of it."""
    return work_on_all(open_source, gain, compressor, threads).reduction


def work_on_all(open_source: Any, gain: GainCurve | None, compressor: Compressor, threads: int = 2) -> Worked:
    """``work_on`` all of a sound, on several threads. ``open_source()`` opens it, once for each stretch of it."""
    with open_source() as source:
        frames, rate = source.info.frames, source.info.sample_rate
    # long ones: each has to be opened, and settled before it begins
    length = max(_STRETCH_SECONDS * rate, math.ceil(10 * compressor.memory * rate), -(-frames // (4 * threads))) // STEP * STEP

    def stretch(start: int) -> Worked:
        with open_source() as source:
            return work_on(source, gain, compressor, start, start + length)

    with ThreadPoolExecutor(threads) as pool:
        parts = list(pool.map(kept(stretch), range(0, frames, length)))
    if not parts:
        return Worked(np.zeros(0, np.float32), np.zeros(0, np.float16))
    return Worked(np.concatenate([part.reduction for part in parts]), np.concatenate([part.peaks for part in parts]))


def _constants(compressor: Compressor, rate: int) -> FloatArray:
    """What the inner loop needs: threshold, slope, knee, and coefficients of attack, release and RMS."""

    def coefficient(seconds: float) -> float:
        return math.exp(-1 / (seconds * rate)) if seconds > 0 else 0.0

    times = coefficient(compressor.attack), coefficient(compressor.release), coefficient(RMS_SECONDS)
    return np.array([compressor.threshold, 1 - 1 / compressor.ratio, compressor.knee, *times])


@numba.njit(nogil=True, cache=True, error_model="numpy", fastmath={"contract", "nnan", "nsz"})
def _reduce(
    x: Samples,
    constants: FloatArray,
    is_rms: bool,
    gain_at: FloatArray,
    gain_db: FloatArray,
    start: int,
    state: FloatArray,
    out: Reduction,
    peaks: Reduction,
    level: FloatArray,
    size: npt.NDArray[np.float32],
    bits: npt.NDArray[np.int32],
) -> None:
    """Run the detector over a block that begins at sample ``start`` of the gain, a chunk at a time.

    ``level``, and ``size`` of which ``bits`` is another view, are room for one chunk. All that does not hang on the sample
    before is done for a whole chunk, so that the processor does several at once.
    """
    threshold, slope, knee, attack, release, average = constants
    bend = slope / (2 * knee) if knee > 1e-9 else 0.0
    held, smooth, power = state
    channels, chunk, mono = x.shape[1], len(level), x.reshape(-1)
    for begin in range(0, len(x), chunk):
        count = min(chunk, len(x) - begin)
        if is_rms:
            for i in range(count):
                total = 0.0
                for c in range(channels):
                    total += np.float64(x[begin + i, c]) * np.float64(x[begin + i, c])
                power = average * power + (1 - average) * total / channels
                size[i] = power
        elif channels == 1:
            for i in range(count):
                size[i] = abs(mono[begin + i])
        else:
            for i in range(count):
                highest = abs(x[begin + i, 0])
                for c in range(1, channels):
                    highest = max(highest, abs(x[begin + i, c]))
                size[i] = highest
        _decibels(size, bits, level, count, 10.0 if is_rms else 20.0)
        _add(gain_at, gain_db, start + begin, level, count)
        for first in range(0, count, STEP):
            peak = level[first]
            for i in range(first, min(first + STEP, count)):
                peak = max(peak, level[i])
                over = level[i] - threshold
                bent = min(max(over + knee / 2, 0.0), knee)
                level[i] = bend * bent * bent + slope * max(over - knee / 2, 0.0) + FAINT
            peaks[(begin + first) // STEP] = peak
        for i in range(count):
            held = max(level[i], release * held + (1 - release) * level[i])
            smooth = attack * smooth + (1 - attack) * held
            if (begin + i) % STEP == 0:
                out[(begin + i) // STEP] = smooth
    state[0], state[1], state[2] = held, smooth, power


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _decibels(size: npt.NDArray[np.float32], bits: npt.NDArray[np.int32], level: FloatArray, count: int, factor: float) -> None:
    """``factor`` times the common logarithm of each size that is not negative, within 1e-8; 0 is far below all that matters.

    A float32 is m times a power of two, m between 0.71 and 1.41; ln m = 2 artanh z with z = (m - 1) / (m + 1), of which
    five terms of the series are enough.
    """
    for i in range(count):
        exponent = (bits[i] >> 23) - 127
        mantissa = bits[i] & 0x7FFFFF
        over = 1 if mantissa > 0x3504F3 else 0
        level[i] = exponent + over
        bits[i] = (mantissa | 0x3F800000) - (over << 23)
    whole, part = factor * np.log10(2.0), 2 * factor / np.log(10.0)
    for i in range(count):
        m = np.float64(size[i])
        z = (m - 1) / (m + 1)
        s = z * z
        level[i] = whole * level[i] + part * z * (1 + s * (1 / 3 + s * (1 / 5 + s * (1 / 7 + s / 9))))


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _add(at: FloatArray, db: FloatArray, start: int, level: FloatArray, count: int) -> None:
    """Add a gain to the levels of samples from ``start`` on."""
    i = 0
    k = np.searchsorted(at, np.float64(start), "right")
    while i < count:
        until = count if k == len(at) else min(count, max(int(np.ceil(at[k])) - start, i))
        if k == 0 or k == len(at):
            flat = db[0] if k == 0 else db[len(at) - 1]
            for j in range(i, until):
                level[j] += flat
        else:
            slope = (db[k] - db[k - 1]) / (at[k] - at[k - 1])
            for j in range(i, until):
                level[j] += db[k - 1] + slope * (start + j - at[k - 1])
        i = until
        k += 1


_NO_GAIN = GainCurve(np.zeros(1), np.zeros(1))
