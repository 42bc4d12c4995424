"""The use cases of what is drawn: lifts, points, ranges, the trim and its folding, the working range, curves from elsewhere.

Three lanes are drawn on. The ride and the trim are one curve each; "curve" is the curves of the clips, which looks like one
but belongs to many: an edit of a span is done to each clip in its part of it.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import replace
from pathlib import PurePath

import numpy as np

from nivelus.core.chain.state import LANES
from nivelus.core.deliver.curve_formats import FORMATS, parse_curve
from nivelus.core.errors import CurveFileError, NotFound, Refused
from nivelus.core.gain.clip_curves import heard
from nivelus.core.gain.clips import DECLICK_SECONDS
from nivelus.core.gain.compiled import SILENCE, FloatArray
from nivelus.core.gain.drawn import (
    CLOSEST,
    COLUMNS,
    Curve,
    Shape,
    add,
    chained,
    curve_of,
    finite,
    inside_of,
    limit,
    with_points,
)
from nivelus.core.gain.edits import (
    Indices,
    add_point,
    border_points,
    copy_range,
    delete_points,
    draw,
    hold_points,
    lift,
    move_points,
    paste,
    scale,
    set_points,
    shift,
    smooth,
    thin,
)
from nivelus.core.gain.edits import delete_range as delete_span
from nivelus.services.answers.edits import count_of, run_edit
from nivelus.services.lanes.rows import (
    EVERYWHERE,
    WIDEST_RANGE,
    Owner,
    Range,
    at_the_end,
    gain_of,
    hand_range,
    lane_now,
    lane_owner,
    lane_row,
    own_part,
    owners_of,
    whole_lane,
    widen,
)
from nivelus.services.track.state import owners_of_track, state_of, working_range
from nivelus.services.track.targets import target_of
from nivelus.services.track.timeline import Timeline
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.store.history import Edit, require
from nivelus.store.packing import unpack_curve
from nivelus.store.tables import Lane, Track

RAMP = 0.06
"""Seconds of the ramps of a lift."""
SMOOTHING = 0.4
DRAWING = 0.2
THINNING = 0.3
MOST_POINTS = 100_000
MOST_BYTES = 16 << 20
SHORTEST_PIECE = 3 * DECLICK_SECONDS
"""Of what is pasted into clips, less than this of one is left out."""
NAMES = {"curve": "clip curve", "ride": "ride", "trim": "trim"}

Drawing = Callable[[Curve, float, float], Curve]
"""An edit of one curve within a span of seconds."""


# --- spans


def lift_span(bench: Workbench, track_id: str, revision: int, lane: str, start: float, end: float, by: float) -> Changed:
    """Raise or lower a span of a lane; the points and ramps are made for it.

    It goes as far as the working range lets all of it go.
    """

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        within = hand_range(edit, track, lane)

        def raised(curve: Curve, a: float, b: float) -> Curve:
            inside = np.append(curve.db[curve.inside(a, b)], curve([a, b]))
            amount = _kept(by, inside, within)
            return lift(curve, a, b, amount, RAMP, RAMP) if amount else curve

        _draw(edit, track, timeline, lane, raised, (start, end), by_hand=True)
        edit.moves(by, lambda sum: f"Lift the {NAMES[lane]} by {sum:+.1f} dB")

    return run_edit(bench, track_id, f"Lift the {NAMES[lane]}", revision, work)


def delete_range(bench: Workbench, track_id: str, revision: int, lane: str, start: float, end: float) -> Changed:
    """Delete what lies in a range of a lane: it goes back to the line beside it, or to 0 dB. Outside nothing changes.

    The ramps that a lift made beside the range go with what is deleted.
    """

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        levels: list[float] = []
        for owner, curve, a, b in _parts(edit, track, timeline, lane, (start, end), needs_points=True):
            # beyond the clip, or the track, nothing is outside
            first, last = max(owner.start, 0.0), min(owner.end, timeline.duration)
            ends = a if a <= first else -np.inf, b if b >= last else np.inf
            new, level = delete_span(curve, *_with_ramps(curve, a, b), RAMP, ends)
            new = _without_rests(new)
            if not _same(new, curve):
                owner.put(new, track)
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
    return _change(bench, track_id, revision, lane, label, work, (start, end), needs_points=True)


def scale_range(
    bench: Workbench, track_id: str, revision: int, lane: str, start: float, end: float, factor: float, around: float | None
) -> Changed:
    """Make the moves of a range larger or smaller around a gain, or around their own middle."""

    def work(curve: Curve, a: float, b: float) -> Curve:
        inside = finite(np.append(curve.db[curve.inside(a, b)], curve([a, b])))
        middle = float(inside.min() + inside.max()) / 2 if around is None else around
        return scale(curve, a, b, factor, middle)

    label = f"Scale the {NAMES[lane]} to {factor:.0%}"
    return _change(bench, track_id, revision, lane, label, work, (start, end), needs_points=True)


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
    return _change(bench, track_id, revision, lane, f"Points at {count_of(len(spans), 'span')}", work, whole)


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

    return _change(bench, track_id, revision, lane, f"Draw the {NAMES[lane]}", work, (start, end), by_hand=True)


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
        piece = copy_range(whole_lane(db, origin, timeline.sample_rate, source[1], with_offset=False), start, end)

    def work(curve: Curve, a: float, b: float) -> Curve:
        if lane == "curve" and b - a < SHORTEST_PIECE:
            return curve
        cut = with_points(piece, (a - at, b - at))
        return paste(curve, a, shift(cut.keep(cut.inside(a - at, b - at)), at - a))

    label = f"Paste into the {NAMES[lane]}"
    return _change(bench, track_id, revision, lane, label, work, (at, at + float(piece.at[-1])))


# --- points


def put_point(bench: Workbench, track_id: str, revision: int, lane: str, at: float, db: float | None = None) -> Changed:
    """Make a point on the curve where it is, or at a gain."""

    def work(curve: Curve, a: float, b: float) -> Curve:
        return add_point(curve, at, float(curve([at])[0]) if db is None else gain_of(db))

    return _change(bench, track_id, revision, lane, f"A point in the {NAMES[lane]}", work, (at, at), by_hand=db is not None)


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
        moved = move_points(curve, chosen, later, _kept(by, curve.db[chosen], within) if by else 0.0)
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
                moved |= not _same(drawn, curve)
                owner.put(drawn, track)
        if not found:
            raise NotFound("This point no longer exists." if len(wanted) == 1 else "These points no longer exist.")
        if by and not moves and not moved:
            raise Refused(at_the_end(working_range(track)))
        edit.label = f"{does} {count_of(found, 'point')} of the {NAMES[lane]}"

    moves = bool(seconds) or at is not None
    does = "Delete" if gone else "Move" if moves or by else "Set"
    return run_edit(bench, track_id, does, revision, work)


# --- lanes as a whole


def clear(bench: Workbench, track_id: str, revision: int, lane: str) -> Changed:
    """Take all points of a lane away, and the offset of a trim."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        if not _clear(edit, track, timeline, lane):
            raise Refused(f"There is no {NAMES[lane]} to remove.")

    return run_edit(bench, track_id, f"Take the {NAMES[lane]} away", revision, work)


