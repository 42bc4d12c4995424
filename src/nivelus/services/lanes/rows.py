"""What is drawn on: the rows that own curves, the working range, and where the hand has to stop.

Ride and trim are one row each. The lane "curve" is the clips: each owns its own.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np
from sqlalchemy.orm import Session as DbSession

from nivelus.core.chain.state import Lane as LaneState
from nivelus.core.errors import Locked
from nivelus.core.gain.clip_curves import join_clip_curves, part
from nivelus.core.gain.clips import clip_spans
from nivelus.core.gain.compiled import SILENCE
from nivelus.core.gain.drawn import EMPTY, SILENT, Curve, finite, numbered, spaced
from nivelus.core.gain.point_edits import shift
from nivelus.core.gain.together import inside_of
from nivelus.services.track.state import working_range
from nivelus.services.track.timeline import Timeline
from nivelus.services.views.levels import clips_of
from nivelus.store.editing import Edit
from nivelus.store.packing import pack_curve, unpack_curve
from nivelus.store.reading import clip_rows, lanes_of
from nivelus.store.tables import Clip, Lane, Track
from nivelus.store.track_rows import clips_within, lane_called

Range = tuple[float, float]

WIDEST_RANGE = (SILENT, 24.0)
EVERYWHERE = (-np.inf, np.inf)


class Owner:
    """A row that owns a curve, and from where to where it is heard, in seconds."""

    def __init__(
        self, edit: Edit, row: Lane | Clip, start: float, end: float, within: tuple[float, float], shift: float = 0.0
    ) -> None:
        """``within`` are the seconds of the track between which all points lie, ``shift`` where the clip's own time begins."""
        self._edit, self.row, self.start, self.end, self.within, self.shift = edit, row, start, end, within, shift

    def curve(self) -> Curve:
        """The curve as it is kept, in seconds of the track."""
        curve = unpack_curve(self.row.points if isinstance(self.row, Lane) else self.row.curve)
        return shift(curve, self.shift) if self.shift else curve

    def points(self, curve: Curve) -> list[str]:
        """What the points of a curve of this row are called in the lane."""
        return point_names(curve, self.row.id if isinstance(self.row, Clip) else None)

    def put(self, curve: Curve, track: Track, within: Range | None = None) -> None:
        """Keep a curve: ``within`` a range what the hand drew, else the working range takes it in."""
        curve = numbered(spaced(inside_of(curve, *self.within), self.within[0]), self.curve(), self._edit.fresh_ids)
        if within is not None:
            low, high = within
            silent = np.isneginf(curve.db) & (low <= SILENCE)
            curve = replace(curve, db=np.where(silent, curve.db, np.clip(curve.db, low, high)))
        else:
            widen(track, curve, self.row.offset if isinstance(self.row, Lane) else 0.0)
        if isinstance(self.row, Lane):
            self.row.points = pack_curve(curve)
            return
        if self.row.locked:
            raise Locked("A phrase here is locked.")
        if self.shift:
            # to and fro, the points stay what they are
            curve = replace(curve, at=np.round(curve.at - self.shift, 9))
        self.row.curve = pack_curve(curve)


def point_names(curve: Curve, clip: str | None = None) -> list[str]:
    """What the points of a curve are called in their lane: by their ids, with that of the clip that owns the curve, if any.

    Both halves of a clip that was cut have the same points, each in its own clip.
    """
    of_clip = f"{clip}." if clip else ""
    return [f"{of_clip}{id:x}" for id in curve.ids.tolist()]


def owners_of(edit: Edit, track: Track, timeline: Timeline, lane: str, span: tuple[float, float]) -> Iterator[Owner]:
    """What is drawn on in a span of a lane, in order of time."""
    if lane != "curve":
        yield lane_owner(edit, track, timeline, lane)
        return
    rate = timeline.sample_rate
    # only those in the span are loaded: an hour has a thousand clips
    first, last = max(span[0], 0.0) * rate, min(span[1], timeline.duration) * rate
    for clip in clips_within(edit.db, track, first, last):
        own = clip.shift / rate, (clip.shift + timeline.span_of(clip.recording_id)) / rate
        yield Owner(edit, clip, clip.start / rate, clip.end / rate, own, clip.shift / rate)


