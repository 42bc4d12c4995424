"""Sessions that cannot be read: told for what they are, so that they take nothing else down, and the ways out of them.

No edit leads to one, because each is read back before it is committed; but a database can be damaged, or come from an older
version that was less careful.
"""

from __future__ import annotations

import base64
import json
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session as DbSession

from nivelus.core.errors import Broken, DiskFull, NivelusError, NotFound
from nivelus.logs import write_down
from nivelus.services.answers.answers import answer, reading_back, tracks_of
from nivelus.services.answers.scopes import Scope
from nivelus.services.track.state import state_of
from nivelus.services.track.timeline import Timeline, timeline_of
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.store import history
from nivelus.store.database import newest_version
from nivelus.store.history import require
from nivelus.store.packing import mended_curve
from nivelus.store.reading import forget
from nivelus.store.session_rows import sessions_by_age
from nivelus.store.tables import Session, takes_of
from nivelus.store.track_rows import drawn_rows

OF_TRACK = ("clip", "mark_set", "detail", "lane")
OF_SESSION = ("track", "pass", "pass_piece", "change")


@contextmanager
def reading_whole(session: Session) -> Iterator[None]:
    """Read something of a session; whatever stands in the way makes it a broken one.

    Raises
    ------
    Broken
        With what is wrong, in a sentence.
    """
    try:
        yield
    except (Broken, NotFound, DiskFull, DBAPIError, OSError):
        raise
    except NivelusError as error:
        raise _broken(session, error.sentence) from error
    except Exception as error:
        id = write_down(error, f"session {session.id}")
        raise _broken(session, f"What is stored of it is damaged. The log has it as {id}.") from error


def read_all(bench: Workbench, db: DbSession, session: Session, looks_only: bool = False) -> None:
    """Read every track of a session with every take, to the end of the chain.

    Where it ``looks_only``, nothing is asked of what was measured: whatever is damaged of that would be measured again.

    Raises
    ------
    Broken
    """
    with reading_whole(session):
        tracks = [track for track, _ in tracks_of(db, session.id)]
        for track in tracks:
            for take in takes_of(track):
                timeline = timeline_of(db, track, take["number"])
                timeline = _unmeasured(timeline) if looks_only else timeline
                _ = state_of(bench, db, session, track, timeline, take=take["number"]).gain
        if looks_only:
            return
        answer(bench, db, session, {track.id: Scope(whole=True) for track in tracks}, {}, "")


def undo_to_whole(bench: Workbench, session_id: str) -> Changed:
    """Take steps of a broken session back until it can be read.

    Raises
    ------
    NotFound, Refused
        If nothing in its history can be read.
    """

    def is_whole(db: DbSession) -> bool:
        db.info.setdefault("undone", []).append(lambda: forget(session_id))
        try:
            read_all(bench, db, require(db, Session, session_id, "session"))
        except Broken:
            return False
        return True

    history.undo_until(bench.database, session_id, is_whole)
    with bench.database.reading() as db:
        session = require(db, Session, session_id, "session")
        whole = {track.id: Scope(whole=True) for track, _ in tracks_of(db, session_id)}
        return answer(bench, db, session, whole, {}, "")


def give_out(bench: Workbench, session_id: str) -> tuple[str, bytes]:
    """A session as it is stored, row for row, as a JSON file: its name and its bytes. Nothing of it has to be readable."""
    with bench.database.reading() as db:
        connection = db.connection()

        def rows(table: str, where: str, *values: str) -> list[dict[str, Any]]:
            found = connection.exec_driver_sql(f'SELECT * FROM "{table}" WHERE {where}', values).mappings()
            return [{name: _plain(value) for name, value in row.items()} for row in found]

        sessions = rows("session", "id = ?", session_id)
        if not sessions:
            raise NotFound("This session no longer exists.", id=session_id)
        tables = {"session": sessions} | {table: rows(table, "session_id = ?", session_id) for table in OF_SESSION}
        of_tracks = "track_id IN (SELECT id FROM track WHERE session_id = ?)"
        tables |= {table: rows(table, of_tracks, session_id) for table in OF_TRACK}
        heard = "SELECT recording_id FROM track WHERE session_id = ? UNION SELECT recording_id FROM clip WHERE " + of_tracks
        tables["recording"] = rows("recording", f"id IN ({heard})", session_id, session_id)
    content = {"format": "nivelus rows", "tables": newest_version(), "rows": tables}
    return f"{sessions[0]['name'] or 'session'}.nivelus.json", json.dumps(content, indent=1).encode()


def unreadable(bench: Workbench) -> list[str]:
    """A sentence for each session that cannot be read, and for each that holds curves with points in one place."""
    found = []
    with bench.database.reading() as db:
        for session in sessions_by_age(db):
            try:
                read_all(bench, db, session, looks_only=True)
            except Broken as error:
                found.append(error.sentence)
                continue
            count = len(_mended(db, session))
            if count:
                found.append(f"“{session.name}” holds {count} curves with points that lie in one place.")
    return found


def mend_curves(bench: Workbench) -> list[str]:
    """Mend the curves of all sessions, each session in one step that can be undone; what was done, one sentence each."""
    done = []
    with bench.database.reading() as db:
        faulty = [session for session in sessions_by_age(db) if _mended(db, session)]
    for session in faulty:
        try:
            read_back = reading_back(bench, answers=False)
            with history.edit(bench.database, session.id, "Mend curves", session.revision, read_back=read_back) as edit:
                mended = _mended(edit.db, edit.session)
                for row, name, text in mended:
                    setattr(row, name, text)
            done.append(f"{len(mended)} curves of “{session.name}” were mended: points that lay in one place are one.")
        except NivelusError as error:
            done.append(f"The curves of “{session.name}” could not be mended. {error.sentence}")
    return done


def _unmeasured(timeline: Timeline) -> Timeline:
    """A timeline as it is where nothing of it can be measured."""
    lost = tuple((id, recorded._replace(missing=True)) for id, recorded in timeline.recordings)
    return Timeline(timeline.own._replace(missing=True), timeline.runs, lost)


def _mended(db: DbSession, session: Session) -> list[tuple[Any, str, str]]:
    """The rows of a session that hold a faulty curve, the column, and what it is mended."""
    drawn = ((row, name, mended_curve(getattr(row, name))) for row, name in drawn_rows(db, session))
    return [(row, name, text) for row, name, text in drawn if text is not None]


def _broken(session: Session, why: str) -> Broken:
    return Broken(f"“{session.name}” cannot be read. {why}", session=session.id)


def _plain(value: Any) -> Any:
    return base64.b64encode(value).decode("ascii") if isinstance(value, bytes) else value
