"""Answers: the state of a session after a step, with the clips and marks that are different.

What many clips and marks have in common - a rule that moved, a draft that was accepted - is told by their values, column by
column; what became another clip or mark is told whole.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt
from sqlalchemy import select
from sqlalchemy.orm import Session as DbSession
from sqlmodel import col

from nivelus.core.gain.curve import FloatArray
from nivelus.core.gain.curves import EMPTY, Curve, changed_span
from nivelus.core.marks.mark import KINDS
from nivelus.services.lanes import LaneValue, drawn_lanes, layers_of
from nivelus.services.levels import (
    ALWAYS_WHOLE,
    clip_values,
    gain_curve,
    gain_per_frame,
    levels_after,
    view_clips,
)
from nivelus.services.marks import TrackMarks, mark_values, marks_of, rules_of, track_marks, view_marks
from nivelus.services.rows import carry, clip_rows
from nivelus.services.targets import limits_of
from nivelus.services.views import (
    Changed,
    ClipValues,
    ClipView,
    MarkValues,
    MarkView,
    RecordingView,
    RuleView,
    TrackView,
)
from nivelus.services.workbench import Workbench
from nivelus.store import history
from nivelus.store.history import Edit, require
from nivelus.store.tables import Clip, Recording, Session, Track

_SHAPE_OF_CLIP = ("start", "end", "phrase_start", "phrase_end", "loudness", "rms", "peak", "true_peak", "room_tone", "label")
"""What makes a clip another one; all else of it is values."""
RULE_FIELDS = tuple(RuleView.model_fields)


def after_edit(bench: Workbench, edit: Edit) -> Changed:
    """The answer to a finished edit: what is small, and the clips and marks that it touched."""
    carry(edit)
    scopes: dict[str, Scope] = {}

    def scope(track: str) -> Scope:
        return scopes.setdefault(track, Scope())

    removed, removed_marks = Gone(), Gone()
    for row in edit.touched("clip"):
        before, after = row["before"], row["after"]
        if after is None:
            removed.add(before["track_id"], [row["id"]])
        elif before is not None and all(before[name] == after[name] for name in _SHAPE_OF_CLIP):
            scope(after["track_id"]).clips.add(row["id"])
        else:
            scope(after["track_id"]).new_clips.add(row["id"])
    for row in edit.touched("mark_set"):
        if row["after"] is not None:
            scope(row["after"]["track_id"]).whole = True
    for row in edit.touched("track"):
        before, after = row["before"] or {}, row["after"]
        if after is not None and any(before.get(name) != after[name] for name in ("range_low", "range_high")):
            scope(row["id"]).every = True
    with bench.database.reading() as db:
        session = require(db, Session, edit.session.id, "session")
        for row in edit.touched("detail"):
            side = row["after"] or row["before"]
            removed_marks.add(side["track_id"], _removed_mark(row))
            scope(side["track_id"]).new_marks.add(side["found"] or row["id"])
        for track_id, rows in edit.touched_by_track("detail").items():
            scope(track_id).clips.update(_clips_under(db, track_id, rows))
        for row in edit.touched("lane"):
            side = row["after"] or row["before"]
            scope(side["track_id"]).clips.update(_clips_under_lane(db, row))
        for row in edit.touched("track"):
            if row["before"] and row["after"] and row["before"]["dip_rules"] != row["after"]["dip_rules"]:
                _scope_of_rules(db, row, scope(row["id"]))
        if any(_moves_levels(row) for row in edit.touched("session")):
            for track, _ in tracks_of(db, session.id):
                scope(track.id).relevelled = True
        return answer(bench, db, session, scopes, removed, edit.label, edit.told, removed_marks)


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


def tracks_of(db: DbSession, session_id: str) -> list[tuple[Track, Recording]]:
    """The tracks of a session in order, each with its recording."""
    query = (
        select(Track, Recording)
        .join(Recording, col(Track.recording_id) == col(Recording.id))
        .where(col(Track.session_id) == session_id)
        .order_by(col(Track.position), col(Track.id))
    )
    return [(track, recording) for track, recording in db.execute(query)]


@dataclass
class Scope:
    """What an answer holds of a track.

    ``whole``: every clip and mark. ``every``: the values of all of them. ``relevelled``: every clip. Else ``clips``, that
    have other values, and ``new_clips``, that are other clips than before, with their neighbours and the marks by them;
    ``new_marks``, that are other marks than before; and ``marks`` (n,), that have other values by a rule.
    """

    whole: bool = False
    every: bool = False
    relevelled: bool = False
    clips: set[str] = field(default_factory=set)
    new_clips: set[str] = field(default_factory=set)
    new_marks: set[str] = field(default_factory=set)
    marks: npt.NDArray[np.bool_] | None = None

    @property
    def is_empty(self) -> bool:
        """Whether the answer holds nothing of the track's clips and marks."""
        named = self.clips | self.new_clips | self.new_marks
        return not (self.whole or self.every or self.relevelled or named) and self.marks is None


