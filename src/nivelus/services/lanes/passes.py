"""The use cases of riding by hand: passes are taken down while they play, wait until they are decided on, and are kept.

Taking a pass down changes nothing of the session: it is based on the lane that was heard, not on the session's revision, so
an edit elsewhere loses none of it. Deciding on one is a step of the history.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from hashlib import blake2b
from typing import Any

import numpy as np
from sqlalchemy.orm import Session as DbSession

from nivelus.core.errors import Locked, Refused
from nivelus.core.gain.clips import compile_clip_gains
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import Curve, finite, flatten, plain
from nivelus.core.gain.edits import copy_range, paste
from nivelus.core.gain.together import add, changed_span
from nivelus.core.passes.gesture import EXACT, Gesture, Run, gesture_of, pairs_of, reduced
from nivelus.core.passes.snapping import snapped
from nivelus.core.passes.writing import GLIDE, THINNING, WriteRule, by_phrase, written
from nivelus.services.answers.edits import count_of, run_edit
from nivelus.services.lanes.drawing import SHORTEST_PIECE
from nivelus.services.lanes.parts import NAMES
from nivelus.services.lanes.rides import view_points
from nivelus.services.lanes.rows import lane_heard, lane_owner, owners_of
from nivelus.services.track.latest import Newest
from nivelus.services.track.limits import limited
from nivelus.services.track.stamps import require_same, stamp_of
from nivelus.services.track.state import owners_of_track, state_of, working_range
from nivelus.services.track.timeline import Timeline
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.passes import PassDraftView, PassesView, PassView, PhraseGain
from nivelus.services.views.session import Changed, SpanView
from nivelus.store.editing import Edit
from nivelus.store.history import require
from nivelus.store.packing import pack_line, unpack_curve
from nivelus.store.pass_rows import bytes_of, passes_of_take, pieces, take_out_pieces
from nivelus.store.reading import clip_rows, lanes_of
from nivelus.store.tables import Clip, Pass, PassPiece, Track

COVERED = 0.5
"""Share of a phrase that a pass has to cover for its mean to be clip gain."""
LEAST_GAIN = 0.05
"""dB from which a mean is worth a clip gain."""
PAIR_BYTES = np.dtype("<f8").itemsize * 2


@dataclass(frozen=True, slots=True)
class Settings:
    """How a pass is to be written: seconds of glide and lead, dB that points may stray, and whether it is pulled to phrases."""

    glide: float = GLIDE
    lead: float = 0.0
    error: float = THINNING
    snap: bool = False


# --- taking down


def end(bench: Workbench, pass_id: str) -> PassView | None:
    """The hand has let go, or playing has stopped: the pass waits to be decided on. None if there is nothing in it."""
    with bench.database.writing() as db:
        row = require(db, Pass, pass_id, "pass")
        _, track, timeline = owners_of_track(db, row.track_id)
        if row.state == "writing":
            gesture = reduced(_gesture(db, pass_id), EXACT)
            take_out_pieces(db, pass_id)
            if not gesture.runs:
                db.delete(row)
                return None
            data = pairs_of(gesture).astype("<f8").tobytes()
            db.add(PassPiece(pass_id=pass_id, first=0, session_id=row.session_id, data=data))
            row.state = "waiting"
            db.flush()
        return Lanes(db, track, timeline).view(row)


# --- looking


def view(bench: Workbench, track_id: str) -> PassesView:
    """The passes of the take that is heard that are not dropped, the newest first."""
    with bench.database.reading() as db:
        _, track, timeline = owners_of_track(db, track_id)
        rows = passes_of_take(db, track_id, track.take)
        lanes, counts = Lanes(db, track, timeline), _counts(db, [row.id for row in rows])
        return PassesView(items=[lanes.view(row, counts.get(row.id, 0)) for row in rows])


def draft(bench: Workbench, pass_id: str, settings: Settings) -> PassDraftView:
    """What keeping a pass would make of its lane. Nothing is changed."""
    with bench.database.reading() as db:
        row = require(db, Pass, pass_id, "pass")
        _, track, timeline = owners_of_track(db, row.track_id)
        before = lane_heard(db, track, timeline.sample_rate, row.lane)
        after = _written(db, track, timeline, row, settings, before)
        span = changed_span(before, after)
        if span is None:
            return PassDraftView(points=[], at=[], by=[], phrases=[], stamp=stamp_of(after))
        first, last = max(span[0], 0.0), min(span[1], timeline.duration)
        change = flatten(add(after, replace(before, db=-finite(before.db))))
        edges = change.finite_at(np.array([first, last]))
        inside = change.inside(first, last)
        at = np.concatenate([[first], change.at[inside], [last]])
        by = np.concatenate([edges[:1], finite(change.db)[inside], edges[1:]])
        return PassDraftView(
            points=view_points(after.keep(after.inside(first, last))),
            at=at.tolist(),
            by=by.tolist(),
            phrases=[PhraseGain(clip=id, by=gain) for id, gain in _clip_gains(db, track, timeline, row, before, after).items()],
            stamp=stamp_of(after),
        )


# --- deciding


def keep(
    bench: Workbench,
    pass_id: str,
    revision: int,
    settings: Settings,
    as_clip_gain: bool = False,
    stamp: str | None = None,
) -> Changed:
    """Make a pass what its lane is, as one step. With ``as_clip_gain`` the mean in each phrase becomes clip gain.

    With a ``stamp`` only the draft that had it is kept.

    Raises
    ------
    NotFound, Refused, Stale, DraftChanged
    """
    track_id = _track_of(bench, pass_id)

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        row = require(edit.db, Pass, pass_id, "pass")
        again = row.state == "kept"
        if again and row.lane == "trim":
            raise Refused("This pass is already in the trim. Undo that to keep it another way.")
        before = lane_heard(edit.db, track, timeline.sample_rate, row.lane)
        after = _written(edit.db, track, timeline, row, settings, before)
        require_same(stamp, after)
        edit.label = f"Keep pass {row.number} in the {NAMES[row.lane]}{' again' if again else ''}"
        if as_clip_gain:
            gains = _clip_gains(edit.db, track, timeline, row, before, after)
            breaths = state_of(bench, edit.db, edit.session, track, timeline).breaths
            if not gains:
                raise Refused("This pass covers no phrase whose clip gain it could be.")
            after = add(after, replace(moved := _give(edit, track, timeline, gains, breaths), db=-finite(moved.db)))
            edit.label = f"Turn pass {row.number} into clip gain of {count_of(len(gains), 'phrase')}"
        left = _put(edit, track, timeline, row.lane, before, after)
        if left:
            edit.told = f"{count_of(left, 'locked phrase')} stayed as {'it was' if left == 1 else 'they were'}"
        row.state = "kept"
        for name, value in asdict(settings).items():
            setattr(row, name, value)

    return run_edit(bench, track_id, "Keep a pass", revision, work)


def drop(bench: Workbench, pass_id: str, revision: int) -> Changed:
    """Let a pass go; undo brings it back."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        row = require(edit.db, Pass, pass_id, "pass")
        row.state = "dropped"
        edit.label = f"Discard pass {row.number}"

    return run_edit(bench, _track_of(bench, pass_id), "Drop a pass", revision, work)


