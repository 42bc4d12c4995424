"""Pauses: what parts one phrase from the next, and what is only a closure or a soft syllable.

Points 4 and 6 of ``core.marks.phrases``. Spans are frames of 10 ms; ``over`` is how far the level stands over the room, dB.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from nivelus.core.marks.features import Features
from nivelus.core.marks.islands import CONSONANT_SHARP, CONSONANT_TILT, OPEN
from nivelus.core.marks.kernel import ranked, runs
from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.loudness import gated_loudness
from nivelus.core.rule import DEFAULT

EDGE = 3.0
"""dB over the room at which a phrase begins and ends."""
PAUSE, PER_DEPTH, PER_DIFFERENCE = 30.0, 0.4, 1.1
"""A pause divides when its frames, and so many for each dB of its depth and of the difference on both sides, come to PAUSE."""
SHORTEST_PAUSE, DEEPEST, MOST_DIFFERENT, SIDE_FRAMES, NEAR_SIDE_FRAMES = 15, 35.0, 10.0, 100, 60
DROWNED_FRAMES, AIR_FRAMES = 60, 15
LONGEST_PHRASE = DEFAULT.phrases.longest
"""Seconds; about as long as a breath."""
_SHORTEST_PART, _DIVIDE_DROP = 80, 16.0
_GOOD_PAUSE, _LESS_PER_FRAME, _LEAST_PAUSE = 26.0, 0.025, 6.0


def join_islands(
    islands: list[list[int]], f: Features, power: npt.NDArray[np.float32], over: FloatArray
) -> list[tuple[int, int]]:
    """Islands as phrases: those that no pause parts are one. ``power`` is the K-weighted power of the frames.

    Parameters
    ----------
    islands : spans of frames, in order
    f : features
    power : (n,) K-weighted, of the frames
    over : (n,) dB over the room
    """
    joined: list[list[int]] = []
    for island in islands:
        if joined and (_weight(f, power, joined[-1][1], island[0]) < PAUSE or _drowned(f, joined[-1], island, over)):
            joined[-1][1] = max(joined[-1][1], island[1])
        else:
            joined.append(list(island))
    return [(a, b) for a, b in joined]


def _weight(f: Features, power: npt.NDArray[np.float32], end: int, start: int) -> float:
    """How much a pause counts, from ``end`` of what is before it to ``start`` of what is after it; in frames."""
    if start - end < SHORTEST_PAUSE:
        return 0.0
    before, after = slice(max(0, end - SIDE_FRAMES), end), slice(start, start + SIDE_FRAMES)
    sides = min(
        ranked(f.level[max(0, end - NEAR_SIDE_FRAMES) : end], 80), ranked(f.level[start : start + NEAR_SIDE_FRAMES], 80)
    )
    depth = min(max(sides - ranked(f.level[end:start], 50), 0.0), DEEPEST)
    difference = min(abs(gated_loudness(power[before]) - gated_loudness(power[after])), MOST_DIFFERENT)
    return start - end + PER_DEPTH * depth + PER_DIFFERENCE * difference


def _drowned(f: Features, left: list[int], right: list[int], over: FloatArray) -> bool:
    """Whether soft parts of one phrase may lie in a pause, under the noise of the room."""
    gap = right[0] - left[1]
    if not 1 < gap < DROWNED_FRAMES or _holds_air(f, over, left[1], right[0]):
        return False
    height = min(ranked(over[slice(*left)], 80), ranked(over[slice(*right)], 80))
    between = float(over[left[1] + 1 : right[0] - 1].mean())
    return between > 0.4 * height or (gap < 50 and height < 17.0 and between > 2.0)


def _holds_air(f: Features, over: FloatArray, a: int, b: int) -> bool:
    """Whether a breath lies in a pause: what stands over the room there for long, without a vowel and without an ess."""
    air = (over[a:b] > OPEN) & (f.tilt[a:b] < CONSONANT_TILT) & (f.sharp[a:b] < CONSONANT_SHARP)
    return any(d - c >= AIR_FRAMES for c, d in runs(air).tolist())


def divide(f: Features, over: FloatArray, span: tuple[int, int], longest: float) -> list[tuple[int, int]]:
    """A phrase of more than ``longest`` frames, divided at its best pause and again; whole where it has none.

    Parameters
    ----------
    f : features
    over : (n,) dB over the room
    span : frames of the phrase
    longest : frames
    """
    a, b = span
    if b - a <= longest:
        return [span]
    first, last = a + _SHORTEST_PART, b - _SHORTEST_PART
    level = f.level[first:last]
    usual = ranked(f.level[a:b], 80)
    pauses = [
        (d - c + PER_DEPTH * min(usual - float(level[c:d].min()), DEEPEST), first + c, first + d)
        for c, d in runs(level < usual - _DIVIDE_DROP).tolist()
    ]
    weight, c, d = max(pauses, default=(0.0, a, b))
    # the longer it is, the less of a pause will do
    if weight < max(_GOOD_PAUSE - _LESS_PER_FRAME * (b - a - longest), _LEAST_PAUSE):
        return [span]
    # the edges lie where the sound does, not where it is loud
    audible = np.flatnonzero(over[c:d] >= EDGE)
    quiet = c + int(np.argmin(f.level[c:d]))
    left = [int(x) + c for x in audible if x + c < quiet]
    right = [int(x) + c for x in audible if x + c > quiet]
    end = next((x + 1 for x in reversed(left)), c)
    start = next(iter(right), d)
    return [*divide(f, over, (a, min(end, quiet)), longest), *divide(f, over, (max(start, quiet + 1), b), longest)]
