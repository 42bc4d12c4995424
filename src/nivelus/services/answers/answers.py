"""Answers: the state of a session after a step, with the clips and marks that are different.

What many clips and marks have in common - a rule that moved, a draft that was accepted - is told by their values, column by
column; what became another clip or mark is told whole, and column by column too where there are many.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cache, partial
from typing import Any

import numpy as np
import numpy.typing as npt
from sqlalchemy import Select, bindparam, select
from sqlalchemy.orm import Session as DbSession
from sqlmodel import col

from nivelus.core.chain.clips import BoolArray
from nivelus.core.chain.marks import differing, marks_of
from nivelus.core.chain.placing import place_found, place_hands
from nivelus.core.chain.state import Lane, TrackState
from nivelus.core.errors import DiskFull, NivelusError, NotFound, Refused
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import EMPTY, Curve, changed_span
from nivelus.services.track.state import are_even, core_rules, gain_key, rules_by_kind, rules_of, state_of
from nivelus.services.track.targets import limits_of
from nivelus.services.track.timeline import Timeline, recordings_of_takes, timeline_of, timelines_of
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.levels import clip_values, levels_by_clip, view_clips
from nivelus.services.views.marks import mark_columns, mark_values, view_marks
from nivelus.services.views.mix_settings import duck_settings, load_settings
from nivelus.services.views.session import (
    Changed,
    ClipValues,
    ClipView,
    MarkColumns,
    MarkValues,
    MarkView,
    RuleView,
    TakeName,
    TimelineView,
    TrackView,
)
from nivelus.store import history
from nivelus.store.history import Edit, ReadBack, require
from nivelus.store.packing import unpack_curve
from nivelus.store.reading import TrackRows, carry, clip_rows, forget
from nivelus.store.steps import names_changed
from nivelus.store.tables import Recording, Session, Track, takes_of

MANY = 200
"""Clips or marks from which an answer tells those that stay what they were by their values, column by column."""
_SHAPE_OF_CLIP = {"start", "end", "phrase_start", "phrase_end", "loudness", "rms", "peak", "true_peak", "room_tone", "label"}
"""What makes a clip another one; all else of it is values."""
_ROW_OF_CLIP = {"track_id", "take"}
"""Which row of clips a clip lies in."""
RULE_FIELDS = tuple(RuleView.model_fields)


def reading_back(bench: Workbench, answers: bool = True) -> ReadBack:
    """Return what reads an edit back before it is committed and refuses one that leads to a state that cannot be read.

    It also makes the answer to the edit, unless nobody waits for one.
    """

    def read(edit: Edit) -> None:
        # what is kept of a revision that never came to be must not be taken for that of the next one
        edit.db.info.setdefault("undone", []).append(partial(forget, edit.session.id))
        try:
            if answers:
                edit.answer = _answer_to(bench, edit, edit.db)
            _walk_chain(bench, edit)
        except (NotFound, DiskFull):
            raise
        except NivelusError as error:
            raise Refused(f"Nothing was changed: what this leads to could not be read again. {error.sentence}") from error

    return read


def after_edit(bench: Workbench, edit: Edit) -> Changed:
    """The answer to a finished edit: what is small, and the clips and marks that it touched."""
    if edit.answer is None:
        # nothing was changed
        with bench.database.reading() as db:
            edit.answer = _answer_to(bench, edit, db)
    answer: Changed = edit.answer
    return answer


def _walk_chain(bench: Workbench, edit: Edit) -> None:
    """Work the gain out of every take that an edit touched. Raises what stands in the way."""
    takes = {
        (side["track_id"], side["take"])
        for table in ("clip", "detail")
        for row in edit.touched(table)
        for side in (row["before"], row["after"])
        if side is not None
    }
    takes |= {(row["id"], row["after"]["take"]) for row in edit.touched("track") if row["after"] is not None}
    for table in ("lane", "mark_set"):
        takes |= {(track_id, None) for track_id in edit.touched_by_track(table)}
    for track_id, take in takes:
        track = edit.db.get(Track, track_id)
        if track is not None and (take is None or take in {item["number"] for item in takes_of(track)}):
            timeline = timeline_of(edit.db, track, take)
            _ = state_of(bench, edit.db, edit.session, track, timeline, take=take).gain


def _answer_to(bench: Workbench, edit: Edit, db: DbSession) -> Changed:
    remarked = carry(edit)
    scopes: dict[str, Scope] = {}

    def scope(track: str) -> Scope:
        if track not in scopes:
            scopes[track] = Scope()
        return scopes[track]

    removed, removed_marks = Gone(), Gone()
    regained: set[str] = set()
    for row in edit.touched("clip"):
        before, after = row["before"], row["after"]
        changed = names_changed(row) if before is not None and after is not None else ()
        if before is not None and (after is None or not _ROW_OF_CLIP.isdisjoint(changed)):
            removed.add(before["track_id"], [row["id"]])
        if after is None:
            continue
        own = scope(after["track_id"])
        if before is not None and _SHAPE_OF_CLIP.isdisjoint(changed):
            own.clips.add(row["id"])
            regained.update([after["track_id"]] if "gain" in changed else ())
        else:
            own.new_clips.add(row["id"])
    for id in regained:
        # gaps that go to one level go by the gain of all clips
        scope(id).whole |= are_even(require(db, Track, id, "track"))
    for row in edit.touched("mark_set"):
        if row["after"] is not None:
            scope(row["after"]["track_id"]).whole = True
    for row in edit.touched("track"):
        before, after = row["before"] or {}, row["after"]
        if after is not None and any(before.get(name) != after[name] for name in ("range_low", "range_high")):
            scope(row["id"]).every = True
    session = require(db, Session, edit.session.id, "session")
    by_track = edit.touched_by_track("clip")
    for track_id, kept in remarked.items():
        _scope_of_marks(bench, db, session, track_id, kept, by_track.get(track_id, []), scope(track_id), removed_marks)
    for row in edit.touched("lane"):
        side = row["after"] or row["before"]
        scope(side["track_id"]).clips.update(_clips_under_lane(db, row))
    for row in edit.touched("track"):
        if row["before"] and row["after"] and row["before"]["dip_rules"] != row["after"]["dip_rules"]:
            track = require(db, Track, row["id"], "track")
            now = state_of(bench, db, session, track, timeline_of(db, track))
            old = replace(now, rules=core_rules(rules_by_kind(row["before"]["dip_rules"])))
            _scope_of_rules(old, now, scope(row["id"]))
    if any(_moves_levels(row) for row in edit.touched("session")):
        for track, _ in tracks_of(db, session.id):
            scope(track.id).relevelled = True
    return answer(bench, db, session, scopes, removed, edit.label, edit.told, removed_marks)


def view_timeline(timeline: Timeline) -> TimelineView:
    """What is heard of a track as the interface shows it."""
    rate = timeline.sample_rate
    return TimelineView(
        key=timeline.key,
        formats=sorted({recorded.format for recorded in timeline.heard}),
        sample_rate=rate,
        channels=timeline.channels,
        frames=timeline.frames,
        duration=timeline.duration,
        room_tone=timeline.room_tone,
        missing=timeline.missing,
        lengths={id or "": timeline.span_of(id) / rate for id, _ in timeline.recordings},
    )


def tracks_of(db: DbSession, session_id: str) -> list[tuple[Track, Timeline]]:
    """The tracks of a session in order, each with its timeline."""
    tracks = tracks_in_order(db, session_id)
    return list(zip(tracks, timelines_of(db, tracks), strict=True))


def tracks_in_order(db: DbSession, session_id: str) -> list[Track]:
    """The tracks of a session, as they lie below each other."""
    return list(db.scalars(_tracks(), {"session": session_id}))


@cache
def _tracks() -> Select[Track]:
    """The question of ``tracks_in_order``, put together once: every answer asks it."""
    return select(Track).where(col(Track.session_id) == bindparam("session")).order_by(col(Track.position), col(Track.id))


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
    marks: BoolArray | None = None

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
    mark_columns: dict[str, MarkColumns] = field(default_factory=dict)
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
    for track, timeline in tracks_of(db, session.id):
        scope, state = scopes.get(track.id, Scope()), state_of(bench, db, session, track, timeline)
        limits, recordings = limits_of(bench, db, session, state), recordings_of_takes(db, track)
        tracks.append(
            TrackView(
                id=track.id,
                name=track.name,
                position=track.position,
                kind=track.kind,
                fader=track.fader,
                mute=track.mute,
                solo=track.solo,
                gain_key=gain_key(db, session, track, timeline),
                target=limits.target,
                base=limits.base,
                rules=rules_of(track),
                shows_esses=timeline.shows_esses,
                lanes=state.drawn_lanes,
                range_low=track.range_low,
                range_high=track.range_high,
                timeline=view_timeline(timeline),
                take=track.take,
                takes=[TakeName(**item, recordings=recordings[item["number"]]) for item in takes_of(track)],
                load=load_settings(track),
                duck=duck_settings(track),
            )
        )
        if not scope.is_empty and len(state.clips):
            _fill(db, track.id, state, scope, content)
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
        mark_columns=content.mark_columns,
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


def _fill(db: DbSession, track_id: str, state: TrackState, scope: Scope, content: Content) -> None:
    """Put what a scope names of a track into an answer."""
    clips, marks = clip_rows(db, track_id), state.marks
    if scope.whole or scope.every or scope.relevelled:
        wanted = np.arange(len(clips))
    else:
        wanted = _with_neighbours(clips.places, scope.clips | scope.new_clips)
    if scope.whole or scope.every:
        chosen = np.ones(len(marks.ids), bool)
    else:
        chosen = _in_clips(state, wanted if not scope.relevelled else wanted[:0])
        if scope.marks is not None:
            chosen |= scope.marks
        chosen[marks.at(scope.new_marks)] = True
    many = len(wanted) >= MANY or int(chosen.sum()) >= MANY
    after = levels_by_clip(state, wanted)
    full = scope.whole or scope.relevelled or not many
    listed = np.array([place for place in wanted.tolist() if full or clips[place].id in scope.new_clips], np.int64)
    content.clips += view_clips(state, clips, listed, after)
    if len(listed) < len(wanted):
        others = [clips[place] for place in wanted.tolist() if clips[place].id not in scope.new_clips]
        content.clip_values[track_id] = clip_values(others, after)
    new = chosen.copy()
    if many and not scope.whole:
        # what stays the mark that it was is told by its values
        new = np.zeros(len(chosen), bool)
        new[marks.at(scope.new_marks)] = True
        new |= _in_clips(state, np.array([clips.places[id] for id in scope.new_clips if id in clips.places], np.int64))
        new &= chosen
    told = np.flatnonzero(new)
    if len(told) < MANY:
        content.marks += view_marks(state, track_id, told)
    else:
        content.mark_columns[track_id] = mark_columns(state, told)
    valued = np.flatnonzero(chosen & ~new)
    if len(valued):
        content.mark_values[track_id] = mark_values(state, valued)


def _in_clips(state: TrackState, places: npt.NDArray[np.int64]) -> BoolArray:
    """Which marks or their dips reach into some clips, (n,)."""
    return _touched(*state.marks.reach, state.clips.spans.start[places], state.clips.spans.end[places])


def _touched(first: FloatArray, last: FloatArray, starts: FloatArray, ends: FloatArray) -> BoolArray:
    """Which of the spans ``first`` ... ``last`` (n,) share anything with one of ``starts`` ... ``ends`` (m,); O((n + m) log m).

    A span touches one where fewer have ended before it than have begun before its end.
    """
    begun, ended = np.searchsorted(np.sort(starts), last, "left"), np.searchsorted(np.sort(ends), first, "right")
    return np.asarray(begun > ended)


def _scope_of_rules(old: TrackState, now: TrackState, scope: Scope) -> None:
    """What other rules of a track's dips change: its marks, what their dips lie over, and the phrases there."""
    before, after = old.marks, now.marks
    a, b = before.draft.dips, after.draft.dips
    # dips by another rule may have other ramps, and those of gaps hang on the breaths beside them
    edges = (a.start != b.start) | (a.end != b.end) | (a.ramp_in != b.ramp_in) | (a.ramp_out != b.ramp_out)
    scope.new_marks.update(after.ids[place] for place in np.flatnonzero(edges).tolist())
    moved = ((a.depth != b.depth) | edges) & (before.applied | after.applied)
    moved |= before.applied != after.applied
    first, last = after.reach
    dips = first[moved], last[moved]
    said = np.array([a != b for a, b in zip(before.draft.reason, after.draft.reason, strict=True)], bool)
    scope.marks = said | (before.draft.dips.depth != after.draft.dips.depth) | _touched(first, last, *dips)
    phrases = now.clips.phrases
    under = now.clips.voiced[_touched(phrases[:, 0], phrases[:, 1], *dips)]
    scope.clips.update(now.clips.ids[place] for place in under.tolist())


