"""An edit at work: what it changes is collected row by row, and put back by undo and redo."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache
from typing import Any

import numpy as np
import numpy.typing as npt
from sqlalchemy import Select, bindparam, delete, insert, inspect, select
from sqlalchemy.orm import Session as DbSession

from nivelus.store.steps import names_changed
from nivelus.store.tables import Clip, Detail, Lane, MarkSet, Pass, Session, Track, new_id

TRACKED: dict[str, type[Any]] = {
    "session": Session,
    "track": Track,
    "clip": Clip,
    "mark_set": MarkSet,
    "detail": Detail,
    "lane": Lane,
    "pass": Pass,
}
"""Parents before children: rows are added in this order and taken away in the opposite one."""
_AT_ONCE = 500
_IDS_OF_AN_EDIT = 22
"""Bits of the ids that are kept for the points of one edit, forty times as many as a lane may have."""
_UNTRACKED_FIELDS = {"revision", "touched", "created"}


@dataclass
class Edit:
    """A running edit: the database, the session it belongs to, and the rows touched so far.

    ``told`` is what it did besides what it was asked for, in words; empty for nothing. ``answer`` is what was read back of the
    state that it leads to. ``moved`` is by how much it moved what it did, and what a step that moves it so far is called: steps
    of one gesture are added up.
    """

    db: DbSession
    session: Session
    label: str
    rows: dict[tuple[str, str], dict[str, Any]] = field(default_factory=dict)
    told: str = ""
    moved: tuple[float, Callable[[float], str]] | None = None
    answer: Any = None
    _ids: int = 0
    _known: dict[str, list[dict[str, Any]]] | None = None

    @property
    def changes(self) -> list[dict[str, Any]]:
        """The rows that are different now: table, id, before and after (None where there is no row)."""
        return [row for rows in self._different().values() for row in rows]

    def touched(self, table: str) -> list[dict[str, Any]]:
        """The rows of one table that are different now."""
        return self._different().get(table, [])

    def touched_by_track(self, table: str) -> dict[str, list[dict[str, Any]]]:
        """The same of a table whose rows belong to tracks, by track; a row that goes to another one is of both."""
        found: dict[str, list[dict[str, Any]]] = {}
        for row in self.touched(table):
            before, after = row["before"], row["after"]
            first = (before or after)["track_id"]
            found.setdefault(first, []).append(row)
            if after is not None and after["track_id"] != first:
                found.setdefault(after["track_id"], []).append(row)
        return found

    def fresh_ids(self, count: int) -> npt.NDArray[np.int64]:
        """So many ids for points, (count,), that no point of the session has had: they begin with the revision to come."""
        first = (self.session.revision + 1 << _IDS_OF_AN_EDIT) + self._ids
        self._ids += count
        return np.arange(first, first + count)

    def moves(self, by: float, words: Callable[[float], str]) -> None:
        """Say by how much the edit moves what it does, and what a step that moves it so far is called."""
        self.moved, self.label = (by, words), words(by)

    def note(self, row: dict[str, Any]) -> None:
        """Take a row into account: table, id, before and after."""
        self.rows[row["table"], row["id"]] = row
        self._known = None

    def _different(self) -> dict[str, list[dict[str, Any]]]:
        """The rows that are different now, by table; whole rows are compared once."""
        if self._known is None:
            self._known = {}
            for row in self.rows.values():
                if row["before"] != row["after"]:
                    self._known.setdefault(row["table"], []).append(row)
        return self._known

    def add_many(self, kind: type[Any], rows: Sequence[dict[str, Any]]) -> None:
        """Add many rows of a table at once, in an edit that holds the database; columns that are absent have their defaults."""
        if not rows:
            return
        table = kind.__tablename__
        template = values_of(kind(**rows[0]))
        full = [template | {"id": new_id()} | row for row in rows]
        self.db.execute(insert(inspect(kind).local_table), full)
        for row in full:
            self.note({"table": table, "id": row["id"], "before": None, "after": row})

    def change_many(self, kind: type[Any], rows: Iterable[Any], values: Mapping[str, dict[str, Any]]) -> None:
        """Change many rows of a table at once: plain rows as they were read, whole, and by id what of them is different now."""
        table = kind.__tablename__
        for row in rows:
            before, new = row._asdict(), values[row.id]
            names = tuple([name for name, value in new.items() if before[name] != value])
            self.note({"table": table, "id": row.id, "before": before, "after": before | new, "names": names})

    def made(self, kind: type[Any]) -> list[Any]:
        """The rows of a table that the edit has made and that are not in the database yet."""
        return [row for row in self.db.new if isinstance(row, kind)]


def present_rows(db: DbSession, rows: list[dict[str, Any]]) -> dict[tuple[str, str], dict[str, Any]]:
    """The rows of a step as they are now, by table and id."""
    found: dict[tuple[str, str], dict[str, Any]] = {}
    ids_of: dict[str, list[str]] = {}
    for row in rows:
        ids_of.setdefault(row["table"], []).append(row["id"])
    for table, ids in ids_of.items():
        query = _by_id(table)
        names = query.selected_columns.keys()
        for at in range(0, len(ids), _AT_ONCE):
            for own in db.execute(query, {"ids": ids[at : at + _AT_ONCE]}):
                values = dict(zip(names, own, strict=True))
                found[table, values["id"]] = values
    return found


@cache
def _by_id(table: str) -> Select[Any]:
    """The question for rows of a table by their ids, put together once."""
    columns = inspect(TRACKED[table]).local_table.c
    kept = [column for column in columns if column.name not in _UNTRACKED_FIELDS]
    return select(*kept).where(columns.id.in_(bindparam("ids", expanding=True)))


def apply_rows(db: DbSession, rows: Sequence[dict[str, Any]]) -> None:
    """Write rows as they are after an edit: in few statements, parents first, those that go children first."""
    by_table = {table: [row for row in rows if row["table"] == table] for table in TRACKED}
    for table, own in by_table.items():
        target = inspect(TRACKED[table]).local_table
        new = [row["after"] for row in own if row["before"] is None and row["after"] is not None]
        if new:
            db.execute(insert(target), new)
        changed: dict[tuple[str, ...], list[dict[str, Any]]] = {}
        for row in own:
            if row["before"] is not None and row["after"] is not None:
                changed.setdefault(names_changed(row), []).append(row)
        for names, alike in changed.items():
            _update(db, target, names, alike)
    for table, own in reversed(by_table.items()):
        target = inspect(TRACKED[table]).local_table
        gone = [row["id"] for row in own if row["after"] is None]
        for at in range(0, len(gone), _AT_ONCE):
            db.execute(delete(target).where(target.c.id.in_(gone[at : at + _AT_ONCE])))


def _update(db: DbSession, target: Any, names: tuple[str, ...], rows: list[dict[str, Any]]) -> None:
    """Write some columns of many rows, straight to the driver: of an hour's phrases the parameters take longest otherwise."""
    connection = db.connection()
    columns = [target.c[name] for name in (*names, "id")]
    quoted = [connection.dialect.identifier_preparer.quote(column.name) for column in columns]
    told = [column.type.dialect_impl(connection.dialect).bind_processor(connection.dialect) for column in columns]
    values = [
        [tell(value) if tell else value for value in given]
        for given, tell in zip([[row["after"][name] for row in rows] for name in (*names, "id")], told, strict=True)
    ]
    sets = ", ".join(f"{name} = ?" for name in quoted[:-1])
    table = connection.dialect.identifier_preparer.format_table(target)
    connection.exec_driver_sql(f"UPDATE {table} SET {sets} WHERE {quoted[-1]} = ?", list(zip(*values, strict=True)))


def collect_rows(db: DbSession, running: Edit) -> None:
    for row in db.new:
        _note(running, row, None, values_of(row))
    for row in db.dirty:
        if db.is_modified(row):
            _note(running, row, _values_before(row), values_of(row))
    for row in db.deleted:
        _note(running, row, _values_before(row), None)


def _note(running: Edit, row: Any, before: dict[str, Any] | None, after: dict[str, Any] | None) -> None:
    table = row.__tablename__
    if table not in TRACKED:
        return
    known = running.rows.get((table, row.id), {"table": table, "id": row.id, "before": before})
    known["after"] = after
    known.pop("names", None)
    running.note(known)


def _columns(row: Any) -> list[str]:
    return [name for name in inspect(row).mapper.columns.keys() if name not in _UNTRACKED_FIELDS]  # noqa: SIM118


def values_of(row: Any) -> dict[str, Any]:
    return {name: getattr(row, name) for name in _columns(row)}


def _values_before(row: Any) -> dict[str, Any]:
    state = inspect(row)
    values = {}
    for name in _columns(row):
        old = state.attrs[name].history.deleted
        values[name] = old[0] if old else getattr(row, name)
    return values
