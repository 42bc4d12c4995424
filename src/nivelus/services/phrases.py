"""Finding the phrases of a track again, with another longest phrase. What was done to the phrases stays with them."""

from __future__ import annotations

from collections.abc import Sequence

from nivelus.core.marks.cells import cut_into_cells
from nivelus.core.marks.details import find_marks
from nivelus.services.details import put_found
from nivelus.services.edits import run_edit
from nivelus.services.imports import clip_of
from nivelus.services.levels import clips_of
from nivelus.services.state import grid_of
from nivelus.services.views import Changed
from nivelus.services.workbench import Workbench
from nivelus.store.history import Edit
from nivelus.store.tables import Clip, Recording, Track

KEPT = ("gain", "curve", "locked", "left_out", "by_hand", "drafted", "reference")
"""What a phrase takes over from the one that it was before."""


def find_again(bench: Workbench, track_id: str, revision: int) -> Changed:
    """Find the phrases of a track anew, none longer than the session's longest, and the details in and between them.

    A phrase that is found as it was stays as it is. Another one takes gain, curve and flags from the one that it shares most
    with, and the words of all that lie in it.
    """

    def work(edit: Edit, track: Track, recording: Recording) -> None:
        grid = grid_of(bench, recording)
        found = find_marks(grid, edit.session.longest)
        old = clips_of(edit.db, track.id)
        new = [Clip(**clip_of(track.id, cell)) for cell in cut_into_cells(grid, found.phrases)]
        stays = {_place(clip) for clip in old} & {_place(clip) for clip in new}
        for clip in old:
            if _place(clip) not in stays:
                edit.db.delete(clip)
        for clip in new:
            if _place(clip) not in stays:
                _take_over(clip, old)
                edit.db.add(clip)
        put_found(edit, track, recording, found.details)
        before, after = (sum(clip.phrase_start is not None for clip in clips) for clips in (old, new))
        edit.label = f"Find the phrases again: {after} instead of {before}"

    return run_edit(bench, track_id, "Find the phrases again", revision, work)


def _place(clip: Clip) -> tuple[int, int, int | None, int | None]:
    return clip.start, clip.end, clip.phrase_start, clip.phrase_end


def _take_over(clip: Clip, old: Sequence[Clip]) -> None:
    """Give a new clip what was done to those that lay where it lies."""
    beside = [other for other in old if other.start < clip.end and other.end > clip.start]
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
