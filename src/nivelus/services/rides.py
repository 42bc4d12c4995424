"""The use cases of the ride: drafts, lifts, points, ranges, the trim and its folding, curves from elsewhere."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import replace
from pathlib import PurePath
from typing import Any

import numpy as np
from sqlalchemy.orm import Session as DbSession
from sqlmodel import col, select

from nivelus.core.deliver.curve_formats import FORMATS, parse_curve
from nivelus.core.drafts.ride import RideDraft, RideRule, draft_ride, inner_spread
from nivelus.core.errors import CurveFileError, NotFound, Refused
from nivelus.core.gain.curve import GainCurve
from nivelus.core.gain.curves import CLOSEST, EMPTY, Curve, Shape, add
from nivelus.core.gain.edits import (
    add_point,
    copy_range,
    delete_points,
    delete_range,
    draw,
    lift,
    move_points,
    paste,
    set_points,
    smooth,
    thin,
)
from nivelus.services.lanes import NOTHING, drawn_gain, lane_curve, lane_values, with_drawn
from nivelus.services.levels import clip_rows, gain_curve, gain_per_frame
from nivelus.services.marks import marks_of
from nivelus.services.sessions import run_edit
from nivelus.services.views import Changed, RideDraftView, RidePhraseView, RidePoint, RideView
from nivelus.services.workbench import Workbench
from nivelus.store.history import Edit, require
from nivelus.store.packing import pack_curve, unpack_curve
from nivelus.store.tables import Clip, Lane, Recording, Session, Track

WORKING_RANGE = (-60.0, 24.0)
"""dB that the hand may draw between."""
RAMP = 0.06
"""Seconds of the ramps of a lift."""
SMOOTHING = 0.4
DRAWING = 0.2
THINNING = 0.3
MOST_POINTS = 100_000
MOST_BYTES = 16 << 20

Drawing = Callable[[Curve], Curve]


def view(bench: Workbench, track_id: str) -> RideView:
    """The lanes as points, and how much goes on inside each phrase without the ride and with it."""
    with bench.database.reading() as db:
        track = require(db, Track, track_id, "track")
        recording = require(db, Recording, track.recording_id, "recording")
        values = lane_values(db, track_id)
        phrases: list[RidePhraseView] = []
        if not recording.missing:
            clips = clip_rows(db, track_id)
            curve = _before_ride(db, track, recording, clips)
            whole = with_drawn(curve, drawn_gain(db, track_id, recording.sample_rate))
            grid = bench.vault.grid(recording)
            power = np.asarray(grid.column("k"), np.float64)
            before, after = (power * gain_per_frame(side, recording)[:, 0] for side in (curve, whole))
            for clip in clips:
                if clip.phrase_start is not None:
                    span = grid.span(*_seconds(clip, recording))
                    spreads = inner_spread(before[span]), inner_spread(after[span])
                    phrases.append(RidePhraseView(clip=clip.id, before=spreads[0], after=spreads[1], reason=""))
        return RideView(
            ride=_points(unpack_curve(values["ride"][0])),
            trim=_points(unpack_curve(values["trim"][0])),
            offset=values["trim"][1],
            phrases=phrases,
        )


def draft(
    bench: Workbench, track_id: str, values: dict[str, Any] | None = None, ids: Collection[str] | None = None
) -> RideDraftView:
    """What a drafted ride would be and do. Nothing is changed."""
    with bench.database.reading() as db:
        track = require(db, Track, track_id, "track")
        recording = require(db, Recording, track.recording_id, "recording")
        session = require(db, Session, track.session_id, "session")
        clips, result = _propose(bench, db, session, track, recording, values or {}, ids)
    done = [p for p in result.phrases if p.reason != "not chosen"]
    return RideDraftView(
        points=_points(result.curve),
        phrases=[
            RidePhraseView(clip=clip.id, before=p.spread_before, after=p.spread_after, reason=p.reason)
            for clip, p in zip(clips, result.phrases, strict=True)
        ],
        before=float(np.mean([p.spread_before for p in done])) if done else 0.0,
        after=float(np.mean([p.spread_after for p in done])) if done else 0.0,
    )


def accept(
    bench: Workbench,
    track_id: str,
    revision: int,
    values: dict[str, Any] | None = None,
    ids: Collection[str] | None = None,
) -> Changed:
    """Make the drafted ride the ride, as one step."""

    def work(edit: Edit, track: Track, recording: Recording) -> None:
        _, result = _propose(bench, edit.db, edit.session, track, recording, values or {}, ids)
        _row(edit, track, "ride").points = pack_curve(result.curve)
        edit.label = "Draft a ride" if ids is None else f"Draft a ride for {_count(len(ids), 'phrase')}"

    return run_edit(bench, track_id, "Draft a ride", revision, work)


def lift_span(bench: Workbench, track_id: str, revision: int, lane: str, start: float, end: float, by: float) -> Changed:
    """Raise or lower a span of a lane; the points and ramps are made for it."""
    return _draw(
        bench,
        track_id,
        revision,
        lane,
        f"Lift the {lane} by {by:+.1f} dB",
        lambda curve: lift(curve, start, end, by, RAMP, RAMP),
    )


def put_point(bench: Workbench, track_id: str, revision: int, lane: str, at: float, db: float | None = None) -> Changed:
    """Make a point on the curve where it is, or at a gain."""

    def work(curve: Curve) -> Curve:
        value = float(curve([at])[0]) if db is None else db
        return add_point(curve, at, max(value, WORKING_RANGE[0]))

    return _draw(bench, track_id, revision, lane, f"A point in the {lane}", work)


def change_points(
    bench: Workbench,
    track_id: str,
    revision: int,
    lane: str,
    points: list[int],
    seconds: float = 0.0,
    by: float = 0.0,
    to: float | None = None,
    shape: str | None = None,
    gone: bool = False,
) -> Changed:
    """Move points by seconds and dB, give them an exact gain or a shape, or delete them."""

    def work(curve: Curve) -> Curve:
        chosen = np.array(sorted(set(points)), np.int64)
        if chosen.min() < 0 or chosen.max() >= len(curve):
            raise NotFound("This point is not there any more.")
        if gone:
            return delete_points(curve, chosen)
        if to is not None or shape is not None:
            curve = set_points(curve, chosen, to, None if shape is None else Shape[shape.upper()])
        return move_points(curve, chosen, seconds, by)

    count = _count(len(set(points)), "point")
    label = f"Delete {count}" if gone else f"Move {count}" if seconds or by else f"Set {count}"
    return _draw(bench, track_id, revision, lane, f"{label} of the {lane}", work)


def change_range(bench: Workbench, track_id: str, revision: int, lane: str, start: float, end: float, what: str) -> Changed:
    """Delete what lies in a range of a lane, smooth it, or thin it. Outside nothing changes.

    The ramps that a lift made beside the range go with what is deleted.
    """
    ways: dict[str, Drawing] = {
        "delete": lambda curve: delete_range(curve, *_with_ramps(curve, start, end)),
        "smooth": lambda curve: smooth(curve, start, end, SMOOTHING),
        "thin": lambda curve: thin(curve, THINNING, start, end),
    }
    label = {"delete": "Delete a range of the", "smooth": "Smooth the", "thin": "Thin the"}[what]
    return _draw(bench, track_id, revision, lane, f"{label} {lane}", ways[what], needs_points=True)


def draw_line(bench: Workbench, track_id: str, revision: int, lane: str, points: list[tuple[float, float]]) -> Changed:
    """Put what the hand drew (seconds and dB, in whatever direction) in place of what was there, in few points."""
    at, db = np.array(points, np.float64).T
    if np.ptp(at) < 4 * RAMP:
        raise Refused("Draw a little further: a line needs a quarter of a second.")
    return _draw(bench, track_id, revision, lane, f"Draw the {lane}", lambda curve: draw(curve, at, db, DRAWING))


def paste_range(
    bench: Workbench,
    track_id: str,
    revision: int,
    lane: str,
    at: float,
    start: float,
    end: float,
    source: tuple[str, str],
) -> Changed:
    """Put a range of a lane, maybe of another track (``source``: its track and lane), at a moment of this one."""
    with bench.database.reading() as db:
        require(db, Track, source[0], "track")
        piece = copy_range(unpack_curve(lane_values(db, source[0])[source[1]][0]), start, end)
    return _draw(bench, track_id, revision, lane, f"Paste into the {lane}", lambda curve: paste(curve, at, piece))


def clear(bench: Workbench, track_id: str, revision: int, lane: str) -> Changed:
    """Take all points of a lane away, and the offset of a trim."""

    def work(edit: Edit, track: Track, recording: Recording) -> None:
        row = _row(edit, track, lane)
        if not row.points and row.offset == 0.0:
            raise Refused(f"There is no {lane} to take away.")
        row.points, row.offset = "", 0.0

    return run_edit(bench, track_id, f"Take the {lane} away", revision, work)


def set_offset(bench: Workbench, track_id: str, revision: int, db: float) -> Changed:
    """Trim the whole track by some dB."""

    def work(edit: Edit, track: Track, recording: Recording) -> None:
        _row(edit, track, "trim").offset = round(db, 2) + 0.0

    return run_edit(bench, track_id, f"Trim to {db:+.1f} dB", revision, work)


def fold(bench: Workbench, track_id: str, revision: int) -> Changed:
    """Make the sum of ride and trim the new ride; the trim is empty then. What is heard stays."""

    def work(edit: Edit, track: Track, recording: Recording) -> None:
        trim = _row(edit, track, "trim")
        if not trim.points and trim.offset == 0.0:
            raise Refused("There is no trim to fold into the ride.")
        ride = _row(edit, track, "ride")
        ride.points = pack_curve(add(lane_curve(ride.points, ride.offset), lane_curve(trim.points, trim.offset)))
        ride.offset = trim.offset = 0.0
        trim.points = ""

    return run_edit(bench, track_id, "Fold the trim into the ride", revision, work)


def bring_in(bench: Workbench, track_id: str, revision: int, lane: str, name: str, data: bytes) -> Changed:
    """Bring in a curve that was drawn elsewhere, in place of what is in a lane."""
    curve = parse_curve(PurePath(name), data)
    if len(curve) > MOST_POINTS:
        curve = thin(curve, 0.05)
    if len(curve) > MOST_POINTS:
        raise CurveFileError(f"“{PurePath(name).name}” holds more than {MOST_POINTS} points.")

    def work(edit: Edit, track: Track, recording: Recording) -> None:
        row = _row(edit, track, lane)
        row.points, row.offset = pack_curve(curve), 0.0

    return run_edit(bench, track_id, f"Bring in a {lane}", revision, work)


def write_out(bench: Workbench, track_id: str, lane: str, ending: str) -> tuple[str, bytes]:
    """A lane as a file: its name and its bytes."""
    with bench.database.reading() as db:
        track = require(db, Track, track_id, "track")
        curve = lane_curve(*lane_values(db, track_id).get(lane, NOTHING))
    known = next((known for known in FORMATS if f".{ending}" == known.endings[0]), None)
    if known is None or not len(curve):
        raise Refused(f"There is no {lane} to write out." if known else "A curve is written as csv or mid.")
    return f"{track.name} {lane}.{ending}", known.write(curve)


def _with_ramps(curve: Curve, start: float, end: float) -> tuple[float, float]:
    """A range with the points that lie beside it no further than the ramps of a lift."""
    start, end = min(start, end), max(start, end)
    near = curve.at[(curve.at >= start - RAMP - CLOSEST) & (curve.at <= end + RAMP + CLOSEST)]
    return min(start, *near[:1].tolist()), max(end, *near[-1:].tolist())


def _draw(
    bench: Workbench, track_id: str, revision: int, lane: str, label: str, work: Drawing, needs_points: bool = False
) -> Changed:
    def run(edit: Edit, track: Track, recording: Recording) -> None:
        row = _row(edit, track, lane)
        curve = unpack_curve(row.points)
        if needs_points and not len(curve):
            raise Refused(f"There is no {lane} here yet.")
        drawn = work(curve)
        limited = replace(drawn, db=np.where(np.isneginf(drawn.db), drawn.db, np.clip(drawn.db, *WORKING_RANGE)))
        row.points = pack_curve(limited)

    return run_edit(bench, track_id, label, revision, run)


def _row(edit: Edit, track: Track, lane: str) -> Lane:
    row = edit.db.scalars(select(Lane).where(col(Lane.track_id) == track.id, col(Lane.name) == lane)).first()
    if row is None:
        row = Lane(track_id=track.id, name=lane)
        edit.db.add(row)
    return row


def _propose(
    bench: Workbench,
    db: DbSession,
    session: Session,
    track: Track,
    recording: Recording,
    values: dict[str, Any],
    ids: Collection[str] | None,
) -> tuple[list[Clip], RideDraft]:
    if recording.missing:
        raise Refused("The sound file of this track is missing. Bring it in again.")
    every = clip_rows(db, track.id)
    clips = [clip for clip in every if clip.phrase_start is not None]
    chosen = np.array([(ids is None or clip.id in ids) and not (clip.locked or clip.left_out) for clip in clips], bool)
    if not chosen.any():
        raise Refused("There is no phrase here to ride.")
    given = {name: value / 100 if name == "strength" else value for name, value in values.items()}
    rule = RideRule(**{"noise_limit": session.noise_limit, "dead_band": session.tolerance} | given)
    present = lane_curve(*lane_values(db, track.id)["ride"])
    whole = bool(chosen.all())
    result = draft_ride(
        bench.vault.grid(recording),
        gain_per_frame(_before_ride(db, track, recording, every), recording),
        [_seconds(clip, recording) for clip in clips],
        np.array([clip.room_tone for clip in clips]),
        rule,
        chosen=None if whole else chosen,
        present=EMPTY if whole else present,
    )
    return clips, result


def _before_ride(db: DbSession, track: Track, recording: Recording, clips: Sequence[Clip]) -> GainCurve:
    """All gain that comes before the ride, for the clips of a whole track."""
    return gain_curve(clips, recording, marks_of(db, track, recording, clips).curve())


def _seconds(clip: Clip, recording: Recording) -> tuple[float, float]:
    rate = recording.sample_rate
    return (clip.phrase_start or 0) / rate, (clip.phrase_end or 0) / rate


def _points(curve: Curve) -> list[RidePoint]:
    rows = zip(curve.at.tolist(), curve.db.tolist(), curve.shape.tolist(), strict=True)
    return [RidePoint(at=at, db=max(db, -144.0), shape=Shape(shape).name.lower()) for at, db, shape in rows]


def _count(count: int, what: str) -> str:
    return f"1 {what}" if count == 1 else f"{count} {what}s"
