"""Carrying clips from row to row, with all that is theirs: room is made for them, and what is left behind closes."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np

from nivelus.core.chain.placing import moved_name, uncovered
from nivelus.core.errors import Locked, NotFound, Refused
from nivelus.core.gain.clips import SHORTEST_CLIP_SECONDS
from nivelus.core.marks.mark import COLUMNS
from nivelus.services.clips.clips import measure_clip, phrase_within
from nivelus.services.track.timeline import Timeline, timeline_of
from nivelus.services.track.workbench import Workbench
from nivelus.store.clip_rows import DAY, ClipRow, Recorded
from nivelus.store.editing import Edit
from nivelus.store.history import require
from nivelus.store.packing import pack_table, unpack
from nivelus.store.reading import clip_rows
from nivelus.store.tables import Clip, Detail, Lane, MarkSet, Track, new_id, takes_of
from nivelus.store.track_rows import marked_recordings, rows_on

_SPANS = ("start", "end", "phrase_start", "phrase_end")
LONGEST_SECONDS = 6 * 3600
"""Where the last clip of a track ends at the latest; a longer recording may lie where it is."""
_NEW_TAKE = -1
"""The number that stands for a take that is to be made."""


@dataclass(frozen=True)
class Row:
    """A take of a track: what clips lie in."""

    track: Track
    take: int
    timeline: Timeline

    @property
    def rate(self) -> int:
        """Samples a second of its positions."""
        return self.timeline.sample_rate


@dataclass(frozen=True)
class Arrival:
    """A clip on its way: the one that it was, and the values that it has where it comes to lie."""

    clip: ClipRow
    values: dict[str, Any]

    @property
    def start(self) -> int:
        """Where it begins."""
        return int(self.values["start"])

    @property
    def end(self) -> int:
        """Where it ends."""
        return int(self.values["end"])

    def copied(self) -> Clip:
        """A clip of its own that lies there, as the other did where it was."""
        return Clip(**self.clip._asdict() | self.values | {"id": new_id(), "locked": False})


def row_of(edit: Edit, here: Row, track_id: str | None, take: int | None) -> Row:
    """Another take or track of the session than ``here``; ``here`` itself where neither is named."""
    track = here.track if track_id in (None, here.track.id) else require(edit.db, Track, track_id or "", "track")
    if track.session_id != edit.session.id:
        raise Refused("This track belongs to another session.")
    number = track.take if take is None else take
    if track is here.track and number == here.take:
        return here
    if number == _NEW_TAKE:
        number = add_take(track)
    return Row(track, number, timeline_of(edit.db, track, number))


def add_take(track: Track, name: str | None = None) -> int:
    """Make another take of a track; its number."""
    takes = takes_of(track)
    number: int = max(item["number"] for item in takes) + 1
    track.takes = [*takes, {"number": number, "name": name or f"Take {len(takes) + 1}"}]
    return number


def lay(
    bench: Workbench, edit: Edit, origin: Row, target: Row, clips: Sequence[ClipRow], by: float, copy: bool = False
) -> None:
    """Lay clips of one row into another, or elsewhere in their own, moved by seconds; what they cover is trimmed."""
    first = min(clip.start for clip in clips) / origin.rate
    by = max(by, -first)
    arrivals = [arrival(origin, target, clip, round(by * target.rate)) for clip in clips]
    if not copy and target is origin and all(one.start == one.clip.start for one in arrivals):
        raise Refused("It is already at the beginning.")
    put(bench, edit, origin, target, arrivals, copy)


def arrival(origin: Row, target: Row, clip: ClipRow, by: int) -> Arrival:
    """What a clip becomes that is moved by samples of the target's rate."""
    share = target.rate / origin.rate
    values: dict[str, Any] = {
        name: None if (at := getattr(clip, name)) is None else round(at * share) + by for name in (*_SPANS, "shift")
    }
    id = clip.recording_id or origin.track.recording_id
    values["recording_id"] = None if id == target.track.recording_id else id
    return Arrival(clip, values | {"track_id": target.track.id, "take": target.take})


def homecoming(edit: Edit, row: Row, clips: Sequence[ClipRow]) -> list[Arrival]:
    """Those of some clips that do not lie where they were recorded, as they do there."""
    home = {clip.recording_id: home_of(edit, row, row.timeline.recorded(clip.recording_id)) for clip in clips}
    away = [clip for clip in clips if clip.shift != home[clip.recording_id]]
    return [arrival(row, row, clip, home[clip.recording_id] - clip.shift) for clip in away]


