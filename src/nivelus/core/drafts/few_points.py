"""Drawing what phrases want of a ride: one line over all of them, in few points.

Each phrase brings the course that it wants and what bounds it. The courses are laid one after the other, the gain held in
short pauses and at rest in long ones, and a line with few corners (``core.drafts.line``) goes through them: points are
spent where they even out most, in whichever phrase that is.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from nivelus.core.drafts.line import Course, Indices, corners_of, heights_of, moved_corners
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import Curve, plain
from nivelus.core.gain.edits import thin
from nivelus.core.measure.grid import FRAME
from nivelus.core.measure.loudness import gated_loudness
from nivelus.core.stopping import step

PAUSE, BREATH = 0.02, 0.1
"""How much a frame counts of a pause in which the gain holds, and of a breath, where one of a word counts 1."""
LONG_PAUSE = 1.2
"""Seconds of a pause in which the ride does not stay up, and ..."""
COME_DOWN = 30
"""... and frames in which it comes down then."""
ROUNDS = 5
"""How often the number of corners is put right by that of the points."""
SETTLINGS = 2
"""How often the phrases are put back to their level: what one is moved by takes its neighbours along a little."""
MOST_POINTS, COARSER = 1.99, 1.2
"""Points a second at most: where there are more, the error that they may make grows by this factor."""
NEAR = 50
"""Frames of a phrase from which the line is likely to reach into one beside it that is left alone."""
TRIES, SLACK = 4, 0.3
"""How often the line is drawn, with corners where it passed a phrase's limits by more than so many dB; the last time at all."""
SAME = 1e-9
"""dB that are none."""


@dataclass(frozen=True, slots=True)
class Want:
    """What a phrase wants of the ride: its ``course`` (frames,), dB, and how much each frame counts.

    It goes no higher than ``highest`` and no lower than ``lowest`` dB, and has the loudness ``goal`` then, where one is given.
    """

    course: FloatArray
    weight: FloatArray
    lowest: float = 0.0
    highest: float = 0.0
    goal: float | None = None

    @property
    def is_still(self) -> bool:
        """Whether the phrase is left alone."""
        return self.lowest == self.highest == 0.0


def draw(
    power: FloatArray,
    frames: Sequence[slice],
    wants: Sequence[Want],
    breaths: Indices,
    glide: int,
    slope: float,
    error: float,
) -> Curve:
    """The line of a run of phrases: as few points as their error allows, and no more than MOST_POINTS a second.

    Parameters
    ----------
    power : (n,) K-weighted mean square per frame before the ride, from the first phrase to the one after the run
    frames : the frames of each phrase, from the beginning of the run
    wants : what each wants
    breaths : (m, 2) frames from and up to which there is a breath: from there to the next phrase nothing is lifted
    glide : frames before a phrase in which the gain comes from what it held in a pause
    slope : dB per frame at most, within a phrase
    error : dB that the line may stray for the sake of fewer points

    Returns
    -------
    Curve in seconds from the beginning of the run. O(n), but for thinning, which is O(n log n)
    """
    course, rests, limits = _together(frames, wants, breaths, len(power), glide, slope)
    for tries in range(TRIES):
        if tries == TRIES - 1:
            course = replace(course, fixed=np.union1d(course.fixed, limits[:, 2:]))
        points = _line(course, power, frames, wants, rests, glide, error)
        crossed = _crossed(course, limits, points)
        if not len(crossed):
            break
        course = replace(course, fixed=np.union1d(course.fixed, crossed))
    if points.db[0] > 0 and (breaths[:, 0] < -glide).any():
        points = _with(points, np.array([(0.5 - glide) * FRAME]), np.zeros(1))
    return points


