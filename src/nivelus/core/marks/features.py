"""The frame of features that every kind of mark is found with.

Conventions
-----------
One value per 10 ms frame of the level grid, powers in dB over full scale. A band's *floor* is the room tone in that
band, see ``core.marks.room``; where music goes on under the voice, what that comes up to.

A file may be sampled faster than what was recorded: a call of 8 kHz in a session of 48 kHz. What its highest band holds
is then the slope of a filter, and is taken for nothing.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np
import numpy.typing as npt

from nivelus.core.marks.kernel import ranked, running_median
from nivelus.core.marks.room import LOWEST, have_room, room_floor, stretches, unrest, voice_around
from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import LevelGrid

LEAST_RATE = 12_000
"""Sampling rate in Hz below which the highest band shows nothing."""
_CLEAR, _ENOUGH_FRAMES = 12.0, 300
_HIGHEST_SHARE, _NO_HIGHS = 99, -6.0
"""Percentile of the highest band against the middle one where there is voice, and dB that a slope of a filter stays below."""
_TICK = 9


@dataclass(frozen=True, slots=True)
class Features:
    """Features of a recording: arrays of one value per frame.

    ``level`` is the power of the voice bands in dB, lightly smoothed; ``floor`` its room tone, ``voice`` what the voice
    reaches around; ``highs`` whether there is anything in the highest band at all; ``voiced`` how far the
    vowel band stands over its own floor (dB); ``tilt`` the vowel band against the consonant bands above the floors (dB):
    clearly positive for voice, around or below zero for breath, ess and clicks; ``hiss`` how far the highest band
    stands over its own floor (dB), which shows a faint ess or the release of a t that the room covers elsewhere;
    ``sharp`` the highest band against the middle one above the floors (dB): an ess has more above, air has less.

    ``pitch`` is how clearly a frame repeats itself, see ``core.measure.pitch``, and ``unrest`` how far the floor was raised
    where music goes on under the voice (dB).

    The rest are levels of bands in dB over full scale: ``loud`` the voice bands of the frame alone; ``high``, ``below``
    (vowel and consonant bands), ``mid`` and ``body`` lightly smoothed; ``air`` the middle band without what is shorter
    than 50 ms (ticks, clicks); ``low`` what lies below 150 Hz, and ``burst`` the two upper bands, of the frame alone.
    """

    level: FloatArray
    floor: FloatArray
    voice: FloatArray
    highs: bool
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
    pitch: FloatArray
    unrest: FloatArray


def smooth(power: npt.ArrayLike, frames: int) -> FloatArray:
    """Centred moving average over an odd number of frames, (n,); the ends average what there is."""
    return _smooth(np.ascontiguousarray(power, np.float64), frames // 2)


@numba.njit(nogil=True, cache=True)
def _smooth(power: FloatArray, half: int) -> FloatArray:
    count = len(power)
    total, out = np.zeros(count + 1), np.empty(count)
    for i in range(count):
        total[i + 1] = total[i] + power[i]
    for i in range(count):
        first, last = max(i - half, 0), min(i + half + 1, count)
        # the difference of two large sums can come out as a negative speck
        out[i] = max((total[last] - total[first]) / (last - first), 0.0)
    return out


def features(grid: LevelGrid, highs: bool | None = None) -> Features:
    """Compute the features of a recording from its level grid; O(n).

    ``highs`` says whether the recording holds anything in the highest band, where that is known; see ``shows_highs``.
    """
    bands = [grid.column(name).astype(np.float64) for name in ("voiced", "mid", "high")]
    highs = False if grid.sample_rate < LEAST_RATE else highs
    if grid.sample_rate < LEAST_RATE:
        # at this rate the highest band is nothing but the upper end of the middle one
        bands[2] = np.zeros(len(bands[2]))
    every = bands[0] + bands[1] + bands[2]
    level = _db(smooth(every, 3))
    voice = voice_around(level)
    parts = stretches(level, voice)
    wide = _db(smooth(every, 5))
    roomy = have_room(wide, parts)
    floor = room_floor(wide, parts, roomy, voice)
    pitch = grid.column("pitch").astype(np.float64)
    rise = unrest(wide, floor, pitch)
    floor = floor + rise
    if highs is None:
        highs = _reaches_high(bands, level > floor + _CLEAR)
    if not highs:
        bands[2] = np.zeros(len(bands[2]))
    floors = [room_floor(_db(smooth(band, 5)), parts, roomy, voice) + rise for band in bands]
    above = [np.maximum(smooth(band, 7) - 10 ** (floor / 10), 0.0) for band, floor in zip(bands, floors, strict=True)]
    voiced = _db(smooth(bands[0], 3)) - floors[0]
    hiss = _db(smooth(bands[2], 3)) - floors[2]
    tiny = 10 ** (LOWEST / 10)
    tilt = 10 * np.log10((above[0] + tiny) / (above[1] + above[2] + tiny))
    sharp = 10 * np.log10((above[2] + tiny) / (above[1] + tiny))
    low, body = (grid.column(name).astype(np.float64) for name in ("low", "body"))
    return Features(
        level=level,
        floor=floor,
        voice=voice,
        highs=highs,
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
        pitch=pitch,
        unrest=rise,
    )


def shows_highs(grid: LevelGrid) -> bool:
    """Whether a recording holds anything above about 4.5 kHz, so that esses can be seen in it."""
    return features(grid).highs


def _reaches_high(bands: list[FloatArray], clear: npt.NDArray[np.bool_]) -> bool:
    """Whether the highest band holds more than a filter's slope; of a recording with hardly any voice nothing is said."""
    if clear.sum() < _ENOUGH_FRAMES:
        return True
    stands = _db(smooth(bands[2], 3))[clear] - _db(smooth(bands[1], 3))[clear]
    return ranked(stands, _HIGHEST_SHARE) > _NO_HIGHS


def _db(power: FloatArray) -> FloatArray:
    return np.asarray(10 * np.log10(np.maximum(power, 10 ** (LOWEST / 10))))
