"""Setting things right at start, after the program was killed or files were moved by hand.

Uploads without a job, pieces of files under temporary names, folders without a row and renders without a job go; rows
whose files are gone are marked as missing; a level grid that is missing beside its sound, or was measured
by an older version, is measured again, and marks that were never looked for are found.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session as DbSession
from sqlmodel import col

from nivelus.core.errors import SoundError
from nivelus.core.marks.details import find_details
from nivelus.core.measure.grid import measure_file
from nivelus.services.levels import clips_of, phrases_of
from nivelus.services.workbench import Workbench
from nivelus.store.packing import pack
from nivelus.store.tables import Job, MarkSet, Recording, Track
from nivelus.store.vault import write_measured


def mend(bench: Workbench) -> list[str]:
    """Mend the data folder; what was done, one sentence each. Run it before any job is running."""
    done = []
    vault = bench.vault
    with bench.database.writing() as db:
        jobs = {job.id: job for job in db.scalars(select(Job))}
        for path in _files(vault.incoming):
            job = jobs.get(path.name)
            if job is None or job.state not in ("waiting", "running"):
                path.unlink(missing_ok=True)
                done.append("An upload that never became a track was cleared away.")
        for path in _files(vault.renders):
            job = jobs.get(path.name.split(".")[0])
            if path.name.startswith(".") or job is None or job.state != "done":
                path.unlink(missing_ok=True)
                done.append("A render that was never finished was cleared away.")
        known = {recording.hash: recording for recording in db.scalars(select(Recording).order_by(col(Recording.id)))}
        present = vault.hashes()
        for name in present - set(known):
            vault.remove(name)
            done.append("A recording that belongs to no track was cleared away.")
        for recording in known.values():
            whole = recording.hash in present and _has_all(bench, recording)
            if not whole and not recording.missing:
                done.append("A recording has lost its file; its track says so.")
            recording.missing = not whole
        done += _find_missing_marks(bench, db)
    return done


def _find_missing_marks(bench: Workbench, db: DbSession) -> list[str]:
    """Find the marks of tracks from before marks were kept."""
    has_marks = select(col(MarkSet.track_id))
    query = select(Track, Recording).join(Recording, col(Track.recording_id) == col(Recording.id))
    done = []
    for track, recording in db.execute(query.where(col(Track.id).not_in(has_marks), col(Recording.missing).is_(False))):
        details = find_details(bench.vault.grid(recording), phrases_of(clips_of(db, track.id), recording))
        db.add(MarkSet(track_id=track.id, data=pack(details, recording.sample_rate, recording.frames)))
        done.append(f"The details of “{track.name}” were found.")
    return done


def _has_all(bench: Workbench, recording: Recording) -> bool:
    source = bench.vault.source(recording)
    if not source.exists():
        return False
    if not bench.vault.is_measured(recording):
        try:
            _, grid, wave = measure_file(source)
        except SoundError:
            return False
        write_measured(source.parent, grid, wave)
    return True


def _files(folder: Path) -> Iterator[Path]:
    return (path for path in list(folder.iterdir()) if path.is_file())
