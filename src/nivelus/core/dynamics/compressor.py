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

STEP = 64
"""Samples between two values of the reduction: 1.3 ms at 48 kHz."""
RMS_SECONDS = 0.01
"""Time constant of RMS detection; common practice."""
SETTLE = 20
"""Time constants after which the detector has forgotten how it began: 2e-9 of it is left."""
_STRETCH_SECONDS = 60
_BLOCK = 1 << 16

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
    (n,) dB at ``STEP * ceil(start / STEP)`` and every STEP samples from there to below ``stop``. O(stop - start).
    """
    rate = source.info.sample_rate
    stop = source.info.frames if stop is None else min(stop, source.info.frames)
    first, last = -(-start // STEP), -(-stop // STEP)
    out = np.zeros(max(last - first, 0), np.float32)
    # whole steps, so that what is told begins with the first sample that is read
    at = max(first - math.ceil(compressor.memory * rate / STEP), 0) * STEP
    state = np.zeros(3)
    constants = _constants(compressor, rate)
    scratch = np.empty(_BLOCK // STEP + 1, np.float32)
    while at < stop:
        block = source.read(at, min(_BLOCK, stop - at))
        block = block if gain is None else apply_gain(block, gain, at)
        _reduce(block, constants, compressor.detector == "rms", state, scratch)
        told, place = -(-len(block) // STEP), at // STEP - first
        begin = max(-place, 0)
        if begin < told:
            out[place + begin : place + told] = scratch[begin:told]
        at += _BLOCK
    return out


def whole_reduction(open_source: Any, gain: GainCurve | None, compressor: Compressor, threads: int = 2) -> Reduction:
    """``reduction_of`` all of a sound, on several threads. ``open_source()`` opens it, once for each stretch of it."""
    with open_source() as source:
        frames, rate = source.info.frames, source.info.sample_rate
    step = max(_STRETCH_SECONDS * rate, math.ceil(10 * compressor.memory * rate)) // STEP * STEP

    def stretch(start: int) -> Reduction:
        with open_source() as source:
            return reduction_of(source, gain, compressor, start, start + step)

    with ThreadPoolExecutor(threads) as pool:
        return np.concatenate(list(pool.map(stretch, range(0, frames, step)))) if frames else np.zeros(0, np.float32)


def _constants(compressor: Compressor, rate: int) -> FloatArray:
    """What the inner loop needs: threshold, slope, knee, coefficients of attack, release and RMS, and the lowest amplitude of
    which the level lies within the knee or above."""

    def coefficient(seconds: float) -> float:
        return math.exp(-1 / (seconds * rate)) if seconds > 0 else 0.0

    lowest = 10 ** ((compressor.threshold - compressor.knee / 2) / 20)
    times = coefficient(compressor.attack), coefficient(compressor.release), coefficient(RMS_SECONDS)
    return np.array([compressor.threshold, 1 - 1 / compressor.ratio, compressor.knee, *times, lowest])


@numba.njit(nogil=True, cache=True)
def _reduce(x: Samples, constants: FloatArray, is_rms: bool, state: FloatArray, out: Reduction) -> None:
    """Run the detector over a block; the level's logarithm is only taken where it matters."""
    threshold, slope, knee, attack, release, average, lowest = constants
    held, smooth, power = state
    channels = x.shape[1]
    floor = lowest * lowest if is_rms else lowest
    for i in range(len(x)):
        if is_rms:
            total = 0.0
            for c in range(channels):
                total += np.float64(x[i, c]) * np.float64(x[i, c])
            power = average * power + (1 - average) * total / channels
            size = power
        else:
            size = 0.0
            for c in range(channels):
                size = max(size, abs(np.float64(x[i, c])))
        wanted = 0.0
        if size > floor:
            over = (10.0 if is_rms else 20.0) * np.log10(size) - threshold
            wanted = slope * over if 2 * over >= knee else slope * (over + knee / 2) ** 2 / (2 * knee)
        held = max(wanted, release * held + (1 - release) * wanted)
        smooth = attack * smooth + (1 - attack) * held
        if i % STEP == 0:
            out[i // STEP] = smooth
    state[0], state[1], state[2] = held, smooth, power
