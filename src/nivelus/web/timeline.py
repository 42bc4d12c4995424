"""Routes of timelines: clips along the axis, takes, and laying out tracks that came together."""

from __future__ import annotations

from typing import Annotated, Literal

from flask import Response
from pydantic import BaseModel, Field

from nivelus.services.clips import arranging, moves, takes
from nivelus.services.clips.arranging import ArrangementView
from nivelus.services.clips.takes import TakesView
from nivelus.services.views.session import Changed
from nivelus.web.answers import answer
from nivelus.web.context import bench
from nivelus.web.models import Id, Ids, Join, Name, Revised, RevisionQuery, Seconds, SessionPath, TrackPath
from nivelus.web.routes import Routes

api = Routes("timeline", "timeline", "/api")
Offset = Annotated[float, Field(ge=-1_000_000, le=1_000_000, allow_inf_nan=False)]
TakeNumber = Annotated[int, Field(ge=-1, le=1_000_000)]


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


@api.post("/tracks/<track_id>/move", responses={200: Changed})
def move(path: TrackPath, body: ClipMove) -> Response:
    """Move clips in time, and maybe to another track or take."""
    return answer(moves.move(bench(), path.track_id, body.revision, body.clips, body.by, body.track, body.take))


@api.post("/tracks/<track_id>/paste", responses={200: Changed})
def paste(path: TrackPath, body: ClipCopy) -> Response:
    """Copy clips of this or another track to a moment of this one."""
    source = body.source or path.track_id
    return answer(moves.paste(bench(), path.track_id, body.revision, source, body.clips, body.at, body.take))


@api.post("/tracks/<track_id>/take-out", responses={200: Changed})
def take_out(path: TrackPath, body: Join) -> Response:
    """Take clips out; silence is left."""
    return answer(moves.take_out(bench(), path.track_id, body.revision, body.clips))


@api.post("/tracks/<track_id>/close-gap", responses={200: Changed})
def close_gap(path: TrackPath, body: OneClip) -> Response:
    """Close the silence behind a clip."""
    return answer(moves.close_gap(bench(), path.track_id, body.revision, body.clip))


@api.post("/tracks/<track_id>/home", responses={200: Changed})
def bring_home(path: TrackPath, body: Join) -> Response:
    """Move clips back to where they were recorded."""
    return answer(moves.bring_home(bench(), path.track_id, body.revision, body.clips))


@api.post("/tracks/<track_id>/trim-ends", responses={200: Changed})
def trim(path: TrackPath, body: ClipTrim) -> Response:
    """Move the start or the end of a clip."""
    return answer(moves.trim(bench(), path.track_id, body.revision, body.clip, body.edge, body.at))


@api.get("/tracks/<track_id>/takes", responses={200: TakesView})
def list_takes(path: TrackPath) -> Response:
    """The takes of a track with their clips and figures."""
    return answer(takes.view(bench(), path.track_id))


@api.post("/tracks/<track_id>/takes/hear", responses={200: Changed})
def switch_take(path: TrackPath, body: TakeSwitch) -> Response:
    """Hear another take."""
    return answer(takes.switch(bench(), path.track_id, body.revision, body.take))


@api.post("/tracks/<track_id>/takes/match", responses={200: Changed})
def match_takes(path: TrackPath, body: Revised) -> Response:
    """Bring the other takes to the level of the one that is heard."""
    return answer(takes.match(bench(), path.track_id, body.revision))


@api.post("/tracks/<track_id>/takes/choose", responses={200: Changed})
def choose_take(path: TrackPath, body: TakeChoice) -> Response:
    """Put the phrase of another take in the place of one."""
    return answer(takes.choose(bench(), path.track_id, body.revision, body.clip, body.take))


@api.patch("/tracks/<track_id>/takes/<int:take>", responses={200: Changed})
def rename_take(path: TakePath, body: TakeRename) -> Response:
    """Give a take another name."""
    return answer(takes.rename(bench(), path.track_id, body.revision, path.take, body.name))


@api.delete("/tracks/<track_id>/takes/<int:take>", responses={200: Changed})
def remove_take(path: TakePath, query: RevisionQuery) -> Response:
    """Take a take out."""
    return answer(takes.remove(bench(), path.track_id, query.revision, path.take))


@api.get("/sessions/<session_id>/arrangement", responses={200: ArrangementView})
def likely(path: SessionPath, query: ArrangeQuery) -> Response:
    """Which way of laying out some tracks is likely to be meant."""
    return answer(arranging.likely(bench(), path.session_id, [id for id in query.tracks.split(",") if id]))


@api.post("/sessions/<session_id>/arrange", responses={200: Changed})
def arrange(path: SessionPath, body: Arrange) -> Response:
    """Lay out tracks that came together."""
    return answer(arranging.arrange(bench(), path.session_id, body.revision, body.tracks, body.way))
