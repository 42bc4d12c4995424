"""Everything that is found in a recording: its phrases, and the breaths, esses, knocks and gaps in and between them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from nivelus.core.kinds import OF_NAME
from nivelus.core.marks.breaths import find_breaths
from nivelus.core.marks.esses import find_esses, height
from nivelus.core.marks.features import Features, features
from nivelus.core.marks.gaps import find_gaps
from nivelus.core.marks.knocks import excess_of, find_knocks
from nivelus.core.marks.mark import Mark, new_mark, phrase_frames
from nivelus.core.marks.pauses import LONGEST_PHRASE
from nivelus.core.marks.phrases import PhraseMarks, find_phrases
from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import LevelGrid

_AROUND = 200
"""Frames around a mark that its measures look at."""


@dataclass(frozen=True, slots=True)
class RecordingMarks:
    """The marks of a recording. ``phrases`` come with their cuts and the room tone; ``details`` are all other kinds.

    ``shows_esses`` is False where the recording holds nothing high enough to say anything about esses.
    """

    phrases: PhraseMarks
    details: tuple[Mark, ...]
    shows_esses: bool

    def of(self, kind: str) -> list[Mark]:
        """The details of one kind, in order of time."""
        return [mark for mark in self.details if mark.kind == kind]


def find_marks(grid: LevelGrid, longest: float = LONGEST_PHRASE) -> RecordingMarks:
    """Find everything in a recording, in phrases of ``longest`` seconds at most where pauses allow; O(n) in frames."""
    f = features(grid)
    found = find_phrases(grid, f, longest)
    details = _find(grid, f, [(p.start, p.end) for p in found.phrases])
    return RecordingMarks(found, details, f.highs)


def find_details(grid: LevelGrid, phrases: list[tuple[float, float]]) -> tuple[Mark, ...]:
    """Find the details in and between ``phrases`` that are known already, (start, end) in seconds, in order of time."""
    return _find(grid, features(grid), phrases)


def measure_mark(
    grid: LevelGrid,
    kind: str,
    start: float,
    end: float,
    phrase: tuple[float, float] | None,
    heights: FloatArray,
    highs: bool = True,
) -> Mark:
    """Measure a mark that a person set or moved, with confidence 1.

    Parameters
    ----------
    kind, start, end : what it is, and where in seconds
    phrase : the phrase that it lies in, in seconds; None if it lies in a pause
    heights : (n,) how far the nearest esses of the recording stand over the voice, dB; to compare an ess with
    highs : whether the recording holds anything high enough for an ess to be measured
    """
    frames = grid.span(start, end)
    near = slice(max(0, frames.start - _AROUND), frames.stop + _AROUND)
    f = features(LevelGrid(grid.data[near], grid.sample_rate, grid.samples, grid.channels), highs)
    a, b = frames.start - near.start, frames.stop - near.start
    inside = grid.span(*phrase) if phrase else frames
    first, last = max(inside.start - near.start, 0), min(inside.stop - near.start, len(f.low))
    excess = stands = None
    if kind == "ess" and f.highs:
        stands = height(f, (a, b), (first, last))
        excess = stands - float(np.median(heights)) if len(heights) else 0.0
    elif kind == "knock":
        excess = excess_of(f, a, b, first, last)
        excess = excess if np.isfinite(excess) else None
    return new_mark(kind, grid, (frames.start, frames.stop), 1.0, excess, stands=stands)


def _find(grid: LevelGrid, f: Features, spans: list[tuple[float, float]]) -> tuple[Mark, ...]:
    phrases = phrase_frames(grid, spans)
    breaths = find_breaths(grid, f, phrases)
    esses = find_esses(grid, f, phrases)
    knocks = find_knocks(grid, f, phrases, esses)
    found = [*breaths, *esses, *knocks]
    gaps = find_gaps(grid, f, phrases, [mark for mark in found if OF_NAME[mark.kind].leaves_gaps])
    return tuple(sorted([*found, *gaps], key=lambda mark: (mark.start, mark.end)))
