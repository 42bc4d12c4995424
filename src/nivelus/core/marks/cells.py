"""Cells: a recording cut in its pauses, so that each phrase lies in a piece of its own together with its breath.

Cells tile the recording without holes. Nothing is destroyed by cutting: a cell is only a span with a phrase in it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from nivelus.core.marks.phrases import PhraseMarks
from nivelus.core.marks.room import BESIDE, LOWEST, room_of
from nivelus.core.measure.grid import LevelGrid
from nivelus.core.measure.loudness import to_db
from nivelus.core.measure.spans import SpanLevels, span_levels


@dataclass(frozen=True, slots=True)
class Cell:
    """A span of a recording in samples with at most one phrase (start and end in samples, None without one).

    ``true_peak`` (dBTP) and ``room_tone`` (RMS dBFS) are those of the cell, ``levels`` those of its phrase.
    """

    start: int
    end: int
    phrase_start: int | None
    phrase_end: int | None
    confidence: float
    levels: SpanLevels | None
    true_peak: float
    room_tone: float


def cut_into_cells(grid: LevelGrid, marks: PhraseMarks) -> list[Cell]:
    """Cut a recording at the quietest spot of each pause; one cell for a recording without phrases."""
    rate = grid.sample_rate
    borders = [0, *(round(cut * rate) for cut in marks.cuts), grid.samples]
    if not marks.phrases:
        return [measure_cell(grid, 0, grid.samples, None, None, 0.0, marks.room_tone)]
    return [
        measure_cell(
            grid,
            start,
            end,
            round(p.start * rate),
            min(round(p.end * rate), grid.samples),
            p.confidence,
            marks.room_tone,
        )
        for start, end, p in zip(borders, borders[1:], marks.phrases, strict=False)
    ]


def measure_cell(
    grid: LevelGrid,
    start: int,
    end: int,
    phrase_start: int | None,
    phrase_end: int | None,
    confidence: float,
    room_tone: float,
) -> Cell:
    """Measure a cell, given in samples.

    Its room tone is that of the frames that lie outside its phrase by 50 ms; where there are fewer than ten of them, the
    ``room_tone`` of the recording stands in.

    Parameters
    ----------
    grid : that of the recording
    start, end : samples of the cell
    phrase_start, phrase_end : samples of its phrase; None where it has none
    confidence : that of the phrase, 0 ... 1
    room_tone : that of the recording, dBFS
    """
    rate = grid.sample_rate
    frames = grid.span(start / rate, end / rate)
    top = max(float(to_db(grid.column("true_peak")[frames].max())), LOWEST)
    levels = None
    plain = np.asarray(grid.column("plain")[frames], np.float64)
    free = np.ones(len(plain), bool)
    if phrase_start is not None and phrase_end is not None:
        levels = span_levels(grid, phrase_start / rate, phrase_end / rate)
        inside = grid.span(phrase_start / rate, phrase_end / rate)
        free[max(0, inside.start - frames.start - BESIDE) : max(0, inside.stop - frames.start + BESIDE)] = False
    if free.sum() >= 10:
        room_tone = room_of(plain[free])
    return Cell(start, end, phrase_start, phrase_end, confidence, levels, top, room_tone)
