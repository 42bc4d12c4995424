"""The use cases of the ride: what is drawn and what strays, and drafts."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import replace
from typing import Any

import numpy as np
from sqlalchemy.orm import Session as DbSession

from nivelus.core.chain.proposals import propose_ride, with_ride
from nivelus.core.chain.state import NO_LANES, TrackState
from nivelus.core.drafts.from_rule import ride_rule
from nivelus.core.drafts.ride import RideDraft
from nivelus.core.drafts.strays import Stray, deviations_of, find_strays
from nivelus.core.errors import Refused
from nivelus.core.gain.clip_curves import heard
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import SILENT, Curve, Shape
from nivelus.core.gain.lane_edits import RAMP
from nivelus.core.gain.point_edits import shift
from nivelus.core.measure.grid import FRAME, LevelGrid
from nivelus.core.measure.inside import inner_spread
from nivelus.services.answers.edits import count_of, run_edit
from nivelus.services.answers.settling import settle_phrases
from nivelus.services.lanes.parts import put_lane
from nivelus.services.lanes.rows import point_names
from nivelus.services.track.latest import Newest
from nivelus.services.track.rules import rule_of
from nivelus.services.track.stamps import require_same, stamp_of
from nivelus.services.track.state import owners_of_track, state_of
from nivelus.services.track.targets import limits_of
from nivelus.services.track.timeline import MISSING, Timeline
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.ride import InsideView, LanePoint, RideDraftView, RidePhraseView, RidePoint, RideView, StrayView
from nivelus.services.views.session import Changed
from nivelus.store.clip_rows import ClipRow
from nivelus.store.editing import Edit
from nivelus.store.packing import unpack_curve
from nivelus.store.reading import clip_rows, lanes_of
from nivelus.store.tables import Session, Track

Span = tuple[float, float]
_drafts: Newest[tuple[TrackState, RideDraft]] = Newest(2)
"""What was drafted last, each with the state that it is of: what is shown is accepted a moment later."""


def view_points(curve: Curve) -> list[RidePoint]:
    """The points of a curve as the interface shows them."""
    rows = zip(curve.at.tolist(), curve.db.tolist(), curve.shape.tolist(), strict=True)
    return [RidePoint(at=at, db=max(db, SILENT), shape=Shape(shape).name.lower()) for at, db, shape in rows]


def _lane_points(curve: Curve, clip: str | None = None) -> list[LanePoint]:
    """The points of a lane, or of what a clip owns of one."""
    rows = zip(curve.at.tolist(), curve.db.tolist(), curve.shape.tolist(), point_names(curve, clip), strict=True)
    return [
        LanePoint(at=at, db=max(db, SILENT), shape=Shape(shape).name.lower(), id=id, clip=clip) for at, db, shape, id in rows
    ]


def view(bench: Workbench, track_id: str) -> RideView:
    """The lanes as points."""
    with bench.database.reading() as db:
        _, _, timeline = owners_of_track(db, track_id)
        lanes = lanes_of(db, track_id)
        return RideView(
            curve=_clip_points(clip_rows(db, track_id), timeline.sample_rate),
            ride=_lane_points(lanes.ride.points),
            trim=_lane_points(lanes.trim.points),
            offset=lanes.trim.offset,
            ramp=RAMP,
        )


def inside(bench: Workbench, track_id: str) -> InsideView:
    """How much goes on inside each phrase without the ride and with it, and where. O(frames)."""
    with bench.database.reading() as db:
        session, track, timeline = owners_of_track(db, track_id)
        state = state_of(bench, db, session, track, timeline)
    grid = state.grid
    if grid is None:
        return InsideView(phrases=[], strays=[])
    spans, ids = _phrase_slices(state), _phrase_ids(state)
    # what was asked for of a word does not make it stray
    (before, _), (after, vowels) = _powers(grid, _without(state)), _powers(grid, state.unwished)
    return InsideView(
        phrases=[
            RidePhraseView(clip=id, before=inner_spread(before[span]), after=inner_spread(after[span]), reason="")
            for id, span in zip(ids, spans, strict=True)
        ],
        strays=[
            StrayView(
                clip=ids[stray.phrase],
                start=stray.frames.start * FRAME,
                end=stray.frames.stop * FRAME,
                deviation=stray.deviation,
            )
            for stray in _strays(session, state, after, vowels)
        ],
    )


def draft(
    bench: Workbench,
    track_id: str,
    values: dict[str, Any] | None = None,
    ids: Collection[str] | None = None,
    span: Span | None = None,
) -> RideDraftView:
    """What a drafted ride would be and do, for all phrases, some of them, or within a span. Nothing is changed."""
    with bench.database.reading() as db:
        session, track, timeline = owners_of_track(db, track_id)
        state = state_of(bench, db, session, track, timeline)
        result, grid = _propose(bench, db, session, state, values or {}, ids, span)
        (now, vowels), (drafted, _) = (_powers(grid, some.unwished) for some in (state, with_ride(state, result.curve)))
        strays = _strays(session, state, now, vowels)
    done = [p for p in result.phrases if p.reason != "not chosen"]
    return RideDraftView(
        points=view_points(result.curve),
        phrases=[
            RidePhraseView(clip=id, before=p.spread_before, after=p.spread_after, reason=p.reason)
            for id, p in zip(_phrase_ids(state), result.phrases, strict=True)
        ],
        strays=deviations_of(drafted, _phrase_slices(state), strays),
        before=float(np.mean([p.spread_before for p in done])) if done else 0.0,
        after=float(np.mean([p.spread_after for p in done])) if done else 0.0,
        stamp=stamp_of(result.curve),
    )


def accept(
    bench: Workbench,
    track_id: str,
    revision: int,
    values: dict[str, Any] | None = None,
    ids: Collection[str] | None = None,
    span: Span | None = None,
    stamp: str | None = None,
) -> Changed:
    """Make the drafted ride the ride, as one step; with a ``stamp`` only the one that had it. Raises DraftChanged."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        state = state_of(bench, edit.db, edit.session, track, timeline)
        result, _ = _propose(bench, edit.db, edit.session, state, values or {}, ids, span)
        require_same(stamp, result.curve)
        put_lane(edit, track, timeline, "ride", result.curve)
        edit.label = "Draft a ride"
        if span is not None or ids is not None:
            edit.label += " for a span" if span is not None else f" for {count_of(len(ids or ()), 'phrase')}"
        if edit.session.settle:
            settle_phrases(bench, edit, track.id, state, with_ride(state, result.curve))

    return run_edit(bench, track_id, "Draft a ride", revision, work)


