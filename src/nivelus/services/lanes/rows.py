"""What is drawn on: the rows that own curves, the working range, and where the hand has to stop.

Ride and trim are one row each. The lane "curve" is the clips: each owns its own.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np
from sqlalchemy.orm import Session as DbSession

from nivelus.core.chain.state import LANES
from nivelus.core.chain.state import Lane as LaneState
from nivelus.core.errors import Locked
from nivelus.core.gain.clip_curves import join_clip_curves, part
from nivelus.core.gain.clips import clip_spans
from nivelus.core.gain.compiled import SILENCE
from nivelus.core.gain.drawn import EMPTY, SILENT, Curve, finite, numbered, spaced
from nivelus.core.gain.point_edits import shift
from nivelus.core.gain.together import inside_of, limit
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
_LOWS, _HIGHS = (-20.0, -40.0, -60.0), (6.0, 12.0, 24.0)
"""Where a working range ends that is widened by what is drawn."""
EVERYWHERE = (-np.inf, np.inf)


class Owner:
    """A row that owns a curve, and from where to where it is heard, in seconds."""

    def __init__(
        self,
        edit: Edit,
        track: Track,
        timeline: Timeline,
        row: Lane | Clip,
        heard: tuple[float, float],
        within: tuple[float, float],
    ) -> None:
        """``heard`` are the seconds in which it is heard, ``within`` those between which all of its points lie."""
        self._edit, self._track, self._timeline, self.row, self.within = edit, track, timeline, row, within
        self.start, self.end = heard
        self.shift = row.shift / timeline.sample_rate if isinstance(row, Clip) else 0.0
        """Where a clip's own time begins, in seconds."""

    def curve(self) -> Curve:
        """The curve as it is heard, in seconds of the track: that is what an edit draws on.

        What was drawn beyond a working range that was narrowed later is kept only until something is drawn beside it.
        """
        return self._heard(self._kept())

    def points(self, curve: Curve) -> list[str]:
        """What the points of a curve of this row are called in the lane."""
        return point_names(curve, self.row.id if isinstance(self.row, Clip) else None)

    def put(self, curve: Curve, by_hand: bool = False) -> None:
        """Keep a curve. What the hand drew ends where the working range does; anything else is taken in by it."""
        if isinstance(self.row, Clip) and self.row.locked:
            raise Locked("A phrase here is locked.")
        curve = spaced(inside_of(curve, *self.within), self.within[0])
        if by_hand:
            low, high = range_for(self._track, self._offset)
            silent = np.isneginf(curve.db) & (low <= SILENCE)
            curve = replace(curve, db=np.where(silent, curve.db, np.clip(curve.db, low, high)))
        else:
            widen(self._edit, self._track, self._timeline, curve, self._offset)
        self._keep(curve)

    def settle(self) -> None:
        """Make what is heard what is drawn. Of what is locked too: it sounds as it did."""
        kept = self._kept()
        heard = self._heard(kept)
        if heard is not kept:
            self._keep(heard)

    def _heard(self, kept: Curve) -> Curve:
        return limit(kept, *range_for(self._track, self._offset))

    @property
    def _offset(self) -> float:
        return self.row.offset if isinstance(self.row, Lane) else 0.0

    def _kept(self) -> Curve:
        """The curve as it was drawn, in seconds of the track."""
        curve = unpack_curve(self.row.points if isinstance(self.row, Lane) else self.row.curve)
        return shift(curve, self.shift) if self.shift else curve

    def _keep(self, curve: Curve) -> None:
        curve = numbered(curve, self._kept(), self._edit.fresh_ids)
        if isinstance(self.row, Lane):
            self.row.points = pack_curve(curve)
            return
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
        yield Owner(edit, track, timeline, clip, (clip.start / rate, clip.end / rate), own)


def lane_owner(edit: Edit, track: Track, timeline: Timeline, lane: str) -> Owner:
    """The ride or the trim; what lies beyond the end of the track, since clips were moved away from there, stays."""
    row = lane_row(edit, track, lane)
    last = float(unpack_curve(row.points).at[-1]) if row.points else 0.0
    return Owner(edit, track, timeline, row, EVERYWHERE, (0.0, max(timeline.duration, last)))


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


def whole_lane(db: DbSession, track: Track, rate: int, lane: str) -> Curve:
    """A lane as one curve, be it on or off, from what is in the database; that of the clips over the whole timeline."""
    if lane == "curve":
        table = clip_rows(db, track.id).table
        return join_clip_curves(table.spans, table.curves, rate) if table.has_curves else EMPTY
    value: LaneState = getattr(lanes_of(db, track.id), lane)
    return value.curve()


def lane_heard(db: DbSession, track: Track, rate: int, lane: str) -> Curve:
    """``whole_lane`` as it is drawn on: within the working range, and without the offset of a trim."""
    offset = lanes_of(db, track.id).trim.offset if lane == "trim" else 0.0
    curve = lanes_of(db, track.id).trim.points if lane == "trim" else whole_lane(db, track, rate, lane)
    return limit(curve, *range_for(track, offset))


def joined_curves(clips: Sequence[Clip], rate: int) -> Curve:
    """The curves of clips that follow each other as one curve over the timeline."""
    spans = clip_spans([(c.start, c.end, c.phrase_start, c.phrase_end) for c in clips])
    return join_clip_curves(spans, [shift(unpack_curve(c.curve), c.shift / rate) for c in clips], rate)


def range_for(track: Track, offset: float = 0.0) -> Range:
    """Between which dB points are heard: with the offset that their lane has, that is the working range."""
    low, high = working_range(track)
    return (low if low <= SILENCE else low - offset), high - offset


def hand_range(edit: Edit, track: Track, lane: str) -> Range:
    """Between which dB the hand may put the points of a lane."""
    return range_for(track, lane_row(edit, track, lane).offset if lane != "curve" else 0.0)


def at_the_end(within: Range) -> str:
    """What is said when the hand can go no further."""
    low = "silence" if within[0] <= SILENCE else f"{within[0]:+.0f} dB"
    return f"The working range ends here: it goes from {low} to {within[1]:+.0f} dB. Widen it to go further."


def widen(edit: Edit, track: Track, timeline: Timeline, curve: Curve, offset: float) -> None:
    """Widen the working range of a track so that a curve with an offset lies within it.

    Whatever else is drawn is drawn as it is heard before: nothing that a narrowed range kept down comes up by it.
    """
    if not len(curve):
        return
    db = finite(curve.db) + offset
    low = next((step for step in _LOWS if db.min() >= step - 1e-9), SILENT)
    high = next((step for step in _HIGHS if db.max() <= step + 1e-9), WIDEST_RANGE[1])
    if low < track.range_low or high > track.range_high:
        for lane in LANES:
            settle_lane(edit, track, timeline, lane)
        track.range_low, track.range_high = min(track.range_low, low), max(track.range_high, high)


def settle_lane(edit: Edit, track: Track, timeline: Timeline, lane: str) -> None:
    """Make what is heard of a lane what is drawn: what lies beyond the working range, at its ends."""
    for owner in owners_of(edit, track, timeline, lane, EVERYWHERE):
        owner.settle()


def gain_of(db: float) -> float:
    """A gain that was asked for: below what can be heard it is silence."""
    return -np.inf if db <= SILENCE else min(db, WIDEST_RANGE[1])


def own_part(line: Curve, start: float, end: float) -> Curve:
    """What of a curve over a recording lies in a clip, as the clip's own."""
    if start == -np.inf or not len(line):
        return line
    own = part(line, start, end)
    return own if finite(own.db).any() else own.keep(np.zeros(len(own), bool))