def _line(
    course: Course,
    power: FloatArray,
    frames: Sequence[slice],
    wants: Sequence[Want],
    rests: Indices,
    glide: int,
    error: float,
) -> Curve:
    """The points for a course; it is moved as far as the phrases have to be put back to their level."""
    corners = corners_of(course)
    most = max(int(MOST_POINTS * len(power) * FRAME), 2)
    # settling the phrases may take a point more here and there
    goal = count = most - most // 100
    for _ in range(ROUNDS):
        step()
        kept = corners.best(count)
        points = _points(kept, heights_of(course, kept), rests, glide, error)
        if len(points) <= goal and (len(kept) == len(corners) or goal - len(points) <= most // 100):
            break
        count += goal - len(points)
    kept = moved_corners(course, kept)
    # the inside is evened; the phrase stays where it is, as far as the limits let it
    for _ in range(SETTLINGS):
        step()
        _keep_levels(course, power, frames, wants, points)
        points = _points(kept, heights_of(course, kept), rests, glide, error)
    while len(points) > most:
        error *= COARSER
        points = thin(points, error)
    return points


def _crossed(course: Course, limits: Indices, points: Curve) -> Indices:
    """The corners, (n, 2), that the line needs because it passes some of the ``limits``."""
    gain = points((np.arange(len(course.wanted)) + 0.5) * FRAME)
    passed = np.concatenate([[0], np.cumsum((gain > course.highest + SLACK) | (gain < course.lowest - SLACK))])
    return np.asarray(limits[passed[limits[:, 1]] > passed[limits[:, 0]], 2:])


def _together(
    frames: Sequence[slice], wants: Sequence[Want], breaths: Indices, count: int, glide: int, slope: float
) -> tuple[Course, Indices, Indices]:
    """The course of a run of phrases, which holds in short pauses; its long pauses; and where its limits are not those beside.

    A pause is a row of (n, 3): the last frame before it, the one by which the gain is down, and the next phrase. A limit is a
    row of (n, 4): the frames from and up to which it holds, and two corners with which the line keeps to it, wherever it comes
    from and goes.
    """
    end = frames[-1].stop
    wanted, weight, lowest, highest, slopes = np.zeros((5, end))
    # in a pause nobody hears how fast it goes
    slopes[:] = np.inf
    fixed = [0, end - 1]
    rests: list[tuple[int, int, int]] = []
    limits: list[tuple[int, int, int, int]] = []
    for i, (span, want) in enumerate(zip(frames, wants, strict=True)):
        following = wants[i + 1] if i + 1 < len(wants) else None
        until = frames[i + 1].start if following else count
        hold = max(until - glide, span.stop)
        wanted[span], weight[span], slopes[span] = want.course, want.weight, slope
        lowest[span.start : hold], highest[span.start : hold] = want.lowest, want.highest
        quiet = breaths[(breaths[:, 1] > span.stop) & (breaths[:, 0] < hold), 0]
        if (until - span.stop) * FRAME > LONG_PAUSE or (len(quiet) and not following):
            # what is up has come down when a breath begins, but for one that leaves no time to
            soon = min(max(int(quiet[0]), span.stop + glide) if len(quiet) else count, span.stop + COME_DOWN)
            rests.append((span.stop - 1, soon, until))
            fixed += [span.stop - 1, until] if following else []
        elif following:
            wanted[span.stop : hold], weight[span.stop : hold] = want.course[-1], PAUSE
            lowest[hold:until] = min(want.lowest, following.lowest)
            highest[hold:until] = max(want.highest, following.highest)
            if len(quiet):
                start = max(int(quiet[0]), span.stop)
                wanted[start:hold], weight[start:hold] = min(want.course[-1], 0.0), BREATH
                highest[start:hold] = min(want.highest, 0.0)
                limits.append((start, hold, start, hold - 1))
                fixed += [start, hold - 1] if max(want.course[-1], following.course[0]) > 0 else []
            if want.highest != following.highest:
                # one of them is not lifted, or not as far: what the other is given must not reach into it
                corners = (hold - 1, until)
                limits += [(span.start, hold, *corners), (until, frames[i + 1].stop, *corners)]
                if (following.is_still and want.course[-NEAR:].any()) or (want.is_still and following.course[:NEAR].any()):
                    fixed += corners
    pauses, other = (np.array(rows, np.int64).reshape(-1, width) for rows, width in ((rests, 3), (limits, 4)))
    return Course(wanted, weight, lowest, highest, slopes, np.unique(fixed)), pauses, other


def _points(corners: Indices, heights: FloatArray, rests: Indices, glide: int, error: float) -> Curve:
    """Points of a line with corners at some frames, and of its rests.

    In a long pause the gain comes down to 0 dB if it was above, and holds until just before the next phrase: exactly, while
    everywhere else it may stray by ``error`` for the sake of fewer points.
    """
    before = np.searchsorted(corners, rests[:, 0])
    is_up, goes_on = heights[before] > 0, rests[:, 2] <= corners[-1]
    down = (rests[is_up, 1] - 0.5) * FRAME
    ends = (rests[goes_on, 2] - glide + 0.5) * FRAME
    at, db = np.concatenate([down, ends]), np.concatenate([np.zeros(len(down)), np.minimum(heights[before[goes_on]], 0.0)])
    line = plain(np.asarray((corners + 0.5) * FRAME), heights)
    points = thin(_with(line, at, db), error)
    for _ in range(2):
        lost = np.abs(points(at) - db) > SAME
        points = _with(points, at[lost], db[lost])
    return points


def _with(points: Curve, at: FloatArray, db: FloatArray) -> Curve:
    """A line with further points."""
    if not len(at):
        return points
    every = np.concatenate([points.at, at])
    order = np.argsort(every)
    return plain(every[order], np.concatenate([points.db, db])[order])


def _keep_levels(course: Course, power: FloatArray, frames: Sequence[slice], wants: Sequence[Want], points: Curve) -> None:
    """Move what is wanted of every phrase by what it lies off the loudness that it is to have."""
    gain = 10 ** (points((np.arange(len(course.wanted)) + 0.5) * FRAME) / 10)
    for i, (span, want) in enumerate(zip(frames, wants, strict=True)):
        if want.goal is not None:
            until = frames[i + 1].start if i + 1 < len(frames) else span.stop
            course.wanted[span.start : until] += want.goal - gated_loudness(power[span] * gain[span])
