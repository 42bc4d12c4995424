"""Dips from marks: how far down each breath, ess, knock and gap goes by its rule, over which stretch, and why.

Conventions
-----------
Depths are dB and never above 0; a rule's ``depth`` is its slider. Positions are samples, ramps seconds. Everything is an
array of one value per mark, so that an hour of marks is drafted in a few milliseconds. Marks and rules stay what they
are: a dip is worked out anew from them, and what was done by hand is a difference that is added to it.

- *breath*: by ``depth``, and never under room tone. Its ramps keep out of the phrases beside it.
- *ess*: only its excess, and by ``depth`` at most. Ramps of 5 ms.
- *knock*: by ``depth``, hugging the transient.
- *gap*: by ``depth``, to silence, or to one level: each as far as its room, with the gain of its clips, lies over the
  quietest of them, and by ``depth`` at most. It closes slowly after what came before, so that tails live, and opens more
  quickly before what comes next, each within a share of the gap. Beside a breath its slope is a long one that goes on into
  the breath, and it goes no deeper than that slope lets it: a breath pops out of nothing where the room before it is gone.

A breath whose room goes down goes down with it, where it would have stopped at room tone. Ramp lengths and default depths
are common practice.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nivelus.core.drafts.dip_rules import (
    ASKED_SILENCE,
    DEFAULT_RULES,
    LEAST_DIP,
    MOST_CLOSING,
    MOST_OPENING,
    DipRule,
    MarkArrays,
)
from nivelus.core.gain.dips import SILENT_DIP, Dips
from nivelus.core.kinds import BREATH, ESS, GAP
from nivelus.core.marks.mark import by_code, which
from nivelus.core.measure.filters import FloatArray

Places = npt.NDArray[np.int64]
SHORTEST_GAP = 0.25
"""Seconds below which a gap stays open: there is no time to close and open again unheard."""
NEAR = 4.0
"""Seconds within which a gap tells how loud the room is around a mark."""
HOLD_AFTER_PHRASE, HOLD_AFTER_BREATH = 0.08, 0.02
"""Seconds that a gap stays open after what came before it."""
CLOSES, OPENS = (0.06, 0.4), (0.02, 0.2)
"""Seconds between which a gap closes, and opens, whatever share of it that is to take."""
BESIDE_BREATH, SLOPE_TO_BREATH, MOST_SLOPE = 0.5, 18.0, 0.45
"""Seconds within which a breath lies beside a gap, dB a second of the gap's way from or to it, and its share of the gap."""
QUIETEST = 10
"""Per cent of the gaps that are as quiet as the level that all of them go down to."""
_RAMPS, _GOES_BY_EXCESS = by_code(lambda kind: kind.ramps), which(lambda kind: kind.goes_by_excess)


@dataclass(frozen=True, slots=True)
class DipDraft:
    """A dip for every mark, of 0 dB where there is nothing to take down.

    ``base`` (n,) is the depth that the rules alone ask for, before room tone and the hand have their say; ``reason`` (n,)
    of REASONS is what decided the depth.
    """

    dips: Dips
    base: FloatArray
    reason: tuple[str, ...]


