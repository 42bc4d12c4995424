"""A ride drafted from the level grid: slow gain that evens what happens inside the phrases, in few points.

Conventions
-----------
Levels are K-weighted (ITU-R BS.1770-5), LUFS, of the voice with all gain that comes before the ride. Each phrase is
evened around its own level, where clip gain has put it, or around a target. For every phrase, in order:

1. its *nuclei*, the loud cores of its syllables (``core.marks.nuclei``): a word whose nuclei lie low is lifted wherever it
   stands, the last one too, and a held note as long as it is nearly as loud; what has no nucleus and lies low is a pause or a
   decay, through which the gain holds;
2. the level of a short window around every frame: the whole recording is known, so the ride sees what comes;
3. what is missing to the reference, times the strength; a phrase that never leaves the dead band is left alone;
4. no further than most up and most down, and never so far up that the room passes the noise limit; the reference lies
   where the phrase keeps its level. Where a word cannot come up as far as it should, the rest comes down to meet it, as far
   as it needs to and the clip gain may give it back;
5. a lag with an attack (down) and a release (up) that the look-ahead leads, and a limited slope;
6. one line with few corners over all phrases (``core.drafts.few_points``), by least squares: corners stand where they even
   out most, no more than two a second, and each phrase is put back to its level.

Between phrases the gain holds, and glides to the next just before it begins. A breath there is not lifted; in a longer pause
the gain comes down to 0 dB if it was above, so that the room is not lifted where nobody speaks. Rides of this kind are common
practice; the numbers are our own, chosen on labelled programmes.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numba
import numpy as np
import numpy.typing as npt

from nivelus.core.drafts.few_points import Want, draw
from nivelus.core.errors import LevelError
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import CLOSEST, EMPTY, Curve, with_points
from nivelus.core.gain.edits import replace_range, shift
from nivelus.core.marks.kernel import ranked
from nivelus.core.marks.nuclei import find_nuclei
from nivelus.core.measure.grid import FRAME, LevelGrid
from nivelus.core.measure.loudness import (
    MOMENTARY,
    OFFSET,
    PHRASE_GATE_SHARE,
    gated_loudness,
    gated_power,
    power_around,
    power_to_db,
    to_lufs,
)
from nivelus.core.stopping import step

BoolArray = npt.NDArray[np.bool_]
Indices = npt.NDArray[np.int64]

DB = np.log(10) / 10
"""What a dB of power is in its natural logarithm."""

GATE = 12.0
"""LU under its phrase from which a window is a pause inside it, and no part of its spread."""
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
UNVOICED = 0.2
"""How much a frame counts that tells of no word, where one of a word counts 1."""
CLOSEST_CORNERS = 0.1
"""Seconds between a border of a span and what is drafted within it."""
BOUND = 2
"""Per cent of a phrase that must want more than it may have before the rest comes down to meet it."""
MOST_SHIFT, HALVINGS = 12.0, 9
GIVE_SETTLED = 4.0
"""LU that a phrase may come down by where it settles afterwards: its clip gain gives back what the ride takes."""

REASONS = {
    "evened": "evened inside its phrase",
    "steady": "its phrase is steady as it is",
    "most up": "held in places by the most it may go up",
    "most down": "held in places by the most it may go down",
    "noise limit": "held in places because the room would get too loud",
    "short": "its phrase is too short to have an inside",
    "not chosen": "left as it is",
}
"""Every reason a ride can give, in words for the person."""


@dataclass(frozen=True, slots=True)
class RideRule:
    """How a ride is drafted.

    ``strength`` is a share 0 ... 1; ``most_up``, ``most_down`` dB, both positive; ``dead_band`` LU; ``attack``,
    ``release``, ``look_ahead`` and ``window`` seconds; ``slope`` dB/s; ``error`` of the points dB; ``noise_limit`` dBFS.
    ``give`` is how far (LU) a phrase may come down where parts of it cannot come up, if its clip gain does not make up for it.

    Raises
    ------
    LevelError
        If a value is out of its range.
    """

    strength: float = 1.0
    most_up: float = 6.0
    most_down: float = 9.0
    dead_band: float = 1.5
    attack: float = 0.03
    release: float = 0.05
    look_ahead: float = 0.05
    window: float = 0.3
    slope: float = 60.0
    error: float = 0.3
    give: float = 0.4
    noise_limit: float = -40.0

    def __post_init__(self) -> None:
        values = np.array([getattr(self, name) for name in self.__dataclass_fields__])
        if not np.isfinite(values).all() or not 0 <= self.strength <= 1:
            raise LevelError("A ride's strength is between 0 and 100 %, and all its values are numbers.")
        if values[:-1].min() < 0 or min(self.attack, self.release, self.window, self.slope, self.error) <= 0:
            raise LevelError("Times, limits, slope and error of a ride are above 0.")


@dataclass(frozen=True, slots=True)
class RidePhrase:
    """What a ride does to a phrase: its level (LUFS) and inner spread (LU) before and after, and what decided."""

    before: float
    after: float
    spread_before: float
    spread_after: float
    reason: str


@dataclass(frozen=True, slots=True)
class RideDraft:
    """A drafted ride: its curve, and what it does to every phrase."""

    curve: Curve
    phrases: tuple[RidePhrase, ...]


def draft_ride(
    grid: LevelGrid,
    gain: FloatArray,
    spans: Sequence[tuple[float, float]],
    room_tones: FloatArray,
    rule: RideRule,
    target: float | None = None,
    chosen: BoolArray | None = None,
    present: Curve = EMPTY,
    only: tuple[float, float] | None = None,
    rises: FloatArray | None = None,
    breaths: FloatArray | None = None,
) -> RideDraft:
    """Draft a ride. O(n log n) in frames; an hour takes about a second.

    Parameters
    ----------
    grid : the level grid of the recording
    gain : (frames, 2) of all gain before the ride, from ``core.gain.compiled.frame_gain``
    spans : n phrases, seconds, in order
    room_tones : (n,) RMS dBFS of the room around each phrase, before gain
    rule : the rule
    target : LUFS that every phrase is evened around; its own level if not given
    chosen : (n,) the phrases that are drafted, all if not given; around the others ``present`` stays as it is
    present : the ride as it is
    only : seconds within which the ride is drafted, everywhere if not given; outside ``present`` stays as it is
    rises : (n,) dB that the clip gain of each phrase may rise to give back what the ride takes; None where none settles
    breaths : (m, 2) seconds of the breaths, in order: between phrases they are not lifted

    Returns
    -------
    RideDraft
    """
    power = np.asarray(grid.column("k"), np.float64) * gain[:, 0]
    vowels = np.asarray(grid.column("voiced"), np.float64) * gain[:, 0]
    frames = [grid.span(start, end) for start, end in spans]
    picked = np.ones(len(spans), bool) if chosen is None else chosen
    breath_frames = np.round((np.zeros((0, 2)) if breaths is None else breaths) / FRAME).astype(np.int64)
    wants: list[Want] = []
    reasons = []
    for i, (span, tone, is_picked) in enumerate(zip(frames, room_tones.tolist(), picked.tolist(), strict=True)):
        step()
        room = tone + float(power_to_db(gain[span, 0].mean()))
        give = rule.give
        if rises is not None:
            # what the clip gain gives back also lifts the room, where the ride lifts it most
            give = float(np.clip(rule.noise_limit - room - rule.most_up, 0.0, min(rises[i], GIVE_SETTLED)))
        want, reason = _want_of(power[span], vowels[span], room, replace(rule, give=give), target)
        wants.append(want)
        reasons.append(reason if is_picked else "not chosen")
    glide = round(max(rule.attack, rule.release) / FRAME)
    curve = present
    for first, last in _runs(picked):
        following = frames[last + 1].start if last + 1 < len(frames) else len(power)
        begin = frames[first].start
        own = [slice(span.start - begin, span.stop - begin) for span in frames[first : last + 1]]
        around = breath_frames[breath_frames[:, 1] > (frames[first - 1].stop if first else 0)] - begin
        line = draw(power[begin:following], own, wants[first : last + 1], around, glide, rule.slope * FRAME, rule.error)
        points = shift(line, begin * FRAME)
        if len(present) == 0 and not points.db.any():
            continue
        # the way from what was there to the new begins and ends in the middle of the pauses
        before = (frames[first - 1].stop if first > 0 else 0) + frames[first].start
        after = following + frames[last].stop
        start = max(before / 2, frames[first].start - glide) * FRAME
        end = min(after / 2, frames[last].stop + glide) * FRAME
        is_all = chosen is None and len(present) == 0
        curve = (
            points
            if is_all
            else replace_range(curve, min(start, points.at[0]) - 0.001, max(end, points.at[-1]) + 0.001, points)
        )
    if only is not None:
        curve = _only(present, curve, *only, glide * FRAME)
    after_power = power * 10 ** (curve((np.arange(len(power)) + 0.5) * FRAME) / 10)
    return RideDraft(
        curve,
        tuple(
            RidePhrase(
                gated_loudness(power[span]),
                gated_loudness(after_power[span]),
                inner_spread(power[span]),
                inner_spread(after_power[span]),
                reason,
            )
            for span, reason in zip(frames, reasons, strict=True)
        ),
    )


def inner_spread(power: FloatArray) -> float:
    """Spread inside a phrase: the standard deviation, LU, of momentary loudness (400 ms) every 100 ms.

    Windows more than GATE under the phrase are pauses and do not count. 0 for a phrase with fewer than two windows.
    ``power`` (n,) is the K-weighted mean square per frame.
    """
    step()
    frames = np.ascontiguousarray(power, np.float64)
    return float(_spread(frames, gated_power(frames, PHRASE_GATE_SHARE) * 10 ** (-GATE / 10))) if len(frames) else 0.0


@numba.njit(nogil=True, cache=True)
def _spread(power: FloatArray, least: float) -> float:
    """The standard deviation of the loudness of every tenth window whose mean power is above ``least``, LU."""
    count = max((len(power) - MOMENTARY) // 10 + 1, 0)
    levels = np.empty(count)
    kept = 0
    for window in range(count):
        mean = power[10 * window : 10 * window + MOMENTARY].sum() / MOMENTARY
        if mean > least:
            levels[kept] = 10 * np.log10(mean)
            kept += 1
    return float(levels[:kept].std()) if kept > 1 else 0.0


def around(power: FloatArray, window: float) -> FloatArray:
    """Loudness of ``window`` seconds around every frame of a phrase, LUFS, (n,); of less at its edges."""
    count, half = len(power), max(round(window / FRAME / 2), 1)
    return to_lufs(power_around(power, np.arange(count), half, half + 1))


def spoken(power: FloatArray, vowels: FloatArray, own: float, window: float) -> tuple[FloatArray, BoolArray]:
    """What a ride goes by: the loudness around every frame of a phrase, LUFS, and which frames tell of a word, (n,) each.

    Those are the nuclei of the syllables, however low they lie, and what is as loud as a voice beside them. Before the first
    and after the last nucleus there is onset and decay only. ``own`` is the loudness of the phrase.
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


