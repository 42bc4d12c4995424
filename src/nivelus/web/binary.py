"""Routes that carry bytes: uploads, samples, waveform, traces, gain, finished renders."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from flask import Response, request, send_file
from flask_openapi3 import RawModel
from pydantic import BaseModel, Field

from nivelus.core.chain.state import LAYERS
from nivelus.core.errors import NotFound, Refused
from nivelus.services.files import imports, renders
from nivelus.services.lanes import curve_files, passes, rides, taking
from nivelus.services.mix import balance, load
from nivelus.services.sessions import broken, rules
from nivelus.services.sessions.jobs import JobView
from nivelus.services.track import sound
from nivelus.services.views.passes import DrawnView, PiecesTaken
from nivelus.store.tables import Session, Track
from nivelus.web.answers import answer, array, as_file, packed
from nivelus.web.context import bench, queue
from nivelus.web.jobs import JobPath
from nivelus.web.models import AtRevision, Id, SessionPath, TrackPath
from nivelus.web.passes import PassPath
from nivelus.web.routes import Routes
from nivelus.web.rules import RulePath
from nivelus.web.security import CONTENT, RECEIVED

api = Routes("binary", "bytes", "/api")
# a whole number that JSON holds exactly; what lies outside of a recording the services refuse
Whole = Annotated[int, Field(ge=-(1 << 53), le=1 << 53)]
Key = Annotated[str, Field(max_length=200)]


def sent_as(*mimetypes: str, type: str = "string") -> dict[Any, Any]:
    """The description of an answer that is a file, or numbers."""
    schema = {"type": type} | ({"format": "binary"} if type == "string" else {})
    return {200: {"content": {one: {"schema": schema} for one in mimetypes}}}


NUMBERS = sent_as("application/octet-stream")


class SoundBytes(RawModel):
    """A sound file."""

    mimetypes = ["application/octet-stream"]  # noqa: RUF012


class Pairs(RawModel):
    """float64 pairs of seconds and dB, little-endian."""

    mimetypes = ["application/octet-stream"]  # noqa: RUF012


class UploadQuery(BaseModel):
    """What an uploaded file is called."""

    name: str = ""


class TileQuery(BaseModel):
    """The timeline that is asked for, and the take of it; the one that is heard if none is named."""

    key: Key = ""
    take: Whole | None = None


class WavePath(TrackPath):
    """A tile of a waveform."""

    level: Annotated[int, Field(ge=0, le=1 << 53)]
    index: Annotated[int, Field(ge=0, le=1 << 53)]


class StretchQuery(TileQuery):
    """A stretch of sound: from which sample, how many, at which rate."""

    start: Whole
    count: Whole
    rate: Whole | None = None


class ReductionQuery(TileQuery):
    """A stretch of what a compressor does: from which sample, how many, at which rate."""

    start: Whole
    count: Whole
    rate: Whole


class LayersQuery(BaseModel):
    """The layers that are asked for, as in ``layers=clip,dips``; all if none is named."""

    layers: Annotated[str, Field(max_length=200)] | None = None

    def chosen(self) -> list[str]:
        """The names of the layers. Raises Refused."""
        chosen = list(LAYERS) if self.layers is None else [name for name in self.layers.split(",") if name]
        if not set(chosen) <= set(LAYERS):
            raise Refused(f"The layers are {', '.join(LAYERS)}.")
        return chosen


class HeardQuery(LayersQuery):
    """The gain that is asked for by its key, and with ``drawn`` what is drawn as well."""

    key: Key = ""
    drawn: str | None = None


class GainQuery(LayersQuery):
    """The gain that is asked for: of a take, and by its key, if they are named."""

    key: Key | None = None
    take: Whole | None = None


class LaneFilePath(TrackPath):
    """A lane of a track as a file."""

    lane: str
    ending: Annotated[str, Field(max_length=20)]


class FirstQuery(BaseModel):
    """The number of the first pair."""

    first: Whole


class CourseQuery(AtRevision):
    """The voice that is asked about; all that sound if none is named."""

    track: Id | None = None


@api.post("/sessions/<session_id>/uploads", responses={202: JobView})
def upload(path: SessionPath, query: UploadQuery, raw: SoundBytes) -> Response:
    """Take a sound file: its bytes are the body, its name is in the query. Answers with the job that imports it."""
    if not query.name:
        raise Refused("The file needs a name.")
    received = request.environ.get(RECEIVED)
    if received is not None:
        content = request.environ[CONTENT]
        job = imports.take_upload(bench(), path.session_id, query.name, received, content, request.content_length)
    else:
        job = imports.stage_upload(bench(), path.session_id, query.name, request.stream, request.content_length)
    queue().put(job.id)
    return answer(job, 202)


@api.get("/sessions/<session_id>/rows", responses=sent_as("application/json", type="object"))
def rows(path: SessionPath) -> Response:
    """A session as it is stored, row for row, as a JSON file; also one that cannot be read."""
    name, data = broken.give_out(bench(), path.session_id)
    return as_file(data, name)


@api.get("/tracks/<track_id>/samples", responses=NUMBERS)
def samples(path: TrackPath, query: StretchQuery) -> Response:
    """float32, channels interleaved; ``start`` and ``count`` in samples at the ``rate``. It never changes for a ``key``."""
    return array(
        sound.samples(bench(), path.track_id, query.key, query.start, query.count, query.take, query.rate),
        lasting=True,
    )


@api.get("/tracks/<track_id>/wave/<int:level>/<int:index>", responses=NUMBERS)
def wave(path: WavePath, query: TileQuery) -> Response:
    """A tile of the waveform pyramid of a ``take``: float32 lowest and highest sample of each bin."""
    return array(sound.wave_tile(bench(), path.track_id, query.key, path.level, path.index, query.take), lasting=True)


@api.get("/tracks/<track_id>/onsets", responses=NUMBERS)
def onsets(path: TrackPath, query: TileQuery) -> Response:
    """float64 seconds at which sound sets in."""
    return array(sound.onsets(bench(), path.track_id, query.key), lasting=True)


@api.get("/tracks/<track_id>/trace", responses=NUMBERS)
def trace(path: TrackPath) -> Response:
    """float32 level before gain, 20 a second, in the session's unit."""
    return array(sound.trace(bench(), path.track_id))


