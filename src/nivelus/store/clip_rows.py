"""The clips of a track's take as plain rows, with their columns as arrays."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import fields, replace
from functools import cached_property
from types import MappingProxyType
from typing import Any, NamedTuple, get_type_hints

import numpy as np

from nivelus.core.chain.clips import ClipTable
from nivelus.core.chain.placing import Runs, runs_of
from nivelus.core.gain.clips import ClipSpans
from nivelus.core.gain.drawn import EMPTY, Curve
from nivelus.core.gain.point_edits import shift
from nivelus.store.packing import unpack_curve

DAY = 86_400
"""Seconds."""


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


_VALUES = {field.name for field in fields(ClipTable)} - {"ids", "spans", "curves"}
"""Columns of a clip table that hold a value of each clip, and nothing of where it lies."""
_SWITCHES = {name for name, kind in get_type_hints(ClipRow).items() if kind is bool}
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

        # None is NaN
        spans = ClipSpans(*(np.array(columns[field.name], np.float64) for field in fields(ClipSpans)))
        values = {name: np.array(columns[name], bool if name in _SWITCHES else np.float64) for name in _VALUES}
        shapes = (self.known.get(key, EMPTY) for key in zip(columns["curve"], columns["shift"], strict=True)) if curves else ()
        return ClipTable(columns["id"], spans, curves=tuple(shapes), **values)

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
