"""What is asked of recordings: which are used, which are buried."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from sqlalchemy import delete, select
from sqlalchemy.orm import Session as DbSession
from sqlmodel import col

from nivelus.store.tables import Change, Clip, Recording, Tombstone, Track


def recordings_used(db: DbSession, session_id: str | None = None) -> set[str]:
    """Ids of the recordings that tracks or steps of a history refer to, of one session or of all."""
    tracks = select(col(Track.recording_id)).distinct()
    clips = select(col(Clip.recording_id)).where(col(Clip.recording_id).is_not(None)).distinct()
    steps = select(col(Change.recordings)).where(col(Change.recordings) != "").distinct()
    if session_id is not None:
        tracks = tracks.where(col(Track.session_id) == session_id)
        clips = clips.join(Track, col(Clip.track_id) == col(Track.id)).where(col(Track.session_id) == session_id)
        steps = steps.where(col(Change.session_id) == session_id)
    return (
        set(db.scalars(tracks))
        | {id for id in db.scalars(clips) if id}
        | {id for ids in db.scalars(steps) for id in ids.split()}
    )


def every_recording(db: DbSession) -> Sequence[Recording]:
    """All recordings."""
    return db.scalars(select(Recording)).all()


def recordings_called(db: DbSession, ids: Collection[str]) -> Sequence[Recording]:
    """Recordings by their ids."""
    return db.scalars(select(Recording).where(col(Recording.id).in_(ids))).all()


def recording_of(db: DbSession, hash: str) -> Recording | None:
    """The recording of some content."""
    return db.scalars(select(Recording).where(col(Recording.hash) == hash)).first()


def buried(db: DbSession) -> set[str]:
    """The contents that were deleted on purpose."""
    return set(db.scalars(select(col(Tombstone.hash))))


def dig_up(db: DbSession, hash: str) -> None:
    """Forget that some content was deleted: it has come again."""
    db.execute(delete(Tombstone).where(col(Tombstone.hash) == hash))
