"""Clip gain drafts: how far each phrase should move, and why.

Conventions
-----------
Levels are LUFS, RMS dBFS or dBTP, all in the unit of the target; gains are dB. Arrays are 1-D float64 of one value per
phrase. A draft starts from the phrase *before* gain, so the same rule gives the same draft however often it is made.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nivelus.core.errors import LevelError
from nivelus.core.measure.filters import FloatArray
from nivelus.core.rule import DEFAULT, BaseKind, TargetKind

BoolArray = npt.NDArray[np.bool_]

_AS_IT_COMES = DEFAULT.phrases

FEW, HARDLY_ANY, MOST_LOWER = 3, 0.05, 12.0
"""Phrases that may be held back without a word about it, as a number and as a share, and dB a target is lowered by at most."""

REASONS = {
    "level": "is level as it was recorded",
    "to target": "reaches the target",
    "strength": "goes part of the way, by the strength",
    "most up": "limited by the upper limit",
    "most down": "limited by the lower limit",
    "ceiling": "limited by the true peak ceiling",
    "peaks": "held back by a short peak or two, which can be turned down",
    "freed": "reaches the target, with its short peaks turned down",
    "noise limit": "limited because room tone would get too loud",
    "by hand": "set by hand, left as it is",
    "locked": "locked, left as it is",
    "reference": "is a reference, left as it is",
    "left out": "left out",
}
"""Every reason a draft can give, in words for the person."""


@dataclass(frozen=True, slots=True)
class ClipGainRule:
    """What to aim at and how far a phrase may be moved.

    ``strength`` is a share 0 ... 1; ``most_up`` and ``most_down`` are dB, both positive; ``ceiling`` is dBTP and
    ``noise_limit`` RMS dBFS. A limit keeps a phrase from being turned up past it; it never turns one down.

    Levelling is two things: how far the whole voice has to move, and how far its phrases move against each other. ``base``
    (dB) is the first; most up and most down are about the second and count from it. Ceiling and noise limit hold whatever it
    is.
    """

    target: float = DEFAULT.target.level
    tolerance: float = DEFAULT.target.tolerance
    strength: float = _AS_IT_COMES.strength / 100
    most_up: float = _AS_IT_COMES.most_up
    most_down: float = _AS_IT_COMES.most_down
    ceiling: float = _AS_IT_COMES.ceiling
    noise_limit: float = _AS_IT_COMES.noise_limit
    base: float = _AS_IT_COMES.base

    def __post_init__(self) -> None:
        values = (
            self.target,
            self.tolerance,
            self.strength,
            self.most_up,
            self.most_down,
            self.ceiling,
            self.noise_limit,
            self.base,
        )
        if not np.isfinite(values).all():
            raise LevelError("The rule holds a value that is no number.")
        if not 0 <= self.strength <= 1 or self.tolerance < 0 or self.most_up < 0 or self.most_down < 0:
            raise LevelError("Strength is 0 to 100 %, and tolerance, most up and most down are not negative.")


@dataclass(frozen=True, slots=True)
class ClipGainDraft:
    """``gain`` (n,) dB and ``reason`` (n,) of REASONS: the rule that decided each value."""

    gain: FloatArray
    reason: tuple[str, ...]


def draft_clip_gain(
    levels: FloatArray,
    true_peaks: FloatArray,
    room_tones: FloatArray,
    rule: ClipGainRule,
    present: FloatArray | None = None,
    keep: tuple[str | None, ...] | None = None,
) -> ClipGainDraft:
    """Propose a clip gain for every phrase.

    Parameters
    ----------
    levels : (n,) level of each phrase before gain, in the unit of ``rule.target``
    true_peaks : (n,) dBTP of each clip before gain
    room_tones : (n,) RMS dBFS of the room around each phrase before gain
    rule : what to aim at and how far a phrase may be moved
    present : (n,) gain each phrase has now, kept where ``keep`` says so; zeros if not given
    keep : (n,) for each phrase the reason not to touch it ("locked", "reference", "by hand", "left out"), or None

    Returns
    -------
    ClipGainDraft

    Raises
    ------
    LevelError
        If a level is not finite: a silent phrase has no level to even out.
    """
    levels = np.asarray(levels, np.float64)
    if not np.isfinite(levels).all():
        raise LevelError("A phrase without any sound has no level to even out.")
    present = np.zeros(len(levels)) if present is None else np.asarray(present, np.float64)
    distance = rule.target - levels
    inside = np.abs(distance) <= rule.tolerance + 1e-9
    gain = np.where(inside, 0.0, distance * rule.strength)
    reason = np.full(len(levels), "to target" if rule.strength == 1 else "strength", dtype=object)
    # each limit that binds replaces the reason given so far; a limit only ever brings a gain nearer to zero
    limits = (
        ("most up", np.full(len(levels), max(rule.base + rule.most_up, 0.0))),
        ("ceiling", np.maximum(rule.ceiling - np.asarray(true_peaks, np.float64), 0.0)),
        ("noise limit", np.maximum(rule.noise_limit - np.asarray(room_tones, np.float64), 0.0)),
    )
    for name, limit in limits:
        over = gain > limit
        gain = np.where(over, limit, gain)
        reason[over] = name
    lowest = min(rule.base - rule.most_down, 0.0)
    over = gain < lowest
    gain = np.where(over, lowest, gain)
    reason[over] = "most down"
    reason[inside] = "level"
    for index, why in enumerate(keep or ()):
        if why is not None:
            gain[index], reason[index] = present[index], why
    return ClipGainDraft(np.asarray(np.round(gain, 2), np.float64), tuple(reason))


def resolve_base(kind: BaseKind, value: float, target: float, levels: FloatArray) -> float:
    """How far the whole voice has to move, dB, to a hundredth.

    ``auto`` is the distance of the typical phrase, the median of ``levels`` (n,), from the ``target``; ``hand`` is ``value``
    itself, ``none`` 0. Without levels it is 0.

    Parameters
    ----------
    kind : "auto", "hand" or "none"
    value : dB, by hand
    target : what is aimed at
    levels : (n,) those of the phrases, in the unit of the target
    """
    if kind == "hand":
        return value
    levels = np.asarray(levels, np.float64)
    return round(target - float(np.median(levels)), 2) if kind == "auto" and len(levels) else 0.0


def highest_gain(true_peaks: FloatArray, room_tones: FloatArray, rule: ClipGainRule) -> FloatArray:
    """The gain that each clip may be turned up to under ceiling and noise limit, (n,) dB.

    ``true_peaks`` (n,) dBTP and ``room_tones`` (n,) RMS dBFS are those before that gain.
    """
    room = np.minimum(rule.ceiling - np.asarray(true_peaks), rule.noise_limit - np.asarray(room_tones))
    return np.asarray(np.maximum(room, 0.0))


def freeing_target(
    levels: FloatArray, true_peaks: FloatArray, room_tones: FloatArray, rule: ClipGainRule, reason: tuple[str, ...]
) -> float | None:
    """The highest target below the rule's at which what ceiling and noise limit hold back would be level, to half a dB.

    None where they hold back no more than a few (HARDLY_ANY of all), or where only MOST_LOWER below would do.

    Parameters
    ----------
    levels, true_peaks, room_tones : (n,) as in ``draft_clip_gain``
    rule : what the draft was made by
    reason : (n,) those of the draft
    """
    held = np.array([why in ("ceiling", "noise limit", "peaks") for why in reason], bool)
    if held.sum() <= max(FEW, HARDLY_ANY * len(held)):
        return None
    reach = np.asarray(levels) + highest_gain(true_peaks, room_tones, rule) + rule.tolerance
    target = float(np.floor(2 * reach[held].min()) / 2)
    return target if rule.target - MOST_LOWER <= target < rule.target else None


def resolve_target(kind: TargetKind, value: float, levels: FloatArray, reference: BoolArray | None = None) -> float:
    """The level to aim at.

    ``absolute`` is ``value`` itself, ``median`` the median of all ``levels`` (n,), ``reference`` the mean of those that
    ``reference`` (n,) marks. Without levels, or without any marked, it is ``value``.

    Parameters
    ----------
    kind : "absolute", "median" or "reference"
    value : a level
    levels : (n,) those of the phrases, in the unit of ``value``
    reference : (n,) which of them are references
    """
    levels = np.asarray(levels, np.float64)
    if kind == "median" and len(levels):
        return float(np.median(levels))
    if kind == "reference" and reference is not None and np.any(reference):
        return float(levels[np.asarray(reference, bool)].mean())
    return value
