"""The rows of a track that every edit and every answer looks at - clips, what the hand made of marks, found marks - kept by
revision.

An hour of speech is a thousand clips and thousands of marks, and an edit changes a few of them. What was read once for a
revision is good for as long as the revision is, so an edit carries it over with only what it changed exchanged; nothing is
read twice. Everything here is only to be read. Only edits change these rows, and each raises the revision of its session.
"""

from __future__ import annotations

from collections import OrderedDict, namedtuple
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property
from threading import Lock
from typing import Any, cast

import numpy as np
from sqlalchemy import inspect, select
from sqlalchemy.orm import Session as DbSession

from nivelus.core.gain.curve import FloatArray
from nivelus.store.history import Edit
from nivelus.store.tables import Clip, Detail, MarkSet, Session, Track

_CLIPS, _DETAILS = inspect(Clip).local_table, inspect(Detail).local_table
_MARKS, _SESSIONS, _TRACKS = (inspect(table).local_table for table in (MarkSet, Session, Track))
ClipRow = namedtuple("ClipRow", _CLIPS.columns.keys())  # type: ignore[misc]
DetailRow = namedtuple("DetailRow", _DETAILS.columns.keys())  # type: ignore[misc]
_KEPT = 6
_BESIDE = 2
"""Clips on both sides of some that their gain depends on."""

CurveKey = tuple[tuple[int, int, int | None, int | None, str], ...]


class ClipRows(list[Clip]):
    """Clips of a track in order of time, with what is worked out of all of them once."""

    @cached_property
    def places(self) -> dict[str, int]:
        """The place of each clip by its id."""
        return {clip.id: place for place, clip in enumerate(self)}

    @cached_property
    def shape(self) -> FloatArray:
        """Start, room tone, and start and end of the phrase (NaN without one) of each clip, (n, 4)."""
        rows = [(c.start, c.room_tone, c.phrase_start, c.phrase_end) for c in self]
        return np.array(rows, np.float64).reshape(-1, 4)

    @cached_property
    def curve_key(self) -> CurveKey:
        """What the curves of the clips depend on; empty where there is none."""
        if not any(clip.curve for clip in self):
            return ()
        return tuple((c.start, c.end, c.phrase_start, c.phrase_end, c.curve) for c in self)

    def around(self, ids: Collection[str]) -> ClipRows:
        """From the first to the last of some clips, and those beside them that their gain depends on."""
        places = [self.places[id] for id in ids if id in self.places]
        if not places:
            return ClipRows()
        return ClipRows(self[max(0, min(places) - _BESIDE) : max(places) + _BESIDE + 1])

    def exchanged(self, rows: Iterable[dict[str, Any]]) -> ClipRows:
        """The same with the rows of an edit exchanged, added and taken away."""
        changed = {row["id"]: row["after"] for row in rows}
        if not changed:
            return self
        if all(after is not None and id in self.places for id, after in changed.items()):
            new = ClipRows(self)
            for id, after in changed.items():
                new[self.places[id]] = cast(Clip, ClipRow(**after))
            if all(new[place].start == self[place].start for place in map(self.places.__getitem__, changed)):
                new.__dict__["places"] = self.places
                same = [(self[self.places[id]], new[self.places[id]]) for id in changed]
                shape = ("start", "end", "room_tone", "phrase_start", "phrase_end", "curve")
                if all(getattr(a, name) == getattr(b, name) for a, b in same for name in shape):
                    new.__dict__.update({name: self.__dict__[name] for name in ("shape", "curve_key") if name in self.__dict__})
                return new
        kept = [clip for clip in self if clip.id not in changed]
        kept += [cast(Clip, ClipRow(**after)) for after in changed.values() if after is not None]
        return ClipRows(sorted(kept, key=lambda clip: clip.start))


def as_rows(clips: Sequence[Clip]) -> ClipRows:
    """Clips in order of time as ``ClipRows``; what is that already keeps what was worked out of it."""
    return clips if isinstance(clips, ClipRows) else ClipRows(clips)


@dataclass
class TrackRows:
    """What is kept of a track: its clips, the rows of ``Detail``, and its found marks as they are packed."""

    clips: ClipRows | None = None
    details: tuple[Detail, ...] | None = None
    marks: str | None = None