def put(bench: Workbench, edit: Edit, origin: Row, target: Row, arrivals: Sequence[Arrival], copy: bool = False) -> None:
    """Let clips lie where they are to come to; what is there makes room, and what the hand made of them goes along."""
    spans = sorted((one.start, one.end) for one in arrivals)
    if spans[-1][1] > max(LONGEST_SECONDS * target.rate, target.timeline.frames):
        raise Refused(f"A track is {LONGEST_SECONDS // 3600} hours long at most. Put this earlier.")
    if any(start < end for (_, end), (start, _) in pairwise(spans)):
        raise Refused("Some of these would overlap. Move them one at a time.")
    stays = set() if copy else {one.clip.id for one in arrivals}
    make_room(bench, edit, target, [(one.start, one.end) for one in arrivals], stays)
    if copy:
        for one in arrivals:
            edit.db.add(one.copied())
    else:
        edit.change_many(Clip, [one.clip for one in arrivals], {one.clip.id: one.values for one in arrivals})
    carry(edit, origin, target, arrivals, copy)
    if target.track is not origin.track:
        _carry_marks(edit, origin, target, {one.clip.recording_id for one in arrivals})
    if not copy and target is not origin:
        _leave(edit, origin, stays)


def make_room(bench: Workbench, edit: Edit, row: Row, spans: Iterable[tuple[int, int]], stays: Collection[str] = ()) -> None:
    """Trim the clips of a row that lie under some spans (samples), but for those that are about to leave.

    A clip that is covered goes; one with something in its middle becomes two. Raises Refused where one of them is locked.
    """
    spans = sorted(spans)
    starts = np.array([start for start, _ in spans])
    ends = np.array([end for _, end in spans])
    for clip in clip_rows(edit.db, row.track.id, row.take):
        if clip.id in stays:
            continue
        first, last = np.searchsorted(ends, clip.start, "right"), np.searchsorted(starts, clip.end, "left")
        if first >= last:
            continue
        if clip.locked:
            raise Locked("A locked phrase is in the way.", "Unlock it first, or choose another place.")
        left = uncovered(clip.start, clip.end, spans[int(first) : int(last)], round(SHORTEST_CLIP_SECONDS * row.rate))
        stored = require(edit.db, Clip, clip.id, "phrase")
        if not left:
            edit.db.delete(stored)
            continue
        more = [Clip(**stored.model_dump(exclude={"id"})) for _ in left[1:]]
        pieces = [stored, *more]
        for piece, (start, end) in zip(pieces, left, strict=True):
            piece.start, piece.end = start, end
            cut_phrase(bench, piece, row.timeline)
        longest = max(pieces, key=lambda piece: (piece.phrase_end or 0) - (piece.phrase_start or 0))
        for piece in pieces:
            # words stay where most of their phrase is
            piece.label = piece.label if piece is longest and piece.phrase_start is not None else ""
        edit.db.add_all(more)


def cut_phrase(bench: Workbench, clip: Clip, timeline: Timeline) -> None:
    """Leave a clip whose borders were moved the part of its phrase that lies in them, and measure both."""
    recording = timeline.recorded(clip.recording_id)
    if recording.missing:
        raise Refused("The recording's file is missing, so this cannot be trimmed. Import it again.")
    grid = bench.vault.grid(recording)
    measure_clip(clip, grid, recording.room_tone, timeline.sample_rate, *phrase_within(clip, timeline.sample_rate))


def home_of(edit: Edit, row: Row, recording: Recorded) -> int:
    """The shift of a recording where it was recorded, samples of a row's rate."""
    origin, stamp = edit.session.origin, recording.stamp
    return 0 if origin is None or stamp is None else round((stamp - origin) % DAY * row.rate)


def remove_track(edit: Edit, track: Track, left: bool = False) -> None:
    """Take a track out with everything on it, but for its clips where these have ``left`` it for another."""
    tables: tuple[Any, ...] = (Detail, MarkSet, Lane) if left else (Detail, MarkSet, Lane, Clip)
    for table in tables:
        for row in rows_on(edit.db, table, track.id):
            # what goes along with clips that have left is of another track by now
            if row.track_id == track.id:
                edit.db.delete(row)
    edit.db.delete(track)


