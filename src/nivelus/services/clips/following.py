"""Several microphones of one voice: a track follows another, follows a third instead, or stands on its own again."""

from __future__ import annotations

import numpy as np

from nivelus.core.chain.following import Following
from nivelus.core.chain.marks import FoundMarks
from nivelus.core.chain.placing import Run, place_found
from nivelus.core.chain.state import TrackState
from nivelus.core.errors import Refused
from nivelus.core.gain.compiled import GainCurve, add_curves
from nivelus.core.gain.drawn import curve_of
from nivelus.services.answers.edits import run_edit
from nivelus.services.clips.carrying import remove_track
from nivelus.services.clips.phrases import find_in
from nivelus.services.lanes.parts import put_lane
from nivelus.services.track.state import state_of
from nivelus.services.track.timeline import Timeline, leader_of, timeline_of
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.store.clip_rows import ClipRow, ClipRows
from nivelus.store.editing import Edit
from nivelus.store.history import require
from nivelus.store.packing import unpack
from nivelus.store.tables import Clip, Detail, Lane, MarkSet, Track
from nivelus.store.track_rows import followers_of, rows_on

_LOWEST = -60.0
"""dB that the gain of a clip is at least when a track is let go; what is lower is in the ride."""


def follow(bench: Workbench, track_id: str, revision: int, leader_id: str) -> Changed:
    """Let a track follow another: it has that one's gain from now on, and is heard where that one is.

    What was done to its own phrases and details goes, and comes back with undo; its trim and fader stay. It keeps its time
    beside the other one.
    """

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        leader: Track = require(edit.db, Track, leader_id, "track")
        lead(edit, track, leader, _lag(edit, track, leader))
        edit.label = f"{track.name} follows {leader.name}"

    return run_edit(bench, track_id, "Follow another track", revision, work)


def begin_together(bench: Workbench, track_id: str, revision: int) -> Changed:
    """Let the recording of a track that follows begin when that of its leader does."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        leader = leader_of(edit.db, track)
        if leader is None:
            raise Refused(f"“{track.name}” follows no track. Let it follow one first.")
        track.lag = 0
        edit.label = f"{track.name} begins with {leader.name}"

    return run_edit(bench, track_id, "Begin together", revision, work)


def stand_alone(bench: Workbench, track_id: str, revision: int) -> Changed:
    """Let a track follow no other any more. It keeps its gain, as clip gains and a ride."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        if track.follows is None:
            raise Refused(f"“{track.name}” follows no track.")
        release(bench, edit, track)
        edit.label = f"{track.name} stands on its own"

    return run_edit(bench, track_id, "Stand on its own", revision, work)


def remove(bench: Workbench, track_id: str, revision: int, instead: str | None = None) -> Changed:
    """Remove a track from the session; undo brings it back with everything on it.

    Tracks that follow it keep their gain, as clip gains and a ride; or they follow another track, which ``instead`` names. That
    may be one of them, which keeps its gain then.
    """

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        edit.label = f"Remove {track.name}"
        followers = followers_of(edit.db, track.id)
        leader: Track | None = require(edit.db, Track, instead, "track") if followers and instead else None
        if leader is track:
            raise Refused("A track that is removed cannot be followed.")
        # where everything lies is asked before any of it changes
        lags = {one.id: _lag(edit, one, leader) for one in followers} if leader is not None else {}
        for follower in followers:
            if leader is None or follower is leader:
                release(bench, edit, follower)
        for follower in followers:
            if leader is not None and follower is not leader:
                lead(edit, follower, leader, lags[follower.id])
        remove_track(edit, track)

    return run_edit(bench, track_id, "Remove a track", revision, work)


