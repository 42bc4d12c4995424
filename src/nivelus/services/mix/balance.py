"""The use cases of balance: how far voices lie above the bed, how the bed makes room, and slow rides."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt
from sqlalchemy.orm import Session as DbSession

from nivelus.core.chain.beds import Sounding, propose_duck, propose_slow
from nivelus.core.chain.state import TrackState
from nivelus.core.drafts.duck import KEPT, DuckDraft, DuckRule
from nivelus.core.drafts.slow import SlowDraft, SlowRule
from nivelus.core.errors import Refused
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.measure.distance import SILENT, bed_levels, course, phrase_levels
from nivelus.services.answers.answers import tracks_of
from nivelus.services.answers.edits import run_edit
from nivelus.services.lanes.parts import put_lane
from nivelus.services.lanes.rides import view_points
from nivelus.services.track.stamps import require_same, stamp_of
from nivelus.services.track.state import owners_of_track, state_of, whole_state
from nivelus.services.track.timeline import Timeline
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.mix import DistancePhrase, DistanceView, DuckDraftView, DuckPhrase, SlowDraftView
from nivelus.services.views.mix_settings import duck_settings, locked_spans, sounding
from nivelus.services.views.session import Changed
from nivelus.store.editing import Edit
from nivelus.store.history import require
from nivelus.store.tables import Session, Track

DUCK, SLOW = "trim", "ride"
"""The lanes that the drafts of a bed are drawn in: so a slow ride and a duck stand side by side, each on or off."""


@dataclass
class _Sounding(Sounding):
    """A track that sounds, and which one it is."""

    track: Track = field(kw_only=True)


def distance(bench: Workbench, session_id: str, track_id: str | None = None) -> DistanceView:
    """How far each phrase lies above the beds; of one voice, or of all that sound."""
    with bench.database.reading() as db:
        session = require(db, Session, session_id, "session")
        voices, beds = _sides(bench, db, session, track_id)
        wanted = min((duck_settings(bed.track).distance for bed in beds), default=None)
    under = _sum([bed.power for bed in beds])
    phrases: list[DistancePhrase] = []
    for voice in voices:
        spans = voice.spans
        levels, below = phrase_levels(voice.power, spans), bed_levels(under, spans)
        phrases += [
            DistancePhrase(track=voice.track.id, clip=id, level=level, distance=level - bed if bed > SILENT else None)
            for id, level, bed in zip(voice.ids, levels.tolist(), below.tolist(), strict=True)
        ]
    known = np.array([phrase.distance for phrase in phrases if phrase.distance is not None])
    return DistanceView(
        wanted=wanted,
        phrases=phrases,
        mean=float(known.mean()) if len(known) else None,
        worst=float(known.min()) if len(known) else None,
        kept=int((known >= wanted - KEPT).sum()) if wanted is not None else 0,
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
        kept=int((now >= wanted - KEPT).sum()),
        count=len(now),
        told=_told(result, parts),
        stamp=stamp_of(result.curve, parts.rule),
    )


def accept(
    bench: Workbench, track_id: str, revision: int, values: dict[str, Any] | None = None, stamp: str | None = None
) -> Changed:
    """Let the bed make room as drafted, as one step, and keep the rule that it was drafted by.

    With a ``stamp`` only what had it is done. Raises DraftChanged.
    """

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        result, parts = _propose(bench, edit.db, track_id, values or {})
        require_same(stamp, result.curve, parts.rule)
        put_lane(edit, track, timeline, DUCK, result.curve)
        track.duck = asdict(parts.rule) | {"locked": locked_spans(track)}
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
    return SlowDraftView(
        points=view_points(result.curve),
        target=result.target,
        before=result.before,
        after=result.after,
        stamp=stamp_of(result.curve),
    )


def accept_slowly(
    bench: Workbench, track_id: str, revision: int, values: dict[str, Any] | None = None, stamp: str | None = None
) -> Changed:
    """Make the drafted slow ride the ride, as one step; with a ``stamp`` only the one that had it. Raises DraftChanged."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        state = state_of(bench, edit.db, edit.session, track, timeline)
        curve = _slowly(state, values or {}).curve
        require_same(stamp, curve)
        put_lane(edit, track, timeline, SLOW, curve)

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
    session, track, timeline = owners_of_track(db, track_id)
    if track.kind != "bed":
        raise Refused("Only a bed makes room for voices. Make this track a bed first.")
    rule = DuckRule(**(duck_settings(track).model_dump(exclude={"locked"}) | values))
    tracks = tracks_of(db, session.id)
    bed = _sounding(bench, db, session, tracks, {track_id})
    if not bed:
        raise Refused("The sound file of this bed is missing. Import it again.")
    voices = [one for one in _sounding(bench, db, session, tracks, _heard(tracks)) if one.track.kind == "voice"]
    result = propose_duck(bed[0], voices, rule, locked_spans(track))
    starts = np.concatenate([np.zeros(0), *(voice.phrases[:, 0] for voice in voices)])
    names = [(voice.track.id, id) for voice in voices for id in voice.ids]
    return result, _Parts(rule, names, timeline.duration, int((starts >= timeline.duration).sum()))


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
    if state.grid is None:
        raise Refused("The sound file of this track is missing. Import it again.")
    given = {name: value / 100 if name == "strength" else value for name, value in values.items()}
    return propose_slow(state, SlowRule(**given))


Tracks = Sequence[tuple[Track, Timeline]]


def _sides(bench: Workbench, db: DbSession, session: Session, track_id: str | None) -> tuple[list[_Sounding], list[_Sounding]]:
    """The voices and the beds that sound; only one of the voices if it is asked for."""
    tracks = tracks_of(db, session.id)
    heard = _heard(tracks)
    voices = {track.id for track, _ in tracks if track.kind == "voice"}
    if track_id in voices:
        leader = next(track.follows or track.id for track, _ in tracks if track.id == track_id)
        heard = (heard - voices) | {leader} | {track.id for track, _ in tracks if track.follows == leader and track.id in heard}
    found = _sounding(bench, db, session, tracks, heard)
    return [one for one in found if one.track.kind == "voice"], [one for one in found if one.track.kind == "bed"]


def _heard(tracks: Tracks) -> set[str]:
    return {track.id for track in sounding([track for track, _ in tracks])}


def _sounding(bench: Workbench, db: DbSession, session: Session, tracks: Tracks, ids: Collection[str]) -> list[_Sounding]:
    """Some tracks of a session, those whose sound is there."""
    beside_stereo = any(timeline.channels > 1 for _, timeline in tracks)
    found = []
    for track, timeline in tracks:
        state = state_of(bench, db, session, track, timeline) if track.id in ids else None
        if state is not None and state.grid is not None:
            found.append(_Sounding(state, beside_stereo, track.fader, track=track))
    leaders = {one.track.id: one for one in found}
    for one in found:
        if one.track.follows in leaders:
            leaders[one.track.follows].followers = [*leaders[one.track.follows].followers, one]
    return [one for one in found if one.track.follows not in leaders]


def _sum(powers: Sequence[FloatArray]) -> FloatArray:
    out = np.zeros(max((len(power) for power in powers), default=0))
    for power in powers:
        out[: len(power)] += power
    return out


def _known(value: float) -> float | None:
    """A distance, or None where there is no bed."""
    return value if abs(value) < -SILENT - 40 else None
