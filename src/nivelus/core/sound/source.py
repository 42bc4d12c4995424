"""What is read by position - a sound file, or a track of several - and reading it at another rate.

Resampled samples are the same wherever reading begins: it begins where samples of both rates fall together, and early enough
for the filter (soxr, very high quality) to have settled.
"""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Protocol

import numpy as np

from nivelus.core.sound.reader import Samples, SoundInfo

_SETTLE_SECONDS = 0.05
"""This much before and after what is wanted is read along: the filter reaches less far."""


class SoundSource(Protocol):
    """What is read by position: a sound file, or a track of several."""

    @property
    def info(self) -> SoundInfo: ...

    def read(self, start: int, frames: int) -> Samples: ...

    def __enter__(self) -> SoundSource: ...

    def __exit__(self, *_: object) -> None: ...


class Held:
    """Samples in memory, (n, channels), read as a sound."""

    def __init__(self, samples: Samples, rate: int) -> None:
        self._samples = samples
        self.info = SoundInfo(rate, samples.shape[1], len(samples), "WAV", "FLOAT", None)

    def read(self, start: int, frames: int) -> Samples:
        """Read ``frames`` samples from ``start`` on; shorter only at the end."""
        start = max(start, 0)
        return self._samples[start : start + max(frames, 0)]

    def __enter__(self) -> Held:
        return self

    def __exit__(self, *_: object) -> None:
        pass


class Resampled:
    """A sound at another rate, read by position; see ``SoundSource``. It closes what it reads."""

    def __init__(self, source: SoundSource, rate: int) -> None:
        self._source = source
        own = source.info
        self.info = replace(own, sample_rate=rate, frames=frames_at_rate(own.frames, own.sample_rate, rate))

    def read(self, start: int, frames: int) -> Samples:
        """Read ``frames`` samples from ``start`` on; shorter only at the end."""
        start = min(max(start, 0), self.info.frames)
        return read_at_rate(self._source, self.info.sample_rate, start, min(frames, self.info.frames - start))

    def __enter__(self) -> Resampled:
        return self

    def __exit__(self, *_: object) -> None:
        self._source.__exit__()


def frames_at_rate(frames: int, own: int, wanted: int) -> int:
    """How long ``frames`` samples of one rate are in those of another, rounded up."""
    return -(-frames * wanted // own)


def read_at_rate(source: SoundSource, wanted: int, start: int, count: int) -> Samples:
    """``count`` samples at the rate ``wanted`` from ``start`` on, silence where they lie before the beginning or the end.

    Parameters
    ----------
    source : the sound
    wanted : Hz
    start, count : the first sample and how many, at that rate
    """
    own = source.info.sample_rate
    if own == wanted:
        return _read(source, start, count)
    import soxr

    common = math.gcd(own, wanted)
    # samples of both rates fall together every so often: reading begins there
    out_step, in_step = wanted // common, own // common
    settle = -(-round(_SETTLE_SECONDS * wanted) // out_step)
    step = start // out_step - settle
    steps = -(-(start + count) // out_step) + settle - step
    block = _read(source, step * in_step, steps * in_step)
    out: Samples = soxr.resample(np.ascontiguousarray(block), own, wanted)
    lead = start - step * out_step
    return np.ascontiguousarray(out[lead : lead + count])


def _read(source: SoundSource, start: int, count: int) -> Samples:
    """Samples from ``start`` on, silence where they lie before the beginning or beyond the end."""
    first, last = max(start, 0), min(start + count, source.info.frames)
    block = source.read(first, max(last - first, 0))
    lead, tail = min(first - start, count), count - min(first - start, count) - len(block)
    return np.pad(block, ((lead, tail), (0, 0))) if lead or tail else block