# --- how it is done


def _track_of(bench: Workbench, pass_id: str) -> str:
    with bench.database.reading() as db:
        track_id: str = require(db, Pass, pass_id, "pass").track_id
    return track_id


def count_of_pairs(db: DbSession, pass_id: str) -> int:
    """How many pairs of a pass are there."""
    return _counts(db, [pass_id]).get(pass_id, 0)


def _counts(db: DbSession, ids: Sequence[str]) -> dict[str, int]:
    """How many pairs of some passes are there, of each of which there is any."""
    return {id: held // PAIR_BYTES for id, held in bytes_of(db, ids).items()}


def _gesture(db: DbSession, pass_id: str) -> Gesture:
    return gesture_of(np.frombuffer(pieces(db, pass_id), "<f8").reshape(-1, 2))


def stamp_of_lane(db: DbSession, track: Track, lane: str) -> str:
    """What tells a lane from any other that sounds otherwise: what is drawn in it, and where."""
    content: Any
    if lane == "curve":
        content = [(c.start, c.end, c.shift, c.recording_id, pack_line(unpack_curve(c.curve))) for c in clip_rows(db, track.id)]
    else:
        value = getattr(lanes_of(db, track.id), lane)
        content = (pack_line(value.points), value.offset, value.off)
    return blake2b(repr(content).encode(), digest_size=9).hexdigest()


_spans: Newest[tuple[float, float] | None] = Newest(2000)
"""From when to when passes hold the hand, by their ids and how much of them is there."""


class Lanes:
    """The lanes of a track as they are, each read once however many passes are looked at."""

    def __init__(self, db: DbSession, track: Track, timeline: Timeline) -> None:
        self._db, self._track, self._timeline = db, track, timeline
        self._known: dict[str, tuple[Curve, str]] = {}

    def view(self, row: Pass, count: int | None = None) -> PassView:
        """A pass over its lane as it is now; ``count`` is how many pairs of it are there. Its line is drawn by ``draft``."""
        _, stamp = self._lane(row.lane)
        count = count_of_pairs(self._db, row.id) if count is None else count
        # what was taken down only grows
        held = _spans.get((row.id, count), lambda: _gesture(self._db, row.id).span)
        span = _span_of(row)
        start, end = held or (row.span_start or 0.0, row.span_start or 0.0)
        return PassView(
            id=row.id,
            number=row.number,
            lane=row.lane,
            mode=row.mode,
            state="kept" if row.state == "kept" else "waiting",
            start=start,
            end=end,
            span=None if span is None else SpanView(start=span[0], end=span[1]),
            elsewhere=row.state != "kept" and row.stamp != stamp,
            **asdict(_settings_of(row)),
        )

    def _lane(self, name: str) -> tuple[Curve, str]:
        """A lane without its offset, and its stamp."""
        if name not in self._known:
            curve = lane_heard(self._db, self._track, self._timeline.sample_rate, name)
            self._known[name] = curve, stamp_of_lane(self._db, self._track, name)
        return self._known[name]


def _settings_of(row: Pass) -> Settings:
    return Settings(row.glide, row.lead, row.error, row.snap)


def _span_of(row: Pass) -> tuple[float, float] | None:
    """What a pass was meant for, if that was limited."""
    return None if row.span_start is None or row.span_end is None else (row.span_start, row.span_end)


def _written(
    db: DbSession,
    track: Track,
    timeline: Timeline,
    row: Pass,
    settings: Settings,
    before: Curve,
    gesture: Gesture | None = None,
) -> Curve:
    """The lane with a pass in it."""
    gesture = _gesture(db, row.id) if gesture is None else gesture
    if row.lane != "trim":
        # what was heard lay within the working range
        low, high = working_range(track)
        gesture = Gesture(tuple(Run(run.at, np.clip(run.db, low, high)) for run in gesture.runs))
    if settings.snap:
        gesture = snapped(gesture, clip_rows(db, track.id).table.phrases / timeline.sample_rate)
    rule = WriteRule(row.lane == "trim", settings.glide, settings.lead, settings.error, _span_of(row))
    return written(before, gesture, rule, timeline.duration)


def _put(edit: Edit, track: Track, timeline: Timeline, lane: str, before: Curve, after: Curve) -> int:
    """Put a lane back as it is now; how many locked clips were left as they are."""
    span = changed_span(before, after)
    if span is None:
        raise Refused("This pass changes nothing: it holds what was there.")
    if lane != "curve":
        lane_owner(edit, track, timeline, lane).put(after)
        return 0
    left = drawn = 0
    for owner in owners_of(edit, track, timeline, lane, (max(span[0], 0.0), min(span[1], timeline.duration))):
        a, b = max(span[0], owner.start), min(span[1], owner.end)
        if b - a < SHORTEST_PIECE:
            continue
        if isinstance(owner.row, Clip) and owner.row.locked:
            left += 1
            continue
        owner.put(paste(owner.curve(), a, copy_range(after, a, b)))
        drawn += 1
    if not drawn:
        raise Locked("All phrases under this pass are locked.", "Unlock them first.")
    return left


def _clip_gains(db: DbSession, track: Track, timeline: Timeline, row: Pass, before: Curve, after: Curve) -> dict[str, float]:
    """By how much each phrase that a pass covers was moved on the average, by clip; those that are locked are not."""
    span = changed_span(before, after)
    table = clip_rows(db, track.id).table
    if span is None or row.lane == "curve":
        return {}
    places = table.voiced[~(table.locked | table.left_out)[table.voiced]]
    phrases = table.phrases_of(places) / timeline.sample_rate
    covered = np.minimum(phrases[:, 1], span[1]) - np.maximum(phrases[:, 0], span[0])
    means = np.round(by_phrase(before, after, phrases), 2)
    chosen = (covered >= COVERED * (phrases[:, 1] - phrases[:, 0])) & (np.abs(means) >= LEAST_GAIN)
    return {table.ids[place]: float(by) for place, by in zip(places[chosen].tolist(), means[chosen].tolist(), strict=True)}


def _give(edit: Edit, track: Track, timeline: Timeline, gains: dict[str, float], breaths: FloatArray) -> Curve:
    """Add to the gain of clips; what that does to the track, as a curve in seconds."""
    rows = clip_rows(edit.db, track.id)
    table = rows.table
    own = [row for row in rows if row.id in gains]
    given = {row.id: limited(row.gain + gains[row.id]) - row.gain for row in own}
    edit.change_many(Clip, own, {row.id: {"gain": row.gain + given[row.id], "by_hand": True, "drafted": False} for row in own})
    by = np.array([given.get(id, 0.0) for id in table.ids])
    moved = compile_clip_gains(table.spans, by, timeline.sample_rate, breaths)
    at: FloatArray = moved.at / timeline.sample_rate
    return plain(np.round(at, 6), moved.db)
