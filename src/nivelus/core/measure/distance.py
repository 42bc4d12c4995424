"""How far a voice lies above its bed, from level grids alone.

Conventions
-----------
``power`` is K-weighted power per 10 ms frame with all gain and the fader in it, (frames,); spans are slices of frames.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from nivelus.core.gain.compiled import FloatArray
from nivelus.core.measure.loudness import SHORT_TERM, gated_loudness, to_lufs

EVERY = 10
"""Frames between two values of a course: 10 a second."""
SILENT = -100.0
"""What stands for the loudness of nothing at all, LUFS."""


def phrase_levels(power: FloatArray, spans: Sequence[slice]) -> FloatArray:
    """Phrase loudness of the voice in each span, LUFS, (n,)."""
    return _floored(np.array([gated_loudness(power[span]) if power[span].any() else -np.inf for span in spans]))


def bed_levels(power: FloatArray, spans: Sequence[slice]) -> FloatArray:
    """Mean loudness of the bed in each span, LUFS, (n,): no gate, for what is under a word is under it. O(frames + n)."""
    total = np.concatenate([[0.0], np.cumsum(power)])
    last = len(power)
    first = np.array([min(span.start, last) for span in spans], np.int64)
    stop = np.array([min(span.stop, last) for span in spans], np.int64)
    # what lies behind the end of the bed counts as silence
    length = np.maximum(np.array([span.stop - span.start for span in spans], np.int64), 1)
    return _floored(to_lufs(np.maximum((total[stop] - total[first]) / length, 0.0)))


def course(power: FloatArray) -> npt.NDArray[np.float32]:
    """Short-term loudness of the 3 s around every EVERY frames, LUFS. O(frames)."""
    total = np.concatenate([[0.0], np.cumsum(power)])
    middle = np.arange(0, len(power), EVERY)
    first, last = np.maximum(middle - SHORT_TERM // 2, 0), np.minimum(middle + SHORT_TERM // 2, len(power))
    return _floored(to_lufs(np.maximum((total[last] - total[first]) / np.maximum(last - first, 1), 0.0))).astype(np.float32)


def _floored(levels: FloatArray) -> FloatArray:
    return np.maximum(levels, SILENT)
