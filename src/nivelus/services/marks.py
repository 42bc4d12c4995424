"""The marks of a track as they hold now: what was found, what the hand made of it, and the dips that follow.

Found marks are packed in one row per track; a row of ``Detail`` holds what the hand made of one of them, or a mark that
was made by hand. Dips are not stored: they are worked out anew from marks and rules, in a few milliseconds for an hour, so
one slider moves thousands of them and its undo is one small row.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from functools import cached_property, lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt
from sqlalchemy.orm import Session as DbSession

from nivelus.core.drafts.dips import (
    ALL_KINDS,
    DEFAULT_RULES,
    FREE,
    LISP,
    DipDraft,
    DipRule,
    MarkArrays,
    draft_dips,
    place_marks,
)
from nivelus.core.gain.curve import FloatArray, GainCurve, frame_gain
from nivelus.core.gain.dips import compile_dips
from nivelus.core.marks.mark import KINDS
from nivelus.core.measure.grid import LevelGrid, all_borders
from nivelus.core.measure.spans import moved_by_gain
from nivelus.services.levels import ALWAYS_WHOLE, gain_per_frame
from nivelus.services.rows import as_rows, clip_rows, detail_rows, packed_marks
from nivelus.services.views import DipRuleView, MarkValues, MarkView
from nivelus.store.packing import COLUMNS, HOLDS, unpack
from nivelus.store.tables import Clip, Detail, Recording, Track

SAME = 0.5
"""Share of overlap from which two marks of one kind are the same."""
Rules = tuple[tuple[str, tuple[tuple[str, Any], ...]], ...]
"""Rules by kind, as names and values."""
BoolArray = npt.NDArray[np.bool_]
_AT = {name: column for column, name in enumerate(COLUMNS)}


@dataclass(frozen=True)
class TrackMarks:
    """The marks of a track in order of time.

    ``ids`` and ``by_hand`` (the row of ``Detail`` or None) are one per mark, ``found`` (n, columns of ``store.packing``)
    what was found or corrected, ``arrays`` the same as the drafts need it, ``draft`` the dips, and ``applied`` (n,) which
    of them are on.
    """

    ids: list[str]
    by_hand: list[Detail | None]
    found: FloatArray
    arrays: MarkArrays
    draft: DipDraft
    applied: BoolArray
    rate: int

    def curve(self, chosen: BoolArray | None = None) -> GainCurve:
        """The gain of the dips that are on, or of those among them that are ``chosen`` (n,)."""
        if chosen is None or chosen.all():
            return self._whole
        return compile_dips(self.draft.dips.where(self.applied & chosen), self.rate)

    @cached_property
    def _whole(self) -> GainCurve:
        return compile_dips(self.draft.dips.where(self.applied), self.rate)

    def reach(self) -> tuple[FloatArray, FloatArray]:
        """From where to where each mark or its dip reaches, samples, (n,) each."""
        dips = self.draft.dips
        first = np.minimum(self.arrays.start, dips.start - dips.ramp_in)
        return first, np.maximum(self.arrays.end, dips.end + dips.ramp_out)

    def overlapping(self, start: float, end: float) -> BoolArray:
        """Which marks or their dips reach into ``start`` ... ``end`` samples, (n,)."""
        first, last = self.reach()
        return np.asarray((first < end) & (last > start))

    def at(self, ids: Collection[str]) -> list[int]:
        """The places of marks by their ids; those that are not there are left out."""
        places = {id: place for place, id in enumerate(self.ids)}
        return [places[id] for id in ids if id in places]


def rules_of(track: Track, trial: Mapping[str, Mapping[str, Any]] | None = None) -> dict[str, DipRuleView]:
    """The rules of a track by kind, with values to try instead."""
    rules = {}
    for kind in KINDS:
        values = {"on": False, **asdict(DEFAULT_RULES[kind]), **track.dip_rules.get(kind, {}), **(trial or {}).get(kind, {})}
        rules[kind] = DipRuleView(**values)
    return rules


def marks_of(
    db: DbSession,
    track: Track,
    recording: Recording,
    clips: Sequence[Clip],
    trial: Mapping[str, Mapping[str, Any]] | None = None,
) -> TrackMarks:
    """The marks of a track, whose ``clips`` are all of it in order of time; O(n log n).

    ``trial`` holds values of rules to try instead of the track's own.
    """
    table = as_rows(clips).shape
    phrases, cells = table[~np.isnan(table[:, 2]), 2:], table[:, :2]
    data, details = packed_marks(db, track.id), detail_rows(db, track.id)
    rules = tuple(sorted((kind, tuple(rule)) for kind, rule in rules_of(track, trial).items()))
    return _drafted(data, details, phrases.tobytes(), cells.tobytes(), rules, recording.sample_rate, recording.frames)


@lru_cache(maxsize=6)
def _drafted(
    data: str, details: tuple[Any, ...], phrases: bytes, cells: bytes, given: Rules, rate: int, samples: int
) -> TrackMarks:
    """``marks_of`` from all that it depends on: gain is not among that, so most edits find it here."""
    ids, found, rows = _with_hand(data, list(details))
    starts, rooms = np.frombuffer(cells, np.float64).reshape(-1, 2).T
    arrays = place_marks(
        found[:, _AT["kind"]].astype(np.int64),
        found[:, _AT["start"]],
        found[:, _AT["end"]],
        found[:, _AT["level"]],
        found[:, _AT["excess"]],
        np.frombuffer(phrases, np.float64).reshape(-1, 2),
        starts.copy(),
        rooms.copy(),
        rate,
    )
    rules = {kind: DipRuleView(**dict(values)) for kind, values in given}
    on = np.array([rules[kind].on if kind in rules else True for kind in ALL_KINDS])[arrays.kind]
    touched = [(place, row) for place, row in enumerate(rows) if row is not None]
    if touched:
        arrays = replace(arrays, **_hand_arrays(len(ids), touched))
        for place, row in touched:
            on[place] = row.pinned < 0 if row.pinned is not None else row.keep == "in" or (row.keep == "rule" and on[place])
    core_rules = {kind: DipRule(rule.depth, rule.shallowest, rule.deepest, rule.silent) for kind, rule in rules.items()}
    draft = draft_dips(arrays, core_rules, rate, samples)
    return TrackMarks(ids, rows, found, arrays, draft, on & (draft.dips.depth < 0), rate)


def track_marks(
    db: DbSession, track: Track, recording: Recording, trial: Mapping[str, Mapping[str, Any]] | None = None
) -> TrackMarks:
    """``marks_of`` for those who do not have the clips."""
    return marks_of(db, track, recording, clip_rows(db, track.id), trial)


def view_marks(
    track: Track,
    recording: Recording,
    grid: LevelGrid | None,
    clips: Sequence[Clip],
    marks: TrackMarks,
    curve: GainCurve,
    chosen: Sequence[int] | None = None,
    gain: FloatArray | None = None,
    drawn: GainCurve | None = None,
) -> list[MarkView]:
    """Marks as the interface shows them: all of them, or those at the places ``chosen``.

    ``curve`` is the gain of all layers, ``gain`` the same per frame where that is known already, ``drawn`` that of ride and
    trim alone.
    """
    places = np.arange(len(marks.ids)) if chosen is None else np.array(sorted(chosen), np.int64)
    if not len(places):
        return []
    before, after = _stand(recording, grid, clips, marks, curve, places, gain, drawn)
    rate, dips, arrays = recording.sample_rate, marks.draft.dips, marks.arrays
    views = []
    for number, place in enumerate(places.tolist()):
        row = marks.by_hand[place]
        kind = ALL_KINDS[arrays.kind[place]]
        holds = int(marks.found[place, _AT["holds"]])
        keep = row.keep if row else "rule"
        views.append(
            MarkView(
                id=marks.ids[place],
                track=track.id,
                kind=kind,
                start=arrays.start[place] / rate,
                end=arrays.end[place] / rate,
                level=arrays.level[place],
                confidence=marks.found[place, _AT["confidence"]],
                excess=_or_none(arrays.excess[place]),
                holds=[what for bit, what in enumerate(HOLDS) if holds >> bit & 1],
                before=_or_none(before[number]),
                after=_or_none(after[number]),
                lisp=kind == "ess" and bool(after[number] < -LISP) and bool(marks.applied[place]),
                on=bool(marks.applied[place]),
                keep=keep,
                reason="kept out" if keep == "out" else marks.draft.reason[place],
                by_hand=row is not None,
                made=row is not None and row.found is None,
                moved=row is not None and row.moved,
                depth=dips.depth[place],
                dip_start=dips.start[place] / rate,
                dip_end=dips.end[place] / rate,
                ramp_in=dips.ramp_in[place] / rate,
                ramp_out=dips.ramp_out[place] / rate,
                notch=bool(dips.notch[place]),
            )
        )
    return views


def mark_values(
    recording: Recording,
    grid: LevelGrid | None,
    clips: Sequence[Clip],
    marks: TrackMarks,
    curve: GainCurve,
    chosen: npt.NDArray[np.int64],
    gain: FloatArray | None = None,
    drawn: GainCurve | None = None,
) -> MarkValues:
    """What of marks changes with gain and rules, as the interface takes it; arguments as for ``view_marks``."""
    _, after = _stand(recording, grid, clips, marks, curve, chosen, gain, drawn)
    keeps = [row.keep if (row := marks.by_hand[place]) else "rule" for place in chosen.tolist()]
    words = ["kept out" if keep == "out" else marks.draft.reason[p] for keep, p in zip(keeps, chosen.tolist(), strict=True)]
    reasons = sorted(set(words))
    place_of = {word: place for place, word in enumerate(reasons)}
    on = marks.applied[chosen]
    is_ess = marks.arrays.kind[chosen] == KINDS.index("ess")
    return MarkValues(
        ids=_in_short(marks.ids[place] for place in chosen.tolist()),
        depth=np.round(marks.draft.dips.depth[chosen], 2).tolist(),
        after=[None if value != value else value for value in np.round(after, 2).tolist()],
        flags=(on + 2 * (on & is_ess & (after < -LISP))).tolist(),
        names=["on", "lisp"],
        reason=[place_of[word] for word in words],
        reasons=reasons,
    )


def _in_short(ids: Iterable[str]) -> str:
    """Ids one after the other, without the kinds that are those of the ones before them."""
    out, last = [], ""
    for id in ids:
        kind, stop, _ = id.partition(".")
        out.append(id[len(kind) :] if stop and kind == last else id)
        last = kind if stop else last
    return " ".join(out)


def _stand(
    recording: Recording,
    grid: LevelGrid | None,
    clips: Sequence[Clip],
    marks: TrackMarks,
    curve: GainCurve,
    places: npt.NDArray[np.int64],
    gain: FloatArray | None,
    drawn: GainCurve | None,
) -> tuple[FloatArray, FloatArray]:
    """How marks stand before gain and after it, by what matters for their kind, dB.

    A breath against the RMS level of the phrase of its clip, an ess and a knock by their excess, a gap by its level in
    dBFS; a dip made by hand by its level. NaN where there is nothing to compare with. What moves the phrase of a breath,
    or the voice around an ess or a knock, as much as them is no difference.
    """
    arrays = marks.arrays
    start, end = arrays.start[places], arrays.end[places]
    owner = np.clip(np.searchsorted([c.start for c in clips], (start + end) / 2, "right") - 1, 0, len(clips) - 1)
    clip_gain = np.array([c.gain for c in clips])[owner]
    phrase = np.array([np.nan if c.rms is None else c.rms for c in clips])[owner]
    kind = arrays.kind[places]
    before = arrays.level[places].copy()
    is_breath, is_excess = kind == KINDS.index("breath"), np.isin(kind, (KINDS.index("ess"), KINDS.index("knock")))
    before[is_breath] -= phrase[is_breath]
    before[is_excess] = arrays.excess[places][is_excess]
    if grid is None:
        return before, before
    moved = _moved_by(recording, grid, curve, start, end, kind == KINDS.index("ess"), gain)
    against = np.where(is_breath | is_excess, clip_gain, 0.0)
    if drawn is not None:
        phrases = np.array([(c.phrase_start or c.start, c.phrase_end or c.end) for c in clips], np.float64)[owner]
        inside = phrases[:, :1] + np.linspace(0.05, 0.95, 9) * (phrases[:, 1:] - phrases[:, :1])
        around = np.where(is_breath, np.interp(inside, drawn.at, drawn.db).mean(axis=1), 0.0)
        around[is_excess] = np.interp((start + end)[is_excess] / 2, drawn.at, drawn.db)
        against += around
    return before, before + moved - against


def _moved_by(
    recording: Recording,
    grid: LevelGrid,
    curve: GainCurve,
    start: FloatArray,
    end: FloatArray,
    is_ess: BoolArray,
    whole: FloatArray | None,
) -> FloatArray:
    """How many dB the gain moves the power of each span of samples: of the highest band for an ess, of all else for others."""
    rate = recording.sample_rate
    first = np.clip(np.round(start / rate * 100).astype(np.int64), 0, len(grid.data) - 1)
    last = np.clip(np.round(end / rate * 100).astype(np.int64), first + 1, len(grid.data))
    out = np.empty(len(start))
    if whole is None and len(start) < ALWAYS_WHOLE:
        borders = all_borders(recording.frames, rate)
        gain = np.empty(len(grid.data))
        for a, b in zip(first.tolist(), last.tolist(), strict=True):
            gain[a:b] = frame_gain(curve, borders[a : b + 1])[:, 0]
    else:
        gain = (gain_per_frame(curve, recording) if whole is None else whole)[:, 0]
    spans = np.stack([first, last], axis=1)
    for column, wanted in (("plain", ~is_ess), ("high", is_ess)):
        out[wanted] = moved_by_gain(np.asarray(grid.column(column)), spans[wanted], gain)
    return out


@lru_cache(maxsize=4)
def _found(data: str) -> tuple[list[str], FloatArray, dict[str, int]]:
    """Ids and rows of what was found, and the place of each id."""
    table = unpack(data) if data else np.zeros((0, len(COLUMNS)))
    ids = [
        f"{KINDS[int(kind)]}.{start:.0f}"
        for kind, start in zip(table[:, _AT["kind"]].tolist(), table[:, _AT["start"]].tolist(), strict=True)
    ]
    return ids, table, {id: place for place, id in enumerate(ids)}


def _with_hand(data: str, details: list[Detail]) -> tuple[list[str], FloatArray, list[Detail | None]]:
    """What was found with what the hand made of it: ids, rows, and the row of ``Detail`` of each mark."""
    found_ids, table, places = _found(data)
    rows: list[Detail | None] = [None] * len(found_ids)
    if not details:
        return found_ids, table, rows
    ids, table = list(found_ids), table.copy()
    kept = np.ones(len(ids), bool)
    added: list[Detail] = []
    for detail in details:
        place = places.get(detail.found) if detail.found else None
        if place is None and detail.found:
            place = _like(table, detail.found, detail.found_end or 0)
        if place is not None:
            rows[place], ids[place] = detail, detail.found or detail.id
            kept[place] = not detail.gone
            if detail.moved:
                table[place] = _row_of(detail)
        elif not detail.gone and (detail.found is None or detail.moved or detail.keep != "rule" or detail.offset):
            added.append(detail)
    for detail in details:
        # what was corrected or made by hand stands for whatever else was found there of its kind
        if detail.gone or not (detail.moved or detail.found is None) or detail.kind == FREE:
            continue
        same = (table[:, _AT["kind"]] == ALL_KINDS.index(detail.kind)) & _alike(table, detail.start, detail.end)
        for place in np.flatnonzero(same).tolist():
            kept[place] &= rows[place] is not None
    table = np.concatenate([table[kept], np.array([_row_of(d) for d in added], np.float64).reshape(-1, len(COLUMNS))])
    ids = [id for id, stays in zip(ids, kept, strict=True) if stays] + [d.found or d.id for d in added]
    rows = [row for row, stays in zip(rows, kept, strict=True) if stays] + list(added)
    order = np.lexsort((table[:, _AT["end"]], table[:, _AT["start"]])).tolist()
    return [ids[i] for i in order], table[order], [rows[i] for i in order]


def _like(table: FloatArray, name: str, end: int) -> int | None:
    """The place of the mark that is the same as one that was found before under ``name``; None if there is none."""
    kind, start = name.split(".")
    alike = (table[:, _AT["kind"]] == KINDS.index(kind)) & _alike(table, int(start), end)
    places = np.flatnonzero(alike)
    return int(places[0]) if len(places) else None


def _alike(table: FloatArray, start: float, end: float) -> BoolArray:
    """Which marks share at least SAME of the shorter span with ``start`` ... ``end`` samples, (n,)."""
    overlap = np.minimum(table[:, _AT["end"]], end) - np.maximum(table[:, _AT["start"]], start)
    shorter = np.minimum(table[:, _AT["end"]] - table[:, _AT["start"]], end - start)
    return np.asarray(overlap >= SAME * np.maximum(shorter, 1.0))


def _row_of(detail: Detail) -> list[float]:
    excess = np.nan if detail.excess is None else detail.excess
    return [ALL_KINDS.index(detail.kind), detail.start, detail.end, detail.level, 1.0, excess, np.nan, 0]


def _hand_arrays(count: int, touched: list[tuple[int, Detail]]) -> dict[str, Any]:
    columns = {
        "depth_fixed": "pinned",
        "start_fixed": "dip_start",
        "end_fixed": "dip_end",
        "ramp_in_fixed": "ramp_in",
        "ramp_out_fixed": "ramp_out",
    }
    out: dict[str, Any] = {name: np.full(count, np.nan) for name in columns}
    out["offset"], out["notch"] = np.zeros(count), np.zeros(count, bool)
    for place, row in touched:
        out["offset"][place], out["notch"][place] = row.offset, row.notch
        for name, column in columns.items():
            value = getattr(row, column)
            out[name][place] = np.nan if value is None else value
    return out


def _or_none(value: float) -> float | None:
    return float(value) if np.isfinite(value) else None