def place_marks(
    kind: npt.NDArray[np.int64],
    start: FloatArray,
    end: FloatArray,
    level: FloatArray,
    excess: FloatArray,
    phrases: FloatArray,
    cells: FloatArray,
    rooms: FloatArray,
    rate: int,
) -> MarkArrays:
    """All marks of a recording among its phrases and cells, with nothing done by hand.

    The room around a mark is as quiet as the quietest of its cell and of the gaps near it: in a short pause the breath
    itself is most of what a cell has outside its phrase.

    Parameters
    ----------
    kind, start, end, level, excess : (n,) see MarkArrays
    phrases : (m, 2) start and end of every phrase, samples, in order
    cells, rooms : (k,) first sample of every cell, in order, and its room tone in dBFS
    rate : sampling rate in Hz

    Returns
    -------
    MarkArrays
    """
    middle = (start + end) / 2
    ends, starts = np.concatenate([[-np.inf], phrases[:, 1]]), np.concatenate([phrases[:, 0], [np.inf]])
    breaths = np.sort(end[kind == BREATH.code])
    at = np.searchsorted(breaths, start + 1.0, "right") - 1
    last_breath = np.concatenate([breaths, [-np.inf]])[at]
    before = ends[np.searchsorted(phrases[:, 1], middle, "right")]
    nothing = np.full(len(kind), np.nan)
    return MarkArrays(
        kind=kind,
        start=start,
        end=end,
        level=level,
        excess=excess,
        room=np.minimum(
            rooms[np.clip(np.searchsorted(cells, middle, "right") - 1, 0, len(rooms) - 1)],
            _quietest_gap(start, end, level, kind == GAP.code, NEAR * rate),
        ),
        before=before,
        after=starts[np.searchsorted(phrases[:, 0], middle, "left")],
        breath_before=last_breath > before,
        offset=np.zeros(len(kind)),
        depth_fixed=nothing,
        start_fixed=nothing,
        end_fixed=nothing,
        ramp_in_fixed=nothing,
        ramp_out_fixed=nothing,
        notch=np.zeros(len(kind), bool),
    )


def _quietest_gap(
    start: FloatArray, end: FloatArray, level: FloatArray, is_gap: npt.NDArray[np.bool_], near: float
) -> FloatArray:
    """The lower level of the gaps before and after each mark, no further than ``near`` samples away; infinite without."""
    order = np.flatnonzero(is_gap)[np.argsort(start[is_gap], kind="stable")]
    starts, ends, levels = (
        np.concatenate([[-np.inf], start[order], [np.inf]]),
        np.concatenate([[-np.inf], end[order], [np.inf]]),
        np.concatenate([[np.inf], level[order], [np.inf]]),
    )
    left = np.searchsorted(starts, start + 1.0, "right") - 1
    right = np.searchsorted(starts, end - 1.0, "left")
    before = np.where(start - ends[left] <= near, levels[left], np.inf)
    after = np.where(starts[right] - end <= near, levels[right], np.inf)
    return np.minimum(before, after)


def draft_dips(
    marks: MarkArrays,
    rules: Mapping[str, DipRule],
    rate: int,
    samples: int,
    on: npt.NDArray[np.bool_] | None = None,
    gain: FloatArray | None = None,
) -> DipDraft:
    """Work out the dip of every mark.

    Parameters
    ----------
    marks : (n,) marks of a recording
    rules : a rule for each kind; those that are absent are DEFAULT_RULES
    rate, samples : sampling rate and length of the recording
    on : (n,) which dips are heard, all if not given; breaths and gaps mind each other only there
    gain : (n,) dB that the gain of the clips makes of each mark, 0 if not given: what gaps to one level are judged with

    Returns
    -------
    DipDraft
    """
    rules = {**DEFAULT_RULES, **rules}
    on = np.ones(len(marks.kind), bool) if on is None else on
    beside = _beside(marks, rate)
    base, depth, reason = _depths(marks, rules, rate, beside, on, np.zeros(len(on)) if gain is None else gain)
    fixed = ~np.isnan(marks.depth_fixed)
    depth = np.where(fixed, marks.depth_fixed, depth)
    reason[fixed] = "locked"
    start, end, ramp_in, ramp_out = _spans(marks, rules["gap"], rate, samples, depth, reason, beside, on)
    start = np.where(np.isnan(marks.start_fixed), start, marks.start_fixed)
    end = np.maximum(np.where(np.isnan(marks.end_fixed), end, marks.end_fixed), start)
    ramp_in = np.where(np.isnan(marks.ramp_in_fixed), ramp_in, marks.ramp_in_fixed * rate)
    ramp_out = np.where(np.isnan(marks.ramp_out_fixed), ramp_out, marks.ramp_out_fixed * rate)
    return DipDraft(Dips(start, end, depth, ramp_in, ramp_out, marks.notch), base, tuple(reason.tolist()))


