"""A levelled voice against a bed, and a bed by itself, in one go: used where nobody looks, by the command line."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np

from nivelus.core.chain.beds import Sounding, propose_duck, propose_slow
from nivelus.core.chain.clips import table_of_cells
from nivelus.core.chain.marks import NO_MARKS
from nivelus.core.chain.state import TrackState
from nivelus.core.deliver.mix import Part, render_mix
from nivelus.core.deliver.render import render
from nivelus.core.drafts.duck import DuckDraft, DuckRule
from nivelus.core.drafts.slow import SlowDraft, SlowRule
from nivelus.core.gain.compile import compile_curves
from nivelus.core.gain.compiled import frame_gain
from nivelus.core.marks.cells import cut_into_cells
from nivelus.core.marks.phrases import PhraseMarks
from nivelus.core.measure.grid import LevelGrid, all_borders, measure_file
from nivelus.core.measure.loudness import figures
from nivelus.core.sound.reader import SoundInfo
from nivelus.core.sound.timeline import open_sound


@dataclass(frozen=True, slots=True)
class MadeRoom:
    """A duck that was drafted for a bed, and how high the mix goes (linear); None where none was written."""

    draft: DuckDraft
    highest: float | None


def make_room(
    voice: Path,
    state: TrackState,
    bed: Path,
    rule: DuckRule,
    mix: Path | None = None,
    format: str = "wav",
    bits: int = 24,
    replace_file: bool = True,
) -> MadeRoom:
    """Let a bed make room for a levelled voice; write the ``mix`` of both at the rate of the voice, if a name is given.

    Parameters
    ----------
    voice : the file of the voice
    state : the voice as it was levelled
    bed : the file of the bed
    rule : by how much the bed goes down, and how
    mix : where the mix of both is written; none if not given
    format, bits : those of the mix
    replace_file : whether ``mix`` may take the place of a file that is there

    Raises
    ------
    SoundError
        If the bed cannot be used.
    LevelError
        If there is nothing to make room for, or nothing to turn down.
    """
    info, own, _ = measure_file(bed)
    grid = state.grid
    assert grid is not None
    stereo = max(info.channels, grid.channels) > 1
    draft = propose_duck(Sounding(_whole(info, own), stereo), [Sounding(state, stereo)], rule)
    if mix is None:
        return MadeRoom(draft, None)
    duck = compile_curves([draft.curve], state.rate)
    parts = [
        Part(partial(open_sound, voice), state.gain),
        Part(partial(open_sound, bed, state.rate), duck),
    ]
    return MadeRoom(draft, render_mix(parts, mix, state.rate, format=format, bits=bits, replace_file=replace_file))


def level_slowly(
    source: Path, target: Path, rule: SlowRule, format: str = "wav", bits: int = 24, replace_file: bool = True
) -> SlowDraft:
    """Even a file without phrases out by a slow ride, and render it.

    Parameters
    ----------
    source : the file
    target : where the result is written
    rule : how the ride goes
    format, bits : those of the result
    replace_file : whether ``target`` may take the place of a file that is there

    Raises
    ------
    SoundError
        If the file cannot be used; nothing is written then.
    LevelError
        If it is too quiet all the way through.
    """
    info, grid, _ = measure_file(source)
    draft = propose_slow(_whole(info, grid), rule)
    gain = compile_curves([draft.curve], info.sample_rate)
    after = figures(grid, frame_gain(gain, all_borders(grid.samples, grid.sample_rate)))
    render(source, target, gain, format=format, bits=bits, figures=after, replace_file=replace_file)
    return draft


def _whole(info: SoundInfo, grid: LevelGrid) -> TrackState:
    """A file without phrases, as it is."""
    # no gain of it minds its room
    cells = cut_into_cells(grid, PhraseMarks((), (), -np.inf))
    return TrackState(grid, info.sample_rate, info.frames, table_of_cells(cells, np.zeros(len(cells))), NO_MARKS)
