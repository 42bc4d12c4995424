"""What an edit touches: the clips and marks that are different after it, by the rows that it changed."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt
from sqlalchemy.orm import Session as DbSession

from nivelus.core.chain.clips import BoolArray
from nivelus.core.chain.marks import differing, marks_of
from nivelus.core.chain.placing import place_found, place_hands
from nivelus.core.chain.state import Lane, TrackState
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import EMPTY, Curve
from nivelus.core.gain.together import changed_span
from nivelus.services.track.state import state_of
from nivelus.services.track.timeline import timeline_of
from nivelus.services.track.workbench import Workbench
from nivelus.store.history import require
from nivelus.store.packing import unpack_curve
from nivelus.store.reading import TrackRows, clip_rows
from nivelus.store.tables import Recording, Session, Track

SHAPE_OF_CLIP = {"start", "end", "phrase_start", "phrase_end", "loudness", "rms", "peak", "true_peak", "room_tone", "label"}
"""What makes a clip another one; all else of it is values."""
ROW_OF_CLIP = {"track_id", "take"}
"""Which row of clips a clip lies in."""


@dataclass
class Scope:
    """What an answer holds of a track.

    ``whole``: every clip and mark. ``every``: the values of all of them. ``relevelled``: every clip. Else ``clips``, that
    have other values, and ``new_clips``, that are other clips than before, with their neighbours and the marks by them;
    ``new_marks``, that are other marks than before; and ``marks`` (n,), that have other values by a rule.
    """

    whole: bool = False
    every: bool = False
    relevelled: bool = False
    clips: set[str] = field(default_factory=set)
    new_clips: set[str] = field(default_factory=set)
    new_marks: set[str] = field(default_factory=set)
    marks: BoolArray | None = None

    @property
    def is_empty(self) -> bool:
        """Whether the answer holds nothing of the track's clips and marks."""
        named = self.clips | self.new_clips | self.new_marks
        return not (self.whole or self.every or self.relevelled or named) and self.marks is None


class Gone(dict[str, list[str]]):
    """Ids of what went, by track."""

    def add(self, track: str, ids: Sequence[str]) -> None:
        """Note ids of a track."""
        if ids:
            self.setdefault(track, []).extend(ids)


def in_clips(state: TrackState, places: npt.NDArray[np.int64]) -> BoolArray:
    """Which marks or their dips reach into some clips, (n,)."""
    return _touched(*state.marks.reach, state.clips.spans.start[places], state.clips.spans.end[places])


def _touched(first: FloatArray, last: FloatArray, starts: FloatArray, ends: FloatArray) -> BoolArray:
    """Which of the spans ``first`` ... ``last`` (n,) share anything with one of ``starts`` ... ``ends`` (m,); O((n + m) log m).

    A span touches one where fewer have ended before it than have begun before its end.
    """
    begun, ended = np.searchsorted(np.sort(starts), last, "left"), np.searchsorted(np.sort(ends), first, "right")
    return np.asarray(begun > ended)


def scope_of_rules(old: TrackState, now: TrackState, scope: Scope) -> None:
    """What other rules of a track's dips change: its marks, what their dips lie over, and the phrases there."""
    before, after = old.marks, now.marks
    a, b = before.draft.dips, after.draft.dips
    # dips by another rule may have other ramps, and those of gaps hang on the breaths beside them
    edges = (a.start != b.start) | (a.end != b.end) | (a.ramp_in != b.ramp_in) | (a.ramp_out != b.ramp_out)
    scope.new_marks.update(after.ids[place] for place in np.flatnonzero(edges).tolist())
    moved = ((a.depth != b.depth) | edges) & (before.applied | after.applied)
    moved |= before.applied != after.applied
    first, last = after.reach
    dips = first[moved], last[moved]
    said = np.array([a != b for a, b in zip(before.draft.reason, after.draft.reason, strict=True)], bool)
    scope.marks = said | (before.draft.dips.depth != after.draft.dips.depth) | _touched(first, last, *dips)
    phrases = now.clips.phrases
    under = now.clips.voiced[_touched(phrases[:, 0], phrases[:, 1], *dips)]
    scope.clips.update(now.clips.ids[place] for place in under.tolist())


def scope_of_marks(
    bench: Workbench,
    db: DbSession,
    session: Session,
    track_id: str,
    old: TrackRows | None,
    touched: Sequence[dict[str, Any]],
    scope: Scope,
    removed: Gone,
) -> None:
    """What is different where there may be other marks than before, or marks by other names."""
    track = db.get(Track, track_id)
    if track is None:
        return
    if old is None or old.clips is None or old.hands is None or old.found is None:
        scope.whole = True
        return
    state, runs = state_of(bench, db, session, track, timeline_of(db, track)), old.clips.runs
    found = place_found(old.found, runs, require(db, Recording, track.recording_id, "recording").frames)
    last = max((run.end for run in runs), default=0)
    before = marks_of(old.clips.table, found, place_hands(old.hands, runs), state.rules, state.rate, last)
    changed, gone = differing(before, state.marks)
    scope.new_marks |= changed
    # what other dips lie over is as loud as they let it be
    for marks, named in ((before, changed | gone), (state.marks, changed)):
        places = marks.at(named)
        spans = state.clips.spans
        under = _touched(spans.start, spans.end, *(side[places] for side in marks.reach))
        scope.clips.update(state.clips.ids[place] for place in np.flatnonzero(under).tolist())
    removed.add(track_id, sorted(gone))
    # what lies beside a clip that went from there has another neighbour now
    rows = clip_rows(db, track_id)
    ends = [row["before"][name] for row in touched if row["before"] is not None for name in ("start", "end")]
    for place in np.searchsorted(rows.table.spans.start, ends).tolist() if len(rows) else ():
        scope.clips.update(rows[at].id for at in (place - 1, place) if 0 <= at < len(rows))


def moves_levels(row: dict[str, Any]) -> bool:
    """Whether an edit of a session's row gives phrases other levels, and not only another target."""
    before, after = row["before"] or {}, row["after"] or {}
    return any(before.get(name) != after.get(name) for name in ("unit", "mono_as_two"))


def clips_under_lane(db: DbSession, row: dict[str, Any]) -> list[str]:
    """The clips of which an edit of a lane changed the gain."""
    sides = [side for side in (row["before"], row["after"]) if side is not None]
    track = db.get(Track, sides[0]["track_id"])
    if track is None:
        return []
    rate = clip_rows(db, track.id).rate
    before, after = (_lane_of(side) for side in (row["before"], row["after"]))
    span = changed_span(before, after)
    if span is None:
        return []
    clips = clip_rows(db, track.id).table
    under = (clips.spans.end > max(span[0], 0.0) * rate) & (clips.spans.start < span[1] * rate)
    return [clips.ids[place] for place in np.flatnonzero(under).tolist()]


def _lane_of(side: dict[str, Any] | None) -> Curve:
    """What a lane of a track did, or does now; EMPTY where it was off or not there."""
    return EMPTY if side is None else Lane(unpack_curve(side["points"]), side["offset"], side.get("off", False)).heard()


def with_neighbours(places: Mapping[str, int], only: Collection[str]) -> npt.NDArray[np.int64]:
    """The places of some clips and of those beside them, in order."""
    at = np.array([places[id] for id in only if id in places], np.int64)
    near = np.unique(np.concatenate([at - 1, at, at + 1]))
    return near[(near >= 0) & (near < len(places))]
