"""Reading a track: its clips, its marks and what the hand made of them, its lanes. All as plain rows that never change.

They are kept by revision. An hour of speech is a thousand clips and thousands of marks, and an edit changes a few of them.
What was read once for a revision is good for as long as the revision is, so an edit carries it over with only what it changed
exchanged; nothing is read twice. Only edits change these rows, and each raises the revision of its session.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, fields, replace
from functools import cached_property, lru_cache
from threading import Lock
from types import MappingProxyType
from typing import Any, NamedTuple

import numpy as np
from sqlalchemy import bindparam, inspect, select
from sqlalchemy.orm import Session as DbSession

from nivelus.core.chain.clips import ClipTable
from nivelus.core.chain.marks import FoundMarks, Hand, Hands
from nivelus.core.chain.placing import Runs, runs_of
from nivelus.core.chain.state import Lane, Lanes
from nivelus.core.gain.clips import ClipSpans
from nivelus.core.gain.drawn import COLUMNS, EMPTY, Curve
from nivelus.core.gain.edits import shift
from nivelus.store.history import Edit
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
DAY = 86_400
"""Seconds."""
_KEPT = 40


class ClipRow(NamedTuple):
    """A clip as the database has it, see ``store.tables.Clip``."""

    id: str
    track_id: str
    start: int
    end: int
    gain: float
    curve: str
    phrase_start: int | None
    phrase_end: int | None
    confidence: float
    loudness: float | None
    rms: float | None
    peak: float | None
    true_peak: float
    room_tone: float
    locked: bool
    left_out: bool
    by_hand: bool
    drafted: bool
    reference: bool
    label: str
    take: int
    recording_id: str | None
    shift: int


class Recorded(NamedTuple):
    """A recording as the database has it, see ``store.tables.Recording``."""

    id: str
    hash: str
    suffix: str
    format: str
    subtype: str
    sample_rate: int
    channels: int
    frames: int
    time_reference: int | None
    room_tone: float
    shows_esses: bool
    missing: bool

    @property
    def stamp(self) -> float | None:
        """When it begins, seconds since midnight; a stamp of 0 is none, as recorders without a clock write it."""
        return (self.time_reference / self.sample_rate) % DAY if self.time_reference else None


_RECORDED = select(*(_RECORDINGS.c[name] for name in Recorded._fields)).where(
    _RECORDINGS.c.id.in_(bindparam("ids", expanding=True))
)


_VALUES = {field.name for field in fields(ClipTable)} - {"ids", "spans", "curves"}
"""Columns of a clip table that hold a value of each clip, and nothing of where it lies."""
_SHOWN = _VALUES | {"phrase_start", "phrase_end", "curve"}
"""What of a clip that stays where it lies its table is made of."""


class ClipRows(list[ClipRow]):
    """Clips of one take in order of time, with what is worked out of all of them once."""

    known: Mapping[tuple[str, int], Curve] = MappingProxyType({})
    """Curves on the track that were unpacked before, by their texts and shifts."""
    rate = 0
    """Samples a second of the track."""

    @cached_property
    def places(self) -> dict[str, int]:
        """The place of each clip by its id."""
        return {clip.id: place for place, clip in enumerate(self)}

    @cached_property
    def stamp(self) -> int:
        """What tells these clips from others."""
        return hash(tuple(self))

    @cached_property
    def runs(self) -> Runs:
        """Which recordings are heard where."""
        return runs_of([(clip.recording_id, clip.shift, clip.start, clip.end) for clip in self])

    @cached_property
    def table(self) -> ClipTable:
        """The clips as columns."""
        columns = dict(zip(ClipRow._fields, zip(*self, strict=True) if self else ((),) * len(ClipRow._fields), strict=True))
        drawn = any(columns["curve"])
        curves = {key for key in zip(columns["curve"], columns["shift"], strict=True) if key[0]} if drawn else set()
        self.known = {key: self.known[key] if key in self.known else self._curve(*key) for key in curves}

        def numbers(name: str) -> np.ndarray:
            # None is NaN
            return np.array(columns[name], np.float64)

        def switches(name: str) -> np.ndarray:
            return np.array(columns[name], bool)

        return ClipTable(
            columns["id"],
            ClipSpans(numbers("start"), numbers("end"), numbers("phrase_start"), numbers("phrase_end")),
            gain=numbers("gain"),
            loudness=numbers("loudness"),
            rms=numbers("rms"),
            peak=numbers("peak"),
            true_peak=numbers("true_peak"),
            room_tone=numbers("room_tone"),
            locked=switches("locked"),
            left_out=switches("left_out"),
            by_hand=switches("by_hand"),
            drafted=switches("drafted"),
            reference=switches("reference"),
            curves=tuple(self.known.get(key, EMPTY) for key in zip(columns["curve"], columns["shift"], strict=True))
            if curves
            else (),
        )

    def _carry_table(self, old: ClipRows, places: list[int]) -> None:
        """Take the columns over from ``old``, where only values at some places are other ones; curves are unpacked anew."""
        before, now = (zip(*(rows[place] for place in places), strict=True) for rows in (old, self))
        differing = {
            name: new for name, own, new in zip(ClipRow._fields, before, now, strict=True) if own != new and name in _SHOWN
        }
        if not differing.keys() <= _VALUES:
            return
        columns = {name: getattr(old.table, name).copy() for name in differing}
        for name, new in differing.items():
            columns[name][places] = np.array(new, columns[name].dtype)
        self.table = replace(old.table, **columns)

    def _curve(self, text: str, by: int) -> Curve:
        curve = unpack_curve(text)
        return shift(curve, by / self.rate) if by else curve

    def exchanged(self, rows: Iterable[dict[str, Any]], track_id: str, take: int) -> ClipRows:
        """The same with the rows of an edit exchanged, added and taken away; those of other takes and tracks are not there."""
        changed = {row["id"]: row["after"] for row in rows}
        for id, after in changed.items():
            if after is not None and (after["track_id"], after["take"]) != (track_id, take):
                changed[id] = None
        changed = {id: after for id, after in changed.items() if after is not None or id in self.places}
        if not changed:
            return self
        new = ClipRows(self)
        if all(after is not None and id in self.places for id, after in changed.items()):
            moved = False
            for id, after in changed.items():
                place = self.places[id]
                new[place] = row = ClipRow(**after)
                moved |= _lies_at(row) != _lies_at(self[place])
            if not moved:
                # nothing lies elsewhere: what is worked out of where it lies holds
                new.known, new.rate = self.known, self.rate
                new.__dict__ |= {name: self.__dict__[name] for name in ("places", "runs") if name in self.__dict__}
                if "table" in self.__dict__:
                    new._carry_table(self, [self.places[id] for id in changed])
                return new
        else:
            new[:] = [clip for clip in self if clip.id not in changed]
            new += [ClipRow(**after) for after in changed.values() if after is not None]
        new.sort(key=lambda clip: clip.start)
        new.known, new.rate = self.known, self.rate
        return new


def _lies_at(clip: ClipRow) -> tuple[int, int, int, str | None]:
    return clip.start, clip.end, clip.shift, clip.recording_id


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
