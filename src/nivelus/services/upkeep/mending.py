"""Setting things right at start, after the program was killed or files were moved by hand.

What goes is only what the program made for itself: uploads that were still arriving, pieces under temporary names, uploads and
renders of jobs that are over, and recordings with a tombstone. Recordings that no session knows stay, and are told of. Rows
whose files are gone are marked as missing; a level grid or waveform that is missing or damaged beside its sound is measured
again, marks that were never looked for are found, and what was measured by an older rule is measured by today's.
"""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from pathlib import Path
from tempfile import TemporaryDirectory

from sqlalchemy import and_, or_, select
from sqlalchemy.orm import Session as DbSession
from sqlmodel import col

from nivelus.core.errors import NotFound, SoundError
from nivelus.core.files import size_in_words
from nivelus.core.marks.details import find_details
from nivelus.core.marks.features import shows_highs
from nivelus.core.marks.phrases import find_phrases
from nivelus.core.measure.grid import measure_file
from nivelus.core.sound.channels import split
from nivelus.core.sound.decoding import as_read
from nivelus.core.sound.reader import SoundReader
from nivelus.core.sound.refusals import MAX_CHANNELS, MOST_CHANNELS
from nivelus.core.sound_formats import OF_DECODER
from nivelus.services.clips.clips import measure_clip
from nivelus.services.sessions.jobs import RECEIVING
from nivelus.services.sessions.recordings import clear_buried, loose
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.levels import phrases_of
from nivelus.store.hashes import hash_file
from nivelus.store.job_rows import OPEN
from nivelus.store.packing import pack
from nivelus.store.reading import forget
from nivelus.store.tables import MEASURED, Clip, Job, MarkSet, Recording, Session, Tombstone, Track
from nivelus.store.vault import DECODED, ORIGINAL, Damaged, Older

MEASURED_AGAIN = "Recordings are being measured again for this version. It takes some seconds for each hour of sound."


def mend(bench: Workbench, say: Callable[[str], None] | None = None) -> list[str]:
    """Mend the data folder; what was done, one sentence each. Run it before any job is running.

    ``say`` is told of what takes long, before it does.
    """
    vault = bench.vault
    vault.clear_parts()
    vault.clear_taken_out()
    with bench.database.reading() as db:
        jobs = {job.id: job.state for job in db.scalars(select(Job))}
        buried = list(db.scalars(select(col(Tombstone.hash))))
        is_new = db.scalars(select(Session).limit(1)).first() is None
    done = _clear_uploads(bench, jobs) + _clear_renders(bench, jobs)
    for hash in buried:
        clear_buried(bench, hash)
    with bench.database.writing() as db:
        done += _look_for_files(bench, db, say)
        done += _find_missing_marks(bench, db)
        done += _measure_by_the_new_rule(bench, db)
    # what is mended makes no revision, which kept rows go by
    forget()
    return done + _tell_of_loose(bench, is_new)


def _clear_uploads(bench: Workbench, jobs: dict[str, str]) -> list[str]:
    done = []
    for folder in bench.vault.incoming.glob("*/"):
        # where something was taken apart below
        shutil.rmtree(folder, ignore_errors=True)
    for path in _files(bench.vault.incoming):
        if jobs.get(path.name.removesuffix(ORIGINAL)) in OPEN:
            continue
        if DECODED in path.name or path.name.startswith("."):
            # what it was made from is there as well
            path.unlink(missing_ok=True)
        elif path.suffix == RECEIVING or path.name in jobs:
            path.unlink(missing_ok=True)
            if jobs.get(path.name) != "done":
                done.append("An upload that never became a track was cleared away.")
        else:
            done.append(_keep_upload(bench, path))
    return done


def _keep_upload(bench: Workbench, path: Path) -> str:
    """Put a whole upload that the database knows nothing of into the vault; what is no sound holds nothing to lose."""
    name = f"Upload {path.name}"
    try:
        with as_read(path, channels=MOST_CHANNELS) as sound, TemporaryDirectory(dir=bench.vault.incoming) as folder:
            with SoundReader(sound, channels=MOST_CHANNELS) as reader:
                is_apart = reader.info.channels > MAX_CHANNELS
            if is_apart:
                for channel in split(sound, lambda number: Path(folder) / str(number)):
                    if channel.path is not None:
                        _keep(bench, channel.path, f"{name} {channel.name}")
            else:
                _keep(bench, sound, name, path if sound != path else None)
    except SoundError:
        path.unlink(missing_ok=True)
        return "An upload that is no sound was cleared away."
    path.unlink(missing_ok=True)
    return "An upload that no session knows was kept with the recordings."