def lane_owner(edit: Edit, track: Track, timeline: Timeline, lane: str) -> Owner:
    """The ride or the trim; what lies beyond the end of the track, since clips were moved away from there, stays."""
    row = lane_row(edit, track, lane)
    last = float(unpack_curve(row.points).at[-1]) if row.points else 0.0
    return Owner(edit, row, *EVERYWHERE, (0.0, max(timeline.duration, last)))


def lane_row(edit: Edit, track: Track, lane: str) -> Lane:
    """The row of the ride or the trim; a new one where nothing was drawn yet."""
    row = lane_called(edit.db, track.id, lane)
    if row is None:
        row = next((made for made in edit.made(Lane) if (made.track_id, made.name) == (track.id, lane)), None)
    if row is None:
        row = Lane(track_id=track.id, name=lane)
        edit.db.add(row)
    return row


def lane_now(edit: Edit, track: Track, timeline: Timeline, lane: str) -> Curve:
    """A lane as one curve, as the edit has made it so far; that of the clips over the whole timeline."""
    if lane == "curve":
        return joined_curves(clips_of(edit.db, track), timeline.sample_rate)
    row = lane_row(edit, track, lane)
    return LaneState(unpack_curve(row.points), row.offset, row.off).curve()


def whole_lane(db: DbSession, track: Track, rate: int, lane: str, with_offset: bool = True) -> Curve:
    """A lane as one curve, be it on or off, from what is in the database; that of the clips over the whole timeline."""
    if lane == "curve":
        table = clip_rows(db, track.id).table
        return join_clip_curves(table.spans, table.curves, rate) if table.has_curves else EMPTY
    value: LaneState = getattr(lanes_of(db, track.id), lane)
    return value.curve() if with_offset else value.points


def joined_curves(clips: Sequence[Clip], rate: int) -> Curve:
    """The curves of clips that follow each other as one curve over the timeline."""
    spans = clip_spans([(c.start, c.end, c.phrase_start, c.phrase_end) for c in clips])
    return join_clip_curves(spans, [shift(unpack_curve(c.curve), c.shift / rate) for c in clips], rate)


def hand_range(edit: Edit, track: Track, lane: str) -> Range:
    """Between which dB the hand may put the points of a lane: with the offset of all of them, that is the working range."""
    offset = lane_row(edit, track, lane).offset if lane != "curve" else 0.0
    low, high = working_range(track)
    return (low if low <= SILENCE else low - offset), high - offset


def at_the_end(within: Range) -> str:
    """What is said when the hand can go no further."""
    low = "silence" if within[0] <= SILENCE else f"{within[0]:+.0f} dB"
    return f"The working range ends here: it goes from {low} to {within[1]:+.0f} dB. Widen it to go further."


def widen(track: Track, curve: Curve, offset: float) -> None:
    """Widen the working range of a track so that a curve with an offset lies within it."""
    if not len(curve):
        return
    db = finite(curve.db) + offset
    low, high = float(db.min()), float(db.max())
    for step in (-20.0, -40.0, -60.0, SILENT):
        if low >= step - 1e-9 or step == SILENT:
            track.range_low = min(track.range_low, step)
            break
    for step in (6.0, 12.0, 24.0):
        if high <= step + 1e-9 or step == WIDEST_RANGE[1]:
            track.range_high = max(track.range_high, step)
            break


def gain_of(db: float) -> float:
    """A gain that was asked for: below what can be heard it is silence."""
    return -np.inf if db <= SILENCE else min(db, WIDEST_RANGE[1])


def own_part(line: Curve, start: float, end: float) -> Curve:
    """What of a curve over a recording lies in a clip, as the clip's own."""
    if start == -np.inf or not len(line):
        return line
    own = part(line, start, end)
    return own if finite(own.db).any() else own.keep(np.zeros(len(own), bool))