def take_name(track: Track, number: int) -> str:
    """What a take is called. Raises NotFound."""
    for item in takes_of(track):
        if item["number"] == number:
            return str(item["name"])
    raise NotFound("This take no longer exists.")


def drop_take(track: Track, take: int) -> None:
    """Take a take off the list of a track; where it was the one that is heard, the first of the others is."""
    track.takes = [item for item in takes_of(track) if item["number"] != take]
    if track.take == take:
        track.take = track.takes[0]["number"]
    if len(track.takes) == 1:
        track.takes = []


def _leave(edit: Edit, origin: Row, gone: Collection[str]) -> None:
    """Tidy up a row that clips have left: an empty take goes, and a track with nothing on it."""
    if any(clip.id not in gone for clip in clip_rows(edit.db, origin.track.id, origin.take)):
        return
    if len(takes_of(origin.track)) > 1:
        drop_take(origin.track, origin.take)
    else:
        remove_track(edit, origin.track, left=True)


def carry(edit: Edit, origin: Row, target: Row, arrivals: Sequence[Arrival], copy: bool) -> None:
    """Move or copy what the hand made of the marks of clips along with them."""
    going: dict[tuple[str | None, int], list[Arrival]] = {}
    coming: dict[tuple[str | None, int], list[Arrival]] = {}
    for one in arrivals:
        going.setdefault((one.clip.recording_id, one.clip.shift), []).append(one)
        coming.setdefault((one.values["recording_id"], one.values["shift"]), []).append(one)

    def hands(row: Row) -> list[Detail]:
        return list(rows_on(edit.db, Detail, row.track.id, row.take))

    def under(hand: Detail, spans: Mapping[tuple[str | None, int], list[Arrival]], old: bool) -> Arrival | None:
        middle = (hand.start + hand.end) / 2 + hand.shift
        for one in spans.get((hand.recording_id, hand.shift), ()):
            start, end = (one.clip.start, one.clip.end) if old else (one.start, one.end)
            if start <= middle < end:
                return one
        return None

    own = hands(origin)
    leaving = [(hand, mover) for hand in own if (mover := under(hand, going, old=True)) is not None]
    moving = set() if copy else {hand.id for hand, _ in leaving}
    there = own if target is origin else hands(target)
    for hand in there:
        # what the hand did here before, to the same recording at the same place, is what comes from now on
        if hand.id not in moving and under(hand, coming, old=False) is not None:
            edit.db.delete(hand)
    for hand, mover in leaving:
        values = _scaled_hand(hand, target.rate / origin.rate)
        values |= {name: mover.values[name] for name in ("track_id", "take", "recording_id", "shift")}
        if copy:
            edit.db.add(Detail(**hand.model_dump(exclude={"id"}) | values))
        else:
            for name, value in values.items():
                setattr(hand, name, value)


def _scaled_hand(hand: Detail, share: float) -> dict[str, Any]:
    """The positions of a hand in a track of another rate."""
    if share == 1:
        return {}
    names = ("found_end", "start", "end", "dip_start", "dip_end")
    values: dict[str, Any] = {name: None if (at := getattr(hand, name)) is None else round(at * share) for name in names}
    if hand.found:
        start = int(hand.found.split(".")[1])
        values["found"] = moved_name(hand.found, round(start * share) - start)
    return values


def _carry_marks(edit: Edit, origin: Row, target: Row, recordings: Collection[str | None]) -> None:
    """Give a track the marks of recordings that come from another one."""
    sets = {row.recording_id: row for row in rows_on(edit.db, MarkSet, origin.track.id)}
    there = marked_recordings(edit.db, target.track.id)
    there |= {row.recording_id for row in edit.made(MarkSet) if row.track_id == target.track.id}
    for id in recordings:
        own = id or origin.track.recording_id
        wanted = None if own == target.track.recording_id else own
        if wanted in there or id not in sets:
            continue
        data = sets[id].data
        if target.rate != origin.rate:
            table = unpack(data).copy()
            places = [COLUMNS.index("start"), COLUMNS.index("end")]
            table[:, places] = np.rint(table[:, places] * target.rate / origin.rate)
            data = pack_table(table)
        edit.db.add(MarkSet(track_id=target.track.id, recording_id=wanted, data=data))
