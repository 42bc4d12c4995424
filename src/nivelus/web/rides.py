"""Routes of a track's ride and trim: drafts, lifts, points, ranges, folding, files."""

from __future__ import annotations

from flask import Response, request
from flask_openapi3 import APIBlueprint, Tag

from nivelus.core.errors import Refused
from nivelus.services import rides
from nivelus.services.views import Changed, RideDraftView, RideView
from nivelus.web.answers import answer
from nivelus.web.context import PROBLEMS, bench
from nivelus.web.models import (
    CurveQuery,
    DrawnLine,
    LaneChange,
    Lift,
    NewPoint,
    Paste,
    PointsChange,
    RangeChange,
    Revised,
    RideDraftAccept,
    RideDraftRequest,
    TrackPath,
    TrimChange,
)

api = APIBlueprint(
    "rides", __name__, url_prefix="/api/tracks/<track_id>/ride", abp_tags=[Tag(name="ride")], abp_responses=PROBLEMS
)


@api.get("", responses={200: RideView})
def get_ride(path: TrackPath) -> Response:
    """The lanes, and what goes on inside the phrases."""
    return answer(rides.view(bench(), path.track_id))


@api.post("/draft", responses={200: RideDraftView})
def draft_ride(path: TrackPath, body: RideDraftRequest) -> Response:
    """What a drafted ride would do; nothing is changed."""
    return answer(
        rides.draft(bench(), path.track_id, body.rule.values() if body.rule else None, body.clips and set(body.clips))
    )


@api.post("/draft/accept", responses={200: Changed})
def accept_ride(path: TrackPath, body: RideDraftAccept) -> Response:
    """Make the drafted ride the ride."""
    rule = body.rule.values() if body.rule else None
    return answer(rides.accept(bench(), path.track_id, body.revision, rule, body.clips and set(body.clips)))


@api.post("/lift", responses={200: Changed})
def lift_span(path: TrackPath, body: Lift) -> Response:
    """Raise or lower a span."""
    return answer(rides.lift_span(bench(), path.track_id, body.revision, body.lane, body.start, body.end, body.by))


@api.post("/point", responses={200: Changed})
def put_point(path: TrackPath, body: NewPoint) -> Response:
    """Make a point."""
    return answer(rides.put_point(bench(), path.track_id, body.revision, body.lane, body.at, body.db))


@api.post("/points", responses={200: Changed})
def change_points(path: TrackPath, body: PointsChange) -> Response:
    """Move, set or delete points."""
    if not (body.gone or body.seconds or body.by) and body.to is None and body.shape is None:
        raise Refused("Say what is to become of the points.")
    return answer(
        rides.change_points(
            bench(),
            path.track_id,
            body.revision,
            body.lane,
            body.points,
            body.seconds,
            body.by,
            body.to,
            body.shape,
            gone=body.gone,
        )
    )


@api.post("/range", responses={200: Changed})
def change_range(path: TrackPath, body: RangeChange) -> Response:
    """Delete, smooth or thin a range."""
    return answer(rides.change_range(bench(), path.track_id, body.revision, body.lane, body.start, body.end, body.what))


@api.post("/draw", responses={200: Changed})
def draw_line(path: TrackPath, body: DrawnLine) -> Response:
    """Draw freehand."""
    return answer(rides.draw_line(bench(), path.track_id, body.revision, body.lane, body.points))


@api.post("/paste", responses={200: Changed})
def paste_range(path: TrackPath, body: Paste) -> Response:
    """Put a copied range at a moment."""
    source = (body.from_track, body.from_lane)
    return answer(rides.paste_range(bench(), path.track_id, body.revision, body.lane, body.at, body.start, body.end, source))


@api.post("/clear", responses={200: Changed})
def clear_lane(path: TrackPath, body: LaneChange) -> Response:
    """Take a lane away."""
    return answer(rides.clear(bench(), path.track_id, body.revision, body.lane))


@api.post("/trim", responses={200: Changed})
def set_trim(path: TrackPath, body: TrimChange) -> Response:
    """Trim the whole track."""
    return answer(rides.set_offset(bench(), path.track_id, body.revision, body.db))


@api.post("/fold", responses={200: Changed})
def fold_trim(path: TrackPath, body: Revised) -> Response:
    """Fold the trim into the ride."""
    return answer(rides.fold(bench(), path.track_id, body.revision))


@api.post("/file", responses={200: Changed})
def bring_curve_in(path: TrackPath, query: CurveQuery) -> Response:
    """Bring a curve in from a CSV or MIDI file, which is the body of the request."""
    length = request.content_length or 0
    if not 0 < length <= rides.MOST_BYTES:
        raise Refused("A curve file is not empty and holds 16 MB at most.")
    data = request.stream.read(length)
    return answer(rides.bring_in(bench(), path.track_id, query.revision, query.lane, query.name, data))
