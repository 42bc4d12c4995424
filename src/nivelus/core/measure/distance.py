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
from nivelus.core.measure.grid import LevelGrid
from nivelus.core.measure.loudness import AS_TWO_LOUDSPEAKERS, SHORT_TERM, gated_loudness, power_around, to_lufs

EVERY = 10
"""Frames between two values of a course: 10 a second."""
SILENT = -100.0
"""What stands for the loudness of nothing at all, LUFS."""


def heard_power(grid: LevelGrid, gain: FloatArray | float, beside_stereo: bool) -> FloatArray:
    """K-weighted power per frame of a sound that is heard with a power gain in each frame, (frames,).

    Beside stereo, a mono sound comes from two loudspeakers.
    """
    two = 10 ** (AS_TWO_LOUDSPEAKERS / 10) if beside_stereo and grid.channels == 1 else 1.0
    return np.asarray(np.asarray(grid.column("k"), np.float64) * gain * two)


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
    middle = np.arange(0, len(power), EVERY)
    return _floored(to_lufs(power_around(power, middle, SHORT_TERM // 2, SHORT_TERM // 2))).astype(np.float32)


def _floored(levels: FloatArray) -> FloatArray:
    return np.maximum(levels, SILENT)
