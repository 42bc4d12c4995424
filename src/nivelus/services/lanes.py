"""What is drawn on a track: the curves of its clips, the ride, and the trim that lies over it; and all layers of its gain."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

from sqlalchemy import inspect, select
from sqlalchemy.orm import Session as DbSession

from nivelus.core.gain.clip_curves import join_clip_curves
from nivelus.core.gain.clips import ClipGain
from nivelus.core.gain.compile import compile_curves
from nivelus.core.gain.curve import GainCurve, add_curves
from nivelus.core.gain.curves import EMPTY, Curve, curve_of
from nivelus.services.rows import CurveKey, as_rows, clip_rows
from nivelus.store.packing import unpack_curve
from nivelus.store.tables import Clip, Lane, Track

TRACK_LANES = ("ride", "trim")
LANES = ("curve", *TRACK_LANES)
"""Everything that is drawn, in the order of the signal path; "curve" is that of the clips."""

Range = tuple[float, float]


@dataclass(frozen=True, slots=True)
class LaneValue:
    """A lane of a track: its packed points, the offset on all of it, and whether it is switched off."""

    points: str = ""
    offset: float = 0.0
    off: bool = False

    @property
    def is_drawn(self) -> bool:
        """Whether there is anything in it, be it on or off."""
        return bool(self.points) or self.offset != 0.0

    def curve(self) -> Curve:
        """The lane as one curve: its points, moved by its offset."""
        curve = unpack_curve(self.points)
        if self.offset == 0.0:
            return curve
        return replace(curve, db=curve.db + self.offset) if len(curve) else curve_of([(0.0, self.offset)])

    def heard(self) -> Curve:
        """What the lane does: nothing while it is off."""
        return EMPTY if self.off else self.curve()


def lane_values(db: DbSession, track_id: str) -> dict[str, LaneValue]:
    """The lanes of a track by name."""
    c = inspect(Lane).local_table.c
    rows = db.execute(select(c.name, c.points, c.offset, c.off).where(c.track_id == track_id))
    return dict.fromkeys(TRACK_LANES, LaneValue()) | {row.name: LaneValue(*row[1:]) for row in rows}


def drawn_lanes(db: DbSession, track_id: str) -> list[str]:
    """The names of the lanes in which something is drawn."""
    c = inspect(Clip).local_table.c
    has_curve = db.execute(select(c.id).where(c.track_id == track_id, c.curve != "").limit(1)).first() is not None
    drawn = [name for name, value in lane_values(db, track_id).items() if value.is_drawn]
    return ["curve", *drawn] if has_curve else drawn


@dataclass(frozen=True)
class Layers:
    """The compiled layers beyond clip gain: ``dips``, and the clip ``curve`` and ``drawn`` lanes where they do anything."""

    dips: GainCurve
    curve: GainCurve | None
    drawn: GainCurve | None

    @cached_property
    def before_ride(self) -> GainCurve:
        """Dips and clip curves: what a phrase is judged and ridden with."""
        return _sum(self.dips, self.curve)

    @cached_property
    def beyond(self) -> GainCurve:
        """All gain beyond that of the clips."""
        return _sum(self.before_ride, self.drawn)

    @cached_property
    def curves(self) -> GainCurve | None:
        """What is drawn: it moves a detail as much as its neighbours."""
        if self.curve is None or self.drawn is None:
            return self.curve or self.drawn
        return _sum(self.curve, self.drawn)


def layers_of(db: DbSession, track: Track, clips: Sequence[Clip], dips: GainCurve, rate: int) -> Layers:
    """The layers of a track, or around some of its ``clips`` that follow each other."""
    return Layers(dips, clip_curves(clips, rate, working_range(track)), drawn_gain(db, track, rate))


def working_range(track: Track) -> Range:
    """The dB between which what is drawn stays."""
    return track.range_low, track.range_high


def clip_curves(clips: Sequence[Clip], rate: int, within: Range) -> GainCurve | None:
    """The compiled curves of clips, or None where there is none."""
    key = as_rows(clips).curve_key
    return _compiled_clips(key, rate, within) if key else None


def joined_clip_curves(clips: Sequence[Clip], rate: int) -> Curve:
    """The curves of clips as one curve over the recording."""
    key = as_rows(clips).curve_key
    return _joined(key, rate) if key else EMPTY


def whole_lane(db: DbSession, track: Track, rate: int, lane: str, with_offset: bool = True) -> Curve:
    """A lane as one curve, be it on or off, from what is in the database; that of the clips over the whole recording."""
    if lane == "curve":
        return joined_clip_curves(clip_rows(db, track.id), rate)
    value = lane_values(db, track.id)[lane]
    return value.curve() if with_offset else unpack_curve(value.points)


def drawn_gain(db: DbSession, track: Track, rate: int, names: Collection[str] = TRACK_LANES) -> GainCurve | None:
    """The compiled gain of some lanes of a track; None where they do nothing."""
    values = lane_values(db, track.id)
    drawn = tuple(values[name] for name in TRACK_LANES if name in names and values[name].is_drawn and not values[name].off)
    return _compiled(drawn, rate, working_range(track)) if drawn else None


def _sum(first: GainCurve, second: GainCurve | None) -> GainCurve:
    return first if second is None else add_curves([first, second])


@lru_cache(maxsize=6)
def _compiled(lanes: tuple[LaneValue, ...], rate: int, within: Range) -> GainCurve:
    return compile_curves([lane.curve() for lane in lanes], rate, *within)


@lru_cache(maxsize=6)
def _compiled_clips(clips: CurveKey, rate: int, within: Range) -> GainCurve:
    return compile_curves([_joined(clips, rate)], rate, *within)


@lru_cache(maxsize=4)
def _joined(clips: CurveKey, rate: int) -> Curve:
    spans = [ClipGain(start, end, 0.0, first, last) for start, end, first, last, _ in clips]
    return join_clip_curves(spans, [unpack_curve(points) for *_, points in clips], rate)
