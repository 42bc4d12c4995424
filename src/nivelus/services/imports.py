"""Bringing recordings in: an upload is staged, then measured in a job, then appears as a track, whole or not at all."""

from __future__ import annotations

import os
import shutil
from pathlib import Path
from typing import Protocol

from sqlalchemy import func, select
from sqlmodel import col

from nivelus.core.errors import Refused, SoundError
from nivelus.core.marks.cells import Cell, cut_into_cells
from nivelus.core.marks.details import find_marks
from nivelus.core.marks.mark import Mark
from nivelus.core.measure.grid import measure_file
from nivelus.services import work
from nivelus.services.sessions import NAME_LENGTH, new_recording
from nivelus.services.views import JobView
from nivelus.services.workbench import Workbench
from nivelus.store import history
from nivelus.store.history import require
from nivelus.store.packing import pack
from nivelus.store.tables import Clip, Job, MarkSet, Recording, Session, Track, new_id
from nivelus.store.vault import SUFFIX, hash_file

_BLOCK = 1 << 20


class Readable(Protocol):
    """Anything that bytes can be read from."""

    def read(self, size: int = -1, /) -> bytes: ...


def stage_upload(bench: Workbench, session_id: str, name: str, stream: Readable, length: int | None = None) -> JobView:
    """Stream an upload to disk and make the job that will import it.

    Raises
    ------
    Refused
        If the upload is larger than the setting allows, or breaks off before ``length`` bytes; nothing is kept then.
    """
    with bench.database.reading() as db:
        require(db, Session, session_id, "session")
    label = safe_file_name(name)
    limit = bench.settings.max_upload_mb << 20
    job_id = new_id()
    staged = bench.vault.incoming / job_id
    size = 0
    try:
        with staged.open("wb") as handle:
            while block := stream.read(_BLOCK):
                size += len(block)
                if size > limit:
                    raise Refused(f"“{label}” is larger than {bench.settings.max_upload_mb} MB, the most that is taken.")
                handle.write(block)
            handle.flush()
            os.fsync(handle.fileno())
        if length is not None and size < length:
            raise Refused(f"“{label}” arrived incomplete. Drop it again.")
    except BaseException:
        staged.unlink(missing_ok=True)
        raise
    return _add_job(bench, session_id, job_id, label)


def stage_file(bench: Workbench, session_id: str, path: Path, name: str | None = None) -> JobView:
    """Copy a file of this machine to the staging folder and make the job that will import it."""
    job_id = new_id()
    shutil.copyfile(path, bench.vault.incoming / job_id)
    return _add_job(bench, session_id, job_id, safe_file_name(name or path.name))


def run_import(bench: Workbench, job_id: str) -> None:
    """Import a staged upload: measure it, find its marks, cut it, and add its track. What fails is said in the job."""
    failed = "It could not be brought in. Try it again, or export the file anew."
    work.run(bench, job_id, lambda job: {"track": _import(bench, job)}, "Stopped. Nothing was brought in.", failed)


def safe_file_name(name: str) -> str:
    """The last part of a file name from outside, without what a terminal or a page might stumble over."""
    last = name.replace("\\", "/").rsplit("/", 1)[-1]
    return "".join(c for c in last if c.isprintable()).strip()[-NAME_LENGTH:] or "recording"


def _add_job(bench: Workbench, session_id: str, job_id: str, name: str) -> JobView:
    with bench.database.writing() as db:
        job = work.new_job(session_id, "import", name)
        job.id = job_id
        db.add(job)
        db.flush()
        return work.view_job(job)


def _import(bench: Workbench, job: Job) -> str:
    staged = bench.vault.incoming / job.id
    if not staged.exists():
        raise SoundError(f"“{job.name}” is not there any more. Drop it again.")
    content = hash_file(staged, work.reporter(bench, job.id, "reading", 0, 8))
    with bench.database.reading() as db:
        known = db.scalars(select(Recording).where(col(Recording.hash) == content)).first()
    if known is not None and not known.missing:
        recording, grid = known, bench.vault.grid(known)
        marks = find_marks(grid)
    else:
        info, grid, wave = measure_file(staged, work.reporter(bench, job.id, "measuring", 8, 92), job.name)
        work.reporter(bench, job.id, "finding marks", 92, 94)(1.0)
        marks = find_marks(grid)
        recording = new_recording(content, SUFFIX[info.format], info, marks.phrases.room_tone)
        work.reporter(bench, job.id, "storing", 94, 98)(0.5)
        bench.vault.add(staged, content, recording.suffix, grid, wave)
    # from here on it is too late to stop: the track appears together with the end of the job
    return _add_track(bench, job, recording, cut_into_cells(grid, marks.phrases), marks.details)


def _add_track(bench: Workbench, job: Job, recording: Recording, cells: list[Cell], details: tuple[Mark, ...]) -> str:
    with history.edit(bench.database, job.session_id, f"Bring in {job.name}") as edit:
        db = edit.db
        stored = db.scalars(select(Recording).where(col(Recording.hash) == recording.hash)).first()
        if stored is None:
            db.add(recording)
            stored = recording
        stored.missing = False
        last = db.scalar(select(func.max(col(Track.position))).where(col(Track.session_id) == job.session_id))
        track = Track(
            session_id=job.session_id,
            recording_id=stored.id,
            name=Path(job.name).stem[:NAME_LENGTH] or job.name,
            position=0 if last is None else last + 1,
        )
        db.add(track)
        db.flush()
        db.add_all(clip_of(track.id, cell) for cell in cells)
        db.add(MarkSet(track_id=track.id, data=pack(details, stored.sample_rate, stored.frames)))
        row = db.get(Job, job.id)
        if row is not None:
            row.state, row.percent, row.result = "done", 100.0, {"track": track.id}
    (bench.vault.incoming / job.id).unlink(missing_ok=True)
    return track.id


def clip_of(track_id: str, cell: Cell) -> Clip:
    """A clip for a cell."""
    return Clip(
        track_id=track_id,
        start=cell.start,
        end=cell.end,
        phrase_start=cell.phrase_start,
        phrase_end=cell.phrase_end,
        confidence=cell.confidence,
        loudness=cell.levels.loudness if cell.levels else None,
        rms=cell.levels.rms if cell.levels else None,
        peak=cell.levels.true_peak if cell.levels else None,
        true_peak=cell.true_peak,
        room_tone=cell.room_tone,
    )
