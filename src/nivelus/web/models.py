"""What requests may say. Answers are the views of ``services.views``. Numbers must be finite; ids are short."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from nivelus.services.views import LaneName

Id = Annotated[str, Field(min_length=1, max_length=40)]
Ids = Annotated[list[Id], Field(min_length=1, max_length=20_000)]
Db = Annotated[float, Field(ge=-120, le=120, allow_inf_nan=False)]
Seconds = Annotated[float, Field(ge=0, le=1_000_000, allow_inf_nan=False)]
Offset = Annotated[float, Field(ge=-1_000_000, le=1_000_000, allow_inf_nan=False)]
TakeNumber = Annotated[int, Field(ge=-1, le=1_000_000)]
Name = Annotated[str, Field(min_length=1, max_length=400)]
Depth = Annotated[float, Field(ge=-60, le=0, allow_inf_nan=False)]
Ramp = Annotated[float, Field(ge=0, le=2, allow_inf_nan=False)]
Kind = Literal["breath", "ess", "knock", "gap"]
MarkId = Annotated[str, Field(min_length=1, max_length=40)]
MarkIds = Annotated[list[MarkId], Field(min_length=1, max_length=50_000)]
Limit = Annotated[float, Field(ge=0, le=60, allow_inf_nan=False)]


class Request(BaseModel):
    """A request body: nothing but what is declared."""

    model_config = ConfigDict(extra="forbid")


class Values(Request):
    """Values of a rule; what is absent stays as it is."""

    def values(self) -> dict[str, Any]:
        """What was given."""
        return {name: value for name, value in self.model_dump().items() if value is not None}


class SessionPath(BaseModel):
    """A session in an address."""

    session_id: Id


class TrackPath(BaseModel):
    """A track in an address."""

    track_id: Id


class JobPath(BaseModel):
    """A job in an address."""

    job_id: Id


class NewSession(Request):
    """A session to start."""

    name: Name


class Revised(Request):
    """A write, with the revision that it is based on."""

    revision: int = Field(ge=0)


class RuleIn(Values):
    """Values of the rule; those that are absent stay."""

    unit: Literal["loudness", "rms", "peak"] | None = None
    target_kind: Literal["absolute", "median", "reference"] | None = None
    target: Annotated[float, Field(ge=-60, le=0, allow_inf_nan=False)] | None = None
    tolerance: Annotated[float, Field(ge=0, le=12, allow_inf_nan=False)] | None = None
    strength: Annotated[float, Field(ge=0, le=100, allow_inf_nan=False)] | None = None
    most_up: Limit | None = None
    most_down: Limit | None = None
    ceiling: Annotated[float, Field(ge=-40, le=0, allow_inf_nan=False)] | None = None
    noise_limit: Annotated[float, Field(ge=-100, le=0, allow_inf_nan=False)] | None = None
    base_kind: Literal["auto", "hand", "none"] | None = None
    base: Annotated[float, Field(ge=-60, le=60, allow_inf_nan=False)] | None = None
    settle: bool | None = None
    keep_by_hand: bool | None = None
    mono_as_two: bool | None = None
    longest: Annotated[float, Field(ge=2, le=60, allow_inf_nan=False)] | None = None


class SessionChange(Revised):
    """Another name, another rule, or both."""

    name: Name | None = None
    rule: RuleIn | None = None


class TrackChange(Revised):
    """Another name, kind or fader position, or whether it is heard. One of them."""

    name: Name | None = None
    kind: Literal["voice", "bed"] | None = None
    fader: Db | None = None
    mute: bool | None = None
    solo: bool | None = None


class DipRuleIn(Values):
    """Values of the rule of one kind of detail; those that are absent stay."""

    on: bool | None = None
    depth: Depth | None = None
    shallowest: Depth | None = None
    deepest: Depth | None = None
    silent: bool | None = None


class DipRuleChange(Revised):
    """Another rule for one kind."""

    kind: Kind
    rule: DipRuleIn


class DipTrial(Request):
    """Values of rules to try, by kind."""

    rules: Annotated[dict[Kind, DipRuleIn], Field(min_length=1)]


class DepthChange(Revised):
    """Depth of dips: by so much, or to so much."""

    marks: MarkIds
    by: Db | None = None
    to: Depth | None = None


class DetailChange(Revised):
    """What dips do: whether the rule holds for them, and their shape. One of the two."""

    marks: MarkIds
    keep: Literal["rule", "in", "out"] | None = None
    notch: bool | None = None


class DipEdges(Revised):
    """Edges of a dip, where it is at its depth, and its ramps; those that are absent stay."""

    mark: MarkId
    start: Seconds | None = None
    end: Seconds | None = None
    ramp_in: Ramp | None = None
    ramp_out: Ramp | None = None


class Correction(Revised):
    """What marks really are: another kind, other edges, or no marks."""

    marks: MarkIds
    kind: Kind | None = None
    start: Seconds | None = None
    end: Seconds | None = None
    gone: bool = False


class NewMark(Revised):
    """A mark or a free dip over a span."""

    kind: Kind | Literal["dip"]
    start: Seconds
    end: Seconds
    depth: Depth | None = None


class Marks(Revised):
    """Some marks."""

    marks: MarkIds


class GainChange(Revised):
    """Clip gain: by so much, or to so much."""

    clips: Ids
    by: Db | None = None
    to: Db | None = None


class FlagChange(Revised):
    """A flag of clips."""

    clips: Ids
    flag: Literal["locked", "left_out", "reference"]
    on: bool


class LabelChange(Revised):
    """The words of a phrase."""

    clip: Id
    label: Annotated[str, Field(max_length=2000)]


class Cut(Revised):
    """Where to cut."""

    at: Seconds


class Join(Revised):
    """What to join."""

    clips: Ids


class BorderMove(Revised):
    """The border at the end of a clip, and where it goes."""

    clip: Id
    at: Seconds


class OneClip(Revised):
    """One clip."""

    clip: Id


class ClipMove(Revised):
    """Clips, how far they are moved, and maybe to which track or take; -1 is a take that is made for them."""

    clips: Ids
    by: Offset = 0.0
    track: Id | None = None
    take: TakeNumber | None = None


class ClipCopy(Revised):
    """Clips of the ``source`` track, of the same one if none is named, and where the copies begin."""

    clips: Ids
    at: Seconds
    source: Id | None = None
    take: TakeNumber | None = None


class ClipTrim(Revised):
    """Which end of a clip goes where."""

    clip: Id
    edge: Literal["start", "end"]
    at: Seconds


class TakeSwitch(Revised):
    """Which take is heard."""

    take: TakeNumber


class TakeChoice(Revised):
    """The phrase in hand, and the take that is chosen for it."""

    clip: Id
    take: TakeNumber


class TakeRename(Revised):
    """What a take is called."""

    name: Name


class TakePath(TrackPath):
    """A take of a track."""

    take: TakeNumber


class Arrange(Revised):
    """Which tracks are laid out, and how."""

    tracks: Annotated[list[Id], Field(min_length=1, max_length=500)]
    way: Literal["takes", "after", "stamps"]


class ArrangeQuery(BaseModel):
    """Ids of tracks, parted by commas."""

    tracks: str


class DraftRequest(Request):
    """What to draft: some clips or all, with other values of the rule than the session's if any."""

    clips: Ids | None = None
    rule: RuleIn | None = None
    peaks: bool = False


