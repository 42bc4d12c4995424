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

from nivelus.core.marks.kernel import floors, running_median
from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import FRAMES_PER_SECOND, LevelGrid

LOWEST = -100.0
_FLOOR_REACH = 8
_FLOOR_SHARE = 10
_TICK = 9


@dataclass(frozen=True, slots=True)
class Features:
    """Features of a recording: arrays of one value per frame.

    ``level`` is the power of the voice bands in dB, lightly smoothed; ``floor`` its room tone; ``voiced`` how far the
    vowel band stands over its own floor (dB); ``tilt`` the vowel band against the consonant bands above the floors (dB):
    clearly positive for voice, around or below zero for breath, ess and clicks; ``hiss`` how far the highest band
    stands over its own floor (dB), which shows a faint ess or the release of a t that the room covers elsewhere;
    ``sharp`` the highest band against the middle one above the floors (dB): an ess has more above, air has less.

    The rest are levels of bands in dB over full scale: ``loud`` the voice bands of the frame alone; ``high``, ``below``
    (vowel and consonant bands), ``mid`` and ``body`` lightly smoothed; ``air`` the middle band without what is shorter
    than 50 ms (ticks, clicks); ``low`` what lies below 150 Hz, and ``burst`` the two upper bands, of the frame alone.
    """

    level: FloatArray
    floor: FloatArray
    voiced: FloatArray
    tilt: FloatArray
    hiss: FloatArray
    sharp: FloatArray
    loud: FloatArray
    high: FloatArray
    below: FloatArray
    mid: FloatArray
    body: FloatArray
    air: FloatArray
    low: FloatArray
    burst: FloatArray


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
    values = floors(level, second, _FLOOR_REACH, _FLOOR_SHARE, LOWEST)
    at = (np.arange(len(level)) + 0.5) / second - 0.5
    return np.interp(at, np.arange(len(values)), values)


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
    low, body = (grid.column(name).astype(np.float64) for name in ("low", "body"))
    every = bands[0] + bands[1] + bands[2]
    return Features(
        level=level,
        floor=room_floor(_db(smooth(every, 5))),
        voiced=voiced,
        tilt=tilt,
        hiss=hiss,
        sharp=sharp,
        loud=_db(every),
        high=_db(smooth(bands[2], 3)),
        below=_db(smooth(bands[0] + bands[1], 3)),
        mid=_db(smooth(bands[1], 3)),
        body=_db(smooth(body, 3)),
        air=_db(smooth(running_median(bands[1], _TICK), 5)),
        low=_db(low),
        burst=_db(bands[1] + bands[2]),
    )


def _db(power: FloatArray) -> FloatArray:
    return np.asarray(10 * np.log10(np.maximum(power, 10 ** (LOWEST / 10))))
