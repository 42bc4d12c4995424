"""Sessions: the cards, the whole state of one, its name and rule, and its history."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session as DbSession
from sqlmodel import col

from nivelus.core.errors import Refused
from nivelus.core.gain.curves import EMPTY, Curve, changed_span
from nivelus.core.marks.esses import LEAST_RATE
from nivelus.core.sound.reader import SoundInfo
from nivelus.services.keeping import bury, clear_buried, recordings_used
from nivelus.services.lanes import LaneValue, drawn_lanes, layers_of
from nivelus.services.levels import (
    ALWAYS_WHOLE,
    clip_rows,
    gain_curve,
    gain_per_frame,
    is_judged,
    level_before,
    levels_after,
    target_of,
    view_clips,
)
from nivelus.services.marks import rules_of, track_marks, view_marks
from nivelus.services.views import (
    CardPhrase,
    CardView,
    Changed,
    ClipView,
    MarkView,
    RecordingView,
    RuleView,
    TrackView,
)
from nivelus.services.workbench import Workbench
from nivelus.store import history
from nivelus.store.history import Edit, require
from nivelus.store.tables import Clip, Job, Recording, Session, Track

RULE_FIELDS = tuple(RuleView.model_fields)
NAME_LENGTH = 120
CARD_PHRASES = 160


def list_cards(bench: Workbench) -> list[CardView]:
    """Every session, the one touched last first."""
    with bench.database.reading() as db:
        sessions = db.scalars(select(Session).order_by(col(Session.touched).desc())).all()
        return [_card(db, session) for session in sessions]


def create(bench: Workbench, name: str) -> str:
    """Start a session; its id."""
    with bench.database.writing() as db:
        session = Session(name=clean_name(name))
        db.add(session)
        return session.id


def remove(bench: Workbench, session_id: str) -> None:
    """Delete a session for good, with its uploads and renders, and the recordings that only it uses."""
    with bench.database.writing() as db:
        session = require(db, Session, session_id, "session")
        jobs = list(db.scalars(select(col(Job.id)).where(col(Job.session_id) == session_id)))
        own = recordings_used(db, session_id)
        db.delete(session)
        db.flush()
        gone = list(db.scalars(select(Recording).where(col(Recording.id).in_(own - recordings_used(db)))))
        for recording in gone:
            bury(db, recording)
    for job_id in jobs:
        bench.vault.clear_job(job_id)
    for recording in gone:
        clear_buried(bench, recording.hash)


def state(bench: Workbench, session_id: str, with_marks: bool = True) -> Changed:
    """Everything of a session; without its marks for those who have them and did not change them."""
    with bench.database.reading() as db:
        session = require(db, Session, session_id, "session")
        everything = {track.id for track, _ in tracks_of(db, session_id)} if with_marks else set()
        return _view(bench, db, session, Scope(None, everything), (), "")


def update(bench: Workbench, session_id: str, revision: int, values: dict[str, Any]) -> Changed:
    """Change the name or the rule of a session."""
    label = "Rename the session" if set(values) == {"name"} else "Set the rule"
    if set(values) <= {"target", "target_kind", "unit"}:
        label = "Set the target"
    with history.edit(bench.database, session_id, label, revision) as edit:
        for name, value in values.items():
            setattr(edit.session, name, clean_name(value) if name == "name" else value)
    # a new target or unit shows every phrase in another place
    return state(bench, session_id, with_marks=False)


def undo(bench: Workbench, session_id: str, revision: int) -> Changed:
    """Take back the newest step."""
    return after_edit(bench, history.undo(bench.database, session_id, revision))


def redo(bench: Workbench, session_id: str, revision: int) -> Changed:
    """Do again what was undone last."""
    return after_edit(bench, history.redo(bench.database, session_id, revision))


def after_edit(bench: Workbench, edit: Edit) -> Changed:
    """The answer to a finished edit: what is small, and the clips and marks that it touched."""
    clips = edit.touched("clip")
    changed = {row["id"] for row in clips if row["after"] is not None}
    removed = [row["id"] for row in clips if row["after"] is None]
    whole = {row["after"]["track_id"] for row in edit.touched("mark_set") if row["after"] is not None}
    for row in edit.touched("track"):
        before, after = row["before"] or {}, row["after"] or {}
        if after and any(before.get(name) != after.get(name) for name in ("dip_rules", "range_low", "range_high")):
            whole.add(row["id"])
    with bench.database.reading() as db:
        session = require(db, Session, edit.session.id, "session")
        for row in edit.touched("detail"):
            removed += _removed_mark(row)
            changed.update(_clips_under(db, row))
        for row in edit.touched("lane"):
            changed.update(_clips_under_lane(db, row))
        moves_target = session.target_kind == "reference" and bool(changed or removed)
        every = moves_target or bool(edit.touched("session"))
        return _view(bench, db, session, Scope(None if every else changed, whole), removed, edit.label)


def run_edit(
    bench: Workbench, track_id: str, label: str, revision: int, work: Callable[[Edit, Track, Recording], None]
) -> Changed:
    """Run an edit of a track as one step of its session's history.

    ``work`` may set ``edit.label`` once it knows what it did.
    """
    with bench.database.reading() as db:
        session_id = require(db, Track, track_id, "track").session_id
    with history.edit(bench.database, session_id, label, revision) as edit:
        track = require(edit.db, Track, track_id, "track")
        work(edit, track, require(edit.db, Recording, track.recording_id, "recording"))
    return after_edit(bench, edit)


def clean_name(name: str) -> str:
    """A name without control characters or surrounding space. Raises Refused where nothing is left."""
    clean = "".join(c for c in name if c.isprintable()).strip()[:NAME_LENGTH]
    if not clean:
        raise Refused("A name needs at least one letter.")
    return clean


def view_recording(recording: Recording) -> RecordingView:
    """A recording as the interface shows it."""
    return RecordingView(
        id=recording.id,
        format=recording.format,
        subtype=recording.subtype,
        sample_rate=recording.sample_rate,
        channels=recording.channels,
        frames=recording.frames,
        duration=recording.frames / recording.sample_rate,
        room_tone=recording.room_tone,
        missing=recording.missing,
    )


def new_recording(hash: str, suffix: str, info: SoundInfo, room_tone: float) -> Recording:
    """A row for a recording that was measured."""
    return Recording(
        hash=hash,
        suffix=suffix,
        format=info.format,
        subtype=info.subtype,
        sample_rate=info.sample_rate,
        channels=info.channels,
        frames=info.frames,
        time_reference=info.bext.time_reference if info.bext else None,
        room_tone=room_tone,
    )


def tracks_of(db: DbSession, session_id: str) -> list[tuple[Track, Recording]]:
    """The tracks of a session in order, each with its recording."""
    query = (
        select(Track, Recording)
        .join(Recording, col(Track.recording_id) == col(Recording.id))
        .where(col(Track.session_id) == session_id)
        .order_by(col(Track.position), col(Track.id))
    )
    return [(track, recording) for track, recording in db.execute(query)]


@dataclass(frozen=True, slots=True)
class Scope:
    """What an answer holds: some clips (None for every one) and the marks by them, and ``whole`` tracks."""

    clips: Collection[str] | None
    whole: Collection[str]


def _view(bench: Workbench, db: DbSession, session: Session, scope: Scope, removed: Collection[str], label: str) -> Changed:
    tracks: list[TrackView] = []
    clip_views: list[ClipView] = []
    mark_views: list[MarkView] = []
    for track, recording in tracks_of(db, session.id):
        whole = track.id in scope.whole
        only = None if whole else scope.clips
        few = only is not None and session.target_kind != "median"
        clips = clip_rows(db, track.id, only if few else None)
        target = target_of(db, session, recording, clips)
        tracks.append(
            TrackView(
                id=track.id,
                name=track.name,
                position=track.position,
                fader=track.fader,
                target=target,
                rules=rules_of(track),
                shows_esses=recording.sample_rate >= LEAST_RATE,
                lanes=drawn_lanes(db, track.id),
                range_low=track.range_low,
                range_high=track.range_high,
                recording=view_recording(recording),
            )
        )
        wanted = clips if only is None else _with_neighbours(clips, only)
        if not wanted:
            continue
        grid = None if recording.missing else bench.vault.grid(recording)
        marks = track_marks(db, track, recording)
        near = marks.overlapping(clips[0].start, clips[-1].end)
        layers = layers_of(db, track, clips, marks.curve(near), recording.sample_rate)
        curve = gain_curve(clips, recording, layers.beyond)
        gain = gain_per_frame(curve, recording) if len(wanted) >= ALWAYS_WHOLE else None
        after = {} if grid is None else levels_after(grid, session, recording, clips, layers.beyond, curve, gain)
        clip_views += view_clips(session, recording, wanted, after)
        if whole or scope.clips is not None:
            chosen = np.flatnonzero(marks.overlapping(wanted[0].start, wanted[-1].end)).tolist()
            mark_views += view_marks(
                track, recording, grid, clips, marks, curve, None if whole else chosen, gain, layers.curves
            )
    undo_label, redo_label = history.labels(db, session.id)
    rule = RuleView(**{name: getattr(session, name) for name in RULE_FIELDS})
    return Changed(
        id=session.id,
        name=session.name,
        revision=session.revision,
        rule=rule,
        tracks=tracks,
        clips=clip_views,
        marks=mark_views,
        whole=list(scope.whole),
        removed=list(removed),
        label=label,
        undo=undo_label,
        redo=redo_label,
    )


def _removed_mark(row: dict[str, Any]) -> list[str]:
    """The id of a mark that an edit of its row took away."""
    before, after = row["before"], row["after"]
    if after is None:
        # what was found comes back as it was found; what the hand made is gone
        return [row["id"]] if before["found"] is None else []
    return [after["found"] or row["id"]] if after["gone"] else []


def _clips_under(db: DbSession, row: dict[str, Any]) -> list[str]:
    """The clips that a mark lies in, before and after an edit of its row."""
    sides = [side for side in (row["before"], row["after"]) if side is not None]
    edges = [side[name] for side in sides for name in ("start", "end", "dip_start", "dip_end") if side[name] is not None]
    query = select(col(Clip.id)).where(col(Clip.track_id) == sides[0]["track_id"])
    return list(db.scalars(query.where(col(Clip.start) < max(edges), col(Clip.end) > min(edges))))


def _clips_under_lane(db: DbSession, row: dict[str, Any]) -> list[str]:
    """The clips of which an edit of a lane changed the gain."""
    sides = [side for side in (row["before"], row["after"]) if side is not None]
    track = db.get(Track, sides[0]["track_id"])
    if track is None:
        return []
    rate = require(db, Recording, track.recording_id, "recording").sample_rate
    before, after = (_lane_of(side) for side in (row["before"], row["after"]))
    span = changed_span(before, after)
    if span is None:
        return []
    query = select(col(Clip.id)).where(col(Clip.track_id) == track.id, col(Clip.end) > max(span[0], 0.0) * rate)
    if span[1] != np.inf:
        query = query.where(col(Clip.start) < span[1] * rate)
    return list(db.scalars(query))


def _lane_of(side: dict[str, Any] | None) -> Curve:
    """What a lane of a track did, or does now; EMPTY where it was off or not there."""
    return EMPTY if side is None else LaneValue(side["points"], side["offset"], side.get("off", False)).heard()


def _with_neighbours(clips: list[Clip], only: Collection[str]) -> list[Clip]:
    at = {i for i, clip in enumerate(clips) if clip.id in only}
    return [clip for i, clip in enumerate(clips) if at & {i - 1, i, i + 1}]


def _card(db: DbSession, session: Session) -> CardView:
    deviations: list[float] = []
    spans: list[tuple[float, float]] = []
    names: list[str] = []
    duration = 0.0
    for track, recording in tracks_of(db, session.id):
        names.append(track.name)
        duration = max(duration, recording.frames / recording.sample_rate)
        clips = clip_rows(db, track.id)
        target = target_of(db, session, recording, clips)
        for clip in clips:
            before = level_before(session, recording, clip)
            if before is None or not is_judged(clip):
                continue
            deviations.append(before + clip.gain - target)
            rate = recording.sample_rate
            spans.append(((clip.phrase_start or 0) / rate, (clip.phrase_end or 0) / rate))
    importing = db.scalar(
        select(func.count())
        .select_from(Job)
        .where(
            col(Job.session_id) == session.id,
            col(Job.kind) == "import",
            col(Job.state).in_(("waiting", "running")),
        )
    )
    values = np.array(deviations)
    thin = max(1, -(-len(spans) // CARD_PHRASES))
    return CardView(
        id=session.id,
        name=session.name,
        touched=session.touched,
        duration=duration,
        tracks=names,
        level=int((np.abs(values) <= session.tolerance + 1e-9).sum()),
        count=len(values),
        worst=float(values[np.argmax(np.abs(values))]) if len(values) else None,
        tolerance=session.tolerance,
        phrases=[
            CardPhrase(start=start / duration, end=end / duration, deviation=deviation)
            for (start, end), deviation in list(zip(spans, deviations, strict=True))[::thin]
        ],
        importing=int(importing or 0),
    )
