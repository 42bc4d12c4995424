"""Rendering a track: asked for, written in a job under a name that is only taken when the file is whole, then fetched."""

from __future__ import annotations

import math
from collections.abc import Sequence
from datetime import datetime
from functools import partial
from itertools import count
from pathlib import Path
from typing import Any

from sqlalchemy.orm import Session as DbSession

from nivelus.core.chain.state import TrackState
from nivelus.core.deliver.mix import Part, render_mix
from nivelus.core.deliver.render import render
from nivelus.core.dynamics.detector import whole_reduction
from nivelus.core.errors import NotFound, Refused
from nivelus.core.measure.loudness import figures
from nivelus.core.sound.timeline import open_sound
from nivelus.core.sound_formats import why_not_written
from nivelus.services.answers.answers import tracks_of
from nivelus.services.mix.load import compressors_of, scaled
from nivelus.services.sessions import jobs
from nivelus.services.sessions.jobs import JobView
from nivelus.services.track.sound import render_source
from nivelus.services.track.state import state_of
from nivelus.services.track.timeline import Timeline, sound_of
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.mix_settings import load_settings, sounding
from nivelus.store.history import newest_step, require
from nivelus.store.job_rows import names_of_jobs
from nivelus.store.tables import Job, Session, Track


def request(bench: Workbench, track_id: str, format: str, bits: int, with_fader: bool) -> JobView:
    """Make the job that will render a track."""
    _check_format(format, bits)
    _, track, _, _ = render_source(bench, track_id)
    holds = f"{_kind(format, bits)}, " + (f"with the fader at {track.fader:+.1f} dB" if with_fader else "pre-fader")
    asked = {"format": format, "bits": bits, "with_fader": with_fader, "holds": holds}
    with bench.database.writing() as db:
        session = require(db, Session, track.session_id, "session")
        of = track.name if track.name == session.name else f"{session.name} - {track.name}"
        return _job(db, track.session_id, f"{of} levelled", track=track_id, **asked)


def request_mix(bench: Workbench, session_id: str, format: str, bits: int, limited: bool, compressed: bool) -> JobView:
    """Make the job that will render the balanced mix: every track that sounds, with its fader."""
    _check_format(format, bits)
    with bench.database.writing() as db:
        session = require(db, Session, session_id, "session")
        tracks = tracks_of(db, session_id)
        heard = sounding([track for track, _ in tracks])
        _something(session, [timeline for track, timeline in tracks if track in heard], bool(tracks))
        parts = [_kind(format, bits), "faders"]
        parts += ["voices through their compressor"] if compressed else []
        parts += ["limited to −1 dBFS"] if limited else []
        asked = {"format": format, "bits": bits, "limited": limited, "compressed": compressed, "holds": ", ".join(parts)}
        return _job(db, session_id, f"{session.name} - mix", mix=session_id, **asked)


def run_render(bench: Workbench, job_id: str) -> list[str]:
    """Render as the job says. What fails is said in the job, and nothing is left under the final name. No job follows."""
    failed = "It could not be rendered. Try it again."
    jobs.run(bench, job_id, lambda job: _render(bench, job), failed)
    return []


def _kind(format: str, bits: int) -> str:
    """A format in words."""
    return f"{format.upper()} {'32-bit float' if bits == 32 else f'{bits} bits'}"


def _job(db: DbSession, session_id: str, name: str, **asked: Any) -> JobView:
    """A job whose file is called by what it is of and by the time, and like no other of the session."""
    now = datetime.now().astimezone().strftime("%Y-%m-%d %H.%M")
    taken = names_of_jobs(db, session_id)
    names = (f"{name} {now}{'' if number == 1 else f' ({number})'}.{asked['format']}" for number in count(1))
    job = jobs.new_job(session_id, "render", next(free for free in names if free not in taken), **asked)
    db.add(job)
    db.flush()
    return jobs.view_job(job)


def _check_format(format: str, bits: int) -> None:
    if why := why_not_written(format, bits):
        raise Refused(why)


