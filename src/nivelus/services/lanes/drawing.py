"""The use cases of what is drawn: lifts, ranges and points.

Three lanes are drawn on. The ride and the trim are one curve each; "curve" is the curves of the clips, which looks like one
but belongs to many: an edit of a span is done to each clip in its part of it.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence

import numpy as np

from nivelus.core.errors import NotFound, Refused
from nivelus.core.gain.clip_curves import heard
from nivelus.core.gain.clips import DECLICK_SECONDS
from nivelus.core.gain.drawn import Curve, Shape, curve_of, finite, with_points
from nivelus.core.gain.edits import Indices, border_points, copy_range, draw, lift, paste, scale, smooth, thin
from nivelus.core.gain.edits import delete_range as delete_span
from nivelus.core.gain.lane_edits import RAMP, draw_alike, kept_within, with_ramps, without_rests
from nivelus.core.gain.point_edits import add_point, delete_points, hold_points, move_points, set_points, shift
from nivelus.services.answers.edits import count_of, run_edit
from nivelus.services.lanes.parts import NAMES, Drawing, change, draw_in, parts_of
from nivelus.services.lanes.rows import (
    EVERYWHERE,
    Owner,
    Range,
    at_the_end,
    gain_of,
    hand_range,
    lane_heard,
    owners_of,
)
from nivelus.services.track.state import owners_of_track, working_range
from nivelus.services.track.timeline import Timeline
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.store.editing import Edit
from nivelus.store.history import require
from nivelus.store.tables import Track

SMOOTHING = 0.4
DRAWING = 0.2
THINNING = 0.3
SHORTEST_PIECE = 3 * DECLICK_SECONDS
"""Of what is pasted into clips, less than this of one is left out."""


# --- spans


def lift_span(bench: Workbench, track_id: str, revision: int, lane: str, start: float, end: float, by: float) -> Changed:
    """Raise or lower a span of a lane; the points and ramps are made for it.

    It goes as far as the working range lets all of it go.
    """

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        within = hand_range(edit, track, lane)

        def raised(curve: Curve, a: float, b: float) -> Curve:
            inside = np.append(curve.db[curve.inside(a, b)], curve([a, b]))
            amount = kept_within(by, inside, within)
            return lift(curve, a, b, amount, RAMP, RAMP) if amount else curve

        draw_in(edit, track, timeline, lane, raised, (start, end), by_hand=True)
        edit.moves(by, lambda sum: f"Lift the {NAMES[lane]} by {sum:+.1f} dB")

    return run_edit(bench, track_id, f"Lift the {NAMES[lane]}", revision, work)


def delete_range(bench: Workbench, track_id: str, revision: int, lane: str, start: float, end: float) -> Changed:
    """Delete what lies in a range of a lane: it goes back to the line beside it, or to 0 dB. Outside nothing changes.

    The ramps that a lift made beside the range go with what is deleted.
    """

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        levels: list[float] = []
        for owner, curve, a, b in parts_of(edit, track, timeline, lane, (start, end), needs_points=True):
            # beyond the clip, or the track, nothing is outside
            first, last = max(owner.start, 0.0), min(owner.end, timeline.duration)
            ends = a if a <= first else -np.inf, b if b >= last else np.inf
            new, level = delete_span(curve, *with_ramps(curve, a, b), RAMP, ends)
            new = without_rests(new)
            if not draw_alike(new, curve):
                owner.put(new)
                levels.append(round(level, 1) + 0.0)
        if not levels:
            raise Refused(f"There is nothing to delete here: the {NAMES[lane]} is at 0 dB.")
        beside = next((level for level in levels if level), None)
        back = "0 dB" if beside is None else f"the line beside it, {beside:+.1f} dB"
        edit.label = f"Delete a range of the {NAMES[lane]}: back to {back}"

    return run_edit(bench, track_id, "Delete a range", revision, work)


def change_range(
    bench: Workbench, track_id: str, revision: int, lane: str, start: float, end: float, what: str, seconds: float = SMOOTHING
) -> Changed:
    """Smooth a range of a lane over ``seconds``, or thin it. Outside nothing changes."""
    ways: dict[str, tuple[str, Drawing]] = {
        "smooth": (f"Smooth the {NAMES[lane]} over {seconds:g} s", lambda curve, a, b: smooth(curve, a, b, seconds)),
        "thin": (f"Thin the {NAMES[lane]}", lambda curve, a, b: thin(curve, THINNING, a, b)),
    }
    label, work = ways[what]
    return change(bench, track_id, revision, lane, label, work, (start, end), needs_points=True)


def scale_range(
    bench: Workbench, track_id: str, revision: int, lane: str, start: float, end: float, factor: float, around: float | None
) -> Changed:
    """Make the moves of a range larger or smaller around a gain, or around their own middle."""

    def work(curve: Curve, a: float, b: float) -> Curve:
        inside = finite(np.append(curve.db[curve.inside(a, b)], curve([a, b])))
        middle = float(inside.min() + inside.max()) / 2 if around is None else around
        return scale(curve, a, b, factor, middle)

    label = f"Scale the {NAMES[lane]} to {factor:.0%}"
    return change(bench, track_id, revision, lane, label, work, (start, end), needs_points=True)


def make_borders(
    bench: Workbench, track_id: str, revision: int, lane: str, spans: Sequence[tuple[float, float]], four: bool | None
) -> Changed:
    """Make points at both ends of spans, or with ``four`` also where the ramps beside them begin; the curve stays as it is.

    Where ``four`` is None the second are made if all of the first are there already.
    """

    def work(curve: Curve, a: float, b: float) -> Curve:
        own = [(max(start, a), min(end, b)) for start, end in spans if start < b and end > a]
        two = border_points(curve, own)
        return border_points(curve, own, RAMP) if four or (four is None and len(two) == len(curve)) else two

    ordered = [(min(span), max(span)) for span in spans]
    whole = min(start for start, _ in ordered), max(end for _, end in ordered)
    return change(bench, track_id, revision, lane, f"Points at {count_of(len(spans), 'span')}", work, whole)


def draw_line(bench: Workbench, track_id: str, revision: int, lane: str, points: list[tuple[float, float]]) -> Changed:
    """Put what the hand drew (seconds and dB, in whatever direction) in place of what was there, in few points."""
    line = curve_of(points)
    start, end = float(line.at[0]), float(line.at[-1])
    if end - start < RAMP:
        raise Refused(f"Draw a longer line: it needs at least {RAMP * 1000:.0f} ms.")

    def work(curve: Curve, a: float, b: float) -> Curve:
        cut = with_points(line, (a, b))
        own = cut.keep(cut.inside(a, b))
        return draw(curve, own.at, own.db, DRAWING)

    return change(bench, track_id, revision, lane, f"Draw the {NAMES[lane]}", work, (start, end), by_hand=True)


def paste_range(
    bench: Workbench,
    track_id: str,
    revision: int,
    lane: str,
    at: float,
    start: float,
    end: float,
    source: tuple[str, str],
) -> Changed:
    """Put a range of a lane, maybe of another track (``source``: its track and lane), at a moment of this one."""
    with bench.database.reading() as db:
        _, origin, timeline = owners_of_track(db, source[0])
        if origin.session_id != require(db, Track, track_id, "track").session_id:
            raise Refused("Points can only be pasted within the session they were copied from.")
        # the offset of a trim is that of its track and stays with it
        piece = copy_range(lane_heard(db, origin, timeline.sample_rate, source[1]), start, end)

    def work(curve: Curve, a: float, b: float) -> Curve:
        if lane == "curve" and b - a < SHORTEST_PIECE:
            return curve
        cut = with_points(piece, (a - at, b - at))
        return paste(curve, a, shift(cut.keep(cut.inside(a - at, b - at)), at - a))

    label = f"Paste into the {NAMES[lane]}"
    return change(bench, track_id, revision, lane, label, work, (at, at + float(piece.at[-1])))


# --- points


def put_point(bench: Workbench, track_id: str, revision: int, lane: str, at: float, db: float | None = None) -> Changed:
    """Make a point on the curve where it is, or at a gain."""

    def work(curve: Curve, a: float, b: float) -> Curve:
        return add_point(curve, at, float(curve([at])[0]) if db is None else gain_of(db))

    return change(bench, track_id, revision, lane, f"A point in the {NAMES[lane]}", work, (at, at), by_hand=db is not None)


def change_points(
    bench: Workbench,
    track_id: str,
    revision: int,
    lane: str,
    points: Collection[str],
    seconds: float = 0.0,
    by: float = 0.0,
    to: float | None = None,
    shape: str | None = None,
    at: float | None = None,
    gone: bool = False,
) -> Changed:
    """Move points by seconds and dB or the first of them to a moment, give them an exact gain or a shape, or delete them.

    ``points`` are ids as the lane's view has them; those that are gone are left out. The points of a clip stay within it. Moved
    by hand they stay within the working range; an exact gain widens it.
    """
    wanted = frozenset(points)

    def changed(owner: Owner, curve: Curve, chosen: Indices, within: Range) -> Curve:
        if gone:
            return delete_points(curve, chosen)
        if to is not None:
            curve = set_points(curve, chosen, gain_of(to))
        earliest, latest = max(owner.start, owner.within[0]), min(owner.end, owner.within[1])
        wished = seconds if at is None else at - curve.at[chosen[0]]
        later = min(max(wished, earliest - curve.at[chosen[0]]), latest - curve.at[chosen[-1]])
        moved = move_points(curve, chosen, later, kept_within(by, curve.db[chosen], within) if by else 0.0)
        if shape == "hold":
            return hold_points(moved, chosen, RAMP)
        return moved if shape is None else set_points(moved, chosen, shape=Shape[shape.upper()])

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        found, moved = 0, False
        within = hand_range(edit, track, lane)
        for owner in owners_of(edit, track, timeline, lane, EVERYWHERE):
            curve = owner.curve()
            meant = np.array([name in wanted for name in owner.points(curve)], bool)
            chosen = np.flatnonzero(meant & heard(curve, owner.start, owner.end))
            if len(chosen):
                found += len(chosen)
                drawn = changed(owner, curve, chosen, within)
                moved |= not draw_alike(drawn, curve)
                owner.put(drawn)
        if not found:
            raise NotFound("This point no longer exists." if len(wanted) == 1 else "These points no longer exist.")
        if by and not moves and not moved:
            raise Refused(at_the_end(working_range(track)))
        edit.label = f"{does} {count_of(found, 'point')} of the {NAMES[lane]}"

    moves = bool(seconds) or at is not None
    does = "Delete" if gone else "Move" if moves or by else "Set"
    return run_edit(bench, track_id, does, revision, work)
