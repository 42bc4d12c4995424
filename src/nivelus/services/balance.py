"""The use cases of balance: how far voices lie above the bed, how the bed makes room, and slow rides."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt
from sqlalchemy.orm import Session as DbSession

from nivelus.core.chain.state import Lane, TrackState
from nivelus.core.drafts.duck import DuckDraft, DuckRule, draft_duck, duck_gain, with_locked
from nivelus.core.drafts.slow import SlowDraft, SlowRule, draft_slow
from nivelus.core.errors import Refused
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import EMPTY, Curve
from nivelus.core.measure.distance import SILENT, bed_levels, course, phrase_levels
from nivelus.core.measure.loudness import AS_TWO_LOUDSPEAKERS
from nivelus.services.answers import tracks_of
from nivelus.services.desk import duck_settings, locked_spans, sounding
from nivelus.services.drawing import put_lane
from nivelus.services.edits import run_edit
from nivelus.services.mix_views import DistancePhrase, DistanceView, DuckDraftView, DuckPhrase, SlowDraftView
from nivelus.services.rides import view_points
from nivelus.services.state import owners_of_track, state_of, whole_state
from nivelus.services.timeline import Timeline
from nivelus.services.views import Changed
from nivelus.services.workbench import Workbench
from nivelus.store.history import Edit, require
from nivelus.store.tables import Session, Track

DUCK, SLOW = "trim", "ride"
"""The lanes that the drafts of a bed are drawn in: so a slow ride and a duck stand side by side, each on or off."""


@dataclass
class _Sounding:
    """A track that sounds: its state, and its K-weighted power per frame with all gain and the fader."""

    track: Track
    state: TrackState
    power: FloatArray


def distance(bench: Workbench, session_id: str, track_id: str | None = None) -> DistanceView:
    """How far each phrase lies above the beds; of one voice, or of all that sound."""
    with bench.database.reading() as db:
        session = require(db, Session, session_id, "session")
        voices, beds = _sides(bench, db, session, track_id)
        wanted = min((duck_settings(bed.track).distance for bed in beds), default=None)
    under = _sum([bed.power for bed in beds])
    phrases: list[DistancePhrase] = []
    for voice in voices:
        spans, ids = _phrases(voice.state)
        levels, below = phrase_levels(voice.power, spans), bed_levels(under, spans)
        phrases += [
            DistancePhrase(track=voice.track.id, clip=id, level=level, distance=level - bed if bed > SILENT else None)
            for id, level, bed in zip(ids, levels.tolist(), below.tolist(), strict=True)
        ]
    known = np.array([phrase.distance for phrase in phrases if phrase.distance is not None])
    return DistanceView(
        wanted=wanted,
        phrases=phrases,
        mean=float(known.mean()) if len(known) else None,
        worst=float(known.min()) if len(known) else None,
        kept=int((known >= wanted - 0.1).sum()) if wanted is not None else 0,
    )


def distance_course(bench: Workbench, session_id: str, track_id: str | None = None) -> npt.NDArray[np.float32]:
    """Short-term loudness of voice and bed every 100 ms, (n, 2) float32 LUFS; -100 where there is nothing."""
    with bench.database.reading() as db:
        voices, beds = _sides(bench, db, require(db, Session, session_id, "session"), track_id)
    courses = [course(_sum([side.power for side in sides])) for sides in (voices, beds)]
    out = np.full((max(map(len, courses)), 2), SILENT, np.float32)
    for column, values in enumerate(courses):
        out[: len(values), column] = values
    return out


def draft(bench: Workbench, track_id: str, values: dict[str, Any] | None = None) -> DuckDraftView:
    """What a drafted duck would be and do. Nothing is changed."""
    with bench.database.reading() as db:
        result, parts = _propose(bench, db, track_id, values or {})
    phrases = [
        DuckPhrase(track=track, clip=clip, before=_known(before), after=_known(after), reason=reason)
        for (track, clip), before, after, reason in zip(
            parts.names, result.before.tolist(), result.after.tolist(), result.reason, strict=True
        )
    ]
    wanted = parts.rule.distance
    now = np.array([phrase.after for phrase in phrases if phrase.after is not None])
    return DuckDraftView(
        points=view_points(result.curve),
        phrases=phrases,
        mean=float(now.mean()),
        worst=float(now.min()),
        kept=int((now >= wanted - 0.1).sum()),
        count=len(now),
        told=_told(result, parts),
    )


def accept(bench: Workbench, track_id: str, revision: int, values: dict[str, Any] | None = None) -> Changed:
    """Let the bed make room as drafted, as one step, and keep the rule that it was drafted by."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        result, parts = _propose(bench, edit.db, track_id, values or {})
        put_lane(edit, track, timeline, DUCK, result.curve)
        track.duck = {name: getattr(parts.rule, name) for name in DuckRule.__slots__} | {"locked": locked_spans(track)}
        edit.told = _told(result, parts)

    return run_edit(bench, track_id, "Make room for the voice", revision, work)