def set_trim(bench: Workbench, track_id: str, revision: int, db: float | None = None, off: bool | None = None) -> Changed:
    """Trim the whole track by some dB, or switch the trim off or on; off, it keeps what it is."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        row = lane_row(edit, track, "trim")
        if db is not None:
            row.offset = round(db, 2) + 0.0
            widen(track, unpack_curve(row.points) if row.points else curve_of([(0.0, 0.0)]), row.offset)
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
            _settle(edit, track, timeline, name)
        moved = limit(lane_now(edit, track, timeline, lane), *working_range(track))
        if span is not None and len(moved):
            moved = _alone(moved, min(span), max(span))
        if not len(moved) or not (span is None or finite(moved.db).any()):
            raise Refused(f"There is no {NAMES[lane]} here to move.")
        if span is None:
            _clear(edit, track, timeline, lane)
        else:
            _add(edit, track, timeline, lane, replace(moved, db=-finite(moved.db)))
            for owner in owners_of(edit, track, timeline, lane, span):
                owner.put(_without_rests(owner.curve()), track)
        _add(edit, track, timeline, to, moved)
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


def bring_in(bench: Workbench, track_id: str, revision: int, lane: str, name: str, data: bytes) -> Changed:
    """Import a curve that was drawn elsewhere, in place of what is in a lane."""
    with bench.database.reading() as db:
        length = owners_of_track(db, track_id)[2].duration
    # what lies beyond the end of the track would never be heard
    curve = inside_of(parse_curve(PurePath(name), data), 0.0, length)
    if len(curve) > MOST_POINTS:
        curve = thin(curve, 0.05)
    if len(curve) > MOST_POINTS:
        raise CurveFileError(f"“{PurePath(name).name}” holds more than {MOST_POINTS} points.")

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        _clear(edit, track, timeline, lane)
        _add(edit, track, timeline, lane, curve)

    return run_edit(bench, track_id, f"Import a {NAMES[lane]}", revision, work)


def write_out(bench: Workbench, track_id: str, lane: str, ending: str) -> tuple[str, bytes]:
    """A lane as a file: its name and its bytes."""
    known = next((known for known in FORMATS if f".{ending}" == known.endings[0]), None)
    if known is None or lane not in LANES:
        raise Refused("A clip curve, ride or trim is written as csv or mid.")
    with bench.database.reading() as db:
        _, track, timeline = owners_of_track(db, track_id)
        curve = whole_lane(db, track, timeline.sample_rate, lane)
    if not len(curve):
        raise Refused(f"There is no {NAMES[lane]} to write out.")
    return f"{track.name} {NAMES[lane]}.{ending}", known.write(curve)


# --- how it is done


def _change(
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
        lambda edit, track, timeline: _draw(edit, track, timeline, lane, work, span, needs_points, by_hand),
    )


def _draw(
    edit: Edit,
    track: Track,
    timeline: Timeline,
    lane: str,
    work: Drawing,
    span: tuple[float, float],
    needs_points: bool = False,
    by_hand: bool = False,
) -> None:
    within = hand_range(edit, track, lane) if by_hand else None
    held = True
    for owner, curve, a, b in _parts(edit, track, timeline, lane, span, needs_points):
        owner.put(work(curve, a, b), track, within)
        held &= by_hand and _same(owner.curve(), curve)
    if held and by_hand:
        raise Refused(at_the_end(working_range(track)))


def _parts(
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


def _alone(curve: Curve, start: float, end: float) -> Curve:
    """What a curve does in a span, and nothing outside of it but the ramps of a lift."""
    if end - start < 4 * CLOSEST:
        raise Refused("Select a span first.")
    cut = with_points(curve, (start, end))
    inside = cut.keep(cut.inside(start - CLOSEST / 2, end + CLOSEST / 2))
    shape = inside.shape.copy()
    shape[-1] = Shape.LINEAR
    return chained(curve_of([(start - RAMP, 0.0)]), replace(inside, shape=shape), curve_of([(end + RAMP, 0.0)]))


def _add(edit: Edit, track: Track, timeline: Timeline, lane: str, more: Curve) -> None:
    """Add a curve to a lane."""
    for owner in owners_of(edit, track, timeline, lane, EVERYWHERE):
        own = own_part(more, owner.start, owner.end)
        if len(own):
            owner.put(add(owner.curve(), own), track)


def _settle(edit: Edit, track: Track, timeline: Timeline, lane: str) -> None:
    """Make what is heard of a lane what is drawn: what lies beyond the working range, at its ends."""
    within = hand_range(edit, track, lane)
    for owner in owners_of(edit, track, timeline, lane, EVERYWHERE):
        curve = owner.curve()
        held = limit(curve, *within)
        if held is not curve:
            owner.put(held, track)


def _clear(edit: Edit, track: Track, timeline: Timeline, lane: str) -> bool:
    """Take all of a lane away; whether there was anything."""
    found = False
    for owner in owners_of(edit, track, timeline, lane, EVERYWHERE):
        if isinstance(owner.row, Lane):
            found |= owner.row.offset != 0.0
            owner.row.offset = 0.0
        if len(owner.curve()):
            found = True
            owner.put(curve_of([]), track)
    return found


def _kept(by: float, lying: FloatArray, within: Range) -> float:
    """How far values may move together by ``by`` dB: none of them further out of a range than it is."""
    db = finite(lying)
    return min(max(by, min(within[0] - float(db.min()), 0.0)), max(within[1] - float(db.max()), 0.0))


def _without_rests(curve: Curve) -> Curve:
    """A curve without points that lie at 0 dB between two of the same: they do nothing. All at 0 dB, it has none."""
    zero = np.abs(finite(curve.db)) < 1e-9
    if zero.all():
        return curve.keep(~zero)
    between = zero & np.append(zero[1:], False) & np.insert(zero[:-1], 0, False)
    return delete_points(curve, np.flatnonzero(between)) if between.any() else curve


def _same(first: Curve, second: Curve) -> bool:
    """Whether two curves draw the same, whatever their points are called."""
    return len(first) == len(second) and all(
        np.array_equal(getattr(first, name), getattr(second, name)) for name in COLUMNS if name != "ids"
    )


def _with_ramps(curve: Curve, start: float, end: float) -> tuple[float, float]:
    """A range with the points that lie beside it no further than the ramps of a lift."""
    near = curve.at[(curve.at >= start - RAMP - CLOSEST) & (curve.at <= end + RAMP + CLOSEST)]
    return min([start, *near[:1].tolist()]), max([end, *near[-1:].tolist()])


def put_lane(edit: Edit, track: Track, timeline: Timeline, lane: str, curve: Curve) -> None:
    """Make a curve the ride or the trim."""
    lane_owner(edit, track, timeline, lane).put(curve, track)