def _something(session: Session, heard: Sequence[Timeline], has_tracks: bool) -> None:
    """Raises Refused where there is nothing that a mix of a session could hold; ``heard`` are the tracks that sound."""
    if not has_tracks:
        raise Refused(f"There is nothing to mix: “{session.name}” has no tracks yet.")
    if not heard:
        raise Refused("Every track is muted: there is nothing to mix.")
    if all(timeline.missing for timeline in heard):
        raise Refused("There is nothing to mix: the files of all audible tracks are missing. Import them again.")


def _render_mix(bench: Workbench, job: Job) -> dict[str, str]:
    wanted = job.payload
    with bench.database.reading() as db:
        session = require(db, Session, wanted["mix"], "session")
        every = tracks_of(db, session.id)
        sound = sounding([track for track, _ in every])
        _something(session, [timeline for track, timeline in every if track in sound], bool(every))
        tracks = [(track, timeline) for track, timeline in every if not timeline.missing]
        heard = {track.id for track in sounding([track for track, _ in tracks])}
        rate = mix_rate(tracks)
        parts = [
            part_of(bench, track, timeline, state_of(bench, db, session, track, timeline), rate, wanted["compressed"])
            for track, timeline in tracks
            if track.id in heard
        ]
        begins = None if session.origin is None else round(session.origin * rate)
        at, step = newest_step(db, session.id)
    highest = render_mix(
        parts,
        bench.vault.renders / f"{job.id}.{wanted['format']}",
        rate,
        format=wanted["format"],
        bits=wanted["bits"],
        limited=wanted["limited"],
        begins=begins,
        progress=jobs.reporter(bench, job, "mixing", 0, 100),
    )
    over = 20 * math.log10(max(highest, 1e-9))
    told = ""
    if highest > 1 and not wanted["limited"]:
        said = "and is clipped there" if wanted["bits"] != 32 else "which 32-bit float keeps"
        told = f"The mix passes full scale by {over:.1f} dB, {said}. Turn the faders down, or switch on the limiter."
    return {"file": job.name, "told": told, "at": at, "step": step}


def mix_rate(tracks: Sequence[tuple[Track, Timeline]]) -> int:
    """The rate at which tracks are heard and mixed together: that of the first voice."""
    rates = [timeline.sample_rate for track, timeline in tracks if track.kind == "voice"]
    return (rates or [timeline.sample_rate for _, timeline in tracks] or [48_000])[0]


def part_of(bench: Workbench, track: Track, timeline: Timeline, state: TrackState, rate: int, compressed: bool) -> Part:
    """A track as a part of a mix at some rate; a voice goes through its compressor if that is asked for."""
    opener = partial(open_sound, sound_of(bench, timeline), rate)
    gain = scaled(state.gain, rate / timeline.sample_rate)
    if not compressed or track.kind != "voice":
        return Part(opener, gain, track.fader)
    compressor = compressors_of(load_settings(track))[1]
    return Part(opener, gain, track.fader, compressor, whole_reduction(opener, gain, compressor))


def _render(bench: Workbench, job: Job) -> dict[str, str]:
    wanted = job.payload
    if "mix" in wanted:
        return _render_mix(bench, job)
    with bench.database.reading() as db:
        # read before what is rendered: a step that comes between the two makes it old, and not the other way
        at, step = newest_step(db, job.session_id)
    source, track, state, grid = render_source(bench, wanted["track"])
    fader = track.fader if wanted["with_fader"] else 0.0
    render(
        source,
        bench.vault.renders / f"{job.id}.{wanted['format']}",
        state.gain,
        format=wanted["format"],
        bits=wanted["bits"],
        fader=fader,
        figures=figures(grid, state.gain_per_frame * [10 ** (fader / 10), 10 ** (fader / 20)]),
        progress=jobs.reporter(bench, job, "rendering", 0, 100),
    )
    return {"file": job.name, "at": at, "step": step}


def rendered_file(bench: Workbench, job_id: str) -> tuple[Path, str]:
    """A finished render and the name to save it under."""
    job = jobs.get(bench, job_id)
    path = bench.vault.renders / f"{job_id}.{job.payload.get('format')}"
    if job.kind != "render" or job.state != "done" or not path.exists():
        raise NotFound("There is no finished render here. Render the track again.", id=job_id)
    return path, job.name