def _scope_of_marks(
    bench: Workbench,
    db: DbSession,
    session: Session,
    track_id: str,
    old: TrackRows | None,
    touched: Sequence[dict[str, Any]],
    scope: Scope,
    removed: Gone,
) -> None:
    """What is different where there may be other marks than before, or marks by other names."""
    track = db.get(Track, track_id)
    if track is None:
        return
    if old is None or old.clips is None or old.hands is None or old.found is None:
        scope.whole = True
        return
    state, runs = state_of(bench, db, session, track, timeline_of(db, track)), old.clips.runs
    found = place_found(old.found, runs, require(db, Recording, track.recording_id, "recording").frames)
    last = max((run.end for run in runs), default=0)
    before = marks_of(old.clips.table, found, place_hands(old.hands, runs), state.rules, state.rate, last)
    changed, gone = differing(before, state.marks)
    scope.new_marks |= changed
    # what other dips lie over is as loud as they let it be
    for marks, named in ((before, changed | gone), (state.marks, changed)):
        places = marks.at(named)
        spans = state.clips.spans
        under = _touched(spans.start, spans.end, *(side[places] for side in marks.reach))
        scope.clips.update(state.clips.ids[place] for place in np.flatnonzero(under).tolist())
    removed.add(track_id, sorted(gone))
    # what lies beside a clip that went from there has another neighbour now
    rows = clip_rows(db, track_id)
    ends = [row["before"][name] for row in touched if row["before"] is not None for name in ("start", "end")]
    for place in np.searchsorted(rows.table.spans.start, ends).tolist() if len(rows) else ():
        scope.clips.update(rows[at].id for at in (place - 1, place) if 0 <= at < len(rows))


