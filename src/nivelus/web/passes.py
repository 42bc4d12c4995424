"""Routes of riding by hand: passes are taken down, looked at, kept and dropped."""

from __future__ import annotations

from typing import Annotated, Literal

from flask import Response
from pydantic import BaseModel, Field

from nivelus.core.passes.writing import MOST_GLIDE, MOST_LEAD
from nivelus.services.lanes import passes, taking
from nivelus.services.views.passes import PassDraftView, PassesView, PassView
from nivelus.services.views.session import Changed, LaneName
from nivelus.web.answers import answer
from nivelus.web.context import bench
from nivelus.web.models import Accepted, Id, Request, Revised, Seconds, TrackPath
from nivelus.web.routes import Routes

_OF_TRACK, _OF_PASS = "/tracks/<track_id>/passes", "/passes/<pass_id>"
api = Routes("passes", "passes", "/api")


class PassPath(BaseModel):
    """A pass in an address."""

    pass_id: Id


_AS_IT_COMES = passes.Settings()


class HowWritten(Request):
    """How a pass is to be written: glide and lead in seconds, dB that points may stray, whether it is pulled to phrases."""

    glide: Annotated[float, Field(ge=0, le=MOST_GLIDE, allow_inf_nan=False)] = _AS_IT_COMES.glide
    lead: Annotated[float, Field(ge=0, le=MOST_LEAD, allow_inf_nan=False)] = _AS_IT_COMES.lead
    error: Annotated[float, Field(ge=0.01, le=6, allow_inf_nan=False)] = _AS_IT_COMES.error
    snap: bool = _AS_IT_COMES.snap

    def settings(self) -> passes.Settings:
        """The same as the services know it."""
        return passes.Settings(self.glide, self.lead, self.error, self.snap)


class NewPass(HowWritten):
    """A pass that begins; its id is made by the page, so that asking twice makes one."""

    id: Id
    lane: LaneName
    mode: Literal["touch", "latch"]
    span: tuple[Seconds, Seconds] | None = None


class KeepPass(Accepted, HowWritten):
    """A pass to keep, as its lane or the mean of each phrase as clip gain."""

    as_clip_gain: bool = False


@api.get(_OF_TRACK, responses={200: PassesView})
def get_passes(path: TrackPath) -> Response:
    """The passes that wait to be decided on or are kept."""
    return answer(passes.view(bench(), path.track_id))


@api.post(_OF_TRACK, responses={200: PassView})
def begin_pass(path: TrackPath, body: NewPass) -> Response:
    """Begin to take a pass down."""
    return answer(taking.begin(bench(), path.track_id, body.id, body.lane, body.mode, body.span, body.settings()))


@api.post(f"{_OF_PASS}/end", responses={200: PassesView})
def end_pass(path: PassPath) -> Response:
    """The pass is over; it waits to be decided on, if anything was held in it."""
    view = passes.end(bench(), path.pass_id)
    return answer(PassesView(items=[] if view is None else [view]))


@api.post(f"{_OF_PASS}/draft", responses={200: PassDraftView})
def draft_pass(path: PassPath, body: HowWritten) -> Response:
    """What keeping it would make of the lane; nothing is changed."""
    return answer(passes.draft(bench(), path.pass_id, body.settings()))


@api.post(f"{_OF_PASS}/keep", responses={200: Changed})
def keep_pass(path: PassPath, body: KeepPass) -> Response:
    """Make it what the lane is."""
    return answer(passes.keep(bench(), path.pass_id, body.revision, body.settings(), body.as_clip_gain, body.stamp))


@api.post(f"{_OF_PASS}/drop", responses={200: Changed})
def drop_pass(path: PassPath, body: Revised) -> Response:
    """Let it go."""
    return answer(passes.drop(bench(), path.pass_id, body.revision))
