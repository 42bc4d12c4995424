"""What is asked of tracks and all that is on them, as rows that can be changed; ``store.reading`` has those that never do."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache
from typing import Any, TypeVar

from sqlalchemy import Select, bindparam, func, select
from sqlalchemy.orm import Session as DbSession
from sqlmodel import SQLModel, col

from nivelus.store.tables import Clip, Detail, Lane, MarkSet, Session, Track

_AT_ONCE = 500
Row = TypeVar("Row", bound=SQLModel)


def tracks_in_order(db: DbSession, session_id: str) -> list[Track]:
    """The tracks of a session, as they lie below each other."""
    return list(db.scalars(_tracks(), {"session": session_id}))


@cache
def _tracks() -> Select[Track]:
    """The question of ``tracks_in_order``, put together once: every answer asks it."""
    return select(Track).where(col(Track.session_id) == bindparam("session")).order_by(col(Track.position), col(Track.id))


def followers_of(db: DbSession, track_id: str) -> list[Track]:
    """The tracks that follow a track, in order."""
    query = select(Track).where(col(Track.follows) == track_id)
    return list(db.scalars(query.order_by(col(Track.position), col(Track.id))))


def last_position(db: DbSession, session_id: str) -> int | None:
    """The position of the lowest track of a session; None where there is none."""
    return db.scalar(select(func.max(col(Track.position))).where(col(Track.session_id) == session_id))


def tracks_with_references(db: DbSession, session_id: str) -> list[Track]:
    """The tracks of a session that have phrases that are references, in order."""
    marked = select(col(Clip.track_id)).where(col(Clip.reference).is_(True))
    query = select(Track).where(col(Track.session_id) == session_id, col(Track.id).in_(marked))
    return list(db.scalars(query.order_by(col(Track.position))))


def rows_on(db: DbSession, table: type[Row], track_id: str, take: int | None = None) -> Sequence[Row]:
    """All rows of a table that are of a track, or of one of its takes."""
    kind: Any = table
    query = select(table).where(col(kind.track_id) == track_id)
    return db.scalars(query if take is None else query.where(col(kind.take) == take)).all()


def clips_of_take(db: DbSession, track_id: str, take: int) -> list[Clip]:
    """The clips of a take, in order of time."""
    of_take = (col(Clip.track_id) == track_id, col(Clip.take) == take)
    return list(db.scalars(select(Clip).where(*of_take).order_by(col(Clip.start))))


def clips_within(db: DbSession, track: Track, first: float, last: float) -> Sequence[Clip]:
    """The clips of the take that is heard that reach into a span of samples, in order of time."""
    within = (col(Clip.track_id) == track.id, col(Clip.take) == track.take, col(Clip.start) <= last, col(Clip.end) > first)
    return db.scalars(select(Clip).where(*within).order_by(col(Clip.start))).all()


def phrase_spans(db: DbSession, track_id: str, recording: str | None) -> list[tuple[int, int]]:
    """From where to where phrases of one of a track's recordings last, samples of the track's rate in the recording."""
    columns = select(col(Clip.phrase_start), col(Clip.phrase_end), col(Clip.shift))
    of_recording = (col(Clip.track_id) == track_id, col(Clip.recording_id).is_(recording), col(Clip.phrase_start).is_not(None))
    rows = db.execute(columns.where(*of_recording))
    return [((start or 0) - shift, (end or 0) - shift) for start, end, shift in rows]


def heard_of_recordings(db: DbSession, track_id: str) -> list[tuple[str | None, int, int]]:
    """How many samples of each recording are heard in each take of a track: recording, take, samples."""
    length = func.sum(col(Clip.end) - col(Clip.start))
    query = select(col(Clip.recording_id), col(Clip.take), length).where(col(Clip.track_id) == track_id)
    rows = db.execute(query.group_by(col(Clip.recording_id), col(Clip.take)))
    return [(recording, take, samples) for recording, take, samples in rows]


def mark_set(db: DbSession, track_id: str, recording: str | None) -> MarkSet | None:
    """What was found in one of a track's recordings."""
    of_recording = (col(MarkSet.track_id) == track_id, col(MarkSet.recording_id).is_(recording))
    return db.scalars(select(MarkSet).where(*of_recording)).first()


def marked_recordings(db: DbSession, track_id: str) -> set[str | None]:
    """Of which of a track's recordings the marks are known."""
    return set(db.scalars(select(col(MarkSet.recording_id)).where(col(MarkSet.track_id) == track_id)))


def load_details(db: DbSession, ids: Sequence[str]) -> None:
    """Read what the hand made of some marks at once, so that none is asked for alone."""
    for at in range(0, len(ids), _AT_ONCE):
        db.scalars(select(Detail).where(col(Detail.id).in_(ids[at : at + _AT_ONCE]))).all()


def lane_called(db: DbSession, track_id: str, name: str) -> Lane | None:
    """The ride or the trim of a track, if anything was ever drawn there."""
    return db.scalars(select(Lane).where(col(Lane.track_id) == track_id, col(Lane.name) == name)).first()


def drawn_rows(db: DbSession, session: Session) -> list[tuple[Clip | Lane, str]]:
    """The rows of a session on which anything is drawn, each with the column that holds it."""
    found: list[tuple[Clip | Lane, str]] = []
    tables: tuple[tuple[Any, str], ...] = ((Clip, "curve"), (Lane, "points"))
    for table, name in tables:
        query = select(table).join(Track, col(table.track_id) == col(Track.id))
        query = query.where(col(Track.session_id) == session.id, getattr(table, name) != "")
        found += [(row, name) for row in db.scalars(query)]
    return found
