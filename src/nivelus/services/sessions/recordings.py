"""What becomes of recordings: the program deletes one only where the person did, and lists those that belong to nothing.

A recording that the last session using it was deleted with is *buried*: its row goes and a tombstone is written in the same
transaction. Only what has a tombstone is ever cleared out of the vault. What lies there without belonging to a session - a
database was lost, replaced by an older one, or an import was undone and forgotten - is *loose*: it stays until the person
brings it back or deletes it.
"""

from __future__ import annotations

from collections.abc import Collection
from functools import partial

from sqlalchemy.orm import Session as DbSession

from nivelus.services.track.workbench import Workbench
from nivelus.services.views.view import View
from nivelus.store.job_rows import open_imports
from nivelus.store.recording_rows import buried, every_recording, recording_of, recordings_used
from nivelus.store.tables import Recording, Tombstone


class LooseView(View):
    """A recording that belongs to no session: the name it came under, bytes, and seconds if it is measured."""

    hash: str
    name: str
    size: int
    length: float | None


class LooseViews(View):
    """The recordings that belong to no session, and the room that they take, bytes."""

    items: list[LooseView]
    size: int


def bury(db: DbSession, recording: Recording) -> None:
    """Delete the row of a recording, and write down that this was meant."""
    db.delete(recording)
    db.merge(Tombstone(hash=recording.hash))


def clear_buried(bench: Workbench, hash: str) -> None:
    """Clear a buried recording out of the vault, unless it was brought in again meanwhile."""
    with bench.database.writing() as db:
        tombstone = db.get(Tombstone, hash)
        if tombstone is None:
            return
        db.delete(tombstone)
        if recording_of(db, hash) is None:
            bench.vault.take_out(hash)
    bench.vault.clear_taken_out()


def forget_import(bench: Workbench, hash: str) -> None:
    """Take back out of the vault what an import has just put there and then could not finish."""
    with bench.database.writing() as db:
        if recording_of(db, hash) is None:
            bench.vault.take_out(hash)
    bench.vault.clear_taken_out()


def loose(bench: Workbench) -> LooseViews:
    """The recordings in the vault that belong to no session."""
    items = [
        LooseView(hash=hash, name=about.name, size=about.size, length=about.length)
        for hash in sorted(_loose_hashes(bench))
        if (about := bench.vault.about(hash)) is not None
    ]
    return LooseViews(items=items, size=sum(item.size for item in items))


def delete_loose(bench: Workbench, hashes: Collection[str]) -> LooseViews:
    """Delete loose recordings for good; those that belong to a session by now stay. What is loose then."""
    for hash in _loose_hashes(bench) & set(hashes):
        if bench.freeing(partial(_bury_loose, bench, hash)):
            clear_buried(bench, hash)
    return loose(bench)


def _bury_loose(bench: Workbench, hash: str) -> bool:
    """Write down that a loose recording is deleted on purpose; not one that belongs to a session by now."""
    with bench.database.writing() as db:
        row = recording_of(db, hash)
        if row is not None and row.id in recordings_used(db):
            return False
        if row is not None:
            db.delete(row)
        db.merge(Tombstone(hash=hash))
    return True


def _loose_hashes(bench: Workbench) -> set[str]:
    with bench.database.reading() as db:
        used = recordings_used(db)
        owned = {row.hash for row in every_recording(db) if row.id in used}
        dead = buried(db)
        imports = open_imports(db)
    coming = {job.payload.get("hash") for job in imports}
    found = {hash for hash in bench.vault.hashes() - owned - dead if hash not in coming}
    if imports:
        # what an import has just put there gets its row in a moment
        found = {hash for hash in found if not bench.vault.is_newer(hash, imports[0].created)}
    return found
