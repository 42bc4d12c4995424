"""Finding the phrases of a track again, with another longest phrase. What was done to the phrases stays with them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from nivelus.core.chain.placing import Run
from nivelus.core.marks.cells import Cell, cut_into_cells
from nivelus.core.marks.details import find_marks
from nivelus.core.measure.grid import LevelGrid
from nivelus.services.answers.edits import run_edit
from nivelus.services.clips.clips import measure_clip, phrase_within
from nivelus.services.clips.detail_rows import put_found
from nivelus.services.track.timeline import Timeline, measurable
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.levels import clips_of
from nivelus.services.views.session import Changed
from nivelus.store.editing import Edit
from nivelus.store.tables import Clip, Track

KEPT = ("gain", "curve", "locked", "left_out", "by_hand", "drafted", "reference")
"""What a phrase takes over from the one that it was before."""


def find_again(bench: Workbench, track_id: str, revision: int) -> Changed:
    """Find the phrases of a track anew, none longer than the session's longest, and the details in and between them.

    A phrase that is found as it was stays as it is. Another one takes gain, curve and flags from the one that it shares most
    with, and the words of all that lie in it.
    """

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        before, after = find_in(bench, edit, track, timeline)
        edit.label = f"Find the phrases again: {after} instead of {before}"

    return run_edit(bench, track_id, "Find the phrases again", revision, work)


def find_in(bench: Workbench, edit: Edit, track: Track, timeline: Timeline) -> tuple[int, int]:
    """Find phrases and details anew within an edit; how many phrases there were, and are now."""
    measurable(timeline)
    grids = {id: bench.vault.grid(timeline.recorded(id)) for id in dict.fromkeys(run.recording for run in timeline.runs)}
    found = {id: find_marks(grid, edit.session.longest) for id, grid in grids.items()}
    cells = {id: cut_into_cells(grid, found[id].phrases) for id, grid in grids.items()}
    old = clips_of(edit.db, track)
    new = [
        clip for run in timeline.runs for clip in _clips_in(run, cells[run.recording], track, timeline, grids[run.recording])
    ]
    stays = {_place(clip) for clip in old} & {_place(clip) for clip in new}
    for clip in old:
        if _place(clip) not in stays:
            edit.db.delete(clip)
    for clip in new:
        if _place(clip) not in stays:
            _take_over(clip, old)
            edit.db.add(clip)
    for id, marks in found.items():
        put_found(edit, track, timeline, id, marks.details)
    before, after = (sum(clip.phrase_start is not None for clip in clips) for clips in (old, new))
    return before, after


def _clips_in(run: Run, cells: Sequence[Cell], track: Track, timeline: Timeline, grid: LevelGrid) -> Iterator[Clip]:
    """Clips for the cells of a recording, as far as a run lets them be heard."""
    scale = timeline.sample_rate / grid.sample_rate
    for cell in cells:
        placed = {"take": track.take, "recording_id": run.recording, "shift": run.shift}
        clip = Clip(**clip_of(track.id, cell) | placed)
        clip.start, clip.end = (round(at * scale) + run.shift for at in (cell.start, cell.end))
        if cell.phrase_start is not None and cell.phrase_end is not None:
            clip.phrase_start, clip.phrase_end = (round(at * scale) + run.shift for at in (cell.phrase_start, cell.phrase_end))
        if clip.start >= run.end or clip.end <= run.start:
            continue
        if clip.start < run.start or clip.end > run.end:
            clip.start, clip.end = max(clip.start, run.start), min(clip.end, run.end)
            room_tone = timeline.recorded(run.recording).room_tone
            measure_clip(clip, grid, room_tone, timeline.sample_rate, *phrase_within(clip, timeline.sample_rate))
        yield clip


def _place(clip: Clip) -> tuple[int | str | None, ...]:
    return clip.start, clip.end, clip.phrase_start, clip.phrase_end, clip.recording_id, clip.shift


def _take_over(clip: Clip, old: Sequence[Clip]) -> None:
    """Give a new clip what was done to those that lay where it lies."""
    beside = [other for other in old if other.start < clip.end and other.end > clip.start]
    if not beside:
        return
    most = max(beside, key=lambda other: _shared(clip, other))
    for name in KEPT:
        setattr(clip, name, getattr(most, name))
    # words go where most of their phrase went
    clip.label = " ".join(other.label for other in beside if other.label and 2 * _shared(clip, other) >= _length(other))


def _span(clip: Clip) -> tuple[int, int]:
    if clip.phrase_start is None or clip.phrase_end is None:
        return clip.start, clip.end
    return clip.phrase_start, clip.phrase_end


def _length(clip: Clip) -> int:
    return _span(clip)[1] - _span(clip)[0]


def _shared(a: Clip, b: Clip) -> int:
    """How many samples the phrases of two clips share."""
    return min(_span(a)[1], _span(b)[1]) - max(_span(a)[0], _span(b)[0])


def clip_of(track_id: str, cell: Cell) -> dict[str, Any]:
    """A clip for a cell, as the values of its row."""
    return dict(
        track_id=track_id,
        start=cell.start,
        end=cell.end,
        phrase_start=cell.phrase_start,
        phrase_end=cell.phrase_end,
        confidence=cell.confidence,
        loudness=cell.levels.loudness if cell.levels else None,
        rms=cell.levels.rms if cell.levels else None,
        peak=cell.levels.true_peak if cell.levels else None,
        true_peak=cell.true_peak,
        room_tone=cell.room_tone,
    )
