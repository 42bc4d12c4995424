"""A ride drafted from the level grid: slow gain that evens what happens inside the phrases, in few points.

Conventions
-----------
Levels are K-weighted (ITU-R BS.1770-5), LUFS, of the voice with all gain that comes before the ride. Each phrase is
evened around its own level, where clip gain has put it, or around a target. For every phrase, in order:

1. its *nuclei*, the loud cores of its syllables (``core.marks.nuclei``): a word whose nuclei lie low is lifted wherever it
   stands, the last one too, and a held note as long as it is nearly as loud; what has no nucleus and lies low is a pause or a
   decay, through which the gain holds;
2. the level of a short window around every frame: the whole recording is known, so the ride sees what comes;
3. what is missing to the reference, times the strength; a phrase that never leaves the dead band is left alone. The
   reference falls over a spoken phrase as the phrase does, by its natural fall at most: an even reading keeps its tune, and
   only what falls further comes back. Where nothing has pitch the gain holds;
4. no further than most up and most down, and never so far up that the room passes the noise limit; the reference lies
   where the phrase keeps its level. Where a word cannot come up as far as it should, the rest comes down to meet it, as far
   as it needs to and the clip gain may give it back;
5. one line with few corners over all phrases (``core.drafts.few_points``), the nearest there is that is no steeper than its
   pace: a corner stands where it brings the line nearer by what it costs, no more than two a second on the average and four
   in any, and each phrase is put back to its level.

The whole recording is known, so the line is on its way before a word begins. It crosses short pauses, does not stay up in
long ones, and lifts no breath between phrases. Rides of this kind are common practice; the numbers are our own, chosen on
labelled programmes.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from nivelus.core.drafts.few_points import draw
from nivelus.core.drafts.wants import SLOPES, RideRule, Voiced, Want, is_sung, want_of
from nivelus.core.errors import LevelError
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import CLOSEST, EMPTY, Curve, curve_of, with_points
from nivelus.core.gain.edits import replace_range
from nivelus.core.measure.grid import FRAME, LevelGrid
from nivelus.core.measure.inside import inner_spread
from nivelus.core.measure.loudness import gated_loudness, power_to_db
from nivelus.core.stopping import step

BoolArray = npt.NDArray[np.bool_]

CLOSEST_CORNERS = 0.1
"""Seconds between a border of a span and what is drafted within it."""
GLIDE = 0.05
"""Seconds in which the ride comes from what was there, within a span."""
NEAR = 30
"""Frames before and after a run of phrases in which the way to what was there may begin and end."""
PRICE = 150.0
"""Frames for which a point has to bring the line nearer to its course, by the error that is allowed."""
GIVE_SETTLED = 4.0
"""LU that a phrase may come down by where it settles afterwards: its clip gain gives back what the ride takes."""

REASONS = {
    "evened": "evened inside its phrase",
    "steady": "its phrase is steady as it is",
    "most up": "limited in places by the upper limit",
    "most down": "limited in places by the lower limit",
    "noise limit": "limited in places because room tone would get too loud",
    "short": "its phrase is too short to have an inside",
    "not chosen": "left as it is",
}
"""Every reason a ride can give, in words for the person."""


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
    pitch = np.asarray(grid.column("pitch"))
    frames = [grid.span(start, end) for start, end in spans]
    picked = np.ones(len(spans), bool) if chosen is None else chosen
    breath_frames = np.round((np.zeros((0, 2)) if breaths is None else breaths) / FRAME).astype(np.int64)
    if is_sung(pitch, frames):
        # a tune is not what a voice sinks to at the end of a sentence
        rule = replace(rule, natural_fall=0.0)
    wants: list[Want] = []
    reasons = []
    for i, (span, tone, is_picked) in enumerate(zip(frames, room_tones.tolist(), picked.tolist(), strict=True)):
        step()
        room = tone + float(power_to_db(gain[span, 0].mean()))
        give = rule.give
        if rises is not None:
            # what the clip gain gives back also lifts the room, where the ride lifts it most
            give = float(np.clip(rule.noise_limit - room - rule.most_up, 0.0, min(rises[i], GIVE_SETTLED)))
        want, reason = want_of(Voiced(power[span], vowels[span], pitch[span], room), replace(rule, give=give), target)
        wants.append(want)
        reasons.append(reason if is_picked else "not chosen")
    curve = present
    for first, last in _runs(picked):
        ends = frames[first - 1].stop if first else 0, frames[last + 1].start if last + 1 < len(frames) else len(power)
        own = slice(first, last + 1)
        points = draw(power, frames[own], wants[own], breath_frames, ends, SLOPES[rule.pace] * FRAME, rule.error**2 * PRICE)
        if len(present) == 0 and not points.db.any():
            continue
        if chosen is None and len(present) == 0:
            curve = points
        else:
            # the way from what was there to the new begins and ends in the middle of the pauses
            start = (max(ends[0] + frames[first].start, 2 * (frames[first].start - NEAR)) / 2) * FRAME
            end = (min(ends[1] + frames[last].stop, 2 * (frames[last].stop + NEAR)) / 2) * FRAME
            inner = points if len(points) else curve_of([(start, 0.0), (end, 0.0)])
            curve = replace_range(curve, min(start, inner.at[0]) - 0.001, max(end, inner.at[-1]) + 0.001, inner)
    if only is not None:
        curve = _only(present, curve, *only)
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


def _runs(chosen: BoolArray) -> list[tuple[int, int]]:
    """First and last phrase of every run of chosen ones."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], chosen, [False]]).astype(np.int8)))
    return [(int(a), int(b) - 1) for a, b in edges.reshape(-1, 2)]


def _only(present: Curve, drafted: Curve, start: float, end: float) -> Curve:
    """The drafted ride within a span, reached by a glide inside of it; ``present`` outside."""
    if end - start < 2 * CLOSEST_CORNERS:
        raise LevelError("This span is too short to draft a ride in.")
    inset = min(GLIDE, (end - start) / 4)
    cut = with_points(drafted, (start + inset, end - inset))
    return replace_range(present, start, end, cut.keep(cut.inside(start + inset - CLOSEST, end - inset + CLOSEST)))