def release(bench: Workbench, edit: Edit, track: Track) -> None:
    """Give a track that follows another phrases of its own, with the gain that it has: the ride is what clip gains are not.

    O(samples / 480) for its phrases, O(n) for the n points of its gain.
    """
    timeline = timeline_of(edit.db, track)
    if timeline.missing:
        why = "so it cannot keep its gain. Import it again, or let it follow another track."
        raise Refused(f"The sound file of “{track.name}” is missing, {why}")
    if not timeline.runs:
        # its leader is heard from other recordings alone: it comes back as it was recorded
        timeline = Timeline(timeline.own, (Run(None, 0, 0, timeline.own.frames),), timeline.recordings)
    state = state_of(bench, edit.db, edit.session, track, timeline)
    given = state.without_trim if isinstance(state, Following) else GainCurve(np.zeros(1), np.zeros(1))
    track.follows, track.lag = None, 0
    find_in(bench, edit, track, timeline)
    made: list[Clip] = sorted((row for row in edit.made(Clip) if row.track_id == track.id), key=lambda clip: clip.start)
    found = {row.recording_id: FoundMarks(unpack(row.data)) for row in edit.made(MarkSet) if row.track_id == track.id}
    for clip in made:
        clip.gain = round(max(_mean(given, clip), _LOWEST), 2)
    rows = ClipRows(ClipRow(*(getattr(clip, name) for name in ClipRow._fields)) for clip in made)
    rows.rate = timeline.sample_rate
    placed = place_found(found, timeline.runs, timeline.own.frames)
    own = TrackState(state.grid, timeline.sample_rate, timeline.frames, rows.table, placed).clip_gain
    rest = add_curves([given, GainCurve(own.at, -own.db)])
    if not rest.is_flat_zero:
        points = zip((rest.at / timeline.sample_rate).tolist(), rest.db.tolist(), strict=True)
        put_lane(edit, track, timeline, "ride", curve_of([(max(at, 0.0), db) for at, db in points]))


def can_lead(track: Track) -> bool:
    """Whether a track has phrases of its own that others may follow."""
    return track.kind == "voice" and track.follows is None


# ---


def _mean(curve: GainCurve, clip: Clip) -> float:
    """The mean of a gain over the phrase of a clip, or all of one that has none, dB."""
    start, end = (clip.start, clip.end) if clip.phrase_start is None else (clip.phrase_start, clip.phrase_end)
    return float(np.interp(np.linspace(start, end or clip.end, 64), curve.at, curve.db).mean())


def _lag(edit: Edit, track: Track, leader: Track) -> int:
    """By how many samples of a track its recording lies later than that of another."""
    timeline = timeline_of(edit.db, track)
    return round((_lies(timeline) - _lies(timeline_of(edit.db, leader))) * timeline.sample_rate)


def _lies(timeline: Timeline) -> float:
    """When a track's own recording begins on it, seconds."""
    return next((run.shift for run in timeline.runs if run.recording is None), 0) / timeline.sample_rate


def lead(edit: Edit, track: Track, leader: Track, lag: int) -> None:
    """Let a track follow another, and take away what it has of that one from now on; see ``Track.lag``.

    Raises
    ------
    Refused
        If it cannot follow that one.
    """
    if leader is track:
        raise Refused("A track cannot follow itself.")
    if leader.session_id != track.session_id:
        raise Refused("This track belongs to another session.")
    if leader.follows:
        raise Refused(f"“{leader.name}” follows a track itself. Follow that one.")
    if leader.kind == "bed":
        raise Refused(f"“{leader.name}” is a bed, and has no phrases to be followed.")
    if followers := followers_of(edit.db, track.id):
        raise Refused(f"“{track.name}” is followed by “{followers[0].name}”. Let that follow “{leader.name}” first.")
    for table in (Clip, Detail, MarkSet, Lane):
        for row in rows_on(edit.db, table, track.id):
            if not isinstance(row, Lane) or row.name != "trim":
                edit.db.delete(row)
    track.follows, track.lag, track.kind = leader.id, lag, leader.kind
    track.take, track.takes, track.dip_rules, track.duck = 0, [], {}, {}
