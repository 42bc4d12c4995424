"""Rendering a track: asked for, written in a job under a name that is only taken when the file is whole, then fetched."""

from __future__ import annotations

from pathlib import Path

from nivelus.core.deliver.render import render
from nivelus.core.errors import NotFound, Refused
from nivelus.core.measure.loudness import figures
from nivelus.services import jobs
from nivelus.services.sound import render_source
from nivelus.services.views import JobView
from nivelus.services.workbench import Workbench
from nivelus.store.tables import Job


def request(bench: Workbench, track_id: str, format: str, bits: int, with_fader: bool) -> JobView:
    """Make the job that will render a track."""
    if format == "flac" and bits == 32:
        raise Refused("FLAC holds 16 or 24 bits. For 32-bit float use WAV.")
    _, track, _, _ = render_source(bench, track_id)
    name = f"{track.name} levelled.{format}"
    with bench.database.writing() as db:
        job = jobs.new_job(track.session_id, "render", name, track=track_id, format=format, bits=bits, with_fader=with_fader)
        db.add(job)
        db.flush()
        return jobs.view_job(job)


def run_render(bench: Workbench, job_id: str) -> None:
    """Render as the job says. What fails is said in the job, and nothing is left under the final name."""
    failed = "It could not be rendered. Try it again."
    jobs.run(bench, job_id, lambda job: _render(bench, job), failed)


def _render(bench: Workbench, job: Job) -> dict[str, str]:
    wanted = job.payload
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
    return {"file": job.name}


def rendered_file(bench: Workbench, job_id: str) -> tuple[Path, str]:
    """A finished render and the name to save it under."""
    job = jobs.get(bench, job_id)
    path = bench.vault.renders / f"{job_id}.{job.payload.get('format')}"
    if job.kind != "render" or job.state != "done" or not path.exists():
        raise NotFound("There is no finished render here. Render the track again.", id=job_id)
    return path, job.name
