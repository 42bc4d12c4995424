"""Clip gains to one gain curve: each clip holds its gain, and the change happens in the pause between two phrases.

Conventions
-----------
Clips follow each other in rising order, with silence between them or none; positions are samples, gains dB. A step from one
clip to the next is a ramp, linear in dB, in the pause that their border lies in:

- in a short pause as wide as it allows, centred on the border (across silence, on the middle of that): up to 60 ms, and never
  shorter than the de-click slope of 5 ms, even where a border was set inside a phrase by hand;
- in a long one a *glide*, so that the room does not jump: over most of what lies free between the phrases and their breaths,
  its middle at the border if that leaves it room, away from the voice on both sides.

O(clips + breaths).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from nivelus.core.errors import GainError
from nivelus.core.gain.compiled import FloatArray, GainCurve

DECLICK_SECONDS = 0.005
WIDEST_RAMP_SECONDS = 0.060
SHORTEST_CLIP_SECONDS = 0.020
LONG_PAUSE_SECONDS = 0.8
"""A pause that is longer is glided through, ..."""
GLIDE_SHARE, GLIDE_SECONDS = 0.6, 2.0
"""... over this share of it, but no longer, ..."""
AWAY_SHARE, AWAY_SECONDS = 0.2, 0.2
"""... and as far from voice and breath on both sides as this share of it, or so far."""
_NEARLY_HALF = 0.49
NO_BREATHS: FloatArray = np.zeros((0, 2))


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


class Ways(NamedTuple):
    """Where each clip but the last gives way to the next: from ``start`` to ``end`` samples, (n - 1,) each."""

    start: FloatArray
    end: FloatArray


def clip_spans(rows: Sequence[tuple[float, float, float | None, float | None]]) -> ClipSpans:
    """Clips from rows of start, end, and start and end of their phrase (None without one)."""
    return ClipSpans(*np.array(rows, np.float64).reshape(-1, 4).T)


def compile_clip_gains(clips: ClipSpans, gain: FloatArray, rate: int, breaths: FloatArray = NO_BREATHS) -> GainCurve:
    """Compile clips, with a ``gain`` (n,) dB each, to the gain curve of their track.

    ``breaths`` (m, 2) are samples, in order, through which no glide goes.

    Parameters
    ----------
    clips : where they lie
    gain : (n,) dB of each
    rate : Hz
    breaths : (m, 2) samples, in order, through which no glide goes

    Raises
    ------
    GainError
        If there is no clip, or a gain is not finite.
    """
    if not len(clips):
        raise GainError("There are no clips to compile.")
    gain = np.asarray(gain, np.float64)
    steps = gain[1:] != gain[:-1]
    at = np.stack(ways(clips, rate, breaths), axis=1)[steps].ravel()
    db = np.stack([gain[:-1], gain[1:]], axis=1)[steps].ravel()
    return GainCurve(np.concatenate([[clips.start[0] - 1.0], at]), np.concatenate([gain[:1], db]))


def ways(clips: ClipSpans, rate: int, breaths: FloatArray = NO_BREATHS) -> Ways:
    """The ways from the gain of each clip to that of the next, with glides in long pauses."""
    border = _borders(clips)
    half = border_ramps(clips, rate) / 2
    if not len(border):
        return Ways(border, border)
    # what lies free around the border, with all clips without a phrase
    left = np.fmax.accumulate(np.where(np.isnan(clips.phrase_end), clips.start[0], clips.phrase_end))[:-1]
    right = np.fmin.accumulate(np.where(np.isnan(clips.phrase_start), clips.end[-1], clips.phrase_start)[::-1])[::-1][1:]
    is_long = right - left > LONG_PAUSE_SECONDS * rate
    starts, ends = np.sort(breaths[:, 0]), np.sort(breaths[:, 1])
    begun, done = np.searchsorted(starts, border, "left"), np.searchsorted(ends, border, "right")
    left = np.maximum(left, np.concatenate([[-np.inf], ends])[done])
    right = np.minimum(right, np.concatenate([starts, [np.inf]])[begun])
    free = right - left
    away = np.minimum(AWAY_SHARE * free, AWAY_SECONDS * rate)
    # a clip without a phrase has its own gain in its middle all the same
    reach = np.where(np.isnan(clips.phrase_start), _NEARLY_HALF * (clips.end - clips.start), np.inf)
    lowest, highest = np.maximum(left + away, border - reach[:-1]), np.minimum(right - away, border + reach[1:])
    width = np.minimum(np.minimum(GLIDE_SHARE * free, GLIDE_SECONDS * rate), highest - lowest)
    start = np.clip(border - width / 2, lowest, np.maximum(highest - width, lowest))
    # not in a breath, and where there is more room than a ramp takes
    glides = is_long & (begun == done) & (width > 2 * half)
    return Ways(np.where(glides, start, border - half), np.where(glides, start + width, border + half))


def border_ramps(clips: ClipSpans, rate: int) -> FloatArray:
    """How wide the ramp at each border may be, centred on it, (n - 1,) samples: what a short pause has room for."""
    border = _borders(clips)
    # where there is no phrase, the whole clip is pause
    phrase_start = np.where(np.isnan(clips.phrase_start), clips.end, clips.phrase_start)
    phrase_end = np.where(np.isnan(clips.phrase_end), clips.start, clips.phrase_end)
    room = 2 * np.minimum(border - phrase_end[:-1], phrase_start[1:] - border)
    width = np.clip(room, DECLICK_SECONDS * rate, WIDEST_RAMP_SECONDS * rate)
    # two ramps of one clip may meet but not cross
    length = clips.end - clips.start
    return np.asarray(np.minimum(width, 2 * _NEARLY_HALF * np.minimum(length[:-1], length[1:])))


def _borders(clips: ClipSpans) -> FloatArray:
    return np.asarray((clips.end[:-1] + clips.start[1:]) / 2)
