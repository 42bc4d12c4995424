"""Clips one by one, as a test writes them down."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from nivelus.core.gain.clips import ClipSpans, clip_spans, compile_clip_gains
from nivelus.core.gain.compiled import GainCurve


class ClipGain(NamedTuple):
    """A clip, its gain (dB), and where its phrase lies (None without one); samples."""

    start: int
    end: int
    gain: float
    phrase_start: int | None = None
    phrase_end: int | None = None


def spans_of(clips: Sequence[ClipGain]) -> ClipSpans:
    """Where the clips and their phrases lie."""
    return clip_spans([(clip.start, clip.end, clip.phrase_start, clip.phrase_end) for clip in clips])


def compiled(clips: Sequence[ClipGain], rate: int) -> GainCurve:
    """The compiled gain of clips."""
    return compile_clip_gains(spans_of(clips), np.array([clip.gain for clip in clips], np.float64), rate)
