"""Routes of what is drawn on a track - clip curves, ride, trim: drafts, lifts, points, ranges, folding, files."""

from __future__ import annotations

from typing import Annotated, Literal

from flask import Response, request
from pydantic import BaseModel, Field

from nivelus.core.errors import Refused
from nivelus.core.rule import Pace
from nivelus.services.lanes import curve_files, drawing, rides, whole
from nivelus.services.track.sound import of_key
from nivelus.services.views.ride import InsideView, RideDraftView, RideView
from nivelus.services.views.session import Changed, LaneName
from nivelus.web.answers import answer
from nivelus.web.context import bench
from nivelus.web.models import Accepted, Db, GainQuery, Id, Ids, Name, Request, Revised, Seconds, TrackPath, Values, within
from nivelus.web.routes import Routes

api = Routes("rides", "ride", "/api/tracks/<track_id>")
PointId = Annotated[str, Field(pattern=r"^([\w-]{1,40}\.)?-?[0-9a-f]{1,16}$")]
Points = Annotated[list[PointId], Field(min_length=1, max_length=100_000)]
LaneDb = Annotated[float, Field(ge=-144, le=120, allow_inf_nan=False)]
SpanIn = tuple[Seconds, Seconds]


class RideRuleIn(Values):
    """Values of the rule of a ride; those that are absent are as they come."""

    strength: Annotated[float, within("ride.strength")] | None = None
    most_up: Annotated[float, within("ride.most_up")] | None = None
    most_down: Annotated[float, within("ride.most_down")] | None = None
    dead_band: Annotated[float, within("target.tolerance")] | None = None
    natural_fall: Annotated[float, within("ride.natural_fall")] | None = None
    pace: Pace | None = None
    error: Annotated[float, within("ride.error")] | None = None


class RideDraftRequest(Request):
    """A ride to try, for all phrases, for some, or within a span."""

    rule: RideRuleIn | None = None
    clips: Ids | None = None
    span: SpanIn | None = None


class RideDraftAccept(Accepted):
    """A ride to do."""

    rule: RideRuleIn | None = None
    clips: Ids | None = None
    span: SpanIn | None = None


class OfLane(Revised):
    """An edit of a lane: the clip curves, the ride, or the trim."""

    lane: LaneName


class OfSpan(OfLane):
    """An edit of a span of a lane."""

    start: Seconds
    end: Seconds


class Lift(OfSpan):
    """A span of a lane to raise or lower."""

    by: Db


class Scale(OfSpan):
    """A range of a lane of which the moves become ``factor`` times as large, around a gain or around their middle."""

    factor: Annotated[float, Field(ge=-10, le=10, allow_inf_nan=False)]
    around: Db | None = None


class RangeChange(OfSpan):
    """A range of a lane, and what to do with it."""

    what: Literal["delete", "smooth", "thin"]
    seconds: Annotated[float, Field(ge=0.05, le=10)] = drawing.SMOOTHING
    """Over how many seconds it is smoothed."""


class Borders(OfLane):
    """Spans of which both ends get a point, or two each with those where ramps begin; null: these once the first are there."""

    spans: Annotated[list[SpanIn], Field(min_length=1, max_length=20_000)]
    four: bool | None = False


class NewPoint(OfLane):
    """A point to make: on the curve where it is, or at a gain."""

    at: Seconds
    db: LaneDb | None = None


class PointsChange(OfLane):
    """Points to move, to set, or to delete; ``at`` moves one point to a moment."""

    points: Points
    seconds: Annotated[float, Field(ge=-1_000_000, le=1_000_000, allow_inf_nan=False)] = 0.0
    by: Db = 0.0
    to: LaneDb | None = None
    shape: Literal["linear", "smooth", "hold"] | None = None
    at: Seconds | None = None
    gone: bool = False


class DrawnLine(OfLane):
    """What the hand drew: seconds and dB, in the order in which it was drawn."""

    points: Annotated[list[tuple[Seconds, LaneDb]], Field(min_length=2, max_length=20_000)]


class Paste(OfSpan):
    """A range of a lane to put at a moment; ``from_track`` and ``from_lane`` say where it comes from."""

    at: Seconds
    from_track: Id
    from_lane: LaneName


