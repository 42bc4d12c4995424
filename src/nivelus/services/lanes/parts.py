"""Drawing in a lane: whose curves an edit of a span is done to, and doing it, for one curve of a track or many of its clips."""

from __future__ import annotations

from collections.abc import Callable

from nivelus.core.errors import Refused
from nivelus.core.gain.drawn import CLOSEST, Curve, curve_of
from nivelus.core.gain.lane_edits import draw_alike
from nivelus.core.gain.together import add
from nivelus.services.answers.edits import run_edit
from nivelus.services.lanes.rows import (
    EVERYWHERE,
    Owner,
    at_the_end,
    lane_owner,
    own_part,
    owners_of,
)
from nivelus.services.track.state import working_range
from nivelus.services.track.timeline import Timeline
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.store.editing import Edit
from nivelus.store.tables import Lane, Track

NAMES = {"curve": "clip curve", "ride": "ride", "trim": "trim"}

Drawing = Callable[[Curve, float, float], Curve]
"""An edit of one curve within a span of seconds."""


def change(
    bench: Workbench,
    track_id: str,
    revision: int,
    lane: str,
    label: str,
    work: Drawing,
    span: tuple[float, float],
    needs_points: bool = False,
    by_hand: bool = False,
) -> Changed:
    """Draw in a span of a lane, as one step."""
    return run_edit(
        bench,
        track_id,
        label,
        revision,
        lambda edit, track, timeline: draw_in(edit, track, timeline, lane, work, span, needs_points, by_hand),
    )


def draw_in(
    edit: Edit,
    track: Track,
    timeline: Timeline,
    lane: str,
    work: Drawing,
    span: tuple[float, float],
    needs_points: bool = False,
    by_hand: bool = False,
) -> None:
    held = True
    for owner, curve, a, b in parts_of(edit, track, timeline, lane, span, needs_points):
        owner.put(work(curve, a, b), by_hand)
        held &= by_hand and draw_alike(owner.curve(), curve)
    if held and by_hand:
        raise Refused(at_the_end(working_range(track)))


def parts_of(
    edit: Edit, track: Track, timeline: Timeline, lane: str, span: tuple[float, float], needs_points: bool
) -> list[tuple[Owner, Curve, float, float]]:
    """What an edit of a span of a lane is done to: whose curve, as it is, and from when to when of it.

    Raises Refused where there is nothing to draw on.
    """
    start, end, length = min(span), max(span), timeline.duration
    if start > length:
        raise Refused(f"This lies beyond the end of the track, which is {length:.1f} s long.")
    is_point, end = start == end, min(end, length)
    parts = []
    for owner in owners_of(edit, track, timeline, lane, (start, end)):
        curve = owner.curve()
        a, b = max(start, owner.start), min(end, owner.end)
        # of a clip that is only brushed there is nothing to draw on
        if (len(curve) or not needs_points) and (is_point or b - a >= 4 * CLOSEST):
            parts.append((owner, curve, a, b))
    if not parts:
        raise Refused(f"There is no {NAMES[lane]} here yet." if needs_points else "There is nothing here to draw on.")
    return parts


def add_to(edit: Edit, track: Track, timeline: Timeline, lane: str, more: Curve) -> None:
    """Add a curve to a lane."""
    for owner in owners_of(edit, track, timeline, lane, EVERYWHERE):
        own = own_part(more, owner.start, owner.end)
        if len(own):
            owner.put(add(owner.curve(), own))


def clear_lane(edit: Edit, track: Track, timeline: Timeline, lane: str) -> bool:
    """Take all of a lane away; whether there was anything."""
    found = False
    for owner in owners_of(edit, track, timeline, lane, EVERYWHERE):
        if isinstance(owner.row, Lane):
            found |= owner.row.offset != 0.0
            owner.row.offset = 0.0
        if len(owner.curve()):
            found = True
            owner.put(curve_of([]))
    return found


def put_lane(edit: Edit, track: Track, timeline: Timeline, lane: str, curve: Curve) -> None:
    """Make a curve the ride or the trim."""
    lane_owner(edit, track, timeline, lane).put(curve)
