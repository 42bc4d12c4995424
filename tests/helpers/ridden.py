"""Voices that are ridden, for tests of the ride."""

from __future__ import annotations

import numpy as np

from nivelus.core.drafts.ride import RideDraft, draft_ride
from nivelus.core.drafts.wants import RideRule
from nivelus.core.marks.cells import Cell, cut_into_cells
from nivelus.core.marks.phrases import find_phrases
from nivelus.core.measure.grid import LevelGrid
from tests.conftest import RATE, hum, room

Voice = tuple[LevelGrid, list[Cell]]


def voice_of(grid: LevelGrid) -> Voice:
    return grid, [cell for cell in cut_into_cells(grid, find_phrases(grid)) if cell.levels is not None]


def spans_of(voice: Voice) -> list[tuple[float, float]]:
    grid, cells = voice
    return [((c.phrase_start or 0) / grid.sample_rate, (c.phrase_end or 0) / grid.sample_rate) for c in cells]


def ridden(voice: Voice, rule: RideRule | None = None, **more: object) -> RideDraft:
    grid, cells = voice
    rooms = np.array([cell.room_tone for cell in cells])
    return draft_ride(grid, np.ones((len(grid.data), 2)), spans_of(voice), rooms, rule or RideRule(), **more)  # type: ignore[arg-type]


FULL = RideRule(strength=1.0, natural_fall=0.0)


def falling(by: float = -8.0) -> np.ndarray:
    """Two phrases of three seconds of which the last third is turned down."""
    out = room(-72.0, 9.0)
    t = np.arange(3 * RATE) / RATE
    down = 10 ** (np.where(t > 2.0, by, 0.0) / 20)
    for k, start in enumerate((0.8, 4.8)):
        out[round(start * RATE) : round(start * RATE) + len(t)] += hum(-24.0, 3.0, seed=k) * down
    return out