def _want_of(power: FloatArray, vowels: FloatArray, room: float, rule: RideRule, target: float | None) -> tuple[Want, str]:
    """What a phrase wants, and what decided."""
    count = len(power)
    level_line = Want(np.zeros(count), np.ones(count))
    if count < SHORTEST / FRAME:
        return level_line, "short"
    own = gated_loudness(power)
    level, voiced = spoken(power, vowels, own, rule.window)
    missing = (own if target is None else target) - level
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


def _course(
    power: FloatArray, missing: FloatArray, voiced: BoolArray, most_up: float, rule: RideRule, own: float | None
) -> tuple[FloatArray, float]:
    """The gain of every frame of a phrase, dB, and the loudness that the phrase has with it.

    Around its own loudness ``own`` a phrase is evened so that it keeps it; where the last word cannot come up as far as it
    should, what is before it may come down, and the phrase with it, by what the rule gives. O(frames).
    """
    count = len(power)
    last_voiced = np.maximum.accumulate(np.where(voiced, np.arange(count), -1))
    at = np.where(last_voiced < 0, int(np.argmax(voiced)), last_voiced)
    lead = min(round(rule.look_ahead / FRAME), count - 1)

    limits = np.array([-rule.most_down, most_up, FRAME / rule.attack, FRAME / rule.release, rule.slope * FRAME])
    if own is None:
        return _shifted(missing, at, lead, rule.strength, 0.0, limits), 0.0
    beyond = rule.strength * ranked(missing[voiced], 100 - BOUND) - most_up
    goal = own - min(max(beyond, 0.0), rule.give)
    return _to_loudness(missing, at, lead, rule.strength, limits, power, 10 ** ((goal - OFFSET) / 10)), goal


