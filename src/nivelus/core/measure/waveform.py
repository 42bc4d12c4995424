"""The waveform pyramid: lowest and highest sample of ever longer bins, so that any zoom is drawn from few values.

Level 0 has 16 bins in a 10 ms frame (1600 a second); each further level joins four bins. All levels lie one behind the
other in one (total, 2) float16 array, whose 11 significant bits are finer than any screen.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

LEVELS = 7
JOINED = 4
TILE = 1024
"""Bins in a tile, the unit in which a picture asks for the waveform."""


def pyramid(wave: npt.NDArray[np.float16]) -> npt.NDArray[np.float16]:
    """Build the pyramid over the bins (n, 2) of level 0."""
    levels = [wave]
    for _ in range(LEVELS - 1):
        last = levels[-1]
        starts = np.arange(0, len(last), JOINED)
        low = np.minimum.reduceat(last[:, 0], starts)
        high = np.maximum.reduceat(last[:, 1], starts)
        levels.append(np.stack([low, high], axis=1))
    return np.concatenate(levels)


def tile(data: npt.NDArray[np.float16], bins: int, level: int, index: int) -> npt.NDArray[np.float32]:
    """Tile ``index`` of ``level``: up to TILE bins, (n, 2) float32; empty past the end.

    Parameters
    ----------
    data : (n, 2) all levels one behind the other
    bins : how many bins level 0 has
    level : which level
    index : which tile of it
    """
    offset, length = 0, bins
    for _ in range(level):
        offset += length
        length = -(-length // JOINED)
    start, stop = min(index * TILE, length), min((index + 1) * TILE, length)
    return np.asarray(data[offset + start : offset + stop], np.float32)
