"""Bringing recordings in: an upload is staged, then measured in a job, then appears as a track, whole or not at all."""

from __future__ import annotations

import os
import shutil
from collections.abc import Collection, Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any, Protocol

from nivelus.core.errors import DiskFull, Refused, SoundError
from nivelus.core.files import disk_full, free_bytes, is_full, link_or_copy, size_in_words
from nivelus.core.marks.bed import is_bed
from nivelus.core.marks.cells import Cell, cut_into_cells
from nivelus.core.marks.details import find_marks
from nivelus.core.marks.mark import Mark
from nivelus.core.measure.grid import measure_file
from nivelus.core.sound.decoding import damage
from nivelus.core.sound_formats import OF_DECODER
from nivelus.core.words import printable
from nivelus.services.answers.answers import reading_back
from nivelus.services.clips.following import can_lead, lead
from nivelus.services.clips.phrases import clip_of
from nivelus.services.files.coming import Coming, as_it_is_read, next_place, take_apart
from nivelus.services.sessions import jobs
from nivelus.services.sessions.jobs import RECEIVING, JobView
from nivelus.services.sessions.recordings import forget_import, loose
from nivelus.services.sessions.sessions import create, new_recording
from nivelus.services.track.names import NAME_LENGTH
from nivelus.services.track.workbench import Workbench
from nivelus.store import history
from nivelus.store.hashes import ContentHash, hash_file, hash_own, is_older_hash
from nivelus.store.history import require
from nivelus.store.job_rows import failed_imports
from nivelus.store.packing import pack
from nivelus.store.recording_rows import dig_up, every_recording, recording_of
from nivelus.store.tables import Clip, Job, MarkSet, Recording, Session, Track, new_id
from nivelus.store.track_rows import tracks_in_order

_BLOCK = 1 << 20
_SCARCE = "The disk is nearly full: {} are left."
CAME_AS_BED = "“{name}” does not pause as a voice does, so it came in as a bed. If it is a voice, say so in its menu."


class Readable(Protocol):
    """Anything that bytes can be read from."""

    def read(self, size: int = -1, /) -> bytes: ...


def expect_upload(bench: Workbench, session_id: str, name: str, length: int | None = None) -> Path:
    """Where the bytes of an upload are to be written to, asked before any of them is read.

    Raises
    ------
    NotFound, Refused, DiskFull
        If there is no such session, or if ``length`` bytes are more than the setting or the disk allows.
    """
    with bench.database.reading() as db:
        require(db, Session, session_id, "session")
    label, most = safe_file_name(name), bench.settings.max_upload_mb
    if length is not None and length > most << 20:
        raise Refused(f"“{label}” is larger than {most} MB, the limit.")
    free = free_bytes(bench.vault.incoming)
    if length is not None and length > free:
        raise DiskFull(
            f"“{label}” does not fit on the disk: it needs {size_in_words(length)}, and {size_in_words(free)} is free. "
            "Free some space and drop it again."
        )
    return bench.vault.incoming / f"{new_id()}{RECEIVING}"


@contextmanager
def whole_or_gone(received: Path) -> Iterator[None]:
    """Leave nothing of an upload where the block that handles it fails, and say so where that is for want of room."""
    try:
        yield
    except BaseException as error:
        received.unlink(missing_ok=True)
        if is_full(error):
            raise disk_full(received) from error
        raise


def take_upload(
    bench: Workbench, session_id: str, name: str, received: Path, content: str, length: int | None = None
) -> JobView:
    """Make the job that will import an upload which has been written where ``expect_upload`` said.

    ``content`` is its content hash, worked out while it was written.

    Raises
    ------
    Refused
        If it broke off before ``length`` bytes; nothing is kept then.
    """
    label = safe_file_name(name)
    with whole_or_gone(received):
        size = received.stat().st_size
        if length is not None and size < length:
            raise Refused(f"“{label}” arrived incomplete. Drop it again.")
        with received.open("rb") as handle:
            os.fsync(handle.fileno())
        staged = received.with_suffix("")
        received.replace(staged)
    free = free_bytes(staged)
    scarce = free < size
    warning = _SCARCE.format(size_in_words(free)) if scarce else ""
    return _add_job(bench, session_id, staged, label, warning, content=content)