def _propose(
    bench: Workbench,
    db: DbSession,
    session: Session,
    state: TrackState,
    values: dict[str, Any],
    ids: Collection[str] | None,
    span: Span | None,
) -> tuple[RideDraft, LevelGrid]:
    """What is proposed for the phrases of a track, and its grid."""
    if state.grid is None:
        raise Refused(MISSING)
    clips = state.clips
    if span is not None:
        seconds = clips.phrases / state.rate
        meant = (seconds[:, 0] < max(span)) & (seconds[:, 1] > min(span))
    else:
        meant = np.array([ids is None or id in ids for id in _phrase_ids(state)], bool)
    chosen = meant & ~(clips.locked | clips.left_out)[clips.voiced]
    if not chosen.any():
        raise Refused("There is no phrase here to ride.")
    given = {name: value / 100 if name == "strength" else value for name, value in values.items()}
    rule = replace(ride_rule(rule_of(session)), **given)
    limits = limits_of(bench, db, session, state) if session.settle else None
    only = None if span is None else (min(span), max(span))
    key = id(state), rule, repr(limits), chosen.tobytes(), only
    _, drafted = _drafts.get(key, lambda: (state, propose_ride(state, rule, limits, chosen, only)))
    return drafted, state.grid


def _without(state: TrackState) -> TrackState:
    """A track without its ride and its trim."""
    return replace(state, lanes=NO_LANES)


def _powers(grid: LevelGrid, state: TrackState) -> tuple[FloatArray, FloatArray]:
    """Power per frame, K-weighted and of the vowel band, with the gain of a track."""
    gain = state.gain_per_frame[:, 0]
    k, vowels = (np.asarray(np.asarray(grid.column(name), np.float64) * gain) for name in ("k", "voiced"))
    return k, vowels


def _strays(session: Session, state: TrackState, power: FloatArray, vowels: FloatArray) -> list[Stray]:
    """The words that stray from the phrases that count."""
    found = find_strays(power, vowels, _phrase_slices(state), session.tolerance)
    left_out = state.clips.left_out[state.clips.voiced]
    return [stray for stray in found if not left_out[stray.phrase]]


def _phrase_slices(state: TrackState) -> list[slice]:
    return state.clips.phrase_slices(state.grid) if state.grid is not None else []


def _phrase_ids(state: TrackState) -> list[str]:
    return [state.clips.ids[place] for place in state.clips.voiced.tolist()]


def _clip_points(clips: Iterable[ClipRow], rate: int) -> list[LanePoint]:
    """The points of clip curves that are heard, in order of time."""
    points: list[LanePoint] = []
    for clip in clips:
        if clip.curve:
            curve = shift(unpack_curve(clip.curve), clip.shift / rate)
            points += _lane_points(curve.keep(heard(curve, clip.start / rate, clip.end / rate)), clip.id)
    return points
