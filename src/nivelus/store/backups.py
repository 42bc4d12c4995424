"""Copies of the database: made before it is migrated and at the first start of a day, checked, the last seven kept.

A database that is damaged is set aside at start, never deleted, and the newest good copy takes its place.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from datetime import datetime
from pathlib import Path

from nivelus.core.errors import NivelusError
from nivelus.core.files import disk_full, whole_file

KEPT = 7
_NO_ROOM = {
    *("SQLITE_FULL", "SQLITE_IOERR_WRITE", "SQLITE_IOERR_FSYNC", "SQLITE_IOERR_TRUNCATE"),
    *("SQLITE_IOERR_SHMSIZE", "SQLITE_IOERR_SHMOPEN", "SQLITE_IOERR_SHMMAP"),
}
NAME, QUEUE = "nivelus.sqlite", "queue.sqlite"
"""The database, and the queue of jobs, which may be thrown away."""
_SIDES = ("-wal", "-shm")


def backups(data: Path) -> list[Path]:
    """The copies that there are, oldest first; those that a wrong clock dated ahead count as older than all others."""
    now = f"nivelus-{datetime.now():%Y%m%dT%H%M%S}~"
    return sorted((data / "backups").glob("nivelus-*.sqlite"), key=lambda copy: (copy.name < now, copy.name))


def back_up(data: Path, why: str = "") -> Path:
    """Copy the database, check the copy, and keep the newest copies only. Raises NivelusError if the copy is not good."""
    folder = data / "backups"
    folder.mkdir(parents=True, exist_ok=True)
    copy = folder / f"nivelus-{datetime.now():%Y%m%dT%H%M%S}{why}.sqlite"
    with whole_file(copy) as part:
        try:
            with _opened(data / NAME) as source, closing(sqlite3.connect(part)) as target:
                source.backup(target)
                # a copy is one file
                target.execute("PRAGMA journal_mode=DELETE")
        except sqlite3.Error as error:
            if is_out_of_room(error):
                raise disk_full(part) from error
            raise NivelusError(f"The database could not be copied to {folder}: {error}.") from error
        if not is_whole(part):
            raise NivelusError(f"The copy of the database could not be made in {folder}: it is not whole.")
    for old in backups(data)[:-KEPT]:
        old.unlink(missing_ok=True)
    return copy


def is_whole(path: Path, thorough: bool = True) -> bool:
    """Whether a file is a database that holds together."""
    try:
        with _opened(path) as db:
            return [tuple(row) for row in db.execute(f"PRAGMA {'integrity' if thorough else 'quick'}_check(1)")] == [("ok",)]
    except sqlite3.Error:
        return False


def version_of(path: Path) -> str | None:
    """The version of the tables in a database; None if there are none."""
    try:
        with _opened(path) as db:
            row = db.execute("SELECT version_num FROM alembic_version").fetchone()
    except sqlite3.Error:
        return None
    return str(row[0]) if row else None


def secure(data: Path, known: set[str]) -> list[str]:
    """Make sure at start that the database is whole, and that there is a copy of today. What was done, one sentence each.

    ``known`` are the versions that this program can open. Nothing else may be working on the folder.
    """
    path = data / NAME
    if not path.exists():
        return _of_missing(data)
    if path.stat().st_size == 0 and not backups(data):
        return []
    if path.stat().st_size == 0 or not is_whole(path, thorough=False):
        return _replace_damaged(data, known)
    today = f"nivelus-{datetime.now():%Y%m%d}"
    if version_of(path) in known and not any(copy.name.startswith(today) for copy in backups(data)):
        try:
            back_up(data)
        except NivelusError as error:
            return [f"The database could not be copied today. {error.sentence}"]
    return []


def is_out_of_room(error: BaseException | None) -> bool:
    """Whether the database could not write because there is no room, or no file may grow further."""
    return getattr(error, "sqlite_errorname", "") in _NO_ROOM


def _of_missing(data: Path) -> list[str]:
    copies = backups(data)
    if not copies:
        return []
    return [
        f"There is no database in {data}; a new one is begun. The last copy of the old one is {copies[-1]}: "
        f"to have it back, stop Nivelus and copy it to {data / NAME}."
    ]


def _replace_damaged(data: Path, known: set[str]) -> list[str]:
    path = data / NAME
    aside = data / f"damaged-{datetime.now():%Y%m%dT%H%M%S}-{NAME}"
    for side in ("", *_SIDES):
        kept = path.with_name(path.name + side)
        if kept.exists():
            kept.replace(aside.with_name(aside.name + side))
    good = next((copy for copy in reversed(backups(data)) if version_of(copy) in known and is_whole(copy)), None)
    if good is None:
        return [f"The database was damaged. It is set aside as {aside}; there is no good copy, so a new one is begun."]
    with whole_file(path) as part:
        part.write_bytes(good.read_bytes())
    made = datetime.strptime(good.name[8:23], "%Y%m%dT%H%M%S")
    return [f"The database was damaged. It is set aside as {aside}, and the copy of {made:%Y-%m-%d %H:%M} has taken its place."]


@contextmanager
def _opened(path: Path) -> Iterator[sqlite3.Connection]:
    """A database that is only read, and not made where there is none."""
    with closing(sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True, timeout=10)) as db:
        yield db