class DraftAccept(Revised):
    """What to accept; with ``peaks``, short peaks that hold phrases back are turned down."""

    clips: Ids | None = None
    peaks: bool = False


class RenderRequest(Request):
    """How to render a track."""

    format: Literal["wav", "flac"] = "wav"
    bits: Literal[16, 24, 32] = 24
    with_fader: bool = False


class SessionQuery(BaseModel):
    """Which tracks are told with their clips and marks; all if nothing is said. ``first`` may be empty: the first in order."""

    first: Annotated[str, Field(max_length=40)] | None = None
    only: Id | None = None


class RevisionQuery(BaseModel):
    """The revision that a deletion is based on."""

    revision: int = Field(ge=0)


class Hashes(Request):
    """Recordings by their content."""

    hashes: Annotated[list[Annotated[str, Field(min_length=1, max_length=128)]], Field(min_length=1, max_length=10_000)]


class Problem(BaseModel):
    """What went wrong (RFC 9457): ``detail`` is a sentence for the person."""

    type: str
    title: str
    status: int
    detail: str


Places = Annotated[list[Annotated[int, Field(ge=0, le=1_000_000)]], Field(min_length=1, max_length=100_000)]
Lag = Annotated[float, Field(gt=0, le=5, allow_inf_nan=False)]
LaneDb = Annotated[float, Field(ge=-144, le=120, allow_inf_nan=False)]
SpanIn = tuple[Seconds, Seconds]


class RideRuleIn(Values):
    """Values of the rule of a ride; those that are absent are as they come. Times are seconds."""

    strength: Annotated[float, Field(ge=0, le=100, allow_inf_nan=False)] | None = None
    most_up: Limit | None = None
    most_down: Limit | None = None
    dead_band: Annotated[float, Field(ge=0, le=12, allow_inf_nan=False)] | None = None
    attack: Lag | None = None
    release: Lag | None = None
    look_ahead: Annotated[float, Field(ge=0, le=2, allow_inf_nan=False)] | None = None
    error: Annotated[float, Field(ge=0.05, le=6, allow_inf_nan=False)] | None = None


class RideDraftRequest(Request):
    """A ride to try, for all phrases, for some, or within a span."""

    rule: RideRuleIn | None = None
    clips: Ids | None = None
    span: SpanIn | None = None


class RideDraftAccept(Revised):
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


class Borders(OfLane):
    """Spans of which both ends get a point, or two each with those where ramps begin."""

    spans: Annotated[list[SpanIn], Field(min_length=1, max_length=20_000)]
    four: bool = False


class NewPoint(OfLane):
    """A point to make: on the curve where it is, or at a gain."""

    at: Seconds
    db: LaneDb | None = None


class PointsChange(OfLane):
    """Points to move, to set, or to delete."""

    points: Places
    seconds: Annotated[float, Field(ge=-1_000_000, le=1_000_000, allow_inf_nan=False)] = 0.0
    by: Db = 0.0
    to: LaneDb | None = None
    shape: Literal["linear", "smooth", "hold"] | None = None
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