def _beside(marks: MarkArrays, rate: int) -> tuple[Places, Places]:
    """The breath right before and the one right after each gap, (n,) places; -1 without one, and for what is no gap."""
    gap, breaths = marks.kind == GAP.code, np.flatnonzero(marks.kind == BREATH.code)
    none = np.full(len(gap), -1)
    if not len(breaths):
        return none, none
    near = BESIDE_BREATH * rate
    by_end = breaths[np.argsort(marks.end[breaths], kind="stable")]
    last = by_end[np.maximum(np.searchsorted(marks.end[by_end], marks.start + 1.0, "right") - 1, 0)]
    is_before = (
        (marks.end[last] <= marks.start + 1.0) & (marks.start - marks.end[last] <= near) & (marks.end[last] > marks.before)
    )
    by_start = breaths[np.argsort(marks.start[breaths], kind="stable")]
    next_ = by_start[np.minimum(np.searchsorted(marks.start[by_start], marks.end - 1.0, "left"), len(by_start) - 1)]
    is_after = (
        (marks.start[next_] >= marks.end - 1.0) & (marks.start[next_] - marks.end <= near) & (marks.start[next_] < marks.after)
    )
    return np.where(gap & is_before, last, none), np.where(gap & is_after, next_, none)


def _depths(
    marks: MarkArrays,
    rules: Mapping[str, DipRule],
    rate: int,
    beside: tuple[Places, Places],
    on: npt.NDArray[np.bool_],
    gain: FloatArray,
) -> tuple[FloatArray, FloatArray, npt.NDArray[np.object_]]:
    """What the rules alone would do, the depth with what the hand added, and why."""
    each = by_code(lambda kind: (rules[kind.name].depth, rules[kind.name].shallowest, rules[kind.name].deepest))
    slider, shallowest, deepest = each[marks.kind].T.copy()
    silent = which(lambda kind: rules[kind.name].silent)[marks.kind]
    reason = np.full(len(marks.kind), "rule", dtype=object)
    base = slider.copy()
    by_excess = _GOES_BY_EXCESS[marks.kind]
    excess = -np.maximum(np.nan_to_num(marks.excess), 0.0)
    base[by_excess] = np.maximum(excess, slider)[by_excess]
    reason[by_excess] = np.where(excess < slider, "at most", "excess")[by_excess]
    gap = marks.kind == GAP.code
    short = gap & (marks.end - marks.start < SHORTEST_GAP * rate)
    if rules["gap"].even and (gap & ~short).any():
        level = marks.level + gain
        over = np.minimum(np.percentile(level[gap & ~short], QUIETEST) - level, 0.0)
        base[gap] = np.maximum(over, slider)[gap]
        reason[gap] = np.where(over < slider, "rule", "one level")[gap]
    # what the rule leaves alone is not pressed to the shallowest
    wanted = (base <= LEAST_DIP) & ~short
    for limit, name, past in ((shallowest, "shallowest", base > shallowest), (deepest, "deepest", base < deepest)):
        held = past & wanted
        base[held], reason[held] = limit[held], name
    base[~wanted] = 0.0
    depth = base + marks.offset
    reason[marks.offset != 0] = "by hand"
    too_deep = depth < deepest
    depth[too_deep], reason[too_deep] = deepest[too_deep], "deepest"
    floor = np.minimum(marks.room - marks.level, 0.0)
    # where the room beside it goes down, a breath goes with it
    lower = floor.copy()
    for places in beside:
        near = np.flatnonzero((places >= 0) & on)
        np.minimum.at(lower, places[near], (floor[places] + depth)[near])
    floor = lower
    under = (marks.kind == BREATH.code) & (depth < floor)
    depth[under], reason[under] = floor[under], "room tone"
    nothing = depth > LEAST_DIP
    depth[nothing], reason[nothing] = 0.0, "nothing"
    reason[short & (depth == 0)] = "too short"
    silent = (silent & ~short) | (marks.offset <= ASKED_SILENCE)
    depth[silent], reason[silent] = SILENT_DIP, "silence"
    return base, depth, reason


