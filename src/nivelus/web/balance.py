"""Routes of balance: distance, duck, slow rides, and the load of a compressor."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from flask import Response
from pydantic import Field

from nivelus.core.dynamics.compressor import SETTINGS
from nivelus.core.rule import Way
from nivelus.core.sound_formats import Bits, Written
from nivelus.services.files import renders
from nivelus.services.mix import balance, load
from nivelus.services.sessions.jobs import JobView
from nivelus.services.track.sound import of_revision
from nivelus.services.views.mix import DistanceView, DuckDraftView, LoadView, SlowDraftView
from nivelus.services.views.session import Changed
from nivelus.store.tables import Session, Track
from nivelus.web.answers import answer
from nivelus.web.context import bench, queue
from nivelus.web.models import (
    Accepted,
    AtRevision,
    Id,
    Request,
    Revised,
    Seconds,
    SessionPath,
    TrackPath,
    Values,
    between,
    within,
)
from nivelus.web.routes import Routes

_TRACK = "/tracks/<track_id>"
api = Routes("balance", "balance", "/api")


class DuckIn(Values):
    """How a bed is to make room; what is absent is as it was set."""

    way: Way | None = None
    depth: Annotated[float, within("duck.depth")] | None = None
    distance: Annotated[float, within("duck.distance")] | None = None
    lead: Annotated[float, within("duck.lead")] | None = None
    hold: Annotated[float, within("duck.hold")] | None = None
    release: Annotated[float, within("duck.release")] | None = None
    most_down: Annotated[float, within("duck.most_down")] | None = None


class DuckRequest(Request):
    """A duck to draft."""

    rule: DuckIn | None = None


class DuckAccept(Accepted, DuckRequest):
    """A duck to draft and accept."""


class LockSpan(Revised):
    """A span of a bed that drafts leave alone, or that they may change again."""

    start: Seconds
    end: Seconds
    on: bool


class SlowIn(Values):
    """How a slow ride is to go; what is absent is as it comes."""

    target: Annotated[float, within("target.level")] | None = None
    strength: Annotated[float, within("slow.strength")] | None = None
    most_up: Annotated[float, within("slow.most_up")] | None = None
    most_down: Annotated[float, within("slow.most_down")] | None = None


class SlowRequest(Request):
    """A slow ride to draft."""

    rule: SlowIn | None = None


class SlowAccept(Accepted, SlowRequest):
    """A slow ride to draft and accept."""


def _allowed(name: str) -> Any:
    """The limits of a setting of the compressor, for a request."""
    return between(SETTINGS[name].least, SETTINGS[name].most)


class LoadChange(Revised):
    """Values of the compressor; what is absent stays. ``same_threshold`` lets After have the threshold of Before."""

    threshold: Annotated[float, _allowed("threshold")] | None = None
    threshold_after: Annotated[float, _allowed("threshold")] | None = None
    same_threshold: bool = False
    ratio: Annotated[float, _allowed("ratio")] | None = None
    knee: Annotated[float, _allowed("knee")] | None = None
    attack: Annotated[float, _allowed("attack")] | None = None
    release: Annotated[float, _allowed("release")] | None = None
    makeup: Annotated[float, _allowed("makeup")] | None = None
    detector: Literal["peak", "rms"] | None = None

    def values(self) -> dict[str, Any]:
        """What was given."""
        given = self.model_dump(exclude={"revision", "same_threshold"})
        values = {name: value for name, value in given.items() if value is not None}
        return values | ({"threshold_after": None} if self.same_threshold else {})


class LoadQuery(AtRevision):
    """The average reduction that a threshold is proposed for."""

    wanted: Annotated[float, Field(ge=0, le=40, allow_inf_nan=False)] | None = None


class MixRequest(Request):
    """How to render the mix: through the limiter, and through the compressors, only if asked."""

    format: Written = "wav"
    bits: Bits = 24
    limited: bool = False
    compressed: bool = False


class DistanceQuery(AtRevision):
    """A voice whose distance is asked for; all if it is absent."""

    track: Id | None = None


@api.get("/sessions/<session_id>/distance", responses={200: DistanceView})
def get_distance(path: SessionPath, query: DistanceQuery) -> Response:
    """How far the phrases lie above the bed."""
    return answer(
        of_revision(
            bench(),
            Session,
            path.session_id,
            query.revision,
            lambda: balance.distance(bench(), path.session_id, query.track),
        )
    )


@api.post("/sessions/<session_id>/mix", responses={202: JobView})
def start_mix(path: SessionPath, body: MixRequest) -> Response:
    """Ask for the balanced mix."""
    job = renders.request_mix(bench(), path.session_id, body.format, body.bits, body.limited, body.compressed)
    queue().put(job.id)
    return answer(job, 202)


@api.post(f"{_TRACK}/duck/draft", responses={200: DuckDraftView})
def draft_duck(path: TrackPath, body: DuckRequest) -> Response:
    """What a drafted duck would do; nothing is changed."""
    return answer(balance.draft(bench(), path.track_id, _given(body.rule)))


@api.post(f"{_TRACK}/duck/draft/accept", responses={200: Changed})
def accept_duck(path: TrackPath, body: DuckAccept) -> Response:
    """Let the bed make room as drafted."""
    return answer(balance.accept(bench(), path.track_id, body.revision, _given(body.rule), body.stamp))


@api.post(f"{_TRACK}/duck/lock", responses={200: Changed})
def lock_span(path: TrackPath, body: LockSpan) -> Response:
    """Let drafts leave a span of the bed as it is, or free it."""
    return answer(balance.lock(bench(), path.track_id, body.revision, body.start, body.end, body.on))


@api.post(f"{_TRACK}/slow/draft", responses={200: SlowDraftView})
def draft_slow(path: TrackPath, body: SlowRequest) -> Response:
    """What a drafted slow ride would do; nothing is changed."""
    return answer(balance.draft_slowly(bench(), path.track_id, _given(body.rule)))


@api.post(f"{_TRACK}/slow/draft/accept", responses={200: Changed})
def accept_slow(path: TrackPath, body: SlowAccept) -> Response:
    """Make the drafted slow ride the ride."""
    return answer(balance.accept_slowly(bench(), path.track_id, body.revision, _given(body.rule), body.stamp))


@api.get(f"{_TRACK}/load", responses={200: LoadView})
def get_load(path: TrackPath, query: LoadQuery) -> Response:
    """How hard the compressor works, before and after."""
    return answer(
        of_revision(bench(), Track, path.track_id, query.revision, lambda: load.view(bench(), path.track_id, query.wanted))
    )


@api.post(f"{_TRACK}/load", responses={200: Changed})
def change_load(path: TrackPath, body: LoadChange) -> Response:
    """Set the compressor."""
    return answer(load.change(bench(), path.track_id, body.revision, body.values()))


def _given(rule: Values | None) -> dict[str, Any]:
    return rule.values() if rule else {}
