"""The frame of features that every kind of mark is found with.

Conventions
-----------
One value per 10 ms frame of the level grid, powers in dB over full scale. A band's *floor* is the room tone in that
band, followed over time: the 10th percentile of its smoothed level within +-8 s, never below -100 dB, so a room that
changes slowly (a fan that starts, another place) is followed and a digitally silent stretch does not count as a room.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import FRAMES_PER_SECOND, LevelGrid

LOWEST = -100.0
_FLOOR_REACH = 8
_FLOOR_SHARE = 10


@dataclass(frozen=True, slots=True)
class Features:
    """Features of a recording: arrays of one value per frame.

    ``level`` is the power of the voice bands in dB, lightly smoothed; ``floor`` its room tone; ``voiced`` how far the
    vowel band stands over its own floor (dB); ``tilt`` the vowel band against the consonant bands above the floors (dB):
    clearly positive for voice, around or below zero for breath, ess and clicks; ``hiss`` how far the highest band
    stands over its own floor (dB), which shows a faint ess or the release of a t that the room covers elsewhere;
    ``sharp`` the highest band against the middle one above the floors (dB): an ess has more above, air has less.
    """

    level: FloatArray
    floor: FloatArray
    voiced: FloatArray
    tilt: FloatArray
    hiss: FloatArray
    sharp: FloatArray


def smooth(power: npt.ArrayLike, frames: int) -> FloatArray:
    """Centred moving average over an odd number of frames, (n,); the ends average what there is."""
    power = np.asarray(power, np.float64)
    half = frames // 2
    total = np.concatenate([[0.0], np.cumsum(power)])
    index = np.arange(len(power))
    first, last = np.maximum(index - half, 0), np.minimum(index + half + 1, len(power))
    return np.asarray(np.maximum((total[last] - total[first]) / (last - first), 0.0))


def room_floor(level: FloatArray) -> FloatArray:
    """Room tone under ``level`` (n,) in dB, followed over time; O(n)."""
    second = FRAMES_PER_SECOND
    count = max(1, -(-len(level) // second))
    values = np.empty(count)
    for block in range(count):
        part = level[max(0, (block - _FLOOR_REACH) * second) : (block + _FLOOR_REACH + 1) * second]
        part = part[part > LOWEST]
        rank = len(part) * _FLOOR_SHARE // 100
        values[block] = np.partition(part, rank)[rank] if len(part) else LOWEST
    at = (np.arange(len(level)) + 0.5) / second - 0.5
    return np.interp(at, np.arange(count), values)


def features(grid: LevelGrid) -> Features:
    """Compute the features of a recording from its level grid; O(n)."""
    bands = [grid.column(name).astype(np.float64) for name in ("voiced", "mid", "high")]
    level = _db(smooth(bands[0] + bands[1] + bands[2], 3))
    floors = [room_floor(_db(smooth(band, 5))) for band in bands]
    above = [np.maximum(smooth(band, 7) - 10 ** (floor / 10), 0.0) for band, floor in zip(bands, floors, strict=True)]
    voiced = _db(smooth(bands[0], 3)) - floors[0]
    hiss = _db(smooth(bands[2], 3)) - floors[2]
    tiny = 10 ** (LOWEST / 10)
    tilt = 10 * np.log10((above[0] + tiny) / (above[1] + above[2] + tiny))
    sharp = 10 * np.log10((above[2] + tiny) / (above[1] + tiny))
    return Features(level, room_floor(_db(smooth(bands[0] + bands[1] + bands[2], 5))), voiced, tilt, hiss, sharp)


def runs(mask: npt.NDArray[np.bool_]) -> npt.NDArray[np.int64]:
    """First and one-past-last index of every run of True, (runs, 2)."""
    edges = np.diff(np.concatenate([[0], mask.astype(np.int8), [0]]))
    return np.stack([np.flatnonzero(edges == 1), np.flatnonzero(edges == -1)], axis=1)


def _db(power: FloatArray) -> FloatArray:
    return np.asarray(10 * np.log10(np.maximum(power, 10 ** (LOWEST / 10))))