class Gone(dict[str, list[str]]):
    """Ids of what went, by track."""

    def add(self, track: str, ids: Sequence[str]) -> None:
        """Note ids of a track."""
        if ids:
            self.setdefault(track, []).extend(ids)


@dataclass
class Content:
    """Clips and marks of an answer."""

    clips: list[ClipView] = field(default_factory=list)
    marks: list[MarkView] = field(default_factory=list)
    clip_values: dict[str, ClipValues] = field(default_factory=dict)
    mark_values: dict[str, MarkValues] = field(default_factory=dict)


def answer(
    bench: Workbench,
    db: DbSession,
    session: Session,
    scopes: Mapping[str, Scope],
    removed: Mapping[str, list[str]],
    label: str,
    told: str = "",
    removed_marks: Mapping[str, list[str]] | None = None,
) -> Changed:
    """The state of a session, with what ``scopes`` name of its tracks.

    ``removed`` are the clips that went, by track, and ``removed_marks`` the marks.
    """
    tracks: list[TrackView] = []
    content = Content()
    for track, recording in tracks_of(db, session.id):
        scope = scopes.get(track.id, Scope())
        all_clips = scope.whole or scope.every or scope.relevelled
        few = not all_clips and scope.marks is None
        clips = clip_rows(db, track.id, (scope.clips | scope.new_clips) if few else None)
        limits = limits_of(bench, db, session, track, recording)
        tracks.append(
            TrackView(
                id=track.id,
                name=track.name,
                position=track.position,
                fader=track.fader,
                target=limits.target,
                base=limits.base,
                rules=rules_of(track),
                shows_esses=recording.shows_esses,
                lanes=drawn_lanes(db, track.id),
                range_low=track.range_low,
                range_high=track.range_high,
                recording=view_recording(recording),
            )
        )
        if not scope.is_empty and clips:
            _fill(bench, db, session, track, recording, clips, scope, content)
    undo_label, redo_label = history.labels(db, session.id)
    rule = RuleView(**{name: getattr(session, name) for name in RULE_FIELDS})
    return Changed(
        id=session.id,
        name=session.name,
        revision=session.revision,
        rule=rule,
        tracks=tracks,
        clips=content.clips,
        marks=content.marks,
        clip_values=content.clip_values,
        mark_values=content.mark_values,
        whole=[id for id, scope in scopes.items() if scope.whole],
        removed=dict(removed),
        removed_marks=dict(removed_marks or {}),
        label=label,
        told=told,
        undo=undo_label,
        redo=redo_label,
    )


def _fill(
    bench: Workbench,
    db: DbSession,
    session: Session,
    track: Track,
    recording: Recording,
    clips: list[Clip],
    scope: Scope,
    content: Content,
) -> None:
    """Put what a scope names of a track into an answer."""
    named = scope.clips | scope.new_clips
    all_clips = scope.whole or scope.every or scope.relevelled
    wanted = clips if all_clips else _with_neighbours(clips, named)
    grid = None if recording.missing else bench.vault.grid(recording)
    marks = track_marks(db, track, recording)
    near = marks.overlapping(clips[0].start, clips[-1].end)
    layers = layers_of(db, track, clips, marks.curve(near), recording.sample_rate)
    curve = gain_curve(clips, recording, layers.beyond)
    if scope.whole or scope.every:
        chosen = near
    else:
        chosen = _in_clips(marks, wanted if not scope.relevelled else [])
        if scope.marks is not None:
            chosen |= scope.marks
    many = len(wanted) >= ALWAYS_WHOLE or int(chosen.sum()) >= ALWAYS_WHOLE
    gain = gain_per_frame(curve, recording) if many else None
    only = None if all_clips else {clip.id for clip in wanted}
    after = {} if grid is None else levels_after(grid, session, recording, clips, layers.beyond, curve, gain, only)
    full = scope.whole or scope.relevelled
    whole_clips = [clip for clip in wanted if full or not many or clip.id in scope.new_clips]
    content.clips += view_clips(session, recording, whole_clips, after)
    if len(whole_clips) < len(wanted):
        shown = {clip.id for clip in whole_clips}
        content.clip_values[track.id] = clip_values([clip for clip in wanted if clip.id not in shown], after)
    new = chosen.copy()
    if many and not scope.whole:
        # what stays the mark that it was is told by its values
        new = np.zeros(len(chosen), bool)
        new[marks.at(scope.new_marks)] = True
        new |= _in_clips(marks, [clip for clip in wanted if clip.id in scope.new_clips])
        new &= chosen
    listed, valued = np.flatnonzero(new), np.flatnonzero(chosen & ~new)
    content.marks += view_marks(track, recording, grid, clips, marks, curve, listed.tolist(), gain, layers.curves)
    if len(valued):
        values = mark_values(recording, grid, clips, marks, curve, valued, gain, layers.curves)
        content.mark_values[track.id] = values


