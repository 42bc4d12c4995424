"""The level grid: everything about level that later questions need, measured once per recording.

Conventions
-----------
A frame is 10 ms. Its borders are rounded to whole samples from the exact time and never accumulated, so frames tile
the recording at any rate; the last one may be short. Powers are mean squares with full scale 1.0: ``k`` is summed over
the channels (ITU-R BS.1770-5, front channels weigh 1), ``plain`` and the bands are their mean. Peaks are linear. ``pitch``
is how clearly the frame repeats itself, 0 ... 1, in the channel where it does so most; see ``core.measure.pitch``.

The recording is measured in stretches on several threads. Each stretch starts half a second early so that its filters
have settled (the high-pass of the K-weighting forgets to below 1e-12 in that time), which makes the result independent
of where stretches begin. Memory is that of a few stretches and of the grid so far, whatever the file says of its length. O(n).
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from queue import SimpleQueue
from typing import Any, Protocol

import numpy as np
import numpy.typing as npt

from nivelus.core.errors import BrokenSamples, TooLoud
from nivelus.core.measure.filters import TRUE_PEAK_TAPS, k_weighting, voice_bands
from nivelus.core.measure.kernel import BINS_PER_FRAME, faults, measure_channel, measure_wave, true_peaks
from nivelus.core.measure.pitch import REACH_SECONDS, measure_pitch
from nivelus.core.sound.reader import Samples, SoundInfo, SoundReader
from nivelus.core.sound.refusals import silent

FRAME = 0.01
"""Length of a frame in seconds."""
FRAMES_PER_SECOND = 100
COLUMNS = ("k", "plain", "voiced", "mid", "high", "peak", "true_peak", "low", "body", "pitch")

STRETCH_SECONDS = 30
_SETTLE_SECONDS = 0.5

Progress = Callable[[float], None]
Wave = npt.NDArray[np.float16]
Stretch = tuple[npt.NDArray[np.float32], Wave]
"""Rows of the grid, and their waveform."""


@dataclass(frozen=True, slots=True)
class LevelGrid:
    """What was measured of a recording: one row of ``data`` (frames, 10) float32 per 10 ms, columns as in COLUMNS."""

    data: npt.NDArray[np.float32]
    sample_rate: int
    samples: int
    channels: int

    @property
    def duration(self) -> float:
        """Length in seconds."""
        return self.samples / self.sample_rate

    def column(self, name: str) -> npt.NDArray[np.float32]:
        """One column of the grid, (frames,)."""
        return self.data[:, COLUMNS.index(name)]

    def span(self, start: float, end: float) -> slice:
        """The frames whose middle lies within ``start`` ... ``end`` seconds; at least one."""
        first = min(max(round(start / FRAME), 0), len(self.data) - 1)
        return slice(first, min(max(round(end / FRAME), first + 1), len(self.data)))


def frame_count(samples: int, rate: int) -> int:
    """The number of frames that tile ``samples``."""
    count = -(-samples * FRAMES_PER_SECOND // rate)
    return count - 1 if count > 1 and _border(count - 1, rate) >= samples else count


def frame_borders(samples: int, rate: int, first: int = 0, last: int | None = None) -> npt.NDArray[np.int64]:
    """First sample of every frame and the end of the last, (frames + 1,); or of frames ``first`` ... ``last`` - 1 only.

    Parameters
    ----------
    samples : how long the sound is
    rate : Hz
    first, last : frames that are told; all if not given
    """
    count = frame_count(samples, rate)
    last = count if last is None else min(last, count)
    borders: npt.NDArray[np.int64] = _border(np.arange(first, last + 1, dtype=np.int64), rate)
    if last == count:
        borders[-1] = samples
    return borders


@lru_cache(maxsize=4)
def all_borders(samples: int, rate: int) -> npt.NDArray[np.int64]:
    """``frame_borders`` of a whole recording, kept for the next time; not to be written to."""
    borders = frame_borders(samples, rate)
    borders.setflags(write=False)
    return borders


def _border(frame: Any, rate: int) -> Any:
    return (frame * rate + FRAMES_PER_SECOND // 2) // FRAMES_PER_SECOND


def _frame(border: int, rate: int) -> int:
    """The frame that begins at a border."""
    return (border * FRAMES_PER_SECOND + rate // 2) // rate


def measure_file(
    path: Path, progress: Progress | None = None, name: str | None = None, threads: int = 2
) -> tuple[SoundInfo, LevelGrid, npt.NDArray[np.float16]]:
    """Measure a sound file in one streaming pass.

    Parameters
    ----------
    path : the file
    progress : called now and then with the share done, 0 ... 1; may raise to stop the work
    name : what to call the file in messages
    threads : stretches measured at the same time

    Returns
    -------
    info : what the file says of itself
    grid : the level grid
    wave : (frames * 16, 2) float16, lowest and highest sample of each sixteenth of a frame, over all channels

    Raises
    ------
    SoundError
        If the file cannot be read, is silent, or holds values that are no numbers or far too large.
    """
    with SoundReader(path, name) as reader:
        info = reader.info
        count = frame_count(info.frames, info.sample_rate)
        step = STRETCH_SECONDS * FRAMES_PER_SECOND
        starts = range(0, count, step)

        def work(source: SoundReader, first: int) -> Stretch:
            return measure_stretch(source, frame_borders(info.frames, info.sample_rate, first, first + step))

        # the first stretch also loads the compiled kernels, which two threads would do in each other's way
        stretches = [work(reader, 0)]
        if threads > 1 and len(starts) > 2 and info.seeks_exactly:
            stretches += _in_threads(path, name, threads, starts[1:], work, progress)
        else:
            for index, first in enumerate(starts[1:], 1):
                stretches.append(work(reader, first))
                if progress:
                    progress((index + 1) / len(starts))
    grid, wave = together(stretches, info.sample_rate, info.frames, info.channels, name or path.name)
    return info, grid, wave


def together(stretches: Sequence[Stretch], rate: int, samples: int, channels: int, name: str) -> tuple[LevelGrid, Wave]:
    """The level grid and the waveform of a recording from those of its stretches.

    Parameters
    ----------
    stretches : of all of it, in order
    rate, samples, channels : of the recording, Hz
    name : what to call it

    Raises
    ------
    SilentSound
        If there is nothing in it.
    """
    data, wave = (np.concatenate(parts) for parts in zip(*stretches, strict=True))
    grid = LevelGrid(data, rate, samples, channels)
    if not grid.column("peak").any():
        raise silent(name)
    return grid, wave


def _in_threads(
    path: Path,
    name: str | None,
    threads: int,
    starts: range,
    work: Callable[[SoundReader, int], Stretch],
    progress: Progress | None,
) -> list[Stretch]:
    """Measure stretches on several threads, a few of them ahead of the one that is waited for."""
    free: SimpleQueue[SoundReader] = SimpleQueue()
    for _ in range(threads):
        free.put(SoundReader(path, name))

    def run(first: int) -> Stretch:
        reader = free.get()
        try:
            return work(reader, first)
        finally:
            free.put(reader)

    done: list[Stretch] = []
    ahead: deque[Future[Stretch]] = deque()
    with ThreadPoolExecutor(threads) as pool:
        try:
            for first in starts:
                ahead.append(pool.submit(run, first))
                if len(ahead) > 2 * threads:
                    done.append(ahead.popleft().result())
                    if progress:
                        progress(len(done) / len(starts))
            while ahead:
                done.append(ahead.popleft().result())
                if progress:
                    progress(len(done) / len(starts))
        finally:
            pool.shutdown(cancel_futures=True)
            while not free.empty():
                free.get().close()
    return done


def measure_samples(samples: Samples, rate: int) -> LevelGrid:
    """Measure samples in memory, (n, channels) or (n,); see ``measure_file``."""
    samples = samples[:, None] if samples.ndim == 1 else samples
    borders = frame_borders(len(samples), rate)
    data = np.zeros((len(borders) - 1, len(COLUMNS)), np.float32)
    wave = np.zeros(((len(borders) - 1) * BINS_PER_FRAME, 2), np.float32)
    settle = lead_in(rate)
    block = np.pad(samples, ((settle, look_ahead(rate)), (0, 0)))
    _measure_block(block, -settle, borders + settle, rate, data, wave)
    return LevelGrid(data, rate, len(samples), samples.shape[1])


class Named(Protocol):
    """What is measured: a sound that is read by position and has a name."""

    @property
    def info(self) -> SoundInfo: ...

    @property
    def name(self) -> str: ...

    def read(self, start: int, frames: int) -> Samples: ...


def measure_stretch(reader: Named, borders: npt.NDArray[np.int64]) -> Stretch:
    """The frames between ``borders`` (samples) and their waveform. Raises SoundError where samples cannot be meant."""
    rate = reader.info.sample_rate
    start, stop = int(borders[0]), int(borders[-1])
    settle, beyond_end = lead_in(rate), look_ahead(rate)
    block = reader.read(max(0, start - settle), stop + beyond_end - max(0, start - settle))
    for channel in block.T:
        broken, beyond = faults(channel)
        if broken:
            raise BrokenSamples(
                f"“{reader.name}” holds samples that are not numbers (NaN or infinite). Export it again.",
                file=reader.name,
            )
        if beyond:
            raise TooLoud(
                f"“{reader.name}” holds samples more than 60 dB beyond full scale, which cannot be meant. "
                "Export it again, with full scale at 1.0.",
                file=reader.name,
            )
    data = np.zeros((len(borders) - 1, len(COLUMNS)), np.float32)
    wave = np.zeros((len(data) * BINS_PER_FRAME, 2), np.float32)
    before = settle if start >= settle else start
    lead = settle - before
    tail = settle + stop - start + beyond_end - lead - len(block)
    if lead > 0 or tail > 0:
        block = np.pad(block, ((lead, max(tail, 0)), (0, 0)))
    _measure_block(block, start - settle, borders - start + settle, rate, data, wave)
    return data, wave.astype(np.float16)


def lead_in(rate: int) -> int:
    """Samples after which filters and interpolator have forgotten what was before."""
    return max(TRUE_PEAK_TAPS, int(_SETTLE_SECONDS * rate))


def look_ahead(rate: int) -> int:
    """Samples after the last frame that its measures look at."""
    return max(TRUE_PEAK_TAPS, int(REACH_SECONDS * rate))


def _measure_block(
    block: Samples,
    at: int,
    borders: npt.NDArray[np.int64],
    rate: int,
    data: npt.NDArray[np.float32],
    wave: npt.NDArray[np.float32],
) -> None:
    """Measure the frames between ``borders`` of a block that begins ``at`` a sample of the recording."""
    sections = np.concatenate([k_weighting(rate)[None], voice_bands(rate)])
    frames, channels = len(borders) - 1, block.shape[1]
    sums = np.zeros((frames, 7))
    peaks, tops = np.zeros(frames, np.float32), np.zeros(frames, np.float32)
    part = np.zeros((frames * BINS_PER_FRAME, 2), np.float32)
    for number in range(channels):
        x = np.ascontiguousarray(block[:, number])
        measure_channel(x, borders, sections, sums)
        measure_wave(x, borders, peaks, part)
        true_peaks(x.astype(np.float32, copy=False), borders, peaks, tops)
        data[:, 0] += sums[:, 0]
        data[:, 1:5] += sums[:, 1:5] / channels
        np.maximum(data[:, 5], peaks, out=data[:, 5])
        np.maximum(data[:, 6], tops, out=data[:, 6])
        data[:, 7:9] += sums[:, 5:7] / channels
        np.maximum(data[:, 9], measure_pitch(x, at, _frame(at + int(borders[0]), rate), frames, rate), out=data[:, 9])
        if number == 0:
            wave[:] = part
        else:
            np.minimum(wave[:, 0], part[:, 0], out=wave[:, 0])
            np.maximum(wave[:, 1], part[:, 1], out=wave[:, 1])
