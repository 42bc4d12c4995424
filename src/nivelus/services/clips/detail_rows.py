"""The rows of details: what the hand made of a mark, kept where its recording has it."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np

from nivelus.core.chain.marks import Hand
from nivelus.core.chain.placing import Run, moved_hand, run_at
from nivelus.core.chain.proposals import measured, touched
from nivelus.core.chain.state import TrackState
from nivelus.core.errors import Refused
from nivelus.core.marks.mark import Mark
from nivelus.services.track.timeline import MISSING, Timeline
from nivelus.store.clip_rows import ClipRow
from nivelus.store.editing import Edit
from nivelus.store.history import require
from nivelus.store.packing import pack
from nivelus.store.tables import Detail, MarkSet, Track
from nivelus.store.track_rows import mark_set

SHORTEST = 0.005
"""Seconds that a mark or the flat part of a dip made by hand lasts at least."""


def put_hands(edit: Edit, track: Track, timeline: Timeline, state: TrackState, hands: Iterable[Hand]) -> None:
    """Keep what a draft makes of marks, and marks that it makes."""
    for hand in hands:
        places = state.marks.at([hand.found or hand.id])
        row = row_of_mark(edit, track, timeline, state, places[0]) if places else made_row(edit, track, timeline, hand)
        for name, value in _columns(timeline, hand).items():
            setattr(row, name, value)


def put_found(edit: Edit, track: Track, timeline: Timeline, id: str | None, details: Iterable[Mark]) -> None:
    """Keep the details that were found in one of a track's recordings in place of those from before."""
    data = pack(details, timeline.sample_rate, timeline.span_of(id))
    row = mark_set(edit.db, track.id, id)
    if row is None:
        edit.db.add(MarkSet(track_id=track.id, recording_id=id, data=data))
    else:
        row.data = data


def pin(edit: Edit, track: Track, timeline: Timeline, state: TrackState, locked: Iterable[ClipRow], on: bool) -> None:
    """Let the dips of clips that are being locked keep the depth they have; or follow the rule again."""
    marks = state.marks
    middle = (marks.arrays.start + marks.arrays.end) / 2
    for clip in locked:
        for place in np.flatnonzero((middle >= clip.start) & (middle < clip.end)).tolist():
            if on:
                row = row_of_mark(edit, track, timeline, state, place)
                row.pinned = float(marks.draft.dips.depth[place]) if marks.applied[place] else 0.0
            elif marks.by_hand[place] is not None:
                row_of_mark(edit, track, timeline, state, place).pinned = None


def row_of_mark(edit: Edit, track: Track, timeline: Timeline, state: TrackState, place: int) -> Detail:
    """The row of a mark, made now if the hand never touched it."""
    known = state.marks.by_hand[place]
    if known is not None:
        row: Detail = require(edit.db, Detail, known.id, "mark")
        return row
    return made_row(edit, track, timeline, touched(state, place))


def made_row(edit: Edit, track: Track, timeline: Timeline, hand: Hand) -> Detail:
    """A new row for what the hand makes of a mark."""
    row = Detail(track_id=track.id, take=track.take, **_columns(timeline, hand))
    edit.db.add(row)
    return row


def _columns(timeline: Timeline, hand: Hand) -> dict[str, Any]:
    """A hand as its row keeps it: in positions of the recording that lies where the mark does."""
    run = run_here(timeline, (hand.start + hand.end) / 2)
    own = moved_hand(hand, -run.shift)._replace(recording_id=run.recording, shift=run.shift)
    return {name: value for name, value in own._asdict().items() if name != "id"}


def run_here(timeline: Timeline, position: float) -> Run:
    run = run_at(timeline.runs, position)
    if run is None:
        raise Refused("There is silence here: nothing to turn down.")
    return run


def edges_within(timeline: Timeline, start: float | None, end: float | None, a: float, b: float) -> tuple[int, int]:
    """Edges in samples: those given, else ``a`` and ``b`` seconds; within the recording and in order."""
    rate = timeline.sample_rate
    first = round((a if start is None else start) * rate)
    last = round((b if end is None else end) * rate)
    first, last = max(first, 0), min(last, timeline.frames)
    if last - first < round(SHORTEST * rate):
        raise Refused("The end has to come after the start. Drag it further, or remove the mark.", command="not-a-mark")
    return first, last


def measure_row(row: Detail, timeline: Timeline, state: TrackState) -> None:
    """Measure a mark that was moved or made."""
    if state.grid is None:
        raise Refused(MISSING)
    start, end = row.start + row.shift, row.end + row.shift
    hand = measured(state, Hand(row.id, row.found, row.found_end, row.kind, start, end), timeline.shows_esses)
    row.level, row.excess = hand.level, hand.excess