Key = tuple[str, int, str]
"""Session, its revision, and the track."""
_kept: OrderedDict[Key, TrackRows] = OrderedDict()
_lock = Lock()


def clip_rows(db: DbSession, track_id: str, around: Collection[str] | None = None) -> ClipRows:
    """The clips of a track in order of time, only to be read.

    With ``around``, only those from the first to the last of these ids and two more on either side: all that the ids and
    their neighbours depend on.
    """
    rows = _rows_of(db, track_id)
    if rows.clips is None:
        query = select(_CLIPS).where(_CLIPS.c.track_id == track_id).order_by(_CLIPS.c.start)
        rows.clips = ClipRows(map(ClipRow._make, db.execute(query)))  # type: ignore[arg-type]
    return rows.clips if around is None else rows.clips.around(around)


def detail_rows(db: DbSession, track_id: str) -> tuple[Detail, ...]:
    """What the hand made of a track's marks, as plain rows; in an edit, as it will be when the edit is written."""
    rows = _rows_of(db, track_id)
    if rows.details is None:
        query = select(_DETAILS).where(_DETAILS.c.track_id == track_id)
        rows.details = tuple(map(DetailRow._make, db.execute(query)))  # type: ignore[arg-type]
    pending = [row for row in (*db.new, *db.dirty, *db.deleted) if isinstance(row, Detail) and row.track_id == track_id]
    if not pending:
        return rows.details
    names = _DETAILS.columns.keys()
    values = [DetailRow(*(getattr(row, name) for name in names)) for row in pending if row not in db.deleted]
    return _exchanged(rows.details, {row.id for row in pending}, values)


def packed_marks(db: DbSession, track_id: str) -> str:
    """The found marks of a track as they are packed; see ``store.packing``."""
    rows = _rows_of(db, track_id)
    if rows.marks is None:
        rows.marks = db.scalar(select(_MARKS.c.data).where(_MARKS.c.track_id == track_id)) or ""
    return rows.marks


def carry(edit: Edit) -> None:
    """Carry what is kept over to the revision that an edit has made, with what it changed exchanged."""
    if not edit.changes:
        # what changes nothing makes no revision
        return
    session, now = edit.session.id, edit.session.revision
    clips, details, marks = (edit.touched_by_track(table) for table in ("clip", "detail", "mark_set"))
    with _lock:
        for key in [key for key in _kept if key[:2] == (session, now - 1)]:
            old, track_id = _kept[key], key[2]
            mine, hand = clips.get(track_id, []), details.get(track_id, [])
            gone = {row["id"] for row in hand}
            made = [DetailRow(**row["after"]) for row in hand if row["after"] is not None]
            _keep(
                (session, now, track_id),
                TrackRows(
                    None if old.clips is None else old.clips.exchanged(mine),
                    None if old.details is None else _exchanged(old.details, gone, made),
                    None if track_id in marks else old.marks,
                ),
            )


def forget() -> None:
    """Read everything anew the next time."""
    with _lock:
        _kept.clear()


def _rows_of(db: DbSession, track_id: str) -> TrackRows:
    owner = _TRACKS.c.session_id == _SESSIONS.c.id
    row = db.execute(select(_SESSIONS.c.id, _SESSIONS.c.revision).join(_TRACKS, owner).where(_TRACKS.c.id == track_id)).first()
    if row is None:
        return TrackRows()
    with _lock:
        key = row[0], row[1], track_id
        if key not in _kept:
            _keep(key, TrackRows())
        _kept.move_to_end(key)
        return _kept[key]


def _keep(key: Key, rows: TrackRows) -> None:
    _kept[key] = rows
    while len(_kept) > _KEPT:
        _kept.popitem(last=False)


def _exchanged(rows: tuple[Detail, ...], gone: set[str], made: Sequence[Any]) -> tuple[Detail, ...]:
    """Rows without those that are gone, and with those that were made; each stays where it was if it is only another."""
    if not gone:
        return rows
    by_id = {row.id: row for row in made}
    kept = [by_id.pop(row.id) if row.id in by_id else row for row in rows if row.id in by_id or row.id not in gone]
    return (*kept, *by_id.values())
