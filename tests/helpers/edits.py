"""One edit of every kind, and the state that they change."""

from __future__ import annotations

from collections.abc import Callable

from nivelus.services.clips import clips, details, drafts
from nivelus.services.lanes import rides
from nivelus.services.sessions import sessions, tracks
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.store.tables import Track


def state_of(bench: Workbench, track: str) -> Changed:
    with bench.database.reading() as db:
        row = db.get(Track, track)
        assert row is not None
    return sessions.state(bench, row.session_id)


def content(state: Changed) -> dict[str, object]:
    """All that an edit may change: everything but revision and history."""
    return state.model_dump(exclude={"revision", "label", "undo", "redo"})


def points_of(bench: Workbench, track: str, lane: str, *places: int) -> list[str]:
    """The ids of the points at some places of a lane, of all if none are named."""
    ids = [point.id for point in getattr(rides.view(bench, track), lane)]
    return [ids[place] for place in places] if places else ids


def edits(bench: Workbench, track: str) -> list[Callable[[Changed], Changed]]:
    """One edit of every kind, each made from the state before it."""
    return [
        lambda s: clips.set_gain(bench, track, s.revision, [s.clips[0].id, s.clips[1].id], by=2.5),
        lambda s: clips.set_gain(bench, track, s.revision, [s.clips[-1].id], to=-4.0),
        lambda s: clips.set_flag(bench, track, s.revision, [s.clips[0].id], "left_out", True),
        lambda s: clips.set_flag(bench, track, s.revision, [s.clips[0].id], "reference", True),
        lambda s: clips.set_label(bench, track, s.revision, s.clips[0].id, "Good morning"),
        lambda s: clips.cut(bench, track, s.revision, (s.clips[0].start + s.clips[0].end) / 2),
        lambda s: clips.join(bench, track, s.revision, [s.clips[0].id, s.clips[1].id]),
        lambda s: clips.move_border(bench, track, s.revision, s.clips[0].id, s.clips[0].end - 0.05),
        lambda s: drafts.accept(bench, track, s.revision),
        lambda s: sessions.update(bench, s.id, s.revision, {"target": -20.0, "tolerance": 2.0}),
        lambda s: sessions.update(bench, s.id, s.revision, {"name": "Another name"}),
        lambda s: tracks.set_fader(bench, track, s.revision, -6.0),
        lambda s: tracks.rename(bench, track, s.revision, "Lead"),
        lambda s: details.set_rule(bench, track, s.revision, "gap", {"on": True, "depth": -12.0}),
        lambda s: details.set_depth(bench, track, s.revision, [s.marks[0].id], by=-2.0),
        lambda s: details.set_keep(bench, track, s.revision, [s.marks[1].id], "out"),
        lambda s: details.set_shape(bench, track, s.revision, [s.marks[0].id], notch=True),
        lambda s: details.set_edges(bench, track, s.revision, s.marks[0].id, ramp_in=0.2),
        lambda s: details.correct(bench, track, s.revision, [s.marks[-1].id], gone=True),
        lambda s: details.correct(bench, track, s.revision, [s.marks[0].id], kind="breath"),
        lambda s: details.make(bench, track, s.revision, "dip", 1.0, 1.5),
    ]
