"""Writing a pass: the curve that a lane becomes by what a hand did to it.

Conventions are those of ``core.passes.gesture``. Outside of what was written, its glides and the span that it was meant for,
the curve of a lane is identical, whatever the hand did.

- *absolute*: what was held is what is written.
- *offset*: what was held lies over what was there, whose shape stays.
- *glide*: behind a run the lane comes back, the difference going down linearly over so many seconds; what is held again
  before that goes on from there. In latch there is one such way back, behind the stop.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from nivelus.core.errors import GainError
from nivelus.core.gain.clips import DECLICK_SECONDS
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import CLOSEST, Curve, area, chained, finite, flatten, plain, with_points
from nivelus.core.gain.edits import replace_range
from nivelus.core.gain.together import add
from nivelus.core.passes.gesture import Gesture, Run, clipped, earlier
from nivelus.core.passes.thinning import fewest

NOTHING = 0.01
"""dB within which a run that follows the lane is not a change."""
GLIDE = 0.3
THINNING = 0.25
MOST_LEAD = 0.5
MOST_GLIDE = 5.0


@dataclass(frozen=True, slots=True)
class WriteRule:
    """How a pass becomes a curve.

    ``offset`` says whether gains lie over the lane. ``glide`` and ``lead`` are seconds: the way back, and how much earlier
    than it was heard the hand meant it. ``error`` is how far fewer points may stray, dB. ``span`` is what it was meant for.
    """

    offset: bool = False
    glide: float = GLIDE
    lead: float = 0.0
    error: float = THINNING
    span: tuple[float, float] | None = None

    def __post_init__(self) -> None:
        if not (0 <= self.glide <= MOST_GLIDE and 0 <= self.lead <= MOST_LEAD and 0 < self.error <= 6):
            raise GainError("A pass glides for 0 to 5 s, leads by 0 to 500 ms, and strays by 6 dB at most.")


def written(lane: Curve, gesture: Gesture, rule: WriteRule, length: float) -> Curve:
    """The curve that a lane becomes. O((n + m) log (n + m)) in the points of both.

    Parameters
    ----------
    lane : the lane as it is
    gesture : what was heard
    rule : how it is written
    length : seconds of the track; nothing is written behind it
    """
    first, last = rule.span or (0.0, length)
    # the way from what is around lies inside, so that nothing changes outside
    inside = clipped(earlier(gesture, rule.lead), first + DECLICK_SECONDS, min(last, length) - DECLICK_SECONDS)
    for chain in _chains(lane, inside, rule, min(last, length) - DECLICK_SECONDS):
        start, end = float(chain.at[0]) - DECLICK_SECONDS, float(chain.at[-1]) + DECLICK_SECONDS
        lane = replace_range(lane, start, end, chain) if start >= 0 else _from_the_start(lane, end, chain)
    return lane


def _chains(lane: Curve, gesture: Gesture, rule: WriteRule, last: float) -> list[Curve]:
    """The lines that are put into a lane: runs with their ways back, those that go over into each other as one."""
    lines: list[Curve] = []
    at: list[FloatArray] = []
    beside: list[FloatArray] = []
    runs: list[Run] = []
    for run in gesture.runs:
        # one that holds what is there is no change, unless the way back from another would go through it
        if not _is_lane(lane, run, rule.offset) or (runs and runs[-1].end + rule.glide > run.start):
            runs.append(run)
    for i, run in enumerate(runs):
        own_at, own = _beside(lane, run, rule)
        at.append(own_at)
        beside.append(own)
        following = runs[i + 1].start if i + 1 < len(runs) else np.inf
        until = min(run.end + rule.glide, last, following - CLOSEST)
        if rule.glide > 0 and until - run.end >= CLOSEST:
            # the way back: what is beside the lane goes down to nothing
            at.append(np.array([until]))
            beside.append(own[-1:] * max(1.0 - (until - run.end) / rule.glide, 0.0))
        if following - until > 2 * DECLICK_SECONDS + 4 * CLOSEST:
            lines.append(_over(lane, np.concatenate(at), np.concatenate(beside), rule))
            at, beside = [], []
    if at:
        lines.append(_over(lane, np.concatenate(at), np.concatenate(beside), rule))
    return lines


def _is_lane(lane: Curve, run: Run, offset: bool) -> bool:
    """Whether a run holds nothing but what is there already."""
    there = np.zeros(len(run.at)) if offset else lane.finite_at(run.at)
    return bool((np.abs(run.db - there) <= NOTHING).all())


def _beside(lane: Curve, run: Run, rule: WriteRule) -> tuple[FloatArray, FloatArray]:
    """A run as what it adds to the lane: seconds and dB, exact between them where the lane is straight."""
    if rule.offset:
        return run.at, run.db
    corners = flatten(_between(lane, run.start, run.end)).at
    at = np.unique(np.concatenate([run.at, corners[(corners > run.start + CLOSEST) & (corners < run.end - CLOSEST)]]))
    at = at[np.append(np.diff(at) >= CLOSEST, True)]
    return at, np.interp(at, run.at, run.db) - lane.finite_at(at)


def _over(lane: Curve, at: FloatArray, beside: FloatArray, rule: WriteRule) -> Curve:
    """The lane with something beside it, from the first to the last of its moments, in few points."""
    start, end = float(at[0]), float(at[-1])
    # of an offset the shape below stays exactly what it is
    line = plain(*fewest(at, beside, rule.error)) if rule.offset else plain(at, beside)
    total = add(_between(lane, start, end), line)
    kept = total.keep(total.inside(start - CLOSEST / 2, end + CLOSEST / 2))
    return kept if rule.offset else plain(*fewest(kept.at, finite(kept.db), rule.error))


def _between(lane: Curve, start: float, end: float) -> Curve:
    """A lane between two moments, with points at both."""
    if not len(lane):
        return plain(np.array([start, end]), np.zeros(2))
    cut = with_points(lane, (start, end))
    return cut.keep(cut.inside(start - CLOSEST / 2, end + CLOSEST / 2))


def _from_the_start(lane: Curve, end: float, chain: Curve) -> Curve:
    """A lane whose beginning is written: there is nothing before it that could be kept."""
    cut = with_points(lane, (end,)) if len(lane) else plain(np.array([end]), np.zeros(1))
    rest = cut.keep(cut.at >= end - CLOSEST / 2)
    return chained(chain, rest)


def by_phrase(before: Curve, after: Curve, phrases: FloatArray) -> FloatArray:
    """How much a change of a lane is in each phrase on the average, dB: (n, 2) seconds to (n,). O(points log points)."""
    out = np.zeros(len(phrases))
    if not len(phrases):
        return out
    starts, ends = phrases[:, 0], phrases[:, 1]
    for sign, curve in ((-1.0, before), (1.0, after)):
        if not len(curve):
            continue
        # an integral begins at the first point, so both ends are made points
        line = flatten(with_points(curve, (min(0.0, float(curve.at[0])), max(float(ends.max()), float(curve.at[-1])))))
        mean = (area(line, ends) - area(line, starts)) / np.maximum(ends - starts, CLOSEST)
        out += sign * mean
    return out
