"""Reading a track: its clips, its marks and what the hand made of them, its lanes. All as plain rows that never change.

They are kept by revision. An hour of speech is a thousand clips and thousands of marks, and an edit changes a few of them.
What was read once for a revision is good for as long as the revision is, so an edit carries it over with only what it changed
exchanged; nothing is read twice. Only edits change these rows, and each raises the revision of its session.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from threading import Lock
from typing import Any

from sqlalchemy import bindparam, inspect, select
from sqlalchemy.orm import Session as DbSession

from nivelus.core.chain.marks import FoundMarks, Hand, Hands
from nivelus.core.chain.state import Lane, Lanes
from nivelus.core.gain.drawn import COLUMNS
from nivelus.store.clip_rows import ClipRow, ClipRows, Recorded
from nivelus.store.editing import Edit
from nivelus.store.packing import unpack, unpack_curve
from nivelus.store.tables import Clip, Detail, MarkSet, Recording, Session, Track
from nivelus.store.tables import Lane as LaneTable
from nivelus.store.vault import source_file

_CLIPS, _DETAILS, _LANES = (inspect(table).local_table for table in (Clip, Detail, LaneTable))
_MARKS, _SESSIONS, _TRACKS, _RECORDINGS = (inspect(table).local_table for table in (MarkSet, Session, Track, Recording))
# put together once: every answer asks them
_OF_TRACK = (
    select(_SESSIONS.c.id, _SESSIONS.c.revision, _TRACKS.c.take, _RECORDINGS.c.sample_rate)
    .join(_TRACKS, _TRACKS.c.session_id == _SESSIONS.c.id)
    .join(_RECORDINGS, _TRACKS.c.recording_id == _RECORDINGS.c.id)
    .where(_TRACKS.c.id == bindparam("track"))
)
_DRAWN = select(*(_LANES.c[name] for name in ("name", "points", "offset", "off"))).where(
    _LANES.c.track_id == bindparam("track")
)
_KEPT = 40
_RECORDED = select(*(_RECORDINGS.c[name] for name in Recorded._fields)).where(
    _RECORDINGS.c.id.in_(bindparam("ids", expanding=True))
)


@dataclass
class TrackRows:
    """What is kept of a track with one of its takes: ``rate`` is samples a second, ``heard`` whether that take is heard."""

    rate: int
    heard: bool
    clips: ClipRows | None = None
    hands: Hands | None = None
    found: Mapping[str | None, FoundMarks] | None = None
    lanes: Lanes | None = None


Key = tuple[str, int, str, int]
"""Session, its revision, the track, and the take."""
_kept: OrderedDict[Key, TrackRows] = OrderedDict()
_lock = Lock()


def clip_rows(db: DbSession, track_id: str, take: int | None = None) -> ClipRows:
    """The clips of a track's take, of the one that is heard if none is named, in order of time; in an edit, as before it."""
    rows, take = _rows_of(db, track_id, take)
    if rows.clips is None:
        columns = [_CLIPS.c[name] for name in ClipRow._fields]
        query = select(*columns).where(_CLIPS.c.track_id == track_id, _CLIPS.c.take == take).order_by(_CLIPS.c.start)
        rows.clips = ClipRows(map(ClipRow._make, db.execute(query)))
        rows.clips.rate = rows.rate
    return rows.clips


def hands_of(db: DbSession, track_id: str, take: int | None = None) -> Hands:
    """What the hand made of a take's marks, in positions of their recordings; in an edit, as it will be when it is written."""
    rows, take = _rows_of(db, track_id, take)
    if rows.hands is None:
        columns = [_DETAILS.c[name] for name in Hand._fields]
        query = select(*columns).where(_DETAILS.c.track_id == track_id, _DETAILS.c.take == take)
        rows.hands = Hands(tuple(map(Hand._make, db.execute(query))))
    pending = [row for row in (*db.new, *db.dirty, *db.deleted) if isinstance(row, Detail)]
    if not pending:
        return rows.hands
    mine = [row for row in pending if row not in db.deleted and (row.track_id, row.take) == (track_id, take)]
    made = [Hand(*(getattr(row, name) for name in Hand._fields)) for row in mine]
    return _exchanged(rows.hands, {row.id for row in pending}, made)


def found_marks(db: DbSession, track_id: str) -> Mapping[str | None, FoundMarks]:
    """The found marks of the recordings of a track, in their own positions; None stands for the track's own recording."""
    rows, _ = _rows_of(db, track_id)
    if rows.found is None:
        query = select(_MARKS.c.recording_id, _MARKS.c.data).where(_MARKS.c.track_id == track_id)
        rows.found = {recording: _unpacked(data) for recording, data in db.execute(query)}
    return rows.found


def lanes_of(db: DbSession, track_id: str) -> Lanes:
    """The lanes of a track; in an edit, as they were before it."""
    rows, _ = _rows_of(db, track_id)
    if rows.lanes is None:
        drawn = db.execute(_DRAWN, {"track": track_id})
        rows.lanes = Lanes(**{name: Lane(unpack_curve(text), offset, off) for name, text, offset, off in drawn})
    return rows.lanes


