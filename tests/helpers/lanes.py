"""What lanes do, for tests of what is drawn."""

from __future__ import annotations

from typing import Any

import numpy as np

from nivelus.core.chain.state import LAYERS
from nivelus.services.lanes import drawing
from nivelus.services.track import sound
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from tests.helpers.edits import points_of, state_of


def revision(bench: Workbench, track: str) -> int:
    return state_of(bench, track).revision


def change_range(bench: Workbench, track: str, lane: str, places: list[int], **how: Any) -> Changed:
    """Change the points at some places of a lane."""
    return drawing.change_points(bench, track, revision(bench, track), lane, points_of(bench, track, lane, *places), **how)


def gain_of(bench: Workbench, track: str, *layers: str, at: np.ndarray | None = None) -> np.ndarray:
    """The compiled gain of some layers at some seconds."""
    points = sound.gain_points(bench, track, layers or LAYERS)
    seconds = np.linspace(0, 16, 4001) if at is None else at
    return np.interp(seconds * 48_000, points[:, 0], points[:, 1])