class HandOver(OfLane):
    """What one lane draws, all of it or a span, to be moved into another."""

    to: LaneName
    span: SpanIn | None = None


class TrimChange(Revised):
    """The trim of a whole track, or its switch."""

    db: Db | None = None
    off: bool | None = None


class RangeOfWork(Revised):
    """The working range of a track, dB; a low of -144 is silence."""

    low: Annotated[float, Field(ge=-144, lt=0, allow_inf_nan=False)]
    high: Annotated[float, Field(gt=0, le=24, allow_inf_nan=False)]


class CurveQuery(BaseModel):
    """A curve in a file: which lane it is for, its name, the revision that this is based on."""

    revision: int = Field(ge=0)
    lane: LaneName
    name: Name


@api.get("/lanes", responses={200: RideView})
def get_ride(path: TrackPath, query: GainQuery) -> Response:
    """What is drawn: the lanes as points."""
    return answer(of_key(bench(), path.track_id, query.key, lambda: rides.view(bench(), path.track_id)))


@api.get("/ride/inside", responses={200: InsideView})
def get_inside(path: TrackPath, query: GainQuery) -> Response:
    """What goes on inside the phrases, and what strays."""
    return answer(of_key(bench(), path.track_id, query.key, lambda: rides.inside(bench(), path.track_id)))


@api.post("/ride/draft", responses={200: RideDraftView})
def draft_ride(path: TrackPath, body: RideDraftRequest) -> Response:
    """What a drafted ride would do; nothing is changed."""
    rule = body.rule.values() if body.rule else None
    return answer(rides.draft(bench(), path.track_id, rule, body.clips and set(body.clips), body.span))


@api.post("/ride/draft/accept", responses={200: Changed})
def accept_ride(path: TrackPath, body: RideDraftAccept) -> Response:
    """Make the drafted ride the ride."""
    rule = body.rule.values() if body.rule else None
    ids = body.clips and set(body.clips)
    return answer(rides.accept(bench(), path.track_id, body.revision, rule, ids, body.span, body.stamp))


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
    where = path.track_id, body.revision, body.lane, body.start, body.end
    if body.what == "delete":
        return answer(drawing.delete_range(bench(), *where))
    return answer(drawing.change_range(bench(), *where, body.what, body.seconds))


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
    if not (body.gone or body.seconds or body.by) and body.to is None and body.shape is None and body.at is None:
        raise Refused("Give the change to make to the points.")
    if body.at is not None and len(body.points) > 1:
        raise Refused("Only one point at a time can be put at a moment.")
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
            body.at,
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
    return answer(whole.clear(bench(), path.track_id, body.revision, body.lane))


@api.post("/lanes/trim", responses={200: Changed})
def set_trim(path: TrackPath, body: TrimChange) -> Response:
    """Trim the whole track, or switch the trim off or on."""
    if (body.db is None) == (body.off is None):
        raise Refused("Give either a trim in dB or whether the trim is off.")
    return answer(whole.set_trim(bench(), path.track_id, body.revision, body.db, body.off))


@api.post("/lanes/move", responses={200: Changed})
def hand_over(path: TrackPath, body: HandOver) -> Response:
    """Move what one lane draws into another: fold the trim, mirror clip curve and ride."""
    return answer(whole.hand_over(bench(), path.track_id, body.revision, body.lane, body.to, body.span))


@api.post("/lanes/working-range", responses={200: Changed})
def set_range(path: TrackPath, body: RangeOfWork) -> Response:
    """Set the working range."""
    return answer(whole.set_range(bench(), path.track_id, body.revision, body.low, body.high))


@api.post("/lanes/file", responses={200: Changed})
def bring_curve_in(path: TrackPath, query: CurveQuery) -> Response:
    """Bring a curve in from a CSV or MIDI file, which is the body of the request."""
    length = request.content_length or 0
    if not 0 < length <= curve_files.MOST_BYTES:
        raise Refused("A curve file is not empty and holds 16 MB at most.")
    data = request.stream.read(length)
    return answer(curve_files.bring_in(bench(), path.track_id, query.revision, query.lane, query.name, data))
