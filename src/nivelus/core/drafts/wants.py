"""What a phrase wants of a ride: the gain of every frame that would even its inside, and how much each frame counts.

Conventions
-----------
``power`` and ``vowels`` are mean squares per frame of a phrase, K-weighted and of the vowel band, with all gain before the
ride. Levels are LUFS.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, NamedTuple

import numba
import numpy as np
import numpy.typing as npt

from nivelus.core.errors import LevelError
from nivelus.core.marks.kernel import ranked, runs
from nivelus.core.marks.nuclei import find_nuclei
from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import FRAME
from nivelus.core.measure.inside import around
from nivelus.core.measure.loudness import OFFSET, PHRASE_GATE_SHARE, gated_loudness, gated_power
from nivelus.core.rule import DEFAULT, Pace

BoolArray = npt.NDArray[np.bool_]
Pitch = npt.NDArray[np.floating[Any]]

DB = np.log(10) / 10
"""What a dB of power is in its natural logarithm."""

WINDOW = 0.3
"""Seconds around a frame whose loudness is the level there."""
DECAY = 9.0
"""LU under its phrase from which a window without a nucleus is the end of a word or a pause, which the ride holds through."""
HELD = 3.0
"""LU under its nucleus to which a held note goes on after the last one of a phrase."""
CORE = 0.08
"""Seconds around a nucleus that are its syllable."""
EDGE = 0.05
"""Seconds beside such a pause in which the window already holds some of it."""
SHORTEST = 0.4
"""Seconds of a phrase that has an inside to even out."""
UNVOICED = 0.3
"""How much a frame counts that tells of no word, where one of a word counts 1."""
PITCH, NEAR_PITCH, HARDLY = 0.6, 3, 0.25
"""From where a frame has pitch, how many frames beside it are taken to have it, and the share of a voice with hardly any."""
SUNG = 58
"""Frames for which pitch is held in half of what has pitch, from which a voice sings."""
BOUND = 2
"""Per cent of a phrase that must want more than it may have before the rest comes down to meet it."""
MOST_SHIFT, HALVINGS = 12.0, 9

SLOPES: dict[str, float] = {"calm": 10.0, "usual": 20.0, "quick": 40.0}
"""How steep a ride may be inside phrases, dB a second; usual is 6 dB in 0.3 s."""


@dataclass(frozen=True, slots=True)
class RideRule:
    """How a ride is drafted.

    ``strength`` is a share 0 ... 1; ``most_up``, ``most_down`` dB, both positive; ``natural_fall`` LU over a spoken phrase;
    ``pace`` one of SLOPES; ``dead_band`` LU; ``error`` of the points dB; ``noise_limit`` dBFS.
    ``give`` is how far (LU) a phrase may come down where parts of it cannot come up, if its clip gain does not make up for it.

    Raises
    ------
    LevelError
        If a value is out of its range.
    """

    strength: float = DEFAULT.ride.strength / 100
    most_up: float = DEFAULT.ride.most_up
    most_down: float = DEFAULT.ride.most_down
    natural_fall: float = DEFAULT.ride.natural_fall
    pace: Pace = DEFAULT.ride.pace
    dead_band: float = DEFAULT.target.tolerance
    error: float = DEFAULT.ride.error
    give: float = 0.3
    noise_limit: float = DEFAULT.phrases.noise_limit

    def __post_init__(self) -> None:
        values = np.array([getattr(self, name) for name in self.__dataclass_fields__ if name != "pace"])
        if not np.isfinite(values).all() or not 0 <= self.strength <= 1:
            raise LevelError("A ride's strength is between 0 and 100 %, and all its values are numbers.")
        if values[:-1].min() < 0 or self.error <= 0:
            raise LevelError("Limits, natural fall and error of a ride are not negative.")
        if self.pace not in SLOPES:
            raise LevelError(f"A ride is {', '.join(SLOPES)}.")


class Voiced(NamedTuple):
    """A phrase as a ride hears it: ``power``, ``vowels`` and ``pitch`` per frame (frames,), and the ``room`` under it, dBFS."""

    power: FloatArray
    vowels: FloatArray
    pitch: Pitch
    room: float


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


def spoken(power: FloatArray, vowels: FloatArray, own: float, window: float) -> tuple[FloatArray, BoolArray]:
    """What a ride goes by: the loudness around every frame of a phrase, LUFS, and which frames tell of a word, (n,) each.

    Those are the nuclei of the syllables, however low they lie, and what is as loud as a voice beside them. Before the first
    and after the last nucleus there is onset and decay only. ``own`` is the loudness of the phrase.

    Parameters
    ----------
    power : (n,) K-weighted power of the frames of the phrase
    vowels : (n,) that of the vowel band
    own : loudness of the phrase, LUFS
    window : frames on each side that the loudness around a frame is of
    """
    level = around(power, window)
    nuclei = find_nuclei(vowels)
    voiced = _inner(level > own - DECAY, round(EDGE / FRAME))
    if not len(nuclei):
        return level, np.zeros(len(power), bool)
    near = round(CORE / FRAME)
    for at in nuclei.tolist():
        voiced[max(0, at - near) : at + near + 1] = True
    voiced[: max(0, int(nuclei[0]) - near)] = False
    voiced[_end_of(level, int(nuclei[-1]) + near + 1) :] = False
    return level, voiced


def _end_of(level: FloatArray, after: int) -> int:
    """Where the last syllable ends that has its nucleus before ``after``: a held note goes on while it is nearly as loud."""
    low = level[after:] < level[min(after, len(level) - 1)] - HELD
    return after + int(np.argmax(low)) if low.any() else len(level)


def want_of(voice: Voiced, rule: RideRule, target: float | None) -> tuple[Want, str]:
    """What a phrase wants, and what decided: one of ``core.drafts.ride.REASONS``. O(frames).

    It is evened around the loudness ``target``, or around its own, which it keeps then.
    """
    power, vowels, pitch, room = voice
    count = len(power)
    level_line = Want(np.zeros(count), np.ones(count))
    if count < SHORTEST / FRAME:
        return level_line, "short"
    own = gated_loudness(power)
    level, voiced = spoken(power, vowels, own, WINDOW)
    voiced = _pitched(voiced, pitch)
    missing = (own if target is None else target) + _tune(level, voiced, rule.natural_fall) - level
    if not voiced.any() or np.abs(missing[voiced]).max() <= rule.dead_band:
        return level_line, "steady"
    most_up = min(rule.most_up, max(rule.noise_limit - room, 0.0))
    course, goal = _course(power, missing, voiced, most_up, rule, own if target is None else None)
    # a few windows at the edge of a pause say nothing of the phrase
    furthest_down, furthest_up = (rule.strength * ranked(missing[voiced], share) for share in (5, 95))
    reason = "evened"
    if furthest_down < -rule.most_down:
        reason = "most down"
    if furthest_up > most_up:
        reason = "most up" if most_up == rule.most_up else "noise limit"
    weight = np.where(voiced, 1.0, UNVOICED)
    return Want(course, weight, -rule.most_down, most_up, goal if target is None else None), reason


def _pitched(voiced: BoolArray, pitch: Pitch) -> BoolArray:
    """Which of the frames that tell of a word have pitch near them; all of them where a voice has hardly any."""
    near = np.convolve(pitch >= PITCH, np.ones(2 * NEAR_PITCH + 1), "same") > 0.5
    both = voiced & near
    return both if both.sum() > HARDLY * voiced.sum() else voiced


def _tune(level: FloatArray, voiced: BoolArray, most: float) -> FloatArray:
    """What a phrase is evened around, LU from its loudness, (frames,): a line that falls as the phrase does, by ``most``."""
    at = np.linspace(-0.5, 0.5, len(level))
    there = at[voiced]
    if not len(there) or most == 0:
        return np.zeros(len(level))
    spread = float(((there - there.mean()) ** 2).sum())
    fall = -float(((there - there.mean()) * level[voiced]).sum()) / max(spread, 1e-9)
    return -at * min(max(fall, 0.0), most)


def _course(
    power: FloatArray, missing: FloatArray, voiced: BoolArray, most_up: float, rule: RideRule, own: float | None
) -> tuple[FloatArray, float]:
    """The gain of every frame of a phrase, dB, and the loudness that the phrase has with it.

    Around its own loudness ``own`` a phrase is evened so that it keeps it; where the last word cannot come up as far as it
    should, what is before it may come down, and the phrase with it, by what the rule gives. O(frames).
    """
    last_voiced = np.maximum.accumulate(np.where(voiced, np.arange(len(power)), -1))
    held = missing[np.where(last_voiced < 0, int(np.argmax(voiced)), last_voiced)]
    limits = np.array([rule.strength, -rule.most_down, most_up])
    if own is None:
        return _shifted(held, 0.0, limits), 0.0
    beyond = rule.strength * ranked(missing[voiced], 100 - BOUND) - most_up
    goal = own - min(max(beyond, 0.0), rule.give)
    return _to_loudness(held, limits, power, 10 ** ((goal - OFFSET) / 10)), goal


def is_sung(pitch: Pitch, phrases: list[slice]) -> bool:
    """Whether a voice sings in its phrases: half of what has pitch there, frame by frame, holds it for SUNG frames at least.

    ``pitch`` is that of the whole recording, see ``core.measure.pitch``. O(frames).
    """
    held = [runs(pitch[span] >= PITCH) for span in phrases]
    lengths = np.sort(np.concatenate([np.zeros(0), *(part[:, 1] - part[:, 0] for part in held)]))
    if not len(lengths):
        return False
    return bool(lengths[np.searchsorted(np.cumsum(lengths), lengths.sum() / 2)] >= SUNG)


@numba.njit(cache=True)
def _to_loudness(held: FloatArray, limits: FloatArray, power: FloatArray, goal: float) -> FloatArray:
    """The course that is shifted so that the phrase has a gated mean power of ``goal`` with it, by halvings."""
    low, high = -MOST_SHIFT, MOST_SHIFT
    for _ in range(HALVINGS):
        middle = (low + high) / 2
        course = _shifted(held, middle, limits)
        for i in range(len(course)):
            course[i] = power[i] * np.exp(course[i] * DB)
        if gated_power(course, PHRASE_GATE_SHARE) > goal:
            high = middle
        else:
            low = middle
    return _shifted(held, (low + high) / 2, limits)


@numba.njit(cache=True)
def _shifted(held: FloatArray, shift: float, limits: FloatArray) -> FloatArray:
    """A share of what is missing with a shift, within limits."""
    strength, lowest, highest = limits
    out = np.empty_like(held)
    for i in range(len(held)):
        out[i] = min(max(strength * (held[i] + shift), lowest), highest)
    return out


def _inner(voiced: BoolArray, edge: int) -> BoolArray:
    """What of the voiced frames lies further than ``edge`` frames from a pause; all of them if nothing does."""
    breaks = np.concatenate([[0], np.cumsum(~voiced)])
    low = np.maximum(np.arange(len(voiced)) - edge, 0)
    high = np.minimum(np.arange(len(voiced)) + edge + 1, len(voiced))
    inner = voiced & (breaks[high] == breaks[low])
    return inner if inner.any() else voiced
