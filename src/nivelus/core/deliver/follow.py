"""Another microphone of a levelled voice in one go: it gets the same gain. Used where nobody looks, by the command line."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

import numpy as np

from nivelus.core.chain.clips import table_of_cells
from nivelus.core.chain.following import Following
from nivelus.core.chain.marks import NO_MARKS
from nivelus.core.chain.state import TrackState
from nivelus.core.deliver.render import render
from nivelus.core.measure.grid import measure_file
from nivelus.core.measure.loudness import Figures, figures


class Followed(NamedTuple):
    """The figures of another microphone, before it had the gain of the voice and after."""

    before: Figures
    after: Figures


def render_following(
    source: Path, target: Path, leader: TrackState, format: str = "wav", bits: int = 24, replace_file: bool = True
) -> Followed:
    """Render a file that began with a levelled voice, with the gain of that, and measure it.

    Parameters
    ----------
    source : the file of the other microphone, of any rate and length
    target : where the result is written
    leader : the voice as it was levelled
    format, bits : those of the result
    replace_file : whether ``target`` may take the place of a file that is there

    Raises
    ------
    SoundError
        If the file cannot be used; nothing is written then.
    """
    info, grid, _ = measure_file(source)
    state = Following(grid, info.sample_rate, info.frames, table_of_cells([], np.zeros(0)), NO_MARKS, leader=leader)
    after = figures(grid, state.gain_per_frame)
    render(source, target, state.gain, format=format, bits=bits, figures=after, replace_file=replace_file)
    return Followed(figures(grid), after)
