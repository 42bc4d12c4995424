"""A level grid and a waveform put together of several recordings, each lying somewhere on one axis of time.

What is composed is what measuring the composed sound would give, without looking at a sample: powers are laid over each other
by the share of each frame that they fill, so a recording may lie anywhere between two borders of frames; of peaks the highest
holds. Between recordings there is silence. O(frames).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from nivelus.core.measure.grid import COLUMNS, FRAMES_PER_SECOND, LevelGrid, frame_count
from nivelus.core.measure.kernel import BINS_PER_FRAME, lay_frames

_IS_PEAK = np.array([name in ("peak", "true_peak") for name in COLUMNS])
_PEAKS, _POWERS = np.flatnonzero(_IS_PEAK), np.flatnonzero(~_IS_PEAK)
_K, _PITCH = COLUMNS.index("k"), COLUMNS.index("pitch")
_LEAST = 1e-6
"""Share of a frame below which it is not covered at all: less than a sample at any rate."""


class Part(NamedTuple):
    """A span of a track, ``start`` ... ``end`` samples, in which one recording is heard.

    ``shift`` says where: a position of the track is that of the recording, in samples of the track's rate, plus the shift.
    """

    start: int
    end: int
    shift: int


def compose(parts: Sequence[Part], grids: Sequence[LevelGrid], rate: int, samples: int, channels: int) -> LevelGrid:
    """The level grid of a track from those of the recordings that its parts are heard of.

    Parameters
    ----------
    parts : n spans that do not overlap
    grids : n grids, of any rate. One of a mono recording in a stereo track is that of its sound at equal power: half of it
        in each channel, so that its loudness stays
    rate, samples, channels : those of the track
    """
    data = np.zeros((frame_count(samples, rate), len(COLUMNS)), np.float32)
    length = samples / rate * FRAMES_PER_SECOND
    edges: dict[int, list[_Edge]] = {}
    # plain arrays: slices of files that are mapped are dear
    sources = {id(grid): np.asarray(grid.data).view(np.ndarray) for grid in grids}
    weights = {id(grid): _weights(grid.channels, channels) for grid in grids}
    for part, grid in zip(parts, grids, strict=True):
        found = _lay(data, length, part, sources[id(grid)], rate, weights[id(grid)])
        edges.setdefault(id(grid), []).extend(found)
    for name, found in edges.items():
        _lay_edges(data, sources[name], found, weights[name])
    return LevelGrid(data, rate, samples, channels)


def compose_wave(
    parts: Sequence[Part], waves: Sequence[npt.NDArray[np.float16]], rate: int, samples: int
) -> npt.NDArray[np.float16]:
    """The finest level of a track's waveform from those of its parts, see ``core.measure.waveform``; to the nearest bin.

    Parameters
    ----------
    parts : from where to where each recording is heard, and by how much it lies later, samples of the track
    waves : the finest level of each
    rate : Hz of the track
    samples : how long the track is
    """
    per_second = FRAMES_PER_SECOND * BINS_PER_FRAME
    out = np.zeros((frame_count(samples, rate) * BINS_PER_FRAME, 2), np.float16)
    for part, wave in zip(parts, waves, strict=True):
        start, end, shift = (round(value * per_second / rate) for value in part)
        start, end = max(start, shift, 0), min(end, shift + len(wave), len(out))
        if start < end:
            out[start:end] = wave[start - shift : end - shift]
    return out


def _weights(own: int, channels: int) -> npt.NDArray[np.float32]:
    """What the columns of a recording are multiplied by in a track that may have more channels."""
    share = min(own / channels, 1.0)
    weights: npt.NDArray[np.float32] = np.full(len(COLUMNS), share, np.float32)
    weights[[_K, _PITCH]] = 1.0
    weights[_PEAKS] = math.sqrt(share)
    return weights


class _Edge(NamedTuple):
    """A frame of a track, and the frame of a recording that fills a ``share`` of it."""

    frame: int
    place: int
    share: float


def _lay(
    out: npt.NDArray[np.float32],
    length: float,
    part: Part,
    source: npt.NDArray[np.float32],
    rate: int,
    weights: npt.NDArray[np.float32],
) -> list[_Edge]:
    """Lay the frames of a recording over those of a track that is ``length`` frames long, where its part covers them whole.

    The answer is the frames that it covers in part.
    """
    start, end, shift = (value / rate * FRAMES_PER_SECOND for value in part)
    start, end = max(start, shift, 0.0), min(end, shift + len(source), length)
    if end - start < _LEAST:
        return []
    whole = math.floor(shift)
    late = shift - whole
    if late < _LEAST or late > 1 - _LEAST:
        whole, late = round(shift), 0.0
    # frames that are covered from border to border
    first, last = math.ceil(start - _LEAST), math.floor(end + _LEAST)
    if end > length - _LEAST:
        # the last frame of a track may be shorter than others, and is covered all the same
        last = len(out)
    edges = []
    for frame in {first - 1, last} if first <= last else {math.floor(start)}:
        if 0 <= frame < len(out):
            edges += _edges(frame, length, (start, end), len(source), whole, late)
    if first < last:
        lay_frames(out, source, first, last, first - whole, late, weights, _IS_PEAK)
    return edges


def _edges(frame: int, length: float, span: tuple[float, float], count: int, whole: int, late: float) -> list[_Edge]:
    """What one frame of a track is filled with by the frames of a recording that reach into it."""
    a, b = max(span[0], frame), min(span[1], frame + 1)
    border = frame + late
    own = min(1.0, length - frame)
    shares = ((frame - whole - 1, min(b, border) - a), (frame - whole, b - max(a, border)))
    return [_Edge(frame, place, share / own) for place, share in shares if share >= _LEAST and 0 <= place < count]


def _lay_edges(
    out: npt.NDArray[np.float32],
    source: npt.NDArray[np.float32],
    edges: Sequence[_Edge],
    weights: npt.NDArray[np.float32],
) -> None:
    """Add to frames of a track what one recording fills of them."""
    if not edges:
        return
    frames, places, shares = (np.array(column) for column in zip(*edges, strict=True))
    rows = source[places] * weights
    filled = rows * shares[:, None].astype(np.float32)
    for column in _POWERS:
        np.add.at(out[:, column], frames, filled[:, column])
    for column in _PEAKS:
        np.maximum.at(out[:, column], frames, rows[:, column])
