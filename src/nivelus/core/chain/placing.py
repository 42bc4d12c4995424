"""Where the recordings of a track lie, and with them their marks and what the hand made of those.

Conventions
-----------
All positions are samples of the track's rate. A position of a recording, moved by the ``shift`` of a run, is one of the track.
The name of a mark is its kind and where it was found: in the recording where it is stored, on the track everywhere else.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import NamedTuple

import numpy as np

from nivelus.core.chain.marks import FoundMarks, Hand, Hands
from nivelus.core.marks.mark import COLUMNS

_START, _END = COLUMNS.index("start"), COLUMNS.index("end")


class Run(NamedTuple):
    """A span of a track in which one recording is heard without a break; None stands for the track's own."""

    recording: str | None
    shift: int
    start: int
    end: int


Runs = tuple[Run, ...]


def runs_of(clips: Sequence[tuple[str | None, int, int, int]]) -> Runs:
    """The runs of clips in order of time, each given as recording, shift, start and end. O(clips)."""
    runs: list[Run] = []
    for recording, shift, start, end in clips:
        if runs:
            last = runs[-1]
            if last.end == start and last.shift == shift and last.recording == recording:
                runs[-1] = Run(recording, shift, last.start, end)
                continue
        runs.append(Run(recording, shift, start, end))
    return tuple(runs)


def run_at(runs: Runs, position: float) -> Run | None:
    """The run that lies at a position; None in silence."""
    return next((run for run in runs if run.start <= position < run.end), None)


def uncovered(start: int, end: int, spans: Sequence[tuple[int, int]], least: int) -> list[tuple[int, int]]:
    """What of a span no other one lies over. O(spans).

    Parameters
    ----------
    start, end : the span, samples
    spans : others, in order of time, each of which lies over some of it
    least : pieces that are shorter are none
    """
    left = []
    for a, b in spans:
        if a > start:
            left.append((start, a))
        start = max(start, b)
    left.append((start, end))
    return [(a, b) for a, b in left if b - a >= least]


def place_found(found: Mapping[str | None, FoundMarks], runs: Runs, samples: int) -> FoundMarks:
    """The marks that are heard on a track, from those found in its recordings. O(marks).

    Parameters
    ----------
    found : by recording
    runs : what is heard of which recording
    samples : how long the track's own recording is: where all of it is heard, its marks are the track's
    """
    if runs == (Run(None, 0, 0, samples),) and None in found:
        return found[None]
    wanted = tuple((run.recording, found[run.recording]) for run in runs if run.recording in found)
    return _placed(tuple(dict.fromkeys(wanted)), runs)


@lru_cache(maxsize=4)
def _placed(found: tuple[tuple[str | None, FoundMarks], ...], runs: Runs) -> FoundMarks:
    by_recording = dict(found)
    middles = {id: (marks.table[:, _START] + marks.table[:, _END]) / 2 for id, marks in found}
    orders = {id: np.argsort(middle, kind="stable") for id, middle in middles.items()}
    ranked = {id: middle[orders[id]] for id, middle in middles.items()}
    tables, ids = [np.zeros((0, len(COLUMNS)))], []
    for run in runs:
        if run.recording not in by_recording:
            continue
        marks, shift = by_recording[run.recording], run.shift
        low, high = np.searchsorted(ranked[run.recording], (run.start - shift, run.end - shift))
        if low == high:
            continue
        inside = np.sort(orders[run.recording][low:high])
        table = marks.table[inside]
        table[:, [_START, _END]] += shift
        names = marks.ids
        ids += [moved_name(names[place], shift) for place in inside.tolist()]
        # what reaches over the edge of what is heard ends there
        table[:, _START] = np.maximum(table[:, _START], run.start)
        table[:, _END] = np.minimum(table[:, _END], run.end)
        tables.append(table)
    table = np.concatenate(tables)
    if len(set(ids)) < len(ids):
        # marks of neighbours that begin alike at their edges: a name is said once
        first = {id: place for place, id in zip(range(len(ids))[::-1], ids[::-1], strict=True)}
        table, ids = table[sorted(first.values())], [ids[place] for place in sorted(first.values())]
    order = np.lexsort((table[:, _END], table[:, _START])).tolist()
    return FoundMarks(table[order], tuple(ids[place] for place in order))


@lru_cache(maxsize=8)
def place_hands(hands: Hands, runs: Runs) -> Hands:
    """What the hand did that is heard on a track, in the track's own positions. O(hands + runs)."""
    if len(runs) == 1 and runs[0][:2] == (None, 0) and all(_lies_in(hand, runs[0]) for hand in hands.rows):
        return hands
    by_place: dict[tuple[str | None, int], list[Run]] = {}
    for run in runs:
        by_place.setdefault((run.recording, run.shift), []).append(run)
    placed = []
    for hand in hands.rows:
        if any(_lies_in(hand, run) for run in by_place.get((hand.recording_id, hand.shift), ())):
            placed.append(moved_hand(hand, hand.shift))
    return Hands(tuple(placed))


def _lies_in(hand: Hand, run: Run) -> bool:
    """Whether the mark of a hand is heard in a run."""
    middle = (hand.start + hand.end) / 2 + hand.shift
    return (hand.recording_id, hand.shift) == (run.recording, run.shift) and run.start <= middle < run.end


def moved_hand(hand: Hand, by: int) -> Hand:
    """A hand with all of its positions moved by some samples; where it belongs stays."""
    if not by:
        return hand

    def moved(position: int | None) -> int | None:
        return None if position is None else position + by

    return hand._replace(
        found=None if hand.found is None else moved_name(hand.found, by),
        found_end=moved(hand.found_end),
        start=hand.start + by,
        end=hand.end + by,
        dip_start=moved(hand.dip_start),
        dip_end=moved(hand.dip_end),
    )


def moved_name(name: str, by: int) -> str:
    """The name of a found mark that was moved by some samples."""
    if not by:
        return name
    kind, start = name.split(".")
    return f"{kind}.{int(start) + by}"
