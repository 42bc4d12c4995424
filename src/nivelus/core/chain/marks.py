"""The marks of a track as they hold now: what was found, what the hand made of it, and the dips that follow.

Dips are worked out anew from marks and rules, in a few milliseconds for an hour, so one slider moves thousands of them.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from nivelus.core.chain.clips import BoolArray, ClipTable
from nivelus.core.drafts.dip_rules import DipRule, MarkArrays
from nivelus.core.drafts.dips import DipDraft, draft_dips, place_marks
from nivelus.core.gain.clips import ClipSpans, compile_clip_gains
from nivelus.core.gain.compiled import FloatArray, GainCurve
from nivelus.core.gain.dips import compile_dips
from nivelus.core.kinds import FREE, GAP, OF_CODE, OF_NAME
from nivelus.core.marks.mark import COLUMNS, by_code, which

LOOKS = 9
"""Places of a mark at which the gain of clips is looked at."""
SAME = 0.5
"""Share of overlap from which two marks of one kind are the same."""
_AT = {name: column for column, name in enumerate(COLUMNS)}
_DOUBTFUL = by_code(lambda kind: kind.doubtful)


class Hand(NamedTuple):
    """What the hand made of one mark, or a mark that was made by hand.

    ``found`` names the mark that was found, as kind and first sample, and ``found_end`` is its end; None for one that was
    made by hand. ``kind``, ``start`` and ``end`` (samples) are what holds now; ``moved`` says that they were corrected.
    ``gone`` marks are none. ``keep`` is "rule", "in" (its dip holds whatever the rule's switch says) or "out". ``offset`` is
    dB on the rule's depth, ``pinned`` a depth that a locked phrase keeps. Ramps are seconds, edges of the dip samples; each
    None where the rule holds. ``recording_id`` and ``shift`` say to which recording it belongs, and where that lies; see
    ``chain.placing``.
    """

    id: str
    found: str | None
    found_end: int | None
    kind: str
    start: int
    end: int
    moved: bool = False
    level: float = 0.0
    excess: float | None = None
    gone: bool = False
    keep: str = "rule"
    offset: float = 0.0
    pinned: float | None = None
    notch: bool = False
    dip_start: int | None = None
    dip_end: int | None = None
    ramp_in: float | None = None
    ramp_out: float | None = None
    recording_id: str | None = None
    shift: int = 0


@dataclass(frozen=True)
class Hands:
    """All that the hand did on a track."""

    rows: tuple[Hand, ...] = ()

    def __hash__(self) -> int:
        return self._hash

    @cached_property
    def _hash(self) -> int:
        # thousands of rows are hashed once, not at every look
        return hash(self.rows)


@dataclass(frozen=True, eq=False)
class FoundMarks:
    """What was found, a row each as ``core.marks.mark.mark_table`` has it; a mark's name is its kind and first sample.

    ``names`` are those of marks that end where what is heard of them does, and so begin elsewhere than they were found.
    """

    table: FloatArray
    names: tuple[str, ...] | None = None

    @cached_property
    def ids(self) -> list[str]:
        """The names of the marks."""
        if self.names is not None:
            return list(self.names)
        kinds, starts = self.table[:, _AT["kind"]].tolist(), self.table[:, _AT["start"]].tolist()
        return [f"{OF_CODE[int(kind)].name}.{start:.0f}" for kind, start in zip(kinds, starts, strict=True)]

    @cached_property
    def stamp(self) -> int:
        """What tells these marks from others."""
        return hash(self.table.tobytes())

    @cached_property
    def places(self) -> dict[str, int]:
        """The place of each mark by its name."""
        return {id: place for place, id in enumerate(self.ids)}


NO_MARKS = FoundMarks(np.zeros((0, len(COLUMNS))))


@dataclass(frozen=True)
class SwitchedRule:
    """The rule of a kind of mark, and whether it is on."""

    on: bool
    rule: DipRule


Rules = tuple[tuple[str, SwitchedRule], ...]
"""Rules by kind, in any order."""


@dataclass(frozen=True, eq=False)
class TrackMarks:
    """The marks of a track in order of time.

    ``ids`` and ``by_hand`` (what the hand made of it, or None) are one per mark, ``found`` (n, COLUMNS) what was found or
    corrected, ``arrays`` the same as the drafts need it, ``draft`` the dips, and ``applied`` (n,) which of them are on.
    """

    ids: list[str]
    by_hand: list[Hand | None]
    found: FloatArray
    arrays: MarkArrays
    draft: DipDraft
    applied: BoolArray
    rate: int

    @cached_property
    def curve(self) -> GainCurve:
        """The gain of the dips that are on."""
        return compile_dips(self.draft.dips.where(self.applied), self.rate)

    @cached_property
    def reach(self) -> tuple[FloatArray, FloatArray]:
        """From where to where each mark or its dip reaches, samples, (n,) each."""
        dips = self.draft.dips
        first = np.minimum(self.arrays.start, dips.start - dips.ramp_in)
        return first, np.maximum(self.arrays.end, dips.end + dips.ramp_out)

    @cached_property
    def _places(self) -> dict[str, int]:
        return {id: place for place, id in enumerate(self.ids)}

    def overlapping(self, start: float, end: float) -> BoolArray:
        """Which marks or their dips reach into ``start`` ... ``end`` samples, (n,)."""
        first, last = self.reach
        return np.asarray((first < end) & (last > start))

    def at(self, ids: Collection[str]) -> list[int]:
        """The places of marks by their ids; those that are not there are left out."""
        return [self._places[id] for id in ids if id in self._places]


def differing(old: TrackMarks, new: TrackMarks) -> tuple[set[str], set[str]]:
    """Which marks of a track are new or others than they were, and which are gone. O(n)."""
    there = {id: place for place, id in enumerate(old.ids)}
    pairs = [(there[id], place) for place, id in enumerate(new.ids) if id in there]
    then, now = (np.array(side, np.int64) for side in zip(*pairs, strict=True)) if pairs else (np.zeros(0, np.int64),) * 2

    def columns(marks: TrackMarks, places: npt.NDArray[np.int64]) -> FloatArray:
        dips, arrays = marks.draft.dips, marks.arrays
        all_of_it = (arrays.start, arrays.end, arrays.level, dips.start, dips.end, dips.depth, dips.ramp_in, dips.ramp_out)
        return np.stack([*(np.asarray(column)[places] for column in all_of_it), marks.applied[places]])

    moved = (columns(old, then) != columns(new, now)).any(axis=0)
    changed = {new.ids[place] for place in now[moved].tolist()}
    for was, place in pairs:
        if old.draft.reason[was] != new.draft.reason[place] or old.by_hand[was] != new.by_hand[place]:
            changed.add(new.ids[place])
    names = set(new.ids)
    return changed | (names - there.keys()), there.keys() - names


def marks_of(clips: ClipTable, found: FoundMarks, hands: Hands, rules: Rules, rate: int, samples: int) -> TrackMarks:
    """The marks of a track and their dips; O(n log n).

    The gain of clips is nothing that they depend on, so most edits keep them, unless gaps go down to one level.

    Parameters
    ----------
    clips : all clips of the track
    found, hands : what was found in its recording, and what the hand made of it
    rules : those of each kind; a kind without one is on
    rate, samples : sampling rate and length of the track
    """
    rooms = np.stack([clips.spans.start, clips.room_tone])
    gaps = dict(rules).get(GAP.name)
    spans, is_even = clips.spans, gaps is not None and gaps.on and gaps.rule.even
    gained = np.stack([spans.start, spans.end, spans.phrase_start, spans.phrase_end, clips.gain]).tobytes() if is_even else b""
    return _drafted(found, hands, clips.phrases.tobytes(), rooms.tobytes(), rules, rate, samples, gained)


@lru_cache(maxsize=4)
def _drafted(
    found: FoundMarks, hands: Hands, spans: bytes, rooms: bytes, rules: Rules, rate: int, samples: int, gained: bytes
) -> TrackMarks:
    ids, table, rows = _with_hand(found, hands.rows)
    starts, levels = np.frombuffer(rooms, np.float64).reshape(2, -1)
    arrays = place_marks(
        table[:, _AT["kind"]].astype(np.int64),
        table[:, _AT["start"]],
        table[:, _AT["end"]],
        table[:, _AT["level"]],
        table[:, _AT["excess"]],
        np.frombuffer(spans, np.float64).reshape(-1, 2),
        starts,
        levels,
        rate,
    )
    by_kind = dict(rules)
    doubtful = table[:, _AT["confidence"]] < _DOUBTFUL[arrays.kind]
    # to turn a word down is worse than to leave a breath: what is in doubt waits for the hand
    on = which(lambda kind: kind.name not in by_kind or by_kind[kind.name].on)[arrays.kind] & ~doubtful
    touched = [(place, row) for place, row in enumerate(rows) if row is not None]
    if touched:
        arrays = replace(arrays, **_hand_arrays(len(ids), touched))
        for place, row in touched:
            on[place] = row.pinned < 0 if row.pinned is not None else row.keep == "in" or (row.keep == "rule" and on[place])
            # a word from the hand ends the doubt
            doubtful[place] &= row.keep == "rule"
    gain = _gain_over(arrays, np.frombuffer(gained, np.float64).reshape(5, -1), rate) if gained else None
    draft = draft_dips(arrays, {kind: switched.rule for kind, switched in rules}, rate, samples, on, gain)
    if doubtful.any():
        draft = replace(draft, reason=tuple(np.where(doubtful, "in doubt", np.array(draft.reason, object)).tolist()))
    return TrackMarks(ids, rows, table, arrays, draft, on & (draft.dips.depth < 0), rate)


def _gain_over(arrays: MarkArrays, clips: FloatArray, rate: int) -> FloatArray:
    """What the gain of clips makes of each mark, dB, (n,): the mean of its power at LOOKS places."""
    curve = compile_clip_gains(ClipSpans(*clips[:4]), clips[4], rate, arrays.breaths)
    at = arrays.start + np.linspace(0, 1, LOOKS)[:, None] * (arrays.end - arrays.start)
    return np.asarray(10 * np.log10((10 ** (np.interp(at, curve.at, curve.db) / 10)).mean(axis=0)))


def _with_hand(found: FoundMarks, hands: Sequence[Hand]) -> tuple[list[str], FloatArray, list[Hand | None]]:
    """What was found with what the hand made of it: ids, rows, and the ``Hand`` of each mark."""
    rows: list[Hand | None] = [None] * len(found.ids)
    if not hands:
        return found.ids, found.table, rows
    ids, table = list(found.ids), found.table.copy()
    kept = np.ones(len(ids), bool)
    added: list[Hand] = []
    for hand in hands:
        place = found.places.get(hand.found) if hand.found else None
        if place is None and hand.found:
            place = _like(table, hand.found, hand.found_end or 0)
        if place is not None:
            rows[place], ids[place] = hand, hand.found or hand.id
            kept[place] = not hand.gone
            if hand.moved:
                table[place] = _row_of(hand)
        elif not hand.gone and (hand.found is None or hand.moved or hand.keep != "rule" or hand.offset):
            added.append(hand)
    for hand in hands:
        # what was corrected or made by hand stands for whatever else was found there of its kind
        if hand.gone or not (hand.moved or hand.found is None) or hand.kind == FREE.name:
            continue
        same = (table[:, _AT["kind"]] == OF_NAME[hand.kind].code) & _alike(table, hand.start, hand.end)
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
    alike = (table[:, _AT["kind"]] == OF_NAME[kind].code) & _alike(table, int(start), end)
    places = np.flatnonzero(alike)
    return int(places[0]) if len(places) else None


def _alike(table: FloatArray, start: float, end: float) -> BoolArray:
    """Which marks share at least SAME of the shorter span with ``start`` ... ``end`` samples, (n,)."""
    overlap = np.minimum(table[:, _AT["end"]], end) - np.maximum(table[:, _AT["start"]], start)
    shorter = np.minimum(table[:, _AT["end"]] - table[:, _AT["start"]], end - start)
    return np.asarray(overlap >= SAME * np.maximum(shorter, 1.0))


def _row_of(hand: Hand) -> list[float]:
    excess = np.nan if hand.excess is None else hand.excess
    return [OF_NAME[hand.kind].code, hand.start, hand.end, hand.level, 1.0, excess, np.nan, 0]


def _hand_arrays(count: int, touched: Sequence[tuple[int, Hand]]) -> dict[str, Any]:
    columns = {
        "depth_fixed": "pinned",
        "start_fixed": "dip_start",
        "end_fixed": "dip_end",
        "ramp_in_fixed": "ramp_in",
        "ramp_out_fixed": "ramp_out",
    }
    out: dict[str, Any] = {name: np.full(count, np.nan) for name in columns}
    offset, notch = np.zeros(count), np.zeros(count, bool)
    for place, row in touched:
        offset[place], notch[place] = row.offset, row.notch
        for name, column in columns.items():
            value = getattr(row, column)
            out[name][place] = np.nan if value is None else value
    return {**out, "offset": offset, "notch": notch}