def lock(bench: Workbench, track_id: str, revision: int, start: float, end: float, on: bool) -> Changed:
    """Let drafts leave a span of a bed as it is, or free it again."""
    start, end = min(start, end), max(start, end)
    if on and end - start < 0.1:
        raise Refused("This span is too short to lock.")

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        spans = [(a, b) for a, b in locked_spans(track) if b <= start or a >= end]
        if on:
            touching = [(a, b) for a, b in locked_spans(track) if b > start and a < end]
            edges = [start, end, *(edge for span in touching for edge in span)]
            spans = sorted([*spans, (min(edges), max(edges))])
        track.duck = track.duck | {"locked": spans}

    return run_edit(bench, track_id, "Lock a span of the bed" if on else "Free a span of the bed", revision, work)


def draft_slowly(bench: Workbench, track_id: str, values: dict[str, Any] | None = None) -> SlowDraftView:
    """What a drafted slow ride would be and do. Nothing is changed."""
    with bench.database.reading() as db:
        *_, state, _ = whole_state(bench, db, track_id)
    result = _slowly(state, values or {})
    return SlowDraftView(points=view_points(result.curve), target=result.target, before=result.before, after=result.after)


def accept_slowly(bench: Workbench, track_id: str, revision: int, values: dict[str, Any] | None = None) -> Changed:
    """Make the drafted slow ride the ride, as one step."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        state = state_of(bench, edit.db, edit.session, track, timeline)
        put_lane(edit, track, timeline, SLOW, _slowly(state, values or {}).curve)

    return run_edit(bench, track_id, "Draft a slow ride", revision, work)


# ---


@dataclass
class _Parts:
    """What a duck was drafted from: its rule, and of each phrase the track and clip."""

    rule: DuckRule
    names: list[tuple[str, str]]
    ends: float
    """Where the bed ends, seconds."""
    late: int
    """Phrases that begin after that."""


def _propose(bench: Workbench, db: DbSession, track_id: str, values: dict[str, Any]) -> tuple[DuckDraft, _Parts]:
    session, bed, timeline = owners_of_track(db, track_id)
    if bed.kind != "bed":
        raise Refused("Only a bed makes room for voices. Make this track a bed first.")
    settings = duck_settings(bed)
    rule = DuckRule(**{name: values.get(name, getattr(settings, name)) for name in DuckRule.__slots__})
    tracks = tracks_of(db, session.id)
    known = {track.id: (track, timeline) for track, timeline in tracks}
    is_stereo = any(line.channels > 1 for _, line in tracks)
    voices = [known[track.id] for track in sounding([t for t, _ in tracks]) if track.kind == "voice"]
    state = state_of(bench, db, session, bed, timeline)
    if state.grid is None:
        raise Refused("The sound file of this bed is missing. Bring it in again.")
    own = state.lanes.trim
    power = _power(replace(state, lanes=state.lanes._replace(trim=own._replace(points=EMPTY))), bed, is_stereo)
    starts, levels, names = [np.zeros((0, 2))], [np.zeros(0)], []
    for voice, line in voices:
        its = state_of(bench, db, session, voice, line)
        if its.grid is None:
            continue
        spans, ids = _phrases(its)
        levels.append(phrase_levels(_power(its, voice, is_stereo), spans))
        starts.append((its.clips.phrases / its.rate)[_counted(its)])
        names += [(voice.id, id) for id in ids]
    phrases = np.concatenate(starts)
    result = draft_duck(phrases, np.concatenate(levels), power, rule)
    locked = locked_spans(bed)
    if locked:
        curve = with_locked(result.curve, own.points, locked)
        result = replace(result, curve=curve, after=result.after + _lost(result.curve, curve, phrases, power))
    return result, _Parts(rule, names, timeline.duration, int((phrases[:, 0] >= timeline.duration).sum()))


def _lost(drafted: Curve, kept: Curve, phrases: FloatArray, power: FloatArray) -> FloatArray:
    """How much further (LU) phrases lie above a bed with one curve than with another."""
    spans = [slice(round(a * 100), max(round(b * 100), round(a * 100) + 1)) for a, b in phrases.tolist()]
    before, after = (bed_levels(power * duck_gain(curve, len(power)), spans) for curve in (drafted, kept))
    return before - after


def _told(result: DuckDraft, parts: _Parts) -> str:
    """What a draft could not do, in words; nothing if it did all."""
    said = []
    if parts.late:
        minutes, seconds = divmod(int(parts.ends), 60)
        said.append(f"the bed ends at {minutes}:{seconds:02d}, before {parts.late} of the phrases")
    short = result.reason.count("most down")
    if short:
        said.append(
            f"{short} of {len(result.reason)} phrases stay nearer than {parts.rule.distance:g} LU, "
            f"because the bed may go down by {parts.rule.most_down:g} dB at most"
        )
    return "; ".join(said)


def _slowly(state: TrackState, values: dict[str, Any]) -> SlowDraft:
    grid = state.grid
    if grid is None:
        raise Refused("The sound file of this track is missing. Bring it in again.")
    given = {name: value / 100 if name == "strength" else value for name, value in values.items()}
    plain = replace(state, lanes=state.lanes._replace(ride=Lane()))
    power = np.asarray(grid.column("k"), np.float64) * plain.gain_per_frame[:, 0]
    return draft_slow(power, SlowRule(**given))


def _sides(bench: Workbench, db: DbSession, session: Session, track_id: str | None) -> tuple[list[_Sounding], list[_Sounding]]:
    """The voices and the beds that sound; only one of the voices if it is asked for."""
    tracks = tracks_of(db, session.id)
    heard = {track.id for track in sounding([track for track, _ in tracks])}
    is_stereo = any(timeline.channels > 1 for _, timeline in tracks)
    sides: dict[str, list[_Sounding]] = {"voice": [], "bed": []}
    for track, timeline in tracks:
        wanted = track.id == track_id if track.kind == "voice" and _is_voice(tracks, track_id) else track.id in heard
        if not wanted or timeline.missing:
            continue
        state = state_of(bench, db, session, track, timeline)
        if state.grid is not None:
            sides[track.kind].append(_Sounding(track, state, _power(state, track, is_stereo)))
    return sides["voice"], sides["bed"]


def _is_voice(tracks: Sequence[tuple[Track, Timeline]], track_id: str | None) -> bool:
    return any(track.id == track_id and track.kind == "voice" for track, _ in tracks)


def _power(state: TrackState, track: Track, is_stereo: bool) -> FloatArray:
    """K-weighted power of a track with its gain and fader. Beside stereo, a mono one comes from two loudspeakers."""
    grid = state.grid
    assert grid is not None
    db = track.fader + (AS_TWO_LOUDSPEAKERS if is_stereo and grid.channels == 1 else 0.0)
    return np.asarray(np.asarray(grid.column("k"), np.float64) * state.gain_per_frame[:, 0] * 10 ** (db / 10))


def _counted(state: TrackState) -> npt.NDArray[np.bool_]:
    """Which phrases count: those that are not left out."""
    return ~state.clips.left_out[state.clips.voiced]


def _phrases(state: TrackState) -> tuple[list[slice], list[str]]:
    """The frames and clips of the phrases that count."""
    assert state.grid is not None
    places = state.clips.voiced[_counted(state)]
    slices = state.clips.phrase_slices(state.grid)
    counted = _counted(state)
    return [span for span, counts in zip(slices, counted, strict=True) if counts], [state.clips.ids[i] for i in places.tolist()]


def _sum(powers: Sequence[FloatArray]) -> FloatArray:
    out = np.zeros(max((len(power) for power in powers), default=0))
    for power in powers:
        out[: len(power)] += power
    return out


def _known(value: float) -> float | None:
    """A distance, or None where there is no bed."""
    return value if abs(value) < -SILENT - 40 else None
