"""Answers: the state of a session after a step, with the clips and marks that are different.

What many clips and marks have in common - a rule that moved, a draft that was accepted - is told by their values, column by
column; what became another clip or mark is told whole, and column by column too where there are many.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import partial

import numpy as np
from sqlalchemy.orm import Session as DbSession

from nivelus.core.chain.state import TrackState
from nivelus.core.errors import DiskFull, NivelusError, NotFound, Refused
from nivelus.services.answers.followers import mind_followers
from nivelus.services.answers.scopes import (
    ROW_OF_CLIP,
    SHAPE_OF_CLIP,
    Gone,
    Scope,
    clips_under_lane,
    in_clips,
    moves_levels,
    scope_of_marks,
    scope_of_rules,
    with_neighbours,
)
from nivelus.services.track.rules import ride_settings
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
    TrimSettings,
)
from nivelus.store import history
from nivelus.store.editing import Edit
from nivelus.store.history import ReadBack, require
from nivelus.store.reading import carry, clip_rows, forget
from nivelus.store.steps import names_changed
from nivelus.store.tables import Session, Track, takes_of
from nivelus.store.track_rows import tracks_in_order

MANY = 200
"""Clips or marks from which an answer tells those that stay what they were by their values, column by column."""
RULE_FIELDS = tuple(RuleView.model_fields)


def reading_back(bench: Workbench, answers: bool = True) -> ReadBack:
    """Return what reads an edit back before it is committed and refuses one that leads to a state that cannot be read.

    It also makes the answer to the edit, unless nobody waits for one.
    """

    def read(edit: Edit) -> None:
        # what is kept of a revision that never came to be must not be taken for that of the next one
        edit.db.info.setdefault("undone", []).append(partial(forget, edit.session.id))
        mind_followers(edit)
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
        if before is not None and (after is None or not ROW_OF_CLIP.isdisjoint(changed)):
            removed.add(before["track_id"], [row["id"]])
        if after is None:
            continue
        own = scope(after["track_id"])
        if before is not None and SHAPE_OF_CLIP.isdisjoint(changed):
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
        if after is not None and before.get("follows") != after["follows"]:
            scope(row["id"]).whole = True
    session = require(db, Session, edit.session.id, "session")
    by_track = edit.touched_by_track("clip")
    for track_id, kept in remarked.items():
        scope_of_marks(bench, db, session, track_id, kept, by_track.get(track_id, []), scope(track_id), removed_marks)
    for row in edit.touched("lane"):
        side = row["after"] or row["before"]
        scope(side["track_id"]).clips.update(clips_under_lane(db, row))
    for row in edit.touched("track"):
        if row["before"] and row["after"] and row["before"]["dip_rules"] != row["after"]["dip_rules"]:
            track = require(db, Track, row["id"], "track")
            now = state_of(bench, db, session, track, timeline_of(db, track))
            old = replace(now, rules=core_rules(rules_by_kind(row["before"]["dip_rules"])))
            scope_of_rules(old, now, scope(row["id"]))
    if any(moves_levels(row) for row in edit.touched("session")):
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
                trim=TrimSettings(offset=state.lanes.trim.offset, off=state.lanes.trim.off),
                range_low=track.range_low,
                range_high=track.range_high,
                timeline=view_timeline(timeline),
                take=track.take,
                takes=[TakeName(**item, recordings=recordings[item["number"]]) for item in takes_of(track)],
                load=load_settings(track),
                duck=duck_settings(track),
                follows=track.follows,
                lag=track.lag / timeline.sample_rate,
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
        ride=ride_settings(session),
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
        wanted = with_neighbours(clips.places, scope.clips | scope.new_clips)
    if scope.whole or scope.every:
        chosen = np.ones(len(marks.ids), bool)
    else:
        chosen = in_clips(state, wanted if not scope.relevelled else wanted[:0])
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
        new |= in_clips(state, np.array([clips.places[id] for id in scope.new_clips if id in clips.places], np.int64))
        new &= chosen
    told = np.flatnonzero(new)
    if len(told) < MANY:
        content.marks += view_marks(state, track_id, told)
    else:
        content.mark_columns[track_id] = mark_columns(state, told)
    valued = np.flatnonzero(chosen & ~new)
    if len(valued):
        content.mark_values[track_id] = mark_values(state, valued)
