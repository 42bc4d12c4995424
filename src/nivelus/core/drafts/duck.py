"""Duck drafts: how a bed makes room for a voice, in few points.

The bed goes down ahead of each phrase, stays down through short pauses, and comes back after it. It goes down by so much, or
as far as each phrase needs to stand so far above it, and no deeper.

Conventions
-----------
Seconds and dB; loudness is LUFS after gain and fader. Phrases may overlap, as those of several voices do.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from nivelus.core.errors import LevelError
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import CLOSEST, EMPTY, Curve, curve_of
from nivelus.core.gain.edits import copy_range, paste
from nivelus.core.measure.distance import SILENT, bed_levels
from nivelus.core.measure.grid import FRAME
from nivelus.core.rule import DEFAULT, Way

ALIKE = 1.5
"""Neighbours whose depths differ by less than this (dB) share the deeper one, so that the bed does not fidget."""
SHORTEST_STEP = 2.0
"""Seconds that a depth of its own lasts at least, within a stretch in which the bed stays down."""
SHORTEST_STAY = 0.5
"""Seconds that the bed stays up at least, so that it does not pump."""
OFTEN, LONG_PAUSE = 4.0, 3.0
"""Seconds between two beginnings within which the bed comes back only in a pause that is so long."""
KEPT = 0.1
"""LU that a phrase may miss its distance by and still keep it."""


@dataclass(frozen=True, slots=True)
class DuckRule:
    """``way`` is by "depth" (dB, negative) or to a "distance" (LU).

    ``lead`` is how long before a phrase the bed begins to go down, ``hold`` how long a pause has to be for it to come back,
    ``release`` how long that takes (seconds), ``most_down`` how far it goes down at most (dB).
    """

    way: Way = DEFAULT.duck.way
    depth: float = DEFAULT.duck.depth
    distance: float = DEFAULT.duck.distance
    lead: float = DEFAULT.duck.lead
    hold: float = DEFAULT.duck.hold
    release: float = DEFAULT.duck.release
    most_down: float = DEFAULT.duck.most_down


@dataclass(frozen=True, slots=True)
class DuckDraft:
    """A drafted duck: its ``curve``, and of each phrase the distance (LU) ``before`` and ``after``, and the ``reason``.

    That is "made room", "far enough", "most down" (the bed may not go down further) or "no bed" (there is none under it).
    """

    curve: Curve
    before: FloatArray
    after: FloatArray
    reason: tuple[str, ...]


class _Step(NamedTuple):
    """A stretch in which the bed is down by ``depth`` dB."""

    start: float
    end: float
    depth: float


def draft_duck(
    phrases: FloatArray,
    levels: FloatArray,
    bed: FloatArray,
    rule: DuckRule,
    present: Curve = EMPTY,
    locked: Sequence[tuple[float, float]] = (),
) -> DuckDraft:
    """Draft how a bed makes room.

    Parameters
    ----------
    phrases : (n, 2) start and end of each phrase, seconds
    levels : (n,) their loudness
    bed : (frames,) K-weighted power of the bed, without a duck
    rule : what to aim at
    present, locked : the duck that there is, and the spans (seconds) in which it is left as it is

    Raises
    ------
    LevelError
        If there is no phrase, or none that the bed lies under.
    """
    if not len(phrases):
        raise LevelError("There is no phrase to make room for. Find the phrases of a voice first.")
    spans = _frames(phrases)
    under = bed_levels(bed, spans)
    before = levels - under
    heard = under > SILENT
    if not heard.any():
        raise LevelError("The bed is silent, or over, wherever the voice speaks: there is nothing to turn down.")
    wanted = np.full(len(levels), -rule.depth) if rule.way == "depth" else np.maximum(rule.distance - before, 0.0)
    wanted[~heard] = 0.0
    depth = np.minimum(wanted, rule.most_down)
    order = np.argsort(phrases[:, 0], kind="stable")
    steps = _steps([_Step(float(phrases[i, 0]), float(phrases[i, 1]), float(depth[i])) for i in order.tolist()], rule)
    curve = _with_locked(_curve(steps, rule), present, locked)
    after = levels - bed_levels(bed * duck_gain(curve, len(bed)), spans)
    return DuckDraft(curve, before, after, tuple(_reason(*now) for now in zip(heard, wanted, depth, strict=True)))


def _with_locked(draft: Curve, present: Curve, spans: Sequence[tuple[float, float]]) -> Curve:
    """A drafted curve that is left as it is at ``present`` within some spans (seconds)."""
    if not spans or not (len(draft) or len(present)):
        return draft
    zero = curve_of([(0.0, 0.0)])
    curve, there = (own if len(own) else zero for own in (draft, present))
    for start, end in spans:
        curve = paste(curve, start, copy_range(there, start, end))
    return curve


def duck_gain(curve: Curve, frames: int) -> FloatArray:
    """The power gain of a curve in the middle of each frame, (frames,)."""
    if not len(curve):
        return np.ones(frames)
    return np.asarray(10 ** (curve.finite_at(np.asarray((np.arange(frames) + 0.5) * FRAME, np.float64)) / 10))


def _frames(phrases: FloatArray) -> list[slice]:
    edges: npt.NDArray[np.int64] = np.rint(phrases / FRAME).astype(np.int64)
    return [slice(first, max(last, first + 1)) for first, last in edges.tolist()]


def _reason(heard: bool, wanted: float, depth: float) -> str:
    if not heard:
        return "no bed"
    if wanted <= 0:
        return "far enough"
    return "made room" if depth >= wanted - KEPT else "most down"


def _steps(phrases: list[_Step], rule: DuckRule) -> list[list[_Step]]:
    """Stretches in which the bed stays down, each with the depths that it has one after the other."""
    # a bed that comes back has to be there for a moment before it goes down again
    hold = max(rule.hold, rule.lead + rule.release + SHORTEST_STAY)
    stretches: list[list[_Step]] = []
    for phrase in phrases:
        if phrase.depth <= 0:
            continue
        pause = phrase.start - max(step.end for step in stretches[-1]) if stretches else np.inf
        # coming back takes four points: where words are few and far between it is not done for each of them
        often = stretches and phrase.start - stretches[-1][0].start < OFTEN
        if pause < hold or (often and pause < LONG_PAUSE):
            stretches[-1].append(phrase)
        else:
            stretches.append([phrase])
    return [_calmed(_apart(stretch)) for stretch in stretches]


def _apart(steps: list[_Step]) -> list[_Step]:
    """Steps none of which lies over another: where several do, the deepest holds."""
    edges = sorted({edge for step in steps for edge in (step.start, step.end)})
    out: list[_Step] = []
    for start, end in pairwise(edges):
        over = [step.depth for step in steps if step.start < end and step.end > start]
        if over:
            out.append(_Step(start, end, max(over)))
    return out


def _calmed(steps: list[_Step]) -> list[_Step]:
    """Neighbours that are alike, or short, share the deeper depth."""
    steps = list(steps)
    while len(steps) > 1:
        cost, at = min((_cost(left, right), i) for i, (left, right) in enumerate(pairwise(steps)))
        if cost >= ALIKE:
            break
        left, right = steps[at], steps[at + 1]
        steps[at : at + 2] = [_Step(left.start, right.end, max(left.depth, right.depth))]
    return steps


def _cost(left: _Step, right: _Step) -> float:
    """What is given away by joining two: the difference of their depths, or nothing where one is too short to be by itself."""
    apart = abs(left.depth - right.depth)
    short = min(left.end - left.start, right.end - right.start) < SHORTEST_STEP
    return min(apart, ALIKE - 1e-3) * (apart / (1 + apart)) if short else apart


def _curve(stretches: list[list[_Step]], rule: DuckRule) -> Curve:
    points: list[tuple[float, float]] = []

    def put(at: float, db: float) -> None:
        at = max(at, 0.0)
        if points and at <= points[-1][0] + 2 * CLOSEST:
            points[-1] = (points[-1][0], min(points[-1][1], db))
        else:
            points.append((at, db))

    for steps in stretches:
        put(steps[0].start - rule.lead, 0.0)
        for i, step in enumerate(steps):
            if i == 0:
                put(step.start, -step.depth)
            elif step.depth > steps[i - 1].depth:
                # deeper: it is there when the phrase begins
                put(step.start - rule.lead, -steps[i - 1].depth)
                put(step.start, -step.depth)
            else:
                put(steps[i - 1].end, -steps[i - 1].depth)
                put(steps[i - 1].end + rule.release, -step.depth)
        put(steps[-1].end, -steps[-1].depth)
        put(steps[-1].end + rule.release, 0.0)
    return curve_of(points)
