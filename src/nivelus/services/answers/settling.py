"""Settling at work: when dips or a drafted ride move phrases that were evened out, their clip gain follows in the same step.

A lift or a line drawn by hand is meant to be heard, so it settles nothing; neither does the trim.
"""

from __future__ import annotations

from collections.abc import Callable

from nivelus.core.chain.proposals import propose_settling
from nivelus.core.chain.state import TrackState
from nivelus.services.track.state import state_of
from nivelus.services.track.targets import limits_of
from nivelus.services.track.timeline import Timeline
from nivelus.services.track.workbench import Workbench
from nivelus.store.editing import Edit
from nivelus.store.reading import clip_rows
from nivelus.store.tables import Clip, Track


def settling(bench: Workbench, edit: Edit, track: Track, timeline: Timeline, work: Callable[[], None]) -> None:
    """Run ``work``, an edit of dips, and let the phrases that it moves settle."""
    before = state_of(bench, edit.db, edit.session, track, timeline)
    work()
    if edit.session.settle and before.grid is not None and before.clips.free.any():
        settle_phrases(bench, edit, track.id, before, state_of(bench, edit.db, edit.session, track, timeline))


def settle_phrases(bench: Workbench, edit: Edit, track_id: str, before: TrackState, after: TrackState) -> None:
    """Let drafted phrases follow where all gain beyond that of the clips changes from one state to another."""
    places, settled = propose_settling(before, after, limits_of(bench, edit.db, edit.session, before))
    now = before.clips.gain[places]
    moved = settled.gain != now
    wanted = {
        before.clips.ids[place]: {"gain": gain}
        for place, gain in zip(places[moved].tolist(), settled.gain[moved].tolist(), strict=True)
    }
    edit.change_many(Clip, [clip for clip in clip_rows(edit.db, track_id) if clip.id in wanted], wanted)
    edit.told = settled.words
    if settled.words:
        edit.label += f" · {settled.words}"
