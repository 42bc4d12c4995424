"""Clip gains to one gain curve: each clip holds its gain, and the change happens in the pause between two phrases.

Conventions
-----------
Clips tile the recording in rising order; positions are samples, gains dB. A step from one clip to the next is a ramp,
linear in dB, centred on their border: as wide as the pause allows (up to 60 ms), and never shorter than the de-click
slope of 5 ms, even where a border was set inside a phrase by hand. O(clips).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from nivelus.core.errors import GainError
from nivelus.core.gain.curve import FloatArray, GainCurve

DECLICK_SECONDS = 0.005
WIDEST_RAMP_SECONDS = 0.060
SHORTEST_CLIP_SECONDS = 0.020


@dataclass(frozen=True, slots=True)
class ClipGain:
    """A clip as the compiler sees it: its span, its gain, and where its phrase lies (None without one)."""

    start: int
    end: int
    gain: float
    phrase_start: int | None = None
    phrase_end: int | None = None


def compile_clip_gains(clips: Sequence[ClipGain], rate: int) -> GainCurve:
    """Compile clips that tile a recording to its gain curve.

    Raises
    ------
    GainError
        If there is no clip, clips leave holes or overlap, or a gain is not finite.
    """
    if not clips:
        raise GainError("There are no clips to compile.")
    border, width = border_ramps(clips, rate)
    gain = np.array([clip.gain for clip in clips], np.float64)
    steps = gain[1:] != gain[:-1]
    at = np.stack([border - width / 2, border + width / 2], axis=1)[steps].ravel()
    db = np.stack([gain[:-1], gain[1:]], axis=1)[steps].ravel()
    return GainCurve(np.concatenate([[clips[0].start - 1.0], at]), np.concatenate([gain[:1], db]))


def border_ramps(clips: Sequence[ClipGain], rate: int) -> tuple[FloatArray, FloatArray]:
    """Where each clip but the last ends, and how wide the ramp to the next may be: two (n - 1,) of samples.

    Raises
    ------
    GainError
        If clips leave holes or overlap.
    """
    start = np.array([clip.start for clip in clips], np.float64)
    end = np.array([clip.end for clip in clips], np.float64)
    if (end <= start).any() or (start[1:] != end[:-1]).any():
        raise GainError("Clips must follow each other without holes.")
    phrase_start = np.array([c.end if c.phrase_start is None else c.phrase_start for c in clips], np.float64)
    phrase_end = np.array([c.start if c.phrase_end is None else c.phrase_end for c in clips], np.float64)
    border = end[:-1]
    room = 2 * np.minimum(border - phrase_end[:-1], phrase_start[1:] - border)
    width = np.clip(room, DECLICK_SECONDS * rate, WIDEST_RAMP_SECONDS * rate)
    # two ramps of one clip may meet but not cross
    length = end - start
    return border, np.minimum(width, 0.98 * np.minimum(length[:-1], length[1:]))
