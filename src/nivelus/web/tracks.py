"""Routes of tracks: their clips worked by hand, their drafts, their figures, their render."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Annotated, Literal

from flask import Response
from pydantic import Field

from nivelus.core.errors import Refused
from nivelus.core.sound_formats import Bits, Written
from nivelus.services.clips import clips, drafts, following, phrases
from nivelus.services.clips.drafts import DraftView
from nivelus.services.files import renders
from nivelus.services.sessions import tracks
from nivelus.services.sessions.jobs import JobView
from nivelus.services.track import sound
from nivelus.services.track.sound import BeforeAfter
from nivelus.services.views.session import Changed
from nivelus.web.answers import answer
from nivelus.web.context import bench, queue
from nivelus.web.models import (
    Accepted,
    Db,
    GainQuery,
    Id,
    Ids,
    Join,
    Name,
    Request,
    Revised,
    RevisionQuery,
    RuleIn,
    Seconds,
    TrackPath,
)
from nivelus.web.routes import Routes

api = Routes("tracks", "tracks", "/api/tracks/<track_id>")


class TrackChange(Revised):
    """Another name, place in the order, kind or fader position, or whether it is heard. One of them."""

    name: Name | None = None
    place: Annotated[int, Field(ge=0, le=100_000)] | None = None
    kind: Literal["voice", "bed"] | None = None
    fader: Db | None = None
    mute: bool | None = None
    solo: bool | None = None


class RemovalQuery(RevisionQuery):
    """Which revision a removal was meant for, and the track that is followed from then on instead, if any."""

    instead: Id | None = None


class Follow(Revised):
    """The track to follow; without one, whether to begin ``together`` with the one that is followed, or to follow none."""

    leader: Id | None = None
    together: bool = False


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


class BorderMove(Revised):
    """The border at the end of a clip, and where it goes."""

    clip: Id
    at: Seconds


class DraftRequest(Request):
    """What to draft: some clips or all, with other values of the rule than the session's if any."""

    clips: Ids | None = None
    rule: RuleIn | None = None
    peaks: bool = False


class DraftAccept(Accepted):
    """What to accept; with ``peaks``, short peaks that hold phrases back are turned down."""

    clips: Ids | None = None
    peaks: bool = False


class RenderRequest(Request):
    """How to render a track."""

    format: Written = "wav"
    bits: Bits = 24
    with_fader: bool = False


@api.patch("", responses={200: Changed})
def change_track(path: TrackPath, body: TrackChange) -> Response:
    """Rename a track, put it elsewhere in the order, make it a voice or a bed, set its fader, mute or solo it."""
    ways: dict[str, Callable[..., Changed]] = {
        "name": tracks.rename,
        "place": tracks.put,
        "kind": tracks.set_kind,
        "fader": tracks.set_fader,
        "mute": partial(tracks.set_heard, which="mute"),
        "solo": partial(tracks.set_heard, which="solo"),
    }
    given = [name for name in ways if getattr(body, name) is not None]
    if len(given) != 1:
        raise Refused("Give a name, a place in the order, a kind, a fader position, mute or solo.")
    (name,) = given
    value = {"on" if name in ("mute", "solo") else name: getattr(body, name)}
    return answer(ways[name](bench(), path.track_id, body.revision, **value))


@api.post("/copies", responses={200: Changed})
def duplicate_track(path: TrackPath, body: Revised) -> Response:
    """Put a copy of a track, with everything on it, right below it."""
    return answer(tracks.duplicate(bench(), path.track_id, body.revision))


@api.delete("", responses={200: Changed})
def remove_track(path: TrackPath, query: RemovalQuery) -> Response:
    """Remove a track; undo brings it back. What follows it keeps its gain, or follows another track ``instead``."""
    return answer(following.remove(bench(), path.track_id, query.revision, query.instead))


@api.post("/follow", responses={200: Changed})
def follow_track(path: TrackPath, body: Follow) -> Response:
    """Let a track follow another, begin together with the one that it follows, or stand on its own with the gain it has."""
    if body.leader is not None:
        return answer(following.follow(bench(), path.track_id, body.revision, body.leader))
    work = following.begin_together if body.together else following.stand_alone
    return answer(work(bench(), path.track_id, body.revision))


@api.post("/gain", responses={200: Changed})
def set_gain(path: TrackPath, body: GainChange) -> Response:
    """Move clips by some dB, or set their gain."""
    return answer(clips.set_gain(bench(), path.track_id, body.revision, body.clips, body.by, body.to))


@api.post("/flag", responses={200: Changed})
def set_flag(path: TrackPath, body: FlagChange) -> Response:
    """Lock, leave out, or make a reference."""
    return answer(clips.set_flag(bench(), path.track_id, body.revision, body.clips, body.flag, body.on))


@api.post("/label", responses={200: Changed})
def set_label(path: TrackPath, body: LabelChange) -> Response:
    """Write down the words of a phrase."""
    return answer(clips.set_label(bench(), path.track_id, body.revision, body.clip, body.label))


@api.post("/phrases/find", responses={200: Changed})
def find_phrases(path: TrackPath, body: Revised) -> Response:
    """Find the phrases anew, none longer than the session's longest; what was done to them stays with them."""
    return answer(phrases.find_again(bench(), path.track_id, body.revision))


@api.post("/cut", responses={200: Changed})
def cut(path: TrackPath, body: Cut) -> Response:
    """Cut a clip in two."""
    return answer(clips.cut(bench(), path.track_id, body.revision, body.at))


@api.post("/join", responses={200: Changed})
def join(path: TrackPath, body: Join) -> Response:
    """Join neighbouring clips."""
    return answer(clips.join(bench(), path.track_id, body.revision, body.clips))


@api.post("/border", responses={200: Changed})
def move_border(path: TrackPath, body: BorderMove) -> Response:
    """Move the border at the end of a clip."""
    return answer(clips.move_border(bench(), path.track_id, body.revision, body.clip, body.at))


@api.post("/draft", responses={200: DraftView})
def make_draft(path: TrackPath, body: DraftRequest) -> Response:
    """What evening out would do; nothing is changed."""
    rule = body.rule.values() if body.rule else None
    return answer(drafts.draft(bench(), path.track_id, body.clips and set(body.clips), rule, body.peaks))


@api.post("/draft/accept", responses={200: Changed})
def accept_draft(path: TrackPath, body: DraftAccept) -> Response:
    """Do what the draft proposes."""
    ids = body.clips and set(body.clips)
    return answer(drafts.accept(bench(), path.track_id, body.revision, ids, body.peaks, body.stamp))


@api.get("/figures", responses={200: BeforeAfter})
def get_figures(path: TrackPath, query: GainQuery) -> Response:
    """Figures before and after."""
    made = sound.of_key(bench(), path.track_id, query.key, lambda: sound.before_after(bench(), path.track_id))
    return answer(made)


@api.post("/render", responses={202: JobView})
def start_render(path: TrackPath, body: RenderRequest) -> Response:
    """Ask for a render."""
    job = renders.request(bench(), path.track_id, body.format, body.bits, body.with_fader)
    queue().put(job.id)
    return answer(job, 202)