@numba.njit(cache=True)
def _to_loudness(
    missing: FloatArray, at: Indices, lead: int, strength: float, limits: FloatArray, power: FloatArray, goal: float
) -> FloatArray:
    """The course that is shifted so that the phrase has a gated mean power of ``goal`` with it, by halvings."""
    low, high = -MOST_SHIFT, MOST_SHIFT
    for _ in range(HALVINGS):
        middle = (low + high) / 2
        course = _shifted(missing, at, lead, strength, middle, limits)
        for i in range(len(course)):
            course[i] = power[i] * np.exp(course[i] * DB)
        if gated_power(course, PHRASE_GATE_SHARE) > goal:
            high = middle
        else:
            low = middle
    return _shifted(missing, at, lead, strength, (low + high) / 2, limits)


@numba.njit(cache=True)
def _shifted(missing: FloatArray, at: Indices, lead: int, strength: float, shift: float, limits: FloatArray) -> FloatArray:
    """What is missing with a shift, within limits, as it is held at frames ``at``, followed from ``lead`` frames ahead."""
    lowest, highest, attack, release, slope = limits
    count = len(at)
    ahead = np.empty(count)
    for i in range(count):
        wanted = strength * (missing[at[min(i + lead, count - 1)]] + shift)
        ahead[i] = min(max(wanted, lowest), highest)
    return _follow(ahead, attack, release, slope)


