"""History: every edit is one change that can be undone and redone, also after a restart.

A unit of work collects the before and after of every row it touches into one ``Change`` with a label. Undo applies the
befores, redo the afters; no edit has undo code of its own. Each of the three raises the session's revision.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import delete, event, inspect, select
from sqlalchemy.orm import Session as DbSession
from sqlmodel import col

from nivelus.core.errors import NotFound, Refused, Stale
from nivelus.store.database import Database
from nivelus.store.tables import Change, Clip, Detail, Lane, MarkSet, Session, Track, now

TRACKED: dict[str, type[Any]] = {
    "session": Session,
    "track": Track,
    "clip": Clip,
    "mark_set": MarkSet,
    "detail": Detail,
    "lane": Lane,
}
_AT_ONCE = 500
_UNTRACKED_FIELDS = {"revision", "touched", "created"}


@dataclass
class Edit:
    """A running edit: the database, the session it belongs to, and the rows touched so far."""

    db: DbSession
    session: Session
    label: str
    rows: dict[tuple[str, str], dict[str, Any]] = field(default_factory=dict)

    @property
    def changes(self) -> list[dict[str, Any]]:
        """The rows that are different now: table, id, before and after (None where there is no row)."""
        return [row for row in self.rows.values() if row["before"] != row["after"]]

    def touched(self, table: str) -> list[dict[str, Any]]:
        """The rows of one table that are different now."""
        return [row for row in self.changes if row["table"] == table]


@contextmanager
def edit(database: Database, session_id: str, label: str, revision: int | None = None) -> Iterator[Edit]:
    """Run an edit of a session as one step of its history.

    Parameters
    ----------
    revision : the revision the edit was based on; None for work that cannot clash, such as an import

    Raises
    ------
    NotFound, Stale
    """
    with _unit(database, session_id, label, revision) as running:
        yield running
        running.db.flush()
        rows = running.changes
        if not rows:
            return
        undone = delete(Change).where(col(Change.session_id) == session_id, col(Change.undone).is_(True))
        running.db.execute(undone)
        running.db.add(Change(session_id=session_id, label=running.label, rows=rows))
        _raise_revision(running.session)


def undo(database: Database, session_id: str, revision: int | None = None) -> Edit:
    """Take back the newest change. Raises Refused when there is none."""
    return _step(database, session_id, revision, undone=False)


def redo(database: Database, session_id: str, revision: int | None = None) -> Edit:
    """Do the change again that was undone last. Raises Refused when there is none."""
    return _step(database, session_id, revision, undone=True)


def labels(db: DbSession, session_id: str) -> tuple[str | None, str | None]:
    """What undo and redo would take back and do again."""
    found = [_next_change(db, session_id, undone) for undone in (False, True)]
    return (found[0].label if found[0] else None), (found[1].label if found[1] else None)


def require(db: DbSession, table: type[Any], id: str, what: str) -> Any:
    """The row with this id. Raises NotFound naming ``what`` it was."""
    row = db.get(table, id)
    if row is None:
        raise NotFound(f"This {what} is not there any more.", id=id)
    return row


@contextmanager
def _unit(database: Database, session_id: str, label: str, revision: int | None) -> Iterator[Edit]:
    with database.writing() as db:
        session = require(db, Session, session_id, "session")
        if revision is not None and revision != session.revision:
            raise Stale(
                "The session was changed in another window. It is shown as it is now; do it again.",
                revision=session.revision,
            )
        running = Edit(db, session, label)

        def collect(db: DbSession, *_: Any) -> None:
            _collect(db, running)

        event.listen(db, "before_flush", collect)
        yield running


def _step(database: Database, session_id: str, revision: int | None, undone: bool) -> Edit:
    with _unit(database, session_id, "", revision) as running:
        db = running.db
        change = _next_change(db, session_id, undone)
        if change is None:
            raise Refused("There is nothing to do again." if undone else "There is nothing to undo.")
        side = "after" if undone else "before"
        # rows that come back are added parents first, rows that go are deleted children first
        order = list(TRACKED)
        rows = sorted(change.rows, key=lambda row: order.index(row["table"]))
        held = _load(db, rows)
        for row in rows:
            if row[side] is not None:
                _put(db, row["table"], row["id"], row[side])
        db.flush()
        for row in reversed(rows):
            if row[side] is None:
                gone = db.get(TRACKED[row["table"]], row["id"])
                if gone is not None:
                    db.delete(gone)
        change.undone = not undone
        db.flush()
        del held
        running.label = change.label
        _raise_revision(running.session)
    return running


def _next_change(db: DbSession, session_id: str, undone: bool) -> Change | None:
    query = select(Change).where(col(Change.session_id) == session_id, col(Change.undone).is_(undone))
    return db.scalars(query.order_by(col(Change.id) if undone else col(Change.id).desc()).limit(1)).first()


def _load(db: DbSession, rows: list[dict[str, Any]]) -> list[Any]:
    """Load the rows of a change in few queries; while they are held, each is found without asking the database again."""
    held: list[Any] = []
    for table, kind in TRACKED.items():
        ids = [row["id"] for row in rows if row["table"] == table]
        for at in range(0, len(ids), _AT_ONCE):
            held += db.scalars(select(kind).where(kind.id.in_(ids[at : at + _AT_ONCE])))
    return held


def _put(db: DbSession, table: str, id: str, values: dict[str, Any]) -> None:
    row = db.get(TRACKED[table], id)
    if row is None:
        db.add(TRACKED[table](**values))
        return
    for name, value in values.items():
        setattr(row, name, value)


def _raise_revision(session: Session) -> None:
    session.revision += 1
    session.touched = now()


def _collect(db: DbSession, running: Edit) -> None:
    for row in db.new:
        _note(running, row, None, _values(row))
    for row in db.dirty:
        if db.is_modified(row):
            _note(running, row, _values_before(row), _values(row))
    for row in db.deleted:
        _note(running, row, _values_before(row), None)


def _note(running: Edit, row: Any, before: dict[str, Any] | None, after: dict[str, Any] | None) -> None:
    table = row.__tablename__
    if table not in TRACKED:
        return
    known = running.rows.setdefault((table, row.id), {"table": table, "id": row.id, "before": before, "after": after})
    known["after"] = after


def _columns(row: Any) -> list[str]:
    return [name for name in inspect(row).mapper.columns.keys() if name not in _UNTRACKED_FIELDS]  # noqa: SIM118


def _values(row: Any) -> dict[str, Any]:
    return {name: getattr(row, name) for name in _columns(row)}


def _values_before(row: Any) -> dict[str, Any]:
    state = inspect(row)
    values = {}
    for name in _columns(row):
        old = state.attrs[name].history.deleted
        values[name] = old[0] if old else getattr(row, name)
    return values
