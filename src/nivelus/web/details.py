"""Routes of a track's details: the rules of their dips, and what the hand does to single ones."""

from __future__ import annotations

from typing import Annotated, Literal

from flask import Response
from pydantic import Field

from nivelus.core.errors import Refused
from nivelus.core.kinds import AnyKind, KindName
from nivelus.services.clips import details
from nivelus.services.clips.details import TrialView
from nivelus.services.views.session import Changed
from nivelus.web.answers import answer
from nivelus.web.context import bench
from nivelus.web.models import Db, Request, Revised, Seconds, TrackPath, Values, within
from nivelus.web.routes import Routes

api = Routes("details", "details", "/api/tracks/<track_id>/details")
Depth = Annotated[float, within("details.gap.depth")]
Ramp = Annotated[float, Field(ge=0, le=2, allow_inf_nan=False)]
MarkId = Annotated[str, Field(min_length=1, max_length=40)]
MarkIds = Annotated[list[MarkId], Field(min_length=1, max_length=50_000)]


class DipRuleIn(Values):
    """Values of the rule of one kind of detail; those that are absent stay."""

    on: bool | None = None
    depth: Depth | None = None
    shallowest: Depth | None = None
    deepest: Depth | None = None
    silent: bool | None = None
    even: bool | None = None
    closes: Annotated[float, within("details.gap.closes")] | None = None
    opens: Annotated[float, within("details.gap.opens")] | None = None


class DipRuleChange(Revised):
    """Another rule for one kind."""

    kind: KindName
    rule: DipRuleIn


class DipTrial(Request):
    """Values of rules to try, by kind."""

    rules: Annotated[dict[KindName, DipRuleIn], Field(min_length=1)]


class DepthChange(Revised):
    """Depth of dips: by so much, to so much, or to silence."""

    marks: MarkIds
    by: Db | None = None
    to: Depth | None = None
    silent: Literal[True] | None = None


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
    kind: KindName | None = None
    start: Seconds | None = None
    end: Seconds | None = None
    gone: bool = False


class NewMark(Revised):
    """A mark or a free dip over a span."""

    kind: AnyKind
    start: Seconds
    end: Seconds
    depth: Depth | None = None
    silent: Literal[True] | None = None


class Marks(Revised):
    """Some marks."""

    marks: MarkIds


@api.post("/rule", responses={200: Changed})
def set_rule(path: TrackPath, body: DipRuleChange) -> Response:
    """Change how the marks of one kind go down."""
    return answer(details.set_rule(bench(), path.track_id, body.revision, body.kind, body.rule.values()))


@api.post("/trial", responses={200: TrialView})
def try_rules(path: TrackPath, body: DipTrial) -> Response:
    """What other rules would make of the dips; nothing is changed."""
    return answer(details.trial(bench(), path.track_id, {kind: rule.values() for kind, rule in body.rules.items()}))


@api.post("/depth", responses={200: Changed})
def set_depth(path: TrackPath, body: DepthChange) -> Response:
    """Deepen or ease dips, or set their depth."""
    return answer(details.set_depth(bench(), path.track_id, body.revision, body.marks, body.by, body.to, body.silent is True))


@api.post("/change", responses={200: Changed})
def change_details(path: TrackPath, body: DetailChange) -> Response:
    """Keep marks out or in, or make their dips notches."""
    if (body.keep is None) == (body.notch is None):
        raise Refused("Give either what the rule does with them or their shape.")
    if body.keep is not None:
        return answer(details.set_keep(bench(), path.track_id, body.revision, body.marks, body.keep))
    assert body.notch is not None
    return answer(details.set_shape(bench(), path.track_id, body.revision, body.marks, body.notch))


@api.post("/edges", responses={200: Changed})
def set_edges(path: TrackPath, body: DipEdges) -> Response:
    """Move the edges or ramps of a dip."""
    if all(value is None for value in (body.start, body.end, body.ramp_in, body.ramp_out)):
        raise Refused("Name the edge or ramp to move.")
    return answer(
        details.set_edges(bench(), path.track_id, body.revision, body.mark, body.start, body.end, body.ramp_in, body.ramp_out)
    )


@api.post("/correct", responses={200: Changed})
def correct_marks(path: TrackPath, body: Correction) -> Response:
    """Say what marks really are."""
    if body.kind is None and body.start is None and body.end is None and not body.gone:
        raise Refused("Name what the marks really are.")
    return answer(
        details.correct(bench(), path.track_id, body.revision, body.marks, body.kind, body.start, body.end, gone=body.gone)
    )


@api.post("/make", responses={200: Changed})
def make_mark(path: TrackPath, body: NewMark) -> Response:
    """Make a mark or a dip by hand."""
    made = body.revision, body.kind, body.start, body.end, body.depth, body.silent is True
    return answer(details.make(bench(), path.track_id, *made))


@api.post("/reset", responses={200: Changed})
def reset_marks(path: TrackPath, body: Marks) -> Response:
    """Forget what the hand did to marks."""
    return answer(details.reset(bench(), path.track_id, body.revision, body.marks))


@api.post("/find", responses={200: Changed})
def find_again(path: TrackPath, body: Revised) -> Response:
    """Find the details anew; what the hand did stays."""
    return answer(details.find_again(bench(), path.track_id, body.revision))
