"""Looking over a data folder: database, copies, recordings, what was measured of them, queue, leftovers.

Nothing is changed by looking. Repairing does what a start does, and also sets aside sound files whose content is not what
was brought in, so that bringing them in again mends their tracks.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import select
from sqlmodel import col

from nivelus.core.files import free_bytes, size_in_words
from nivelus.services.sessions.broken import mend_curves, unreadable
from nivelus.services.sessions.recordings import loose
from nivelus.services.track.workbench import Workbench
from nivelus.services.upkeep.mending import mend
from nivelus.settings import Settings
from nivelus.store.backups import NAME, QUEUE, backups, is_whole, secure, version_of
from nivelus.store.database import known_versions, newest_version
from nivelus.store.hashes import hash_file
from nivelus.store.tables import Job, Recording
from nivelus.store.vault import Damaged


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing that was looked at: what, in a sentence, and whether it is as it should be."""

    good: bool
    sentence: str


def check(settings: Settings) -> Iterator[Finding]:
    """Look over the data folder of ``settings``, one finding after the other; nothing is changed. O(bytes of sound)."""
    data = settings.data
    if not data.is_dir():
        yield Finding(False, f"{data} is not there.")
        return
    yield from _check_database(data)
    yield from _check_copies(data)
    yield from _check_queue(data)
    if _can_be_opened(data / NAME):
        bench = Workbench(settings, migrate=False)
        try:
            yield from _check_recordings(bench)
            yield from _check_sessions(bench)
            yield from _check_leftovers(bench)
        finally:
            bench.close()
    free = free_bytes(data)
    yield Finding(free > 1 << 30, f"Room on the disk: {size_in_words(free)}.")


def repair(settings: Settings) -> list[str]:
    """Repair what can be repaired; what was done, one sentence each. Nothing else may be working on the folder."""
    done = secure(settings.data, set(known_versions()))
    bench = Workbench(settings)
    try:
        with bench.database.reading() as db:
            recordings = list(db.scalars(select(Recording)))
        for recording in recordings:
            source = bench.vault.source(recording)
            if source.exists() and hash_file(source, like=recording.hash) != recording.hash:
                bench.vault.set_aside(recording)
                done.append(f"{source} is not what was imported: it is set aside. Import the recording again.")
        return done + mend(bench) + mend_curves(bench)
    finally:
        bench.close()


def _check_database(data: Path) -> Iterator[Finding]:
    path = data / NAME
    if not path.exists():
        yield Finding(False, f"There is no database in {data}.")
    elif not is_whole(path):
        yield Finding(False, f"The database {path} is damaged.")
    elif version_of(path) not in known_versions():
        yield Finding(False, f"The database {path} is of another version ({version_of(path)}).")
    else:
        with closing(sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True)) as db:
            strays = db.execute("PRAGMA foreign_key_check").fetchall()
            count = db.execute("SELECT count(*) FROM session").fetchone()[0]
        older = "" if version_of(path) == newest_version() else ", of an older version that the next start brings up"
        size = size_in_words(path.stat().st_size)
        yield Finding(not strays, f"The database is whole: {count} sessions, {size}{older}.")


def _check_copies(data: Path) -> Iterator[Finding]:
    copies = backups(data)
    bad = [copy.name for copy in copies if not is_whole(copy)]
    if bad:
        yield Finding(False, f"Copies of the database that are damaged: {', '.join(bad)}.")
    newest = f", the newest {copies[-1].name}" if copies else ""
    yield Finding(True, f"Copies of the database: {len(copies) - len(bad)} good ones{newest}.")


def _check_queue(data: Path) -> Iterator[Finding]:
    path = data / QUEUE
    if path.exists() and not is_whole(path, thorough=False):
        yield Finding(False, "The queue of jobs is damaged. The next start makes it anew; nothing is lost by that.")


def _check_recordings(bench: Workbench) -> Iterator[Finding]:
    with bench.database.reading() as db:
        recordings = list(db.scalars(select(Recording).order_by(col(Recording.id))))
    whole = 0
    for recording in recordings:
        source = bench.vault.source(recording)
        if not source.exists():
            yield Finding(False, f"The sound file of recording {recording.id} is missing: {source}.")
            continue
        if hash_file(source, like=recording.hash) != recording.hash:
            yield Finding(False, f"{source} is not what was imported: its content has changed.")
            continue
        try:
            bench.vault.check_measured(recording, thorough=True)
        except Damaged as damage:
            yield Finding(
                False, f"What was measured of recording {recording.id} is damaged ({damage}); it can be measured again."
            )
            continue
        whole += 1
    yield Finding(True, f"Recordings: {whole} of {len(recordings)} are whole.")
    found = loose(bench)
    for item in found.items:
        yield Finding(
            False, f"“{item.name}” belongs to no session ({size_in_words(item.size)}): {bench.vault.folder(item.hash)}."
        )


def _check_sessions(bench: Workbench) -> Iterator[Finding]:
    faults = unreadable(bench)
    yield from (Finding(False, sentence) for sentence in faults)
    if not faults:
        yield Finding(True, "Sessions: all of them can be read.")


def _check_leftovers(bench: Workbench) -> Iterator[Finding]:
    with bench.database.reading() as db:
        jobs = {job.id: job.state for job in db.scalars(select(Job))}
    for folder in (bench.vault.incoming, bench.vault.renders):
        for path in sorted(folder.iterdir()):
            if path.name.split(".")[0] not in jobs:
                yield Finding(False, f"{path} belongs to no job ({size_in_words(path.stat().st_size)}).")


def _can_be_opened(path: Path) -> bool:
    return path.exists() and is_whole(path, thorough=False) and version_of(path) == newest_version()
