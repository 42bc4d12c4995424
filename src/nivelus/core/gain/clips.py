"""Clip gains to one gain curve: each clip holds its gain, and the change happens in the pause between two phrases.

Conventions
-----------
Clips follow each other in rising order, with silence between them or none; positions are samples, gains dB. A step from one
clip to the next is a ramp, linear in dB, centred on their border: as wide as the pause allows (up to 60 ms), and never shorter
than the de-click slope of 5 ms, even where a border was set inside a phrase by hand. Across silence it lies in the middle of
that. O(clips).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from nivelus.core.errors import GainError
from nivelus.core.gain.compiled import FloatArray, GainCurve

DECLICK_SECONDS = 0.005
WIDEST_RAMP_SECONDS = 0.060
SHORTEST_CLIP_SECONDS = 0.020


@dataclass(frozen=True, slots=True, eq=False)
class ClipSpans:
    """Clips as the compiler sees them, in order of time: ``start``, ``end``, and ``phrase_start`` and ``phrase_end``, NaN where
    a clip has no phrase; (n,) float64 each.

    Raises
    ------
    GainError
        If clips overlap, or are none.
    """

    start: FloatArray
    end: FloatArray
    phrase_start: FloatArray
    phrase_end: FloatArray

    def __post_init__(self) -> None:
        if (self.end <= self.start).any() or (self.start[1:] < self.end[:-1]).any():
            raise GainError("Clips must follow each other.")

    def __len__(self) -> int:
        return len(self.start)


def clip_spans(rows: Sequence[tuple[float, float, float | None, float | None]]) -> ClipSpans:
    """Clips from rows of start, end, and start and end of their phrase (None without one)."""
    return ClipSpans(*np.array(rows, np.float64).reshape(-1, 4).T)


def compile_clip_gains(clips: ClipSpans, gain: FloatArray, rate: int) -> GainCurve:
    """Compile clips, with a ``gain`` (n,) dB each, to the gain curve of their track.

    Raises
    ------
    GainError
        If there is no clip, or a gain is not finite.
    """
    if not len(clips):
        raise GainError("There are no clips to compile.")
    border, width = border_ramps(clips, rate)
    gain = np.asarray(gain, np.float64)
    steps = gain[1:] != gain[:-1]
    at = np.stack([border - width / 2, border + width / 2], axis=1)[steps].ravel()
    db = np.stack([gain[:-1], gain[1:]], axis=1)[steps].ravel()
    return GainCurve(np.concatenate([[clips.start[0] - 1.0], at]), np.concatenate([gain[:1], db]))


def border_ramps(clips: ClipSpans, rate: int) -> tuple[FloatArray, FloatArray]:
    """Where each clip but the last gives way to the next, and how wide the ramp there may be: two (n - 1,) of samples."""
    border = (clips.end[:-1] + clips.start[1:]) / 2
    # where there is no phrase, the whole clip is pause
    phrase_start = np.where(np.isnan(clips.phrase_start), clips.end, clips.phrase_start)
    phrase_end = np.where(np.isnan(clips.phrase_end), clips.start, clips.phrase_end)
    room = 2 * np.minimum(border - phrase_end[:-1], phrase_start[1:] - border)
    width = np.clip(room, DECLICK_SECONDS * rate, WIDEST_RAMP_SECONDS * rate)
    # two ramps of one clip may meet but not cross
    length = clips.end - clips.start
    return border, np.minimum(width, 0.98 * np.minimum(length[:-1], length[1:]))