def stage_upload(bench: Workbench, session_id: str, name: str, stream: Readable, length: int | None = None) -> JobView:
    """Stream an upload to disk and make the job that will import it.

    Raises
    ------
    NotFound, Refused, DiskFull
        As ``expect_upload`` and ``take_upload`` do; nothing is kept then.
    """
    received = expect_upload(bench, session_id, name, length)
    limit, size, content = bench.settings.max_upload_mb << 20, 0, ContentHash()
    with whole_or_gone(received), received.open("wb") as handle:
        while block := stream.read(_BLOCK):
            size += len(block)
            if size > limit:
                most = bench.settings.max_upload_mb
                raise Refused(f"“{safe_file_name(name)}” is larger than {most} MB, the limit.")
            handle.write(block)
            content.update(block)
    return take_upload(bench, session_id, name, received, content.name(), length)


def stage_file(bench: Workbench, session_id: str, path: Path, name: str | None = None) -> JobView:
    """Copy a file of this machine to the staging folder and make the job that will import it."""
    staged = bench.vault.incoming / new_id()
    shutil.copyfile(path, staged)
    return _add_job(bench, session_id, staged, safe_file_name(name or path.name))


def bring_back(bench: Workbench, hashes: Collection[str]) -> list[JobView]:
    """Make a session of each loose recording, by importing it anew; the jobs that will."""
    jobs = []
    for item in loose(bench).items:
        sound = bench.vault.sound_of(item.hash)
        if item.hash not in hashes or sound is None:
            continue
        staged = bench.vault.incoming / new_id()
        link_or_copy(sound, staged)
        name = safe_file_name(item.name)
        session_id = create(bench, Path(name).stem or name)
        jobs.append(_add_job(bench, session_id, staged, name, hash=item.hash))
    return jobs


def run_import(bench: Workbench, job_id: str) -> list[str]:
    """Import a staged upload: measure it, find its marks, cut it, and add its track. What fails is said in the job.

    The answer is the ids of jobs that are to be run in its place, where a file was taken apart.
    """
    failed = "It could not be imported. Try again, or export the file anew."
    jobs.run(bench, job_id, lambda job: _import(bench, job), failed)
    _name_after_what_came(bench, job_id)
    with bench.database.reading() as db:
        job = db.get(Job, job_id)
        return [] if job is None or job.state != "done" else job.result.get("jobs", [])


def _name_after_what_came(bench: Workbench, job_id: str) -> None:
    """A session that was begun with a file is called after it; if that one was refused, after the first that was not."""
    with bench.database.writing() as db:
        job = db.get(Job, job_id)
        session = None if job is None else db.get(Session, job.session_id)
        if session is None:
            return
        refused = {_track_name(name) for name in failed_imports(db, session.id)}
        names = [track.name for track in tracks_in_order(db, session.id)]
        if names and session.name in refused and session.name not in names:
            session.name = names[0]


def _track_name(file: str) -> str:
    """What a track is called that comes from a file of this name."""
    return Path(file).stem[:NAME_LENGTH] or file


def safe_file_name(name: str) -> str:
    """The last part of a file name from outside, without what a terminal or a page might stumble over."""
    last = name.replace("\\", "/").rsplit("/", 1)[-1]
    return printable(last)[-NAME_LENGTH:] or "recording"


def _add_job(bench: Workbench, session_id: str, staged: Path, name: str, message: str = "", **payload: Any) -> JobView:
    """The job that imports a staged file, which bears its id."""
    try:
        with bench.database.writing() as db:
            require(db, Session, session_id, "session")
            job = jobs.new_job(session_id, "import", name, place=next_place(db, session_id), **payload)
            job.id, job.message = staged.name, message
            db.add(job)
            db.flush()
            return jobs.view_job(job)
    except BaseException:
        staged.unlink(missing_ok=True)
        raise


