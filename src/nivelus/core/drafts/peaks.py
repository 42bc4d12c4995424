"""Short peaks that hold a phrase back: a plosive or a struck consonant that meets the ceiling long before the voice does.

Where one or two of them, and nothing else, keep a phrase from its target, it is better to turn just these down than to leave
the whole phrase soft. A dip is as deep as it must be and never deeper than DEEPEST. The limits are our own, after common
practice; no source.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from nivelus.core.drafts.clip_gain import ClipGainDraft, ClipGainRule
from nivelus.core.drafts.dip_rules import LEAST_DIP
from nivelus.core.marks.kernel import runs
from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import FRAME, LevelGrid
from nivelus.core.measure.loudness import gated_loudness, power_to_db, to_db

MOST_PEAKS, LONGEST_FRAMES, DEEPEST = 2, 12, 9.0
APART = 4
"""Frames between peaks below which they are one."""
BESIDE = 1
"""Frames that a dip reaches beyond a peak on both sides, so that it is down before the peak is there."""
MARGIN = 0.1
"""dB that a peak comes to lie under the ceiling."""


@dataclass(frozen=True, slots=True)
class PeakDip:
    """A dip on one peak: seconds, and dB (negative)."""

    start: float
    end: float
    depth: float


@dataclass(frozen=True, slots=True)
class FreedPhrase:
    """What turning its peaks down makes of a phrase: the dips, and the gain (dB) with which it then reaches its target."""

    dips: tuple[PeakDip, ...]
    gain: float


def free_of_peaks(
    grid: LevelGrid, clip: slice, phrase: slice, unit: str, gain: FloatArray, wanted: float, ceiling: float, most: float
) -> FreedPhrase | None:
    """The dips that let a phrase reach its target, or None if its peaks are not what a dip or two may mend.

    Parameters
    ----------
    grid : the level grid
    clip, phrase : frames of the clip and of its phrase
    unit : "loudness" or "rms"; a phrase judged by its peak is not held back by peaks
    gain : (frames of the clip, 2) gain that is there already without that of the clip, see ``core.gain.compiled.frame_gain``
    wanted : level that the phrase should have, LUFS or dBFS
    ceiling : dBTP
    most : the most gain that the other limits let the phrase have, dB
    """
    if unit == "peak":
        return None
    tops = to_db(grid.column("true_peak")[clip].astype(np.float64) * gain[:, 1])
    inside = slice(phrase.start - clip.start, phrase.stop - clip.start)
    power = grid.column("k" if unit == "loudness" else "plain")[phrase].astype(np.float64) * gain[inside, 0]
    needed = wanted - _level(power, unit)
    spans: list[tuple[int, int]] = []
    turned = np.zeros(len(tops))
    # what is turned down makes the phrase softer, so it needs a little more, and so do the peaks
    for _ in range(3):
        spans = _peaks(tops + needed > ceiling)
        if not spans or len(spans) > MOST_PEAKS or any(b - a > LONGEST_FRAMES for a, b in spans):
            return None
        turned[:] = 0.0
        for a, b in spans:
            depth = max(float(tops[a:b].max()) + needed - ceiling + MARGIN, -LEAST_DIP)
            if depth > DEEPEST:
                return None
            turned[max(0, a - BESIDE) : b + BESIDE] = -depth
        needed = wanted - _level(power * 10 ** (turned[inside] / 10), unit)
    if needed > most + 1e-9:
        return None
    dips = tuple(
        PeakDip(
            (clip.start + max(0, a - BESIDE)) * FRAME,
            min((clip.start + b + BESIDE) * FRAME, grid.duration),
            round(float(turned[a]), 2),
        )
        for a, b in spans
    )
    return FreedPhrase(dips, round(needed, 2))


def _peaks(over: np.ndarray) -> list[tuple[int, int]]:
    """Runs of frames over the ceiling; those close together are one peak."""
    spans: list[tuple[int, int]] = []
    for a, b in runs(over).tolist():
        if spans and a - spans[-1][1] < APART:
            spans[-1] = (spans[-1][0], b)
        else:
            spans.append((a, b))
    return spans


def _level(power: FloatArray, unit: str) -> float:
    return gated_loudness(power) if unit == "loudness" else float(power_to_db(power.mean()))


def free_phrases(
    grid: LevelGrid,
    clips: list[slice],
    phrases: list[slice],
    unit: str,
    gain: FloatArray,
    room_tones: FloatArray,
    rule: ClipGainRule,
    draft: ClipGainDraft,
) -> dict[int, FreedPhrase]:
    """Which phrases that the ceiling stops would reach their target with a dip on a peak or two, by their place.

    Parameters
    ----------
    grid : the level grid
    clips, phrases : (n,) frames of each clip and its phrase
    unit : what phrases are judged by
    gain : (frames, 2) gain that is there already without that of the clips
    room_tones : (n,) RMS dBFS around each phrase before gain
    rule, draft : as for ``draft_clip_gain``, and what came of it
    """
    freed = {}
    for place, why in enumerate(draft.reason):
        if why != "ceiling" or rule.strength < 1:
            continue
        most = min(max(rule.base + rule.most_up, 0.0), max(rule.noise_limit - float(room_tones[place]), 0.0))
        clip, phrase = clips[place], phrases[place]
        found = free_of_peaks(grid, clip, phrase, unit, gain[clip], rule.target, rule.ceiling, most)
        if found is not None:
            freed[place] = found
    return freed


def with_peaks_down(draft: ClipGainDraft, freed: Mapping[int, FreedPhrase], down: bool) -> ClipGainDraft:
    """A draft that says which phrases short peaks hold back; or, with these turned ``down``, lets them reach the target."""
    gain, reason = draft.gain.copy(), list(draft.reason)
    for place, phrase in freed.items():
        reason[place] = "freed" if down else "peaks"
        if down:
            gain[place] = phrase.gain
    return ClipGainDraft(gain, tuple(reason))
