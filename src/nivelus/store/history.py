"""History: every edit is one change that can be undone and redone, also after a restart.

A unit of work collects the before and after of every row it touches into one ``Change`` with a label. Undo applies the
befores, redo the afters; no edit has undo code of its own. Each of the three raises the session's revision.

An edit works out what it does on a snapshot, while others may read and write; what it changed is then written in one short
transaction, if the session is still at the revision that the edit was worked out from. Before that is committed, the state that
it leads to is read back: what cannot be read is not committed. An edit that was meant for an older revision, from a window that
has not heard of the newest, is worked out from the newest one, and refused where it touches what changed since.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import datetime
from functools import cache, partial
from typing import Any, cast

from sqlalchemy import CursorResult, Select, bindparam, delete, event, select
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session as DbSession
from sqlmodel import col

from nivelus.core.errors import NotFound, Refused, Stale
from nivelus.store import gestures
from nivelus.store.database import Database
from nivelus.store.editing import TRACKED, Edit, apply_rows, collect_rows, present_rows, values_of
from nivelus.store.steps import join_steps, pack_again, pack_step, recordings_in, unpack_step, values_to_put
from nivelus.store.tables import Change, Session, Track, now

_OF_TRACK = ("clip", "mark_set", "detail", "lane")
NOT_WHOLE = "No step of this session's history can be read. Save it as a file to have it examined."
STALE = "The session was changed in another window. It is shown as it is now; do it again."
ReadBack = Callable[[Edit], None]
"""Reads the state that a written edit leads to, in its transaction; what it raises undoes the edit."""


@contextmanager
def edit(
    database: Database, session_id: str, label: str, revision: int | None = None, *, read_back: ReadBack
) -> Iterator[Edit]:
    """Run an edit of a session as one step of its history.

    Parameters
    ----------
    revision : the revision the edit was meant for; it is worked out before anything is locked. None for work that cannot
        clash, such as an import: it holds the database from the start and may change rows without a history
    read_back : is given the edit when it is written and not yet committed; not where nothing was changed

    Raises
    ------
    NotFound, Stale
    """
    if revision is None:
        with database.writing() as db, _collecting(db, session_id, label) as running:
            yield running
            db.flush()
            if _keep(db, running):
                _read_back(db, running, read_back)
        return
    with database.reading() as db:
        session = _at_revision(db, session_id, None)
        base = session.revision
        if revision != base and database.journal.clashes(session_id, revision, base, ()):
            raise Stale(STALE, revision=base)
        running = Edit(db, session, label)
        yield running
        collect_rows(db, running)
        db.expunge_all()
    rows = running.changes
    # where nothing is left to do, it has been done elsewhere
    if revision != base and (not rows or database.journal.clashes(session_id, revision, base, rows)):
        raise Stale(STALE, revision=base)
    if not rows:
        return
    with database.writing() as db:
        running.session = _at_revision(db, session_id, base)
        apply_rows(db, rows)
        if running.touched("session"):
            db.refresh(running.session)
        _keep(db, running)
        _read_back(db, running, read_back)


def undo(database: Database, session_id: str, revision: int | None = None, *, read_back: ReadBack) -> Edit:
    """Take back the newest change. Raises Refused when there is none."""
    with database.writing() as db:
        running = _step(db, _at_revision(db, session_id, revision), undone=False)
        _read_back(db, running, read_back)
    return running


def redo(database: Database, session_id: str, revision: int | None = None, *, read_back: ReadBack) -> Edit:
    """Do the change again that was undone last. Raises Refused when there is none."""
    with database.writing() as db:
        running = _step(db, _at_revision(db, session_id, revision), undone=True)
        _read_back(db, running, read_back)
    return running


def undo_until(database: Database, session_id: str, is_whole: Callable[[DbSession], bool]) -> list[str]:
    """Take back changes until the session is whole again, all of it or nothing; the labels of what was taken back.

    Raises
    ------
    NotFound, Refused
        If there is no such session, or nothing in its history is whole.
    """
    taken_back = []
    with database.writing() as db:
        session = _at_revision(db, session_id, None)
        while not is_whole(db):
            try:
                taken_back.append(_step(db, session, undone=False).label)
                _settled(db)
            except Exception as error:
                if isinstance(error, DBAPIError):
                    raise
                # there is nothing left, or what the step refers to is damaged as well
                raise Refused(NOT_WHOLE) from error
    return taken_back


def labels(db: DbSession, session_id: str) -> tuple[str | None, str | None]:
    """What undo and redo would take back and do again."""
    back, forth = db.execute(_labels(), {"session": session_id}).one()
    return back, forth


def newest_step(db: DbSession, session_id: str) -> tuple[str, str]:
    """What tells the state of a session from all that it was or will be in, and the name of its newest step; "" for none."""
    # without what it did, which may be much: this is asked again and again
    newest = db.execute(_newest(), {"session": session_id}).first()
    return ("", "") if newest is None else (f"{newest.id}.{newest.created.isoformat()}", newest.label)


def still_at(database: Database, table: type[Session | Track], id: str, revision: int) -> None:
    """Raises Stale where a session, or that of a track, is at another revision; NotFound where there is none."""
    with database.reading() as db:
        session_id = id if table is Session else require(db, Track, id, "track").session_id
        _at_revision(db, session_id, revision)


def require(db: DbSession, table: type[Any], id: str, what: str) -> Any:
    """The row with this id. Raises NotFound naming ``what`` it was."""
    row = db.get(table, id)
    if row is None:
        raise NotFound(f"This {what} no longer exists.", id=id)
    return row


@cache
def _labels() -> Select[str | None, str | None]:
    """The question of ``labels``, put together once: every answer asks it."""
    query = select(col(Change.label)).where(col(Change.session_id) == bindparam("session"))
    back = query.where(col(Change.undone).is_(False)).order_by(col(Change.id).desc()).limit(1).scalar_subquery()
    forth = query.where(col(Change.undone).is_(True)).order_by(col(Change.id)).limit(1).scalar_subquery()
    return select(back, forth)


def _at_revision(db: DbSession, session_id: str, revision: int | None) -> Session:
    session: Session = require(db, Session, session_id, "session")
    if revision is not None and revision != session.revision:
        raise Stale(STALE, revision=session.revision)
    return session


@contextmanager
def _collecting(db: DbSession, session_id: str, label: str) -> Iterator[Edit]:
    """An edit in a transaction that holds the database; rows are noted whenever they are flushed."""
    running = Edit(db, _at_revision(db, session_id, None), label)

    def collect(db: DbSession, *_: Any) -> None:
        collect_rows(db, running)

    event.listen(db, "before_flush", collect)
    yield running


def _settled(db: DbSession) -> None:
    """Let what is read from now on see what was written so far, at its revision."""
    db.flush()
    db.info["revisions"] = {}


def _read_back(db: DbSession, running: Edit, read_back: ReadBack) -> None:
    running.db = db
    _settled(db)
    read_back(running)


def _keep(db: DbSession, running: Edit) -> bool:
    """Make a step of the history of what a finished edit changed; whether that was anything."""
    rows = running.changes
    if not rows:
        return False
    session_id = running.session.id
    undone = delete(Change).where(col(Change.session_id) == session_id, col(Change.undone).is_(True))
    was_undone = cast(CursorResult[Any], db.execute(undone)).rowcount > 0
    gesture = gestures.current.get()
    # with what was undone the gesture is over that it was made in
    newest = _next_change(db, session_id, undone=False) if gesture and not was_undone else None
    if newest is None or newest.gesture != gesture or not _go_on(db, running, newest, rows):
        refers = " ".join(sorted(recordings_in(rows)))
        step = Change(session_id=session_id, label=running.label, data=pack_step(rows), recordings=refers, gesture=gesture)
        step.moved = running.moved[0] if running.moved else 0.0
        db.add(step)
    _raise_revision(db, running)
    return True


def _go_on(db: DbSession, running: Edit, newest: Change, rows: list[dict[str, Any]]) -> bool:
    """Take an edit into the newest step, which was made in the same gesture; whether it does the same to the same tables."""
    known = unpack_step(newest.data)
    if {row["table"] for row in known} != {row["table"] for row in rows}:
        return False
    joined = join_steps(known, rows)
    if running.moved is not None:
        by, words = running.moved
        newest.moved += by
        running.label = words(newest.moved)
    newest.data, newest.label, newest.created = pack_again(joined), running.label, now()
    newest.recordings = " ".join(sorted(recordings_in(rows) | set(newest.recordings.split())))
    if not joined:
        db.delete(newest)
    return True


def _step(db: DbSession, session: Session, undone: bool) -> Edit:
    side, other = ("after", "before") if undone else ("before", "after")
    change = _next_change(db, session.id, undone)
    if change is None:
        raise Refused("There is nothing to redo." if undone else "There is nothing to undo.")
    rows = unpack_step(change.data)
    rows += _rest_of_tracks(db, rows, side)
    present = present_rows(db, rows)
    running = Edit(db, session, change.label)
    has_gone = False
    for row in rows:
        now = present.get((row["table"], row["id"]))
        values = values_to_put(row, side, now)
        note = {"table": row["table"], "id": row["id"], "before": now, "after": values}
        if values is not None and now is not None:
            # of a row that stays a step holds what differs
            note |= {"after": now | values, "names": tuple(values)}
        elif values is not None:
            note["after"] = values_of(TRACKED[row["table"]](**values))
        elif now is not None:
            # as it was at the end is how the other way brings it back, whatever has been added to it by then
            row[other], has_gone = now, True
        if now is not None or values is not None:
            running.note(note)
    apply_rows(db, running.changes)
    if running.touched("session"):
        db.refresh(session)
    if has_gone:
        change.data = pack_again(rows)
    change.undone = not undone
    _raise_revision(db, running)
    return running


def _rest_of_tracks(db: DbSession, rows: list[dict[str, Any]], side: str) -> list[dict[str, Any]]:
    """What lies on tracks that go and is not in the step: it goes with them, and comes back with them."""
    known = {(row["table"], row["id"]) for row in rows}
    going = [row["id"] for row in rows if row["table"] == "track" and row[side] is None]
    rest = []
    for table in _OF_TRACK if going else ():
        kind = TRACKED[table]
        for id in db.scalars(select(kind.id).where(kind.track_id.in_(going))):
            if (table, id) not in known:
                rest.append({"table": table, "id": id, "before": None, "after": None})
    return rest


def _next_change(db: DbSession, session_id: str, undone: bool) -> Change | None:
    return db.scalars(_next(undone), {"session": session_id}).first()


@cache
def _next(undone: bool) -> Select[Change]:
    """The question of ``_next_change``, put together once."""
    query = select(Change).where(col(Change.session_id) == bindparam("session"), col(Change.undone).is_(undone))
    return query.order_by(col(Change.id) if undone else col(Change.id).desc()).limit(1)


@cache
def _newest() -> Select[int | None, datetime, str]:
    """The question of ``newest_step``, put together once."""
    query = select(col(Change.id), col(Change.created), col(Change.label))
    of_session = col(Change.session_id) == bindparam("session"), col(Change.undone).is_(False)
    return query.where(*of_session).order_by(col(Change.id).desc()).limit(1)


def _raise_revision(db: DbSession, running: Edit) -> None:
    session, journal = running.session, db.info["journal"]
    session.revision += 1
    session.touched = now()
    journal.note(session.id, session.revision, running.changes)
    db.info.setdefault("undone", []).append(partial(journal.forget, session.id, session.revision))