def _in_clips(marks: TrackMarks, clips: Sequence[Clip]) -> npt.NDArray[np.bool_]:
    """Which marks or their dips reach into some clips, (n,)."""
    spans = np.array([(c.start, c.end) for c in clips], np.float64).reshape(-1, 2)
    return _touched(*marks.reach(), spans[:, 0], spans[:, 1])


def _touched(first: FloatArray, last: FloatArray, starts: FloatArray, ends: FloatArray) -> npt.NDArray[np.bool_]:
    """Which of the spans ``first`` ... ``last`` (n,) share anything with one of ``starts`` ... ``ends`` (m,); O((n + m) log m).

    A span touches one where fewer have ended before it than have begun before its end.
    """
    begun, ended = np.searchsorted(np.sort(starts), last, "left"), np.searchsorted(np.sort(ends), first, "right")
    return np.asarray(begun > ended)


def _scope_of_rules(db: DbSession, row: dict[str, Any], scope: Scope) -> None:
    """What other rules of a track's dips change: its marks of these kinds, what their dips lie over, and the phrases there."""
    track = require(db, Track, row["id"], "track")
    recording = require(db, Recording, track.recording_id, "recording")
    clips = clip_rows(db, track.id)
    old_rules, new_rules = row["before"]["dip_rules"], row["after"]["dip_rules"]
    kinds = [kind for kind in KINDS if old_rules.get(kind) != new_rules.get(kind)]
    # as it was, in a row of its own: this one belongs to the database
    was = Track(**{**track.model_dump(), "dip_rules": old_rules})
    old, before = rules_of(was), marks_of(db, was, recording, clips)
    rules, now = rules_of(track), marks_of(db, track, recording, clips)
    if len(before.ids) != len(now.ids) or any(old[kind].silent != rules[kind].silent for kind in kinds):
        # a dip to silence has other ramps
        scope.whole = True
        return
    moved = (before.draft.dips.depth != now.draft.dips.depth) & (before.applied | now.applied)
    moved |= before.applied != now.applied
    first, last = now.reach()
    dips = first[moved], last[moved]
    said = np.array([a != b for a, b in zip(before.draft.reason, now.draft.reason, strict=True)], bool)
    scope.marks = said | (before.draft.dips.depth != now.draft.dips.depth) | _touched(first, last, *dips)
    spans = np.array([(c.phrase_start or c.start, c.phrase_end or c.start) for c in clips], np.float64).reshape(-1, 2)
    under = _touched(spans[:, 0], spans[:, 1], *dips)
    scope.clips.update(clip.id for clip, is_under in zip(clips, under.tolist(), strict=True) if is_under)


def _moves_levels(row: dict[str, Any]) -> bool:
    """Whether an edit of a session's row gives phrases other levels, and not only another target."""
    before, after = row["before"] or {}, row["after"] or {}
    return any(before.get(name) != after.get(name) for name in ("unit", "mono_as_two"))


def _removed_mark(row: dict[str, Any]) -> list[str]:
    """The id of a mark that an edit of its row took away."""
    before, after = row["before"], row["after"]
    if after is None:
        # what was found comes back as it was found; what the hand made is gone
        return [row["id"]] if before["found"] is None else []
    return [after["found"] or row["id"]] if after["gone"] else []


def _clips_under(db: DbSession, track_id: str, rows: Sequence[dict[str, Any]]) -> list[str]:
    """The clips of a track that marks lie in, before and after an edit of their rows."""
    spans = []
    for row in rows:
        sides = [side for side in (row["before"], row["after"]) if side is not None]
        edges = [side[name] for side in sides for name in ("start", "end", "dip_start", "dip_end") if side[name] is not None]
        spans.append((min(edges), max(edges)))
    clips = db.execute(select(col(Clip.id), col(Clip.start), col(Clip.end)).where(col(Clip.track_id) == track_id)).all()
    marks, cells = np.array(spans, np.float64), np.array([clip[1:] for clip in clips], np.float64).reshape(-1, 2)
    under = _touched(cells[:, 0], cells[:, 1], marks[:, 0], marks[:, 1])
    return [clip[0] for clip, is_under in zip(clips, under.tolist(), strict=True) if is_under]


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
