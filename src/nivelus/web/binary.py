"""Routes that carry bytes: uploads, samples, waveform, traces, gain, finished renders."""

from __future__ import annotations

import io

import numpy as np
from flask import Blueprint, Response, jsonify, request, send_file

from nivelus.core.chain.state import LAYERS
from nivelus.core.errors import NotFound, Refused
from nivelus.services.files import imports, renders
from nivelus.services.lanes import curve_files, passes, rides, taking
from nivelus.services.mix import balance, load
from nivelus.services.sessions import broken, rules
from nivelus.services.track import sound
from nivelus.services.views.passes import DrawnView
from nivelus.store.tables import Session, Track
from nivelus.web.answers import answer, array, packed
from nivelus.web.context import bench, queue
from nivelus.web.security import CONTENT, RECEIVED

bp = Blueprint("binary", __name__, url_prefix="/api")


@bp.post("/sessions/<session_id>/uploads")
def upload(session_id: str) -> Response:
    """Take a sound file: its bytes are the body, its name is in the query. Answers with the job that imports it."""
    name = request.args.get("name", "")
    if not name:
        raise Refused("The file needs a name.")
    received = request.environ.get(RECEIVED)
    if received is not None:
        content = request.environ[CONTENT]
        job = imports.take_upload(bench(), session_id, name, received, content, request.content_length)
    else:
        job = imports.stage_upload(bench(), session_id, name, request.stream, request.content_length)
    queue().put(job.id)
    return answer(job, 202)


@bp.get("/sessions/<session_id>/rows")
def rows(session_id: str) -> Response:
    """A session as it is stored, row for row, as a JSON file; also one that cannot be read."""
    name, data = broken.give_out(bench(), session_id)
    return send_file(io.BytesIO(data), as_attachment=True, download_name=name)


@bp.get("/tracks/<track_id>/samples")
def samples(track_id: str) -> Response:
    """float32, channels interleaved; ``start`` and ``count`` in samples at the ``rate``. It never changes for a ``key``."""
    rate = _whole_or_none("rate")
    return array(
        sound.samples(bench(), track_id, _key(), _whole("start"), _whole("count"), _take(), rate),
        lasting=True,
    )


@bp.get("/tracks/<track_id>/wave/<int:level>/<int:index>")
def wave(track_id: str, level: int, index: int) -> Response:
    """A tile of the waveform pyramid of a ``take``: float32 lowest and highest sample of each bin."""
    return array(sound.wave_tile(bench(), track_id, _key(), level, index, _take()), lasting=True)


@bp.get("/tracks/<track_id>/onsets")
def onsets(track_id: str) -> Response:
    """float64 seconds at which sound sets in."""
    return array(sound.onsets(bench(), track_id, _key()), lasting=True)


@bp.get("/tracks/<track_id>/trace")
def trace(track_id: str) -> Response:
    """float32 level before gain, 20 a second, in the session's unit."""
    return array(sound.trace(bench(), track_id))


@bp.get("/tracks/<track_id>/heard")
def heard(track_id: str) -> Response:
    """All that is heard and shown of the gain that has a ``key``: see ``sound.Heard``, and ``answers.packed`` for its form.

    With ``drawn`` also the lanes and passes of that state, as JSON in bytes.
    """
    key = _key()
    parts = sound.heard(bench(), track_id, key, _layers())
    drawn = sound.of_key(bench(), track_id, key, lambda: _drawn(track_id)) if "drawn" in request.args else b""
    return packed([*parts, np.frombuffer(drawn, np.uint8)])


def _drawn(track_id: str) -> bytes:
    view = DrawnView(lanes=rides.view(bench(), track_id), passes=passes.view(bench(), track_id).items)
    return view.model_dump_json().encode()


@bp.get("/tracks/<track_id>/gain")
def gain(track_id: str) -> Response:
    """float64 pairs of samples and dB: the compiled gain, linear in dB between points; of ``layers`` only, if given."""
    key = _key() if "key" in request.args else None
    return array(sound.gain_points(bench(), track_id, _layers(), _take(), key))


@bp.get("/tracks/<track_id>/lanes/<lane>.<ending>")
def lane_file(track_id: str, lane: str, ending: str) -> Response:
    """What is drawn on a track as a CSV or MIDI file."""
    name, data = curve_files.write_out(bench(), track_id, lane, ending)
    return send_file(io.BytesIO(data), as_attachment=True, download_name=name)


@bp.get("/rules/<rule_id>/file")
def rule_file(rule_id: str) -> Response:
    """A rule as a TOML file."""
    name, data = rules.give_out(bench(), rule_id)
    return send_file(io.BytesIO(data), mimetype="application/toml", as_attachment=True, download_name=name)


@bp.post("/passes/<pass_id>/pieces")
def pass_piece(pass_id: str) -> Response:
    """float64 pairs of seconds and dB as the body, from pair number ``first`` on; answers with how many are there."""
    count = taking.take_down(bench(), pass_id, _whole("first"), request.get_data(cache=False))
    return jsonify({"count": count})


@bp.get("/sessions/<session_id>/distance/course")
def distance_course(session_id: str) -> Response:
    """float32 pairs of short-term loudness of voice and bed, LUFS, 10 a second."""
    track = request.args.get("track")
    revision = _whole_or_none("revision")
    return array(
        sound.of_revision(bench(), Session, session_id, revision, lambda: balance.distance_course(bench(), session_id, track))
    )


@bp.get("/tracks/<track_id>/load/course")
def load_course(track_id: str) -> Response:
    """float32 pairs of the highest reduction before and after, dB, 20 a second."""
    revision = _whole_or_none("revision")
    return array(sound.of_revision(bench(), Track, track_id, revision, lambda: load.course(bench(), track_id)))


@bp.get("/tracks/<track_id>/reduction")
def reduction(track_id: str) -> Response:
    """float32 pairs of what the compressor adds before and after, dB, every 64 samples at ``rate``."""
    return array(load.reduction(bench(), track_id, _key(), _whole("start"), _whole("count"), _whole("rate"), _take()))


@bp.get("/jobs/<job_id>/file")
def rendered(job_id: str) -> Response:
    """The file that a render made."""
    path, name = renders.rendered_file(bench(), job_id)
    try:
        return send_file(path, as_attachment=True, download_name=name)
    except FileNotFoundError:
        # it was taken off the list meanwhile
        raise NotFound("This file no longer exists. Render the track again.", id=job_id) from None


def _layers() -> list[str]:
    """The layers that were asked for, as in ``layers=clip,dips``; all if none is named."""
    layers = request.args.get("layers")
    chosen = list(LAYERS) if layers is None else [name for name in layers.split(",") if name]
    if not set(chosen) <= set(LAYERS):
        raise Refused(f"The layers are {', '.join(LAYERS)}.")
    return chosen


def _key() -> str:
    """The key of what is asked for: of a timeline, or of a gain."""
    return request.args.get("key", "")


def _take() -> int | None:
    """The take that is asked for; the one that is heard if none is named."""
    return _whole_or_none("take")


def _whole_or_none(name: str) -> int | None:
    return _whole(name) if name in request.args else None


def _whole(name: str) -> int:
    try:
        return int(request.args[name])
    except (KeyError, ValueError):
        raise Refused(f"“{name}” must be a whole number.") from None
