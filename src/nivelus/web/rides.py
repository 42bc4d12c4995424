"""Routes of what is drawn on a track - clip curves, ride, trim: drafts, lifts, points, ranges, folding, files."""

from __future__ import annotations

from flask import Response, request
from flask_openapi3 import APIBlueprint, Tag

from nivelus.core.errors import Refused
from nivelus.services import drawing, rides
from nivelus.services.views import Changed, InsideView, RideDraftView, RideView
from nivelus.web.answers import answer
from nivelus.web.context import PROBLEMS, bench
from nivelus.web.models import (
    Borders,
    CurveQuery,
    DrawnLine,
    HandOver,
    Lift,
    NewPoint,
    OfLane,
    Paste,
    PointsChange,
    RangeChange,
    RangeOfWork,
    RideDraftAccept,
    RideDraftRequest,
    Scale,
    TrackPath,
    TrimChange,
)

api = APIBlueprint("rides", __name__, url_prefix="/api/tracks/<track_id>", abp_tags=[Tag(name="ride")], abp_responses=PROBLEMS)


@api.get("/lanes", responses={200: RideView})
def get_ride(path: TrackPath) -> Response:
    """What is drawn: the lanes as points."""
    return answer(rides.view(bench(), path.track_id))


@api.get("/ride/inside", responses={200: InsideView})
def get_inside(path: TrackPath) -> Response:
    """What goes on inside the phrases, and what strays."""
    return answer(rides.inside(bench(), path.track_id))


@api.post("/ride/draft", responses={200: RideDraftView})
def draft_ride(path: TrackPath, body: RideDraftRequest) -> Response:
    """What a drafted ride would do; nothing is changed."""
    rule = body.rule.values() if body.rule else None
    return answer(rides.draft(bench(), path.track_id, rule, body.clips and set(body.clips), body.span))


@api.post("/ride/draft/accept", responses={200: Changed})
def accept_ride(path: TrackPath, body: RideDraftAccept) -> Response:
    """Make the drafted ride the ride."""
    rule = body.rule.values() if body.rule else None
    return answer(rides.accept(bench(), path.track_id, body.revision, rule, body.clips and set(body.clips), body.span))


@api.post("/lanes/lift", responses={200: Changed})
def lift_span(path: TrackPath, body: Lift) -> Response:
    """Raise or lower a span."""
    return answer(drawing.lift_span(bench(), path.track_id, body.revision, body.lane, body.start, body.end, body.by))


@api.post("/lanes/scale", responses={200: Changed})
def scale_range(path: TrackPath, body: Scale) -> Response:
    """Make the moves of a range larger or smaller."""
    span = body.start, body.end
    return answer(drawing.scale_range(bench(), path.track_id, body.revision, body.lane, *span, body.factor, body.around))


@api.post("/lanes/range", responses={200: Changed})
def change_range(path: TrackPath, body: RangeChange) -> Response:
    """Delete, smooth or thin a range."""
    return answer(drawing.change_range(bench(), path.track_id, body.revision, body.lane, body.start, body.end, body.what))


@api.post("/lanes/borders", responses={200: Changed})
def make_borders(path: TrackPath, body: Borders) -> Response:
    """Make points at the ends of spans."""
    return answer(drawing.make_borders(bench(), path.track_id, body.revision, body.lane, body.spans, body.four))


@api.post("/lanes/point", responses={200: Changed})
def put_point(path: TrackPath, body: NewPoint) -> Response:
    """Make a point."""
    return answer(drawing.put_point(bench(), path.track_id, body.revision, body.lane, body.at, body.db))


@api.post("/lanes/points", responses={200: Changed})
def change_points(path: TrackPath, body: PointsChange) -> Response:
    """Move, set or delete points."""
    if not (body.gone or body.seconds or body.by) and body.to is None and body.shape is None:
        raise Refused("Say what is to become of the points.")
    return answer(
        drawing.change_points(
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


@api.post("/lanes/draw", responses={200: Changed})
def draw_line(path: TrackPath, body: DrawnLine) -> Response:
    """Draw freehand."""
    return answer(drawing.draw_line(bench(), path.track_id, body.revision, body.lane, body.points))


@api.post("/lanes/paste", responses={200: Changed})
def paste_range(path: TrackPath, body: Paste) -> Response:
    """Put a copied range at a moment."""
    source = (body.from_track, body.from_lane)
    span = body.start, body.end
    return answer(drawing.paste_range(bench(), path.track_id, body.revision, body.lane, body.at, *span, source))


@api.post("/lanes/clear", responses={200: Changed})
def clear_lane(path: TrackPath, body: OfLane) -> Response:
    """Take a lane away."""
    return answer(drawing.clear(bench(), path.track_id, body.revision, body.lane))


@api.post("/lanes/trim", responses={200: Changed})
def set_trim(path: TrackPath, body: TrimChange) -> Response:
    """Trim the whole track, or switch the trim off or on."""
    if (body.db is None) == (body.off is None):
        raise Refused("Say either how far to trim, or whether the trim is off.")
    return answer(drawing.set_trim(bench(), path.track_id, body.revision, body.db, body.off))


@api.post("/lanes/move", responses={200: Changed})
def hand_over(path: TrackPath, body: HandOver) -> Response:
    """Move what one lane draws into another: fold the trim, mirror clip curve and ride."""
    return answer(drawing.hand_over(bench(), path.track_id, body.revision, body.lane, body.to, body.span))


@api.post("/lanes/working-range", responses={200: Changed})
def set_range(path: TrackPath, body: RangeOfWork) -> Response:
    """Set the working range."""
    return answer(drawing.set_range(bench(), path.track_id, body.revision, body.low, body.high))


@api.post("/lanes/file", responses={200: Changed})
def bring_curve_in(path: TrackPath, query: CurveQuery) -> Response:
    """Bring a curve in from a CSV or MIDI file, which is the body of the request."""
    length = request.content_length or 0
    if not 0 < length <= drawing.MOST_BYTES:
        raise Refused("A curve file is not empty and holds 16 MB at most.")
    data = request.stream.read(length)
    return answer(drawing.bring_in(bench(), path.track_id, query.revision, query.lane, query.name, data))