@api.get("/tracks/<track_id>/heard", responses=NUMBERS)
def heard(path: TrackPath, query: HeardQuery) -> Response:
    """All that is heard and shown of the gain that has a ``key``: see ``sound.Heard``, and ``answers.packed`` for its form.

    With ``drawn`` also the lanes and passes of that state, as JSON in bytes.
    """
    track, key = path.track_id, query.key
    parts = sound.heard(bench(), track, key, query.chosen())
    drawn = b"" if query.drawn is None else sound.of_key(bench(), track, key, lambda: _drawn(track))
    return packed([*parts, np.frombuffer(drawn, np.uint8)])


def _drawn(track_id: str) -> bytes:
    view = DrawnView(lanes=rides.view(bench(), track_id), passes=passes.view(bench(), track_id).items)
    return view.model_dump_json().encode()


@api.get("/tracks/<track_id>/gain", responses=NUMBERS)
def gain(path: TrackPath, query: GainQuery) -> Response:
    """float64 pairs of samples and dB: the compiled gain, linear in dB between points; of ``layers`` only, if given."""
    return array(sound.gain_points(bench(), path.track_id, query.chosen(), query.take, query.key))


@api.get("/tracks/<track_id>/lanes/<lane>.<ending>", responses=sent_as("text/csv", "audio/midi"))
def lane_file(path: LaneFilePath) -> Response:
    """What is drawn on a track as a CSV or MIDI file."""
    name, data = curve_files.write_out(bench(), path.track_id, path.lane, path.ending)
    return as_file(data, name)


@api.get("/rules/<rule_id>/file", responses=sent_as("application/toml"))
def rule_file(path: RulePath) -> Response:
    """A rule as a TOML file."""
    name, data = rules.give_out(bench(), path.rule_id)
    return as_file(data, name, "application/toml")


@api.post("/passes/<pass_id>/pieces", responses={200: PiecesTaken})
def pass_piece(path: PassPath, query: FirstQuery, raw: Pairs) -> Response:
    """float64 pairs of seconds and dB as the body, from pair number ``first`` on; answers with how many are there."""
    count = taking.take_down(bench(), path.pass_id, query.first, request.get_data(cache=False))
    return answer(PiecesTaken(count=count))


@api.get("/sessions/<session_id>/distance/course", responses=NUMBERS)
def distance_course(path: SessionPath, query: CourseQuery) -> Response:
    """float32 pairs of short-term loudness of voice and bed, LUFS, 10 a second."""
    id = path.session_id
    return array(
        sound.of_revision(bench(), Session, id, query.revision, lambda: balance.distance_course(bench(), id, query.track))
    )


@api.get("/tracks/<track_id>/load/course", responses=NUMBERS)
def load_course(path: TrackPath, query: AtRevision) -> Response:
    """float32 pairs of the highest reduction before and after, dB, 20 a second."""
    id = path.track_id
    return array(sound.of_revision(bench(), Track, id, query.revision, lambda: load.course(bench(), id)))


@api.get("/tracks/<track_id>/reduction", responses=NUMBERS)
def reduction(path: TrackPath, query: ReductionQuery) -> Response:
    """float32 pairs of what the compressor adds before and after, dB, every 64 samples at ``rate``."""
    asked = query.start, query.count, query.rate
    return array(load.reduction(bench(), path.track_id, query.key, *asked, query.take))


@api.get("/jobs/<job_id>/file", responses=sent_as("audio/wav", "audio/x-wav", "audio/flac"))
def rendered(path: JobPath) -> Response:
    """The file that a render made."""
    file, name = renders.rendered_file(bench(), path.job_id)
    try:
        return send_file(file, as_attachment=True, download_name=name)
    except FileNotFoundError:
        # it was taken off the list meanwhile
        raise NotFound("This file no longer exists. Render the track again.", id=path.job_id) from None
