"""The clips of a track as columns: where they lie, what their phrases measure before gain, and how far they are moved.

Conventions
-----------
Clips follow each other in order of time. Positions are samples, levels LUFS, dBFS or dBTP, gains dB; all float64, and NaN
where there is none.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from nivelus.core.gain.clips import ClipSpans, clip_spans
from nivelus.core.gain.drawn import Curve
from nivelus.core.marks.cells import Cell
from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import FRAME, LevelGrid

BoolArray = npt.NDArray[np.bool_]
FrameSpans = npt.NDArray[np.int64]
"""First frame and the one after the last, (n, 2)."""


@dataclass(frozen=True, eq=False)
class ClipTable:
    """Columns (n,) of clips.

    ``loudness``, ``rms`` and ``peak`` are levels of the phrases, NaN without one; ``true_peak`` and ``room_tone`` those of
    whole clips. ``curves`` are the clip curves, in seconds, empty where nothing was drawn.
    """

    ids: Sequence[str]
    spans: ClipSpans
    gain: FloatArray
    loudness: FloatArray
    rms: FloatArray
    peak: FloatArray
    true_peak: FloatArray
    room_tone: FloatArray
    locked: BoolArray
    left_out: BoolArray
    by_hand: BoolArray
    drafted: BoolArray
    reference: BoolArray
    curves: tuple[Curve, ...]

    def __len__(self) -> int:
        return len(self.gain)

    @cached_property
    def voiced(self) -> npt.NDArray[np.int64]:
        """The places of clips that have a phrase."""
        return np.flatnonzero(~np.isnan(self.spans.phrase_start))

    @cached_property
    def judged(self) -> npt.NDArray[np.int64]:
        """The places of clips that count: they have a phrase and are not left out."""
        return np.flatnonzero(~np.isnan(self.loudness) & ~self.left_out)

    @cached_property
    def free(self) -> BoolArray:
        """Which clips have a gain that was drafted and may follow what moves their phrase, (n,)."""
        untouched = ~(self.by_hand | self.locked | self.left_out)
        return np.asarray(self.drafted & untouched & ~np.isnan(self.spans.phrase_start))

    @cached_property
    def phrases(self) -> FloatArray:
        """Start and end of every phrase, samples, (phrases, 2)."""
        return self.phrases_of(self.voiced)

    def phrases_of(self, places: npt.NDArray[np.int64]) -> FloatArray:
        """Start and end of the phrases of some clips, samples, (n, 2); NaN without one."""
        return np.stack([self.spans.phrase_start, self.spans.phrase_end], axis=1)[places]

    @cached_property
    def has_curves(self) -> bool:
        """Whether anything is drawn on a clip."""
        return any(len(curve) for curve in self.curves)

    def at(self, samples: FloatArray) -> npt.NDArray[np.int64]:
        """The places of the clips that lie at some positions."""
        return np.clip(np.searchsorted(self.spans.start, samples, "right") - 1, 0, len(self) - 1)

    def phrase_frames(self, grid: LevelGrid, places: npt.NDArray[np.int64]) -> FrameSpans:
        """The frames of the grid that the phrases of some clips cover; each of them has one."""
        return frame_spans(grid, self.spans.phrase_start[places], self.spans.phrase_end[places])

    def phrase_slices(self, grid: LevelGrid, places: npt.NDArray[np.int64] | None = None) -> list[slice]:
        """The frames of the grid that each phrase covers, or those of some clips."""
        return as_slices(self.phrase_frames(grid, self.voiced if places is None else places))

    def clip_frames(self, grid: LevelGrid, places: npt.NDArray[np.int64]) -> FrameSpans:
        """The frames of the grid that some clips cover."""
        return frame_spans(grid, self.spans.start[places], self.spans.end[places])


def as_slices(frames: FrameSpans) -> list[slice]:
    """Spans of frames as slices."""
    return [slice(*span) for span in frames.tolist()]


def frame_spans(grid: LevelGrid, start: FloatArray, end: FloatArray) -> FrameSpans:
    """Spans of samples (n,) as spans of frames, each as ``LevelGrid.span`` has it."""
    seconds = np.stack([start, end]) / grid.sample_rate
    # as round() does, to even numbers
    first, last = np.rint(seconds / FRAME).astype(np.int64)
    first = np.minimum(np.maximum(first, 0), len(grid.data) - 1)
    return np.stack([first, np.minimum(np.maximum(last, first + 1), len(grid.data))], axis=1)


def table_of_cells(cells: Sequence[Cell], gain: FloatArray) -> ClipTable:
    """Clips that were found in a recording, with a ``gain`` (n,) each, untouched by any hand."""
    levels = np.array(
        [(c.levels.loudness, c.levels.rms, c.levels.true_peak) if c.levels else (np.nan,) * 3 for c in cells], np.float64
    ).reshape(-1, 3)
    off = np.zeros(len(cells), bool)
    return ClipTable(
        [str(place) for place in range(len(cells))],
        clip_spans([(c.start, c.end, c.phrase_start, c.phrase_end) for c in cells]),
        gain,
        loudness=levels[:, 0],
        rms=levels[:, 1],
        peak=levels[:, 2],
        true_peak=np.array([c.true_peak for c in cells], np.float64),
        room_tone=np.array([c.room_tone for c in cells], np.float64),
        locked=off,
        left_out=off,
        by_hand=off,
        drafted=~off,
        reference=off,
        curves=(),
    )
