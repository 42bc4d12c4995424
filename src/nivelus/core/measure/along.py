"""Measuring sound while it is still coming: what is decoded is measured meanwhile, not after.

The result is that of ``measure_file`` on the same samples, to the bit.
"""

from __future__ import annotations

import os
from collections import deque
from concurrent.futures import Future, ThreadPoolExecutor
from types import TracebackType

import numpy as np

from nivelus.core.measure.grid import (
    FRAMES_PER_SECOND,
    STRETCH_SECONDS,
    LevelGrid,
    Stretch,
    Wave,
    frame_borders,
    frame_count,
    lead_in,
    look_ahead,
    measure_stretch,
    together,
)
from nivelus.core.sound.reader import Samples, SoundInfo
from nivelus.core.sound.refusals import no_samples

_ENDLESS = 1 << 48
_THREADS = max(1, min(2, (os.cpu_count() or 1) - 1))
"""One core is left to whatever the sound comes from: what waits for it would only be in its way."""
_STEP = STRETCH_SECONDS * FRAMES_PER_SECOND


class _Window:
    """Some samples of a sound of which more is to come, read by position."""

    def __init__(self, samples: Samples, at: int, info: SoundInfo, name: str) -> None:
        self._samples, self._at = samples, at
        self.info, self.name = info, name

    def read(self, start: int, frames: int) -> Samples:
        """The samples from ``start`` on, fewer where there are no more."""
        return self._samples[start - self._at : start - self._at + frames]


class MeasuredAlong:
    """Measures a sound that comes in blocks; use as a context manager, which ends its threads.

    Parameters
    ----------
    name : what to call the sound in messages
    """

    def __init__(self, name: str) -> None:
        self._name = name
        self._pool = ThreadPoolExecutor(_THREADS)
        self._held: list[Samples] = []
        self._at = self._end = self._frame = self._rate = 0
        self._open: deque[Future[Stretch]] = deque()
        self._done: list[Stretch] = []

    def take(self, block: Samples, rate: int) -> None:
        """Take in the next samples, (n, channels), at a rate, Hz. Raises SoundError as ``measure_file`` does."""
        self._rate = rate
        self._held.append(block)
        self._end += len(block)
        while True:
            borders = frame_borders(_ENDLESS, rate, self._frame, self._frame + _STEP)
            if self._end < int(borders[-1]) + look_ahead(rate):
                return
            self._measure(_ENDLESS, self._frame + _STEP)

    def result(self) -> tuple[LevelGrid, Wave]:
        """The level grid and the waveform of all that came.

        Raises
        ------
        SoundError
            If it is silent, or holds values that are no numbers or far too large.
        """
        if not self._end:
            raise no_samples(self._name)
        count, channels = frame_count(self._end, self._rate), self._held[-1].shape[1]
        while self._frame < count:
            self._measure(self._end, min(self._frame + _STEP, count))
        while self._open:
            self._done.append(self._open.popleft().result())
        return together(self._done, self._rate, self._end, channels, self._name)

    def _measure(self, samples: int, last: int) -> None:
        """Have the frames up to ``last`` measured, of a sound that is so long; no more than a few wait for that."""
        rate = self._rate
        borders = frame_borders(samples, rate, self._frame, last)
        block = np.concatenate(self._held) if len(self._held) > 1 else self._held[0]
        window = _Window(block, self._at, SoundInfo(rate, block.shape[1], self._end, "WAV", "FLOAT"), self._name)
        if self._frame == 0:
            # the first also loads the compiled kernels, which two threads would do in each other's way
            self._done.append(measure_stretch(window, borders))
        else:
            self._open.append(self._pool.submit(measure_stretch, window, borders))
        self._frame = last
        # what comes before the next frames is looked at with them
        first = max(int(borders[-1]) - lead_in(rate), 0)
        self._held = [block[first - self._at :]]
        self._at = first
        while len(self._open) > 2 * _THREADS or (self._open and self._open[0].done()):
            self._done.append(self._open.popleft().result())

    def __enter__(self) -> MeasuredAlong:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self._pool.shutdown(cancel_futures=True)
