"""Drawing what phrases want of a ride: one line over all of them, in few points.

Each phrase brings the course that it wants and what bounds it. The courses are laid one after the other, and a line with few
corners (``core.drafts.line``) goes through them: points are spent where they even out most, in whichever phrase that is. A
pause wants nothing; the line crosses a short one on its way to the next phrase, and does not stay up in a long one, nor
through a breath.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from nivelus.core.drafts.line import STEP, Course, Indices, Line, line_of, settled
from nivelus.core.drafts.wants import Want
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import EMPTY, Curve, plain
from nivelus.core.gain.edits import thin
from nivelus.core.measure.grid import FRAME
from nivelus.core.measure.loudness import gated_loudness
from nivelus.core.stopping import step

LONG_PAUSE = 0.75
"""Seconds of a pause in which the ride does not stay up, ..."""
COME_DOWN, COME_UP = 30, 30
"""... and frames in which it comes down then, and up again."""
STEEP = 0.2
"""dB a frame in pauses: nobody hears how fast it goes there."""
MOST_POINTS, DEARER, TRIES, FEWEST = 1.99, 1.5, 16, 6
"""Points a second at most: where there are more, what each of them costs grows by this factor, so often; not of so few."""
SETTLINGS = 2
"""How often the phrases are put back to their level: what one is moved by takes its neighbours along a little."""
STRAIGHT = 0.02
"""dB that a point may lie off the line through its neighbours, and be none."""


def draw(
    power: FloatArray,
    frames: Sequence[slice],
    wants: Sequence[Want],
    breaths: Indices,
    ends: tuple[int, int],
    slope: float,
    price: float,
) -> Curve:
    """The line of a run of phrases: as few points as their price allows, and no more than MOST_POINTS a second.

    Parameters
    ----------
    power : (n,) K-weighted mean square per frame before the ride
    frames : the frames of each phrase
    wants : what each wants
    breaths : (m, 2) frames from and up to which there is a breath: between phrases it is not lifted
    ends : the frames from and up to which the line may reach: the phrases beside the run, or the ends of the recording
    slope : dB per frame at most, within a phrase
    price : what a point has to be worth, dB squared times frames

    Returns
    -------
    Curve in seconds. O(n)
    """
    if not any(want.course.any() for want in wants):
        return EMPTY
    begin = max(ends[0], frames[0].start - COME_UP - 2 * STEP)
    end = min(ends[1], frames[-1].stop + COME_DOWN + 2 * STEP)
    course = _together(frames, wants, breaths, begin, end, ends, slope)
    most = MOST_POINTS * (end - begin) * FRAME
    for tries in range(TRIES):
        step()
        line = line_of(course, price * DEARER**tries)
        # a short run has the points that it needs to keep to its bounds
        if len(line.at) <= max(most, FEWEST):
            break
    # the inside is evened; the phrase stays where it is, as far as the limits let it
    line = settled(course, line)
    for _ in range(SETTLINGS):
        step()
        _keep_levels(course, power, frames, wants, begin, line)
        line = settled(course, line)
    return thin(plain((line.at + begin + 0.5) * FRAME, line.db), STRAIGHT)


def _together(
    frames: Sequence[slice],
    wants: Sequence[Want],
    breaths: Indices,
    begin: int,
    end: int,
    ends: tuple[int, int],
    slope: float,
) -> Course:
    """The course of a run of phrases, from frame ``begin`` up to ``end``."""
    wanted, weight, lowest, highest, slopes = np.zeros((5, end - begin))
    slopes[:] = max(STEEP, slope)
    may = np.ones(end - begin, bool)
    stops = [ends[0], *(span.stop for span in frames)]
    starts = [*(span.start for span in frames), ends[1]]
    for i, (stop, start) in enumerate(zip(stops, starts, strict=True)):
        beside = wants[max(i - 1, 0) : i + 1]
        a, b = max(stop, begin) - begin, min(start, end) - begin
        lowest[a:b] = min(want.lowest for want in beside)
        highest[a:b] = max(want.highest for want in beside)
        if (start - stop) * FRAME > LONG_PAUSE or i in (0, len(frames)):
            down = stop + COME_DOWN if i else stop
            up = start - COME_UP if i < len(frames) else start
            highest[max(down - begin, 0) : max(up - begin, 0)] = 0.0
            may[max(down - begin, 0) + 4 * STEP : max(up - begin - 4 * STEP, 0)] = False
    for first, last in breaths[(breaths[:, 1] > begin) & (breaths[:, 0] < end)].tolist():
        highest[max(first - begin, 0) : last - begin] = 0.0
    edges = [0, end - begin - 1]
    for span, want in zip(frames, wants, strict=True):
        own = slice(span.start - begin, span.stop - begin)
        wanted[own], weight[own], slopes[own] = want.course, want.weight, slope
        edges += [own.start, own.stop - 1]
        lowest[own], highest[own] = want.lowest, want.highest
    may[np.arange(end - begin) % STEP > 0] = False
    may[edges] = True
    return Course(wanted, weight, lowest, highest, slopes, np.flatnonzero(may))


def _keep_levels(
    course: Course, power: FloatArray, frames: Sequence[slice], wants: Sequence[Want], begin: int, line: Line
) -> None:
    """Move what is wanted of every phrase by what it lies off the loudness that it is to have."""
    gain = 10 ** (np.interp(np.arange(len(course.wanted)), line.at, line.db) / 10)
    for span, want in zip(frames, wants, strict=True):
        if want.goal is not None:
            own = slice(span.start - begin, span.stop - begin)
            course.wanted[own] += want.goal - gated_loudness(power[span] * gain[own])