def stamp_of_rows(db: DbSession, track_id: str) -> int:
    """What tells all that is kept of a track from any other, while the program runs; equal rows have the same.

    O(what an edit has changed), and O(hands).
    """
    lanes = lanes_of(db, track_id)
    drawn = [(*(getattr(lane.points, name).tobytes() for name in COLUMNS), *lane[1:]) for lane in lanes]
    # rows come in the order in which they were made, and come back in another one
    found = frozenset((recording, marks.stamp) for recording, marks in found_marks(db, track_id).items())
    return hash((clip_rows(db, track_id).stamp, frozenset(hands_of(db, track_id).rows), tuple(drawn), found))


def recorded_by_id(db: DbSession, ids: Collection[str]) -> dict[str, Recorded]:
    """Recordings by their ids, those that the database knows; one whose sound has vanished since the start is missing."""
    rows = map(Recorded._make, db.execute(_RECORDED, {"ids": list(ids)}))
    data = db.info["data"]
    return {row.id: row if source_file(data, row.hash, row.suffix).exists() else row._replace(missing=True) for row in rows}


def carry(edit: Edit) -> dict[str, TrackRows | None]:
    """Carry what is kept over to the revision that an edit has made, with what it changed exchanged.

    The answer names the tracks that may have other marks than before - where other recordings are heard, or elsewhere, or where
    the hand made something of a mark, which may stand for others - with what was kept of each before the edit; None where
    another take is heard, or it is not known.
    """
    if not edit.changes:
        # what changes nothing makes no revision
        return {}
    session, now = edit.session.id, edit.session.revision
    clips, details, marks, lanes = (edit.touched_by_track(table) for table in ("clip", "detail", "mark_set", "lane"))
    known: set[str] = set()
    takes = {row["id"]: row["after"]["take"] for row in edit.touched("track") if row["after"] is not None}
    remarked: dict[str, TrackRows | None] = {}
    with _lock:
        for key in [key for key in _kept if key[:2] == (session, now - 1)]:
            # who still works on the old revision is too late
            old, track_id, take = _kept.pop(key), *key[2:]
            hand = details.get(track_id, [])
            sides = [row["after"] for row in hand if row["after"] is not None]
            made = [_hand(side) for side in sides if (side["track_id"], side["take"]) == (track_id, take)]
            new = TrackRows(
                old.rate,
                take == takes[track_id] if track_id in takes else old.heard,
                None if old.clips is None else old.clips.exchanged(clips.get(track_id, []), track_id, take),
                None if old.hands is None else _exchanged(old.hands, {row["id"] for row in hand}, made),
                None if track_id in marks else old.found,
                None if track_id in lanes else old.lanes,
            )
            _keep((session, now, track_id, take), new)
            if old.clips is not None and new.clips is not None and old.heard:
                known.add(track_id)
                is_elsewhere = old.clips is not new.clips and old.clips.runs != new.clips.runs
                if is_elsewhere or hand:
                    remarked[track_id] = old if old.hands is not None and old.found is not None else None
    for track_id in clips.keys() | details.keys():
        is_elsewhere = any(_lies(row["before"]) != _lies(row["after"]) for row in clips.get(track_id, []))
        if track_id not in known and (is_elsewhere or track_id in details):
            remarked[track_id] = None
    for row in edit.touched("track"):
        if _take_of(row["before"]) != _take_of(row["after"]):
            remarked[row["id"]] = None
    return remarked


def forget(session: str | None = None) -> None:
    """Read everything anew the next time, or everything of one session."""
    with _lock:
        for key in [key for key in _kept if session in (None, key[0])]:
            del _kept[key]


def _rows_of(db: DbSession, track_id: str, take: int | None = None) -> tuple[TrackRows, int]:
    """What is kept of a track, and the number of the take."""
    # within a unit of work that only reads, a session stays at its revision
    revisions: dict[str, Any] = db.info.get("revisions", {})
    if track_id not in revisions:
        revisions[track_id] = db.execute(_OF_TRACK, {"track": track_id}).first()
    row = revisions[track_id]
    if row is None:
        return TrackRows(1, True), take or 0
    session, revision, heard, rate = row
    take = heard if take is None else take
    with _lock:
        key = session, revision, track_id, take
        if key not in _kept:
            _keep(key, TrackRows(rate, take == heard))
        _kept.move_to_end(key)
        return _kept[key], take


def _keep(key: Key, rows: TrackRows) -> None:
    _kept[key] = rows
    while len(_kept) > _KEPT:
        _kept.popitem(last=False)


@lru_cache(maxsize=8)
def _unpacked(data: str) -> FoundMarks:
    return FoundMarks(unpack(data))


def _take_of(row: dict[str, Any] | None) -> int | None:
    return None if row is None else row["take"]


def _lies(row: dict[str, Any] | None) -> tuple[Any, ...] | None:
    """Which recording a clip lets be heard where, but for its borders."""
    return None if row is None else tuple(row[name] for name in ("track_id", "take", "recording_id", "shift"))


def _hand(row: dict[str, Any]) -> Hand:
    return Hand(*(row[name] for name in Hand._fields))


def _exchanged(hands: Hands, gone: set[str], made: Sequence[Hand]) -> Hands:
    """Hands without those that are gone, and with those that were made; each stays where it was if it is only another."""
    if not gone:
        return hands
    by_id = {row.id: row for row in made}
    kept = [by_id.pop(row.id) if row.id in by_id else row for row in hands.rows if row.id in by_id or row.id not in gone]
    return Hands((*kept, *by_id.values()))
