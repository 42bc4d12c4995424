"""The use cases of the ride: what is drawn and what strays, and drafts."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from typing import Any

import numpy as np
from sqlalchemy.orm import Session as DbSession

from nivelus.core.drafts.ride import GIVE_SETTLED, RideDraft, RideRule, draft_ride, inner_spread
from nivelus.core.drafts.settle import headroom
from nivelus.core.drafts.strays import Stray, deviations_of, find_strays
from nivelus.core.errors import Refused
from nivelus.core.gain.clip_curves import heard
from nivelus.core.gain.compile import compile_curves
from nivelus.core.gain.curve import FloatArray, GainCurve, add_curves
from nivelus.core.gain.curves import EMPTY, SILENT, Curve, Shape
from nivelus.core.measure.grid import FRAME, LevelGrid
from nivelus.core.measure.spans import as_table, levels_of_spans
from nivelus.services.drawing import RAMP, count_of, put_lane
from nivelus.services.edits import run_edit
from nivelus.services.lanes import Layers, lane_values, layers_of, working_range
from nivelus.services.levels import clip_frames, gain_curve, gain_per_frame, phrase_frames
from nivelus.services.marks import marks_of
from nivelus.services.rows import clip_rows
from nivelus.services.settling import is_free, settle_phrases
from nivelus.services.targets import limits_of
from nivelus.services.views import Changed, InsideView, RideDraftView, RidePhraseView, RidePoint, RideView, StrayView
from nivelus.services.workbench import Workbench
from nivelus.store.history import Edit, require
from nivelus.store.packing import unpack_curve
from nivelus.store.tables import Clip, Recording, Session, Track

Span = tuple[float, float]


def view(bench: Workbench, track_id: str) -> RideView:
    """The lanes as points."""
    with bench.database.reading() as db:
        track = require(db, Track, track_id, "track")
        recording = require(db, Recording, track.recording_id, "recording")
        values = lane_values(db, track_id)
        return RideView(
            curve=_clip_points(clip_rows(db, track_id), recording.sample_rate),
            ride=_points(unpack_curve(values["ride"].points)),
            trim=_points(unpack_curve(values["trim"].points)),
            offset=values["trim"].offset,
            off=values["trim"].off,
            ramp=RAMP,
        )


def inside(bench: Workbench, track_id: str) -> InsideView:
    """How much goes on inside each phrase without the ride and with it, and where. O(frames)."""
    with bench.database.reading() as db:
        track = require(db, Track, track_id, "track")
        session = require(db, Session, track.session_id, "session")
        recording = require(db, Recording, track.recording_id, "recording")
        if recording.missing:
            return InsideView(phrases=[], strays=[])
        clips = clip_rows(db, track_id)
        layers = _layers(db, track, recording, clips)
    grid = bench.vault.grid(recording)
    voiced = [clip for clip in clips if clip.phrase_start is not None]
    spans = phrase_frames(grid, voiced)
    (before, _), (after, vowels) = (
        _powers(grid, gain_per_frame(gain_curve(clips, recording, beyond), recording))
        for beyond in (layers.before_ride, layers.beyond)
    )
    return InsideView(
        phrases=[
            RidePhraseView(clip=clip.id, before=inner_spread(before[span]), after=inner_spread(after[span]), reason="")
            for clip, span in zip(voiced, spans, strict=True)
        ],
        strays=[
            StrayView(
                clip=voiced[stray.phrase].id,
                start=stray.frames.start * FRAME,
                end=stray.frames.stop * FRAME,
                deviation=stray.deviation,
            )
            for stray in _strays(session, after, vowels, voiced, spans)
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
        track = require(db, Track, track_id, "track")
        recording = require(db, Recording, track.recording_id, "recording")
        session = require(db, Session, track.session_id, "session")
        every, layers, clips, result = _propose(bench, db, session, track, recording, values or {}, ids, span)
        grid = bench.vault.grid(recording)
        spans = phrase_frames(grid, clips)
        drawn = _drawn(db, track, recording, result.curve)
        (now, vowels), (drafted, _) = (
            _powers(grid, gain_per_frame(gain_curve(every, recording, beyond), recording))
            for beyond in (layers.beyond, add_curves([layers.before_ride, drawn]))
        )
        strays = _strays(session, now, vowels, clips, spans)
    done = [p for p in result.phrases if p.reason != "not chosen"]
    return RideDraftView(
        points=_points(result.curve),
        phrases=[
            RidePhraseView(clip=clip.id, before=p.spread_before, after=p.spread_after, reason=p.reason)
            for clip, p in zip(clips, result.phrases, strict=True)
        ],
        strays=deviations_of(drafted, spans, strays),
        before=float(np.mean([p.spread_before for p in done])) if done else 0.0,
        after=float(np.mean([p.spread_after for p in done])) if done else 0.0,
    )


def accept(
    bench: Workbench,
    track_id: str,
    revision: int,
    values: dict[str, Any] | None = None,
    ids: Collection[str] | None = None,
    span: Span | None = None,
) -> Changed:
    """Make the drafted ride the ride, as one step."""

    def work(edit: Edit, track: Track, recording: Recording) -> None:
        every, layers, _, result = _propose(bench, edit.db, edit.session, track, recording, values or {}, ids, span)
        put_lane(edit, track, recording, "ride", result.curve)
        edit.label = "Draft a ride"
        if span is not None or ids is not None:
            edit.label += " for a span" if span is not None else f" for {count_of(len(ids or ()), 'phrase')}"
        if edit.session.settle:
            drawn = _drawn(edit.db, track, recording, result.curve)
            settle_phrases(bench, edit, track, recording, every, layers.beyond, add_curves([layers.before_ride, drawn]))

    return run_edit(bench, track_id, "Draft a ride", revision, work)


def _propose(
    bench: Workbench,
    db: DbSession,
    session: Session,
    track: Track,
    recording: Recording,
    values: dict[str, Any],
    ids: Collection[str] | None,
    span: Span | None,
) -> tuple[list[Clip], Layers, list[Clip], RideDraft]:
    """Every clip and the layers of the track, the clips with a phrase, and what is proposed for them."""
    if recording.missing:
        raise Refused("The sound file of this track is missing. Bring it in again.")
    every = clip_rows(db, track.id)
    clips = [clip for clip in every if clip.phrase_start is not None]

    def is_meant(clip: Clip) -> bool:
        if span is not None:
            start, end = _seconds(clip, recording)
            return start < max(span) and end > min(span)
        return ids is None or clip.id in ids

    chosen = np.array([is_meant(clip) and not (clip.locked or clip.left_out) for clip in clips], bool)
    if not chosen.any():
        raise Refused("There is no phrase here to ride.")
    given = {name: value / 100 if name == "strength" else value for name, value in values.items()}
    rule = RideRule(**{"noise_limit": session.noise_limit, "dead_band": session.tolerance} | given)
    present = lane_values(db, track.id)["ride"].curve()
    whole = bool(chosen.all()) and span is None
    layers = _layers(db, track, recording, every)
    before = gain_curve(every, recording, layers.before_ride)
    result = draft_ride(
        bench.vault.grid(recording),
        gain_per_frame(before, recording),
        [_seconds(clip, recording) for clip in clips],
        np.array([clip.room_tone for clip in clips]),
        rule,
        chosen=None if whole else chosen,
        present=EMPTY if whole else present,
        only=None if span is None else (min(span), max(span)),
        gives=_gives(bench, db, session, track, recording, clips, layers) if session.settle else None,
    )
    return every, layers, clips, result


def _gives(
    bench: Workbench,
    db: DbSession,
    session: Session,
    track: Track,
    recording: Recording,
    clips: Sequence[Clip],
    layers: Layers,
) -> FloatArray:
    """How far each phrase may come down under a ride: as far as its clip gain may give back, LU, (n,)."""
    grid = bench.vault.grid(recording)
    gain = gain_per_frame(layers.before_ride, recording)
    tops = levels_of_spans(grid, as_table(clip_frames(grid, clips)), gain, "peak")
    limits = limits_of(bench, db, session, track, recording)
    gains, rooms = (np.array([getattr(clip, name) for clip in clips], np.float64) for name in ("gain", "room_tone"))
    up = headroom(gains, tops, rooms, limits)
    free = np.array([is_free(clip) for clip in clips], bool)
    return np.where(free, np.minimum(up, GIVE_SETTLED), 0.0)


def _drawn(db: DbSession, track: Track, recording: Recording, ride: Curve) -> GainCurve:
    """The gain of a ride with the trim as it is."""
    return compile_curves([ride, lane_values(db, track.id)["trim"].heard()], recording.sample_rate, *working_range(track))


def _layers(db: DbSession, track: Track, recording: Recording, clips: Sequence[Clip]) -> Layers:
    return layers_of(db, track, clips, marks_of(db, track, recording, clips).curve(), recording.sample_rate)


def _powers(grid: LevelGrid, gain: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Power per frame, K-weighted and of the vowel band, with a gain."""
    k, vowels = (np.asarray(np.asarray(grid.column(name), np.float64) * gain[:, 0]) for name in ("k", "voiced"))
    return k, vowels


def _strays(
    session: Session, power: FloatArray, vowels: FloatArray, clips: Sequence[Clip], spans: Sequence[slice]
) -> list[Stray]:
    """The words that stray from the phrases that count."""
    found = find_strays(power, vowels, spans, session.tolerance)
    return [stray for stray in found if not clips[stray.phrase].left_out]


def _seconds(clip: Clip, recording: Recording) -> tuple[float, float]:
    rate = recording.sample_rate
    return (clip.phrase_start or 0) / rate, (clip.phrase_end or 0) / rate


def _clip_points(clips: Iterable[Clip], rate: int) -> list[RidePoint]:
    """The points of clip curves that are heard, in order of time."""
    points: list[RidePoint] = []
    for clip in clips:
        if clip.curve:
            curve = unpack_curve(clip.curve)
            points += _points(curve.keep(heard(curve, clip.start / rate, clip.end / rate)), clip.id)
    return points


def _points(curve: Curve, clip: str | None = None) -> list[RidePoint]:
    rows = zip(curve.at.tolist(), curve.db.tolist(), curve.shape.tolist(), strict=True)
    return [RidePoint(at=at, db=max(db, SILENT), shape=Shape(shape).name.lower(), clip=clip) for at, db, shape in rows]