def _inner(voiced: BoolArray, edge: int) -> BoolArray:
    """What of the voiced frames lies further than ``edge`` frames from a pause; all of them if nothing does."""
    breaks = np.concatenate([[0], np.cumsum(~voiced)])
    low = np.maximum(np.arange(len(voiced)) - edge, 0)
    high = np.minimum(np.arange(len(voiced)) + edge + 1, len(voiced))
    inner = voiced & (breaks[high] == breaks[low])
    return inner if inner.any() else voiced


@numba.njit(cache=True)
def _follow(ask: FloatArray, attack: float, release: float, slope: float) -> FloatArray:
    """A one-pole lag with another time down than up, and no more than ``slope`` dB a frame."""
    out = np.empty_like(ask)
    now = ask[0]
    down, up = 1.0 - np.exp(-attack), 1.0 - np.exp(-release)
    for i in range(len(ask)):
        step = (ask[i] - now) * (down if ask[i] < now else up)
        now += min(max(step, -slope), slope)
        out[i] = now
    return out


def _runs(chosen: BoolArray) -> list[tuple[int, int]]:
    """First and last phrase of every run of chosen ones."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], chosen, [False]]).astype(np.int8)))
    return [(int(a), int(b) - 1) for a, b in edges.reshape(-1, 2)]


def _only(present: Curve, drafted: Curve, start: float, end: float, glide: float) -> Curve:
    """The drafted ride within a span, reached by a glide inside of it; ``present`` outside."""
    if end - start < 2 * CLOSEST_CORNERS:
        raise LevelError("This span is too short to draft a ride in.")
    inset = min(glide, (end - start) / 4)
    cut = with_points(drafted, (start + inset, end - inset))
    return replace_range(present, start, end, cut.keep(cut.inside(start + inset - CLOSEST, end - inset + CLOSEST)))