def _import(bench: Workbench, job: Job) -> dict[str, Any]:
    staged = bench.vault.incoming / job.id
    if not staged.exists():
        raise SoundError(f"“{job.name}” no longer exists. Drop it again.")
    content, known = _content_of(bench, job, staged)
    with bench.database.reading() as db:
        longest = require(db, Session, job.session_id, "session").longest
    there = _there(bench, known)
    coming = Coming(staged) if there is not None else as_it_is_read(bench, job, staged)
    if coming.is_apart:
        return {"jobs": take_apart(bench, job, coming)}
    sound, decoded = coming.sound, coming.decoded
    if decoded:
        content = hash_own(sound)
        with bench.database.reading() as db:
            there = _there(bench, recording_of(db, content))
    taken_out_of = bench.vault.original(job.id)
    original = staged if decoded else taken_out_of if taken_out_of.exists() else None
    if there is not None:
        grid, suffix, is_new = bench.vault.grid(there), there.suffix, False
    else:
        report = jobs.reporter(bench, job, "measuring", 8, 92)
        info, grid, wave = coming.measured or measure_file(sound, report, job.name)
        jobs.reporter(bench, job, "storing", 92, 94)(0.5)
        suffix = OF_DECODER[info.format].name
        is_new = bench.vault.add(sound, content, suffix, grid, wave, job.name, original)
        # the waveform of an hour is as large as all that marks are found with
        del wave
        coming = replace(coming, measured=None)
    try:
        jobs.reporter(bench, job, "finding marks", 94, 98)(0.5)
        marks = find_marks(grid, longest)
        found = marks.phrases
        recording = there if there is not None else new_recording(content, suffix, info, marks)
        if decoded and there is None:
            recording.format = decoded.words
        bed = is_bed(grid, [grid.span(phrase.start, phrase.end) for phrase in found.phrases])
        cells = cut_into_cells(grid, replace(found, phrases=(), cuts=()) if bed else found)
        told = [CAME_AS_BED.format(name=_title(job))] if bed else []
        told += [damage(job.name, decoded.damaged)] if decoded and decoded.damaged else []
        # the track appears together with the end of the job
        track = _add_track(bench, job, recording, cells, () if bed else marks.details, "bed" if bed else "voice", told)
    except BaseException:
        # whatever it was, nothing stays
        if is_new:
            forget_import(bench, content)
        raise
    if bench.vault.sound_of(content) is None:
        # another session was deleted meanwhile, and took the recording along before this one had its row
        _, grid, wave = measure_file(sound)
        bench.vault.add(sound, content, suffix, grid, wave, job.name, original)
    bench.vault.clear_job(job.id)
    return {"track": track}


def _title(job: Job) -> str:
    """What the track of an import is called."""
    return str(job.payload.get("title") or _track_name(job.name))


def _there(bench: Workbench, recording: Recording | None) -> Recording | None:
    """A recording that is known, if its sound is there as well."""
    return recording if recording is not None and not recording.missing and bench.vault.source(recording).exists() else None


def _content_of(bench: Workbench, job: Job, staged: Path) -> tuple[str, Recording | None]:
    """The content hash of a staged upload, and the recording that has it already."""
    report = jobs.reporter(bench, job, "reading", 0, 8)
    content = job.payload.get("content") or hash_file(staged, report, like=job.payload.get("hash"))
    with bench.database.reading() as db:
        recordings = every_recording(db)
    for recording in recordings:
        if recording.hash == content:
            return content, recording
    size = staged.stat().st_size
    for recording in recordings:
        # one that bears a hash of another kind is the same if it is as long and has the same of that kind
        source = bench.vault.source(recording)
        if is_older_hash(recording.hash) == is_older_hash(content) or not source.exists() or source.stat().st_size != size:
            continue
        if hash_file(staged, report, like=recording.hash) == recording.hash:
            return recording.hash, recording
    return content, None


def _add_track(
    bench: Workbench,
    job: Job,
    recording: Recording,
    cells: list[Cell],
    details: tuple[Mark, ...],
    kind: str,
    told: list[str],
) -> str:
    with history.edit(
        bench.database, job.session_id, f"Import {job.name}", read_back=reading_back(bench, answers=False)
    ) as edit:
        db = edit.db
        jobs.require_at_work(db, job)
        dig_up(db, recording.hash)
        stored = recording_of(db, recording.hash)
        if stored is None:
            # a row of its own: one that was read before may have been deleted since
            stored = Recording(**recording.model_dump())
            db.add(stored)
        stored.missing = False
        track = Track(
            **({"id": job.payload["own"]} if "own" in job.payload else {}),
            session_id=job.session_id,
            recording_id=stored.id,
            name=_title(job),
            # whichever is read first: tracks stand in the order in which their files came
            position=job.payload["place"] if "place" in job.payload else next_place(db, job.session_id),
            kind=kind,
        )
        db.add(track)
        db.flush()
        leader = db.get(Track, job.payload["leader"]) if "leader" in job.payload else None
        if leader is not None and can_lead(leader):
            lead(edit, track, leader, 0)
        else:
            edit.add_many(Clip, [clip_of(track.id, cell) for cell in cells])
            db.add(MarkSet(track_id=track.id, data=pack(details, stored.sample_rate, stored.frames)))
        # whichever was read before it stood on its own until now
        for id in job.payload.get("followers", ()) if can_lead(track) else ():
            other = db.get(Track, id)
            if other is not None and other.follows is None:
                lead(edit, other, track, 0)
        row = db.get(Job, job.id)
        if row is not None:
            row.state, row.percent, row.result = "done", 100.0, {"track": track.id}
            row.message = " ".join(told)
    return track.id
