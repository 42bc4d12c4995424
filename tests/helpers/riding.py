"""Passes as the page takes them down: in pieces, while it plays."""

from __future__ import annotations

import itertools

import numpy as np

from nivelus.services.lanes import passes, taking
from nivelus.services.track.workbench import Workbench

QUANTUM = 128 / 48_000
AS_IT_COMES = passes.Settings(glide=0.3, lead=0.0, error=0.25, snap=False)
_numbers = itertools.count()


def moves(*points: tuple[float, float]) -> np.ndarray:
    """What the audio thread reports of a hand that goes straight from point to point, seconds and dB: (n, 2)."""
    at, db = np.array(points).T
    moments = np.arange(at[0], at[-1], QUANTUM)
    return np.column_stack([moments, np.interp(moments, at, db)])


def ride(
    bench: Workbench,
    track: str,
    *runs: np.ndarray,
    lane: str = "ride",
    mode: str = "touch",
    span: tuple[float, float] | None = None,
    pieces: int = 3,
    ends: bool = True,
) -> str:
    """Take a pass down in some pieces; its id."""
    id = f"pass-{next(_numbers):06d}"
    taking.begin(bench, track, id, lane, mode, span, AS_IT_COMES)
    gap = np.full((1, 2), np.nan)
    whole = np.vstack([part for run in runs for part in (run, gap)])
    first = 0
    for piece in np.array_split(whole, pieces):
        first = taking.take_down(bench, id, first, piece.astype("<f8").tobytes())
    if ends:
        passes.end(bench, id)
    return id