def _keep(bench: Workbench, sound: Path, name: str, original: Path | None = None) -> None:
    """Put a sound into the vault."""
    info, grid, wave = measure_file(sound)
    bench.vault.add(sound, hash_file(sound), OF_DECODER[info.format].name, grid, wave, name, original)


def _clear_renders(bench: Workbench, jobs: dict[str, str]) -> list[str]:
    done = []
    for path in _files(bench.vault.renders):
        state = jobs.get(path.name.split(".")[0])
        # a finished one of a job that is not known belongs to a database that was lost: it stays
        if path.name.startswith(".") or (state is not None and state != "done"):
            path.unlink(missing_ok=True)
            done.append("A render that was never finished was cleared away.")
    return done


def _look_for_files(bench: Workbench, db: DbSession, say: Callable[[str], None] | None) -> list[str]:
    """Which recordings are there; what was measured of them is made whole."""
    done = []
    for recording in db.scalars(select(Recording).order_by(col(Recording.id))):
        is_there = bench.vault.source(recording).exists()
        try:
            if is_there:
                bench.vault.check_measured(recording)
        except Damaged as damage:
            if say and is_there and isinstance(damage, Older):
                say(MEASURED_AGAIN)
                say = None
            try:
                bench.vault.measure_again(recording)
                if not isinstance(damage, Older):
                    done.append("What was measured of a recording was damaged; it was measured again.")
            except NotFound:
                is_there = False
        if not is_there and not recording.missing:
            done.append("A recording has lost its file; its track says so.")
        recording.missing = not is_there
    return done


def _find_missing_marks(bench: Workbench, db: DbSession) -> list[str]:
    """Find the marks of tracks from before marks were kept."""
    has_marks = select(col(MarkSet.track_id))
    query = select(Track, Recording).join(Recording, col(Track.recording_id) == col(Recording.id))
    # what follows another track has none
    query = query.where(col(Track.follows).is_(None))
    done = []
    for track, recording in db.execute(query.where(col(Track.id).not_in(has_marks), col(Recording.missing).is_(False))):
        details = find_details(bench.vault.grid(recording), phrases_of(db, track, recording.sample_rate, None))
        db.add(MarkSet(track_id=track.id, data=pack(details, recording.sample_rate, recording.frames)))
        done.append(f"The details of “{track.name}” were found.")
    return done


def _measure_by_the_new_rule(bench: Workbench, db: DbSession) -> list[str]:
    """Measure the phrases of recordings again that were measured by an older rule."""
    older = select(Recording).where(col(Recording.measured) < MEASURED, col(Recording.missing).is_(False))
    count = 0
    for recording in db.scalars(older):
        grid = bench.vault.grid(recording)
        recording.shows_esses, recording.measured = shows_highs(grid), MEASURED
        recording.room_tone = find_phrases(grid).room_tone
        own = and_(col(Clip.recording_id).is_(None), col(Track.recording_id) == recording.id)
        clips = (
            select(Clip, col(Recording.sample_rate))
            .join(Track, col(Clip.track_id) == col(Track.id))
            .join(Recording, col(Track.recording_id) == col(Recording.id))
            .where(or_(own, col(Clip.recording_id) == recording.id), col(Clip.phrase_start).is_not(None))
        )
        for clip, rate in db.execute(clips):
            measure_clip(clip, grid, recording.room_tone, rate, clip.phrase_start, clip.phrase_end)
            count += 1
    phrases = "1 phrase" if count == 1 else f"{count} phrases"
    return [f"The level of {phrases}, and the room around, was measured again, as it is measured now."] if count else []


def _tell_of_loose(bench: Workbench, is_new: bool) -> list[str]:
    found = loose(bench)
    if not found.items:
        return []
    count = len(found.items)
    what = "1 recording belongs" if count == 1 else f"{count} recordings belong"
    why = "The database is new, but recordings are there: " if is_new else ""
    size = size_in_words(found.size)
    return [f"{why}{what} to no session, {size}. They can be brought back or deleted where the sessions are listed."]


def _files(folder: Path) -> Iterator[Path]:
    return (path for path in list(folder.iterdir()) if path.is_file())