def _spans(
    marks: MarkArrays,
    rule: DipRule,
    rate: int,
    samples: int,
    depth: FloatArray,
    reason: npt.NDArray[np.object_],
    beside: tuple[Places, Places],
    on: npt.NDArray[np.bool_],
) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
    """Start, end and ramps of every dip, in samples. A way down to silence takes twice as long as any other.

    A gap that its way from or to a breath does not let down as far as it should is less deep: ``depth`` and ``reason`` are
    changed in place.
    """
    silent = depth <= SILENT_DIP
    ramps = _RAMPS[marks.kind] * rate * np.where(silent, 2.0, 1.0)[:, None]
    start, end = marks.start.copy(), marks.end.copy()
    ramp_in, ramp_out = ramps[:, 0].copy(), ramps[:, 1].copy()
    least = ESS.ramps[0] * rate
    # a breath keeps its ramps out of the phrases; where there is no room for one, it begins or ends a little earlier
    breath = marks.kind == BREATH.code
    left = np.clip(start - marks.before, least, ramp_in)
    right = np.clip(marks.after - end, least, ramp_out)
    start[breath] = np.maximum(start, marks.before + left)[breath]
    end[breath] = np.maximum(np.minimum(end, marks.after - right), start)[breath]
    ramp_in[breath], ramp_out[breath] = left[breath], right[breath]
    # a gap does all of its moving inside itself: it stays open for the tail, closes, and is open again at its end
    gap = marks.kind == GAP.code
    length = marks.end - marks.start
    hold = np.where(marks.breath_before, HOLD_AFTER_BREATH, HOLD_AFTER_PHRASE) * rate
    twice = np.where(silent, 2.0, 1.0)
    close = np.clip(rule.closes * length, CLOSES[0] * rate, CLOSES[1] * rate) * twice
    open_ = np.clip(rule.opens * length, OPENS[0] * rate, OPENS[1] * rate) * twice
    close, open_ = np.minimum(close, MOST_CLOSING * length), np.minimum(open_, MOST_OPENING * length)
    hold = np.minimum(hold, 0.2 * length)
    # the ends of the recording have nothing before or after them to wait for
    at_start, at_end = gap & (marks.start <= 0), gap & (marks.end >= samples)
    hold[at_start] = close[at_start] = open_[at_end] = 0.0
    # beside a breath its way is a slope that reaches into the breath as far as that goes down
    before, after = (_into_breath(marks, places, depth, on, rate) for places in beside)
    by_rule = gap & ~silent & (marks.offset == 0) & np.isnan(marks.depth_fixed)
    room = np.minimum(
        np.where(beside[0] >= 0, MOST_SLOPE * length + before, np.inf),
        np.where(beside[1] >= 0, MOST_SLOPE * length + after, np.inf),
    )
    lets = -SLOPE_TO_BREATH * room / rate
    held = by_rule & (depth < lets)
    depth[held], reason[held] = lets[held], "beside a breath"
    slope = np.where(silent, 0.0, -depth / SLOPE_TO_BREATH * rate)
    for places, into, way in ((beside[0], before, close), (beside[1], after, open_)):
        slow = (places >= 0) & ~silent
        way[slow] = np.maximum(np.minimum(slope, MOST_SLOPE * length + into), least)[slow]
    hold[beside[0] >= 0] = -before[beside[0] >= 0]
    start[gap], end[gap] = (marks.start + hold + close)[gap], (marks.end + np.where(beside[1] >= 0, after, 0.0) - open_)[gap]
    end[gap] = np.maximum(end, start)[gap]
    ramp_in[gap], ramp_out[gap] = close[gap], open_[gap]
    return start, end, ramp_in, ramp_out


def _into_breath(marks: MarkArrays, breath: Places, depth: FloatArray, on: npt.NDArray[np.bool_], rate: int) -> FloatArray:
    """How far the way of each gap reaches into the ``breath`` beside it, samples, (n,): unheard while that is lower."""
    down = np.where(on, -depth, 0.0)[breath] / SLOPE_TO_BREATH * rate
    return np.where(breath >= 0, np.minimum(down, (marks.end - marks.start)[breath]), 0.0)
