"""Lanes as a whole: taken away, moved into another, the trim and its switch, and the working range."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from nivelus.core.errors import Refused
from nivelus.core.gain.compiled import SILENCE
from nivelus.core.gain.drawn import curve_of, finite
from nivelus.core.gain.lane_edits import alone, without_rests
from nivelus.services.answers.edits import count_of, run_edit
from nivelus.services.lanes.parts import NAMES, add_to, clear_lane
from nivelus.services.lanes.rows import (
    WIDEST_RANGE,
    lane_now,
    lane_row,
    owners_of,
    settle_lane,
    widen,
)
from nivelus.services.track.state import state_of
from nivelus.services.track.targets import target_of
from nivelus.services.track.timeline import Timeline
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.store.editing import Edit
from nivelus.store.packing import unpack_curve
from nivelus.store.tables import Track


def clear(bench: Workbench, track_id: str, revision: int, lane: str) -> Changed:
    """Take all points of a lane away, and the offset of a trim."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        if not clear_lane(edit, track, timeline, lane):
            raise Refused(f"There is no {NAMES[lane]} to remove.")

    return run_edit(bench, track_id, f"Take the {NAMES[lane]} away", revision, work)


def set_trim(bench: Workbench, track_id: str, revision: int, db: float | None = None, off: bool | None = None) -> Changed:
    """Trim the whole track by some dB, or switch the trim off or on; off, it keeps what it is."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        row = lane_row(edit, track, "trim")
        if db is not None:
            # by so much louder than it is heard
            settle_lane(edit, track, timeline, "trim")
            offset = round(db, 2) + 0.0
            widen(edit, track, timeline, unpack_curve(row.points) if row.points else curve_of([(0.0, 0.0)]), offset)
            row.offset = offset
        if off is not None:
            row.off = off

    label = f"Trim to {db:+.1f} dB" if db is not None else f"Switch the trim {'off' if off else 'on'}"
    return run_edit(bench, track_id, label, revision, work)


def hand_over(
    bench: Workbench, track_id: str, revision: int, lane: str, to: str, span: tuple[float, float] | None = None
) -> Changed:
    """Move what one lane draws, all of it or a span, into another: the sum, and so what is heard, stays.

    This folds the trim into the ride, and mirrors the clip curve into the ride and back.
    """
    label = "Fold the trim into the ride" if (lane, to) == ("trim", "ride") else f"Move the {NAMES[lane]} into the {NAMES[to]}"

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        if lane == to:
            raise Refused("Choose another lane to move this into.")
        # what was asked for is level where it stands; what is part of another lane is judged
        fallen = _off_without_wishes(bench, edit, track, timeline) if lane == "trim" and span is None else 0
        if any(lane_row(edit, track, name).off for name in (lane, to) if name != "curve"):
            raise Refused("The trim is switched off. Switch it on first, so that what is heard stays.")
        for name in (lane, to):
            settle_lane(edit, track, timeline, name)
        moved = lane_now(edit, track, timeline, lane)
        if span is not None and len(moved):
            moved = alone(moved, min(span), max(span))
        if not len(moved) or not (span is None or finite(moved.db).any()):
            raise Refused(f"There is no {NAMES[lane]} here to move.")
        if span is None:
            clear_lane(edit, track, timeline, lane)
        else:
            add_to(edit, track, timeline, lane, replace(moved, db=-finite(moved.db)))
            for owner in owners_of(edit, track, timeline, lane, span):
                owner.put(without_rests(owner.curve()))
        add_to(edit, track, timeline, to, moved)
        if fallen:
            edit.label = f"{label} · {count_of(fallen, 'phrase')} {'is' if fallen == 1 else 'are'} off by it"

    return run_edit(bench, track_id, label, revision, work)


def _off_without_wishes(bench: Workbench, edit: Edit, track: Track, timeline: Timeline) -> int:
    """How many phrases of a track are level only because what lies in the trim was asked for."""
    state = state_of(bench, edit.db, edit.session, track, timeline)
    target = target_of(bench, edit.db, edit.session, state)
    with_it, without = (
        np.abs(levels - target) > edit.session.tolerance + 1e-9 for levels in state.levels_asked(state.clips.judged)
    )
    return int((with_it & ~without).sum())


def set_range(bench: Workbench, track_id: str, revision: int, low: float, high: float) -> Changed:
    """Set the working range of a track. What is drawn beyond it is kept, and heard at its ends."""
    low, high = max(low, WIDEST_RANGE[0]), min(high, WIDEST_RANGE[1])
    if not low < 0 < high:
        raise Refused("A working range lies around 0 dB.")

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        track.range_low, track.range_high = low, high

    name = "silence" if low <= SILENCE else f"{low:+.0f}"
    return run_edit(bench, track_id, f"Working range {name} to {high:+.0f} dB", revision, work)