def _moves_levels(row: dict[str, Any]) -> bool:
    """Whether an edit of a session's row gives phrases other levels, and not only another target."""
    before, after = row["before"] or {}, row["after"] or {}
    return any(before.get(name) != after.get(name) for name in ("unit", "mono_as_two"))


def _clips_under_lane(db: DbSession, row: dict[str, Any]) -> list[str]:
    """The clips of which an edit of a lane changed the gain."""
    sides = [side for side in (row["before"], row["after"]) if side is not None]
    track = db.get(Track, sides[0]["track_id"])
    if track is None:
        return []
    rate = clip_rows(db, track.id).rate
    before, after = (_lane_of(side) for side in (row["before"], row["after"]))
    span = changed_span(before, after)
    if span is None:
        return []
    clips = clip_rows(db, track.id).table
    under = (clips.spans.end > max(span[0], 0.0) * rate) & (clips.spans.start < span[1] * rate)
    return [clips.ids[place] for place in np.flatnonzero(under).tolist()]


def _lane_of(side: dict[str, Any] | None) -> Curve:
    """What a lane of a track did, or does now; EMPTY where it was off or not there."""
    return EMPTY if side is None else Lane(unpack_curve(side["points"]), side["offset"], side.get("off", False)).heard()


def _with_neighbours(places: Mapping[str, int], only: Collection[str]) -> npt.NDArray[np.int64]:
    """The places of some clips and of those beside them, in order."""
    at = np.array([places[id] for id in only if id in places], np.int64)
    near = np.unique(np.concatenate([at - 1, at, at + 1]))
    return near[(near >= 0) & (near < len(places))]
