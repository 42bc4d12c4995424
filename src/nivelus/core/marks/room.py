"""The room tone under a recording, followed over time.

A recording is a row of *stretches* that each have one room: they end where sound is cut off into digital silence, and where
steady noise steps to another level (a clip of another take, a microphone that opens). Within a stretch the room is the
10th percentile of the level within +-8 s, so that a room that changes slowly is followed.

A short stretch may hold nothing but voice, cut tight. Its lowest levels then differ widely among themselves, which those
of a room never do, and say nothing of a room. And nothing that lies FAR below the voice around it counts as more than a
room, whatever is below it: what is left of a gated recording, dither, the tail of a filter.

In a pause the room is what stays near the lowest levels of it: a breath, a knock or the end of a word may fill most of it.

Levels are dB over full scale, one value per frame of 10 ms; the numbers were chosen on labelled programmes, see
``bench/marks.py``.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import numpy.typing as npt

from nivelus.core.marks.kernel import floors, ranked, runs, steps
from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import FRAMES_PER_SECOND
from nivelus.core.measure.loudness import power_to_db

LOWEST = -100.0
"""dB that stand for digital silence."""
SILENT, SILENT_FRAMES = -98.0, 3
STEP, STEP_FRAMES, STEADY, UNDER_VOICE = 3.0, 18, 3.0, 15.0
"""dB of a step of the room, frames that are steady on both sides, dB within which they are, and dB under the voice around."""
LASTING_FRAMES = 200
"""Frames that a room lasts at least before it steps again."""
FAR = 50.0
SHORT_FRAMES, LOW_SPREAD = 400, 6.0
MOST_CHANGE = 15.0
"""dB that the room changes by within +-30 s: what stands higher is a note that is held, or someone who takes no breath."""
BESIDE = 5
"""Frames beside a phrase that are not looked at for its room."""
WITHIN = 6.0
"""dB over the lowest levels of a pause up to which it is room: a steady one moves less, a breath rises more."""
NEAR, UNDER_FRAMES, UNDER_ENDS = 12.0, 45, 10
"""dB over the floor that what goes on under a voice stays below, for how many frames at least, and how many at its ends count
for nothing."""
CALM, PER_MOVE, MOST_UNREST = 1.1, 2.4, 10.0
"""dB between the tenth and the half of it that noise has too, by how much more it comes up than that, and at most."""
PITCHED, LEAST_PITCHED, PER_PITCHED = 0.7, 0.05, 0.1
"""From what pitch on a frame is a tone, and the share of such frames in noise, and by how much more it is surely music."""
_FAR_REACH, _EVERY = 30, 4
_REACH, _SHARE, _VOICE_SHARE = 8, 10, 95
_RING = 3
"""Frames beside digital silence that smoothing has mixed with it."""


def stretches(level: FloatArray, voice: FloatArray) -> npt.NDArray[np.int64]:
    """First and one-past-last frame of every stretch with one room, (n, 2); together with silence they tile the recording.

    ``level`` and ``voice`` (n,) are the level and that of the voice around, dB.
    """
    silent = [(a, b) for a, b in runs(level <= SILENT).tolist() if b - a >= SILENT_FRAMES]
    sounding, at = [], 0
    for a, b in [*silent, (len(level), len(level))]:
        if a > at:
            sounding.append((at, a))
        at = b
    cuts = steps(level, voice - UNDER_VOICE, STEP_FRAMES, STEADY, STEP).tolist()
    out = []
    for a, b in sounding:
        borders = [a, *(cut for cut in cuts if a < cut < b), b]
        # a room lasts: what is steady for a moment is air, or a note
        lasting = [q for p, q, r in zip(borders, borders[1:], borders[2:], strict=False) if min(q - p, r - q) >= LASTING_FRAMES]
        borders = [a, *lasting, b]
        out += list(pairwise(borders))
    return np.array(out or [(0, len(level))], np.int64)


def voice_around(level: FloatArray) -> FloatArray:
    """The level that the voice reaches within +-8 s, (n,) dB: the 95th percentile of what is not silence."""
    return spread(floors(level, FRAMES_PER_SECOND, _REACH, _VOICE_SHARE, LOWEST, 4), len(level))


def have_room(level: FloatArray, parts: npt.NDArray[np.int64]) -> npt.NDArray[np.bool_]:
    """Which of the ``stretches`` hold any room, (n,): a short one may be nothing but voice."""
    out = np.ones(len(parts), bool)
    for index, (a, b) in enumerate(parts.tolist() if len(parts) > 1 else ()):
        if b - a < SHORT_FRAMES:
            low, tenth, more, loud = np.percentile(_inner(level, a, b), [5, 10, 20, 95])
            out[index] = more - low <= LOW_SPREAD and tenth <= loud - UNDER_VOICE
    return out


def room_floor(level: FloatArray, parts: npt.NDArray[np.int64], roomy: npt.NDArray[np.bool_], voice: FloatArray) -> FloatArray:
    """Room tone under ``level`` (n,) in dB within the ``stretches`` that have any; O(n).

    Parameters
    ----------
    level : (n,) dB
    parts : (m, 2) frames of the stretches
    roomy : (m,) which of them have any room
    voice : (n,) dB, that of the voice around each frame
    """
    out = np.full(len(level), LOWEST)
    for (a, b), has_room in zip(parts.tolist(), roomy.tolist(), strict=True):
        if not has_room:
            continue
        part = _inner(level, a, b)
        # within a stretch what is silent in one band is room all the same
        blocks = floors(part, FRAMES_PER_SECOND, _REACH, _SHARE, -np.inf, 2)
        values = spread(np.minimum(blocks, _lowest_around(part) + MOST_CHANGE), len(part))
        lead = _RING if a and len(part) < b - a else 0
        out[a:b] = np.interp(np.arange(b - a), np.arange(len(part)) + lead, values)
    return np.asarray(np.maximum(out, voice - FAR))


def unrest(level: FloatArray, floor: FloatArray, pitch: FloatArray) -> FloatArray:
    """How far music under the voice comes up over its ``floor``, (n,) dB; nothing for the noise of a room. O(n).

    Looked at are stretches that stay NEAR the floor longer than a voice does. Music moves up and down there and has pitch,
    see ``core.measure.pitch``; a room does neither.
    """
    over = level - floor
    under = np.zeros(len(over), bool)
    for a, b in runs(over < NEAR).tolist():
        if b - a >= UNDER_FRAMES:
            under[a + UNDER_ENDS : b - UNDER_ENDS] = True
    # every fourth frame tells as much
    over, under, tones = over[::_EVERY], under[::_EVERY], pitch[::_EVERY] > PITCHED
    second = FRAMES_PER_SECOND // _EVERY
    blocks = np.zeros(max(1, -(-len(over) // second)))
    for block in range(len(blocks)):
        around = slice(max(0, (block - _REACH) * second), (block + _REACH + 1) * second)
        heard = under[around]
        count = int(np.count_nonzero(heard))
        if count < LASTING_FRAMES // _EVERY:
            continue
        share = np.count_nonzero(tones[around][heard]) / count
        if share > LEAST_PITCHED:
            part = over[around][heard]
            moves = max(0.0, ranked(part, 50) - ranked(part, _SHARE) - CALM)
            blocks[block] = min(moves * PER_MOVE, MOST_UNREST) * min((share - LEAST_PITCHED) / PER_PITCHED, 1.0)
    return spread(blocks, len(level))


def is_room(power: FloatArray) -> npt.NDArray[np.bool_]:
    """Which frames of a pause are room, (n,), by their mean squares ``power`` (n > 0,); at least one is.

    Digital silence counts where it is most of the pause, and is left out where it is not.
    """
    silent = power <= 10 ** (SILENT / 10)
    if silent.sum() * 2 >= len(power):
        return silent
    lowest = ranked(power[~silent], _SHARE)
    return np.asarray(~silent & (power <= lowest * 10 ** (WITHIN / 10)))


def room_of(power: FloatArray) -> float:
    """Room tone of a pause, RMS dBFS, by the mean squares ``power`` (n > 0,) of its frames; LOWEST for digital silence."""
    return max(float(power_to_db(np.median(power[is_room(power)]))), LOWEST)


def _inner(level: FloatArray, a: int, b: int) -> FloatArray:
    """A stretch without the frames that smoothing has mixed with the silence beside it."""
    part = level[a + _RING * (a > 0) : b - _RING * (b < len(level))]
    return part if len(part) >= SILENT_FRAMES else level[a:b]


def _lowest_around(level: FloatArray) -> FloatArray:
    """For each second, the lowest that any second within +-30 s comes down to, dB."""
    seconds = floors(level, FRAMES_PER_SECOND, 0, _SHARE, -np.inf, 1)
    if len(seconds) > 1 and len(level) % FRAMES_PER_SECOND:
        # of a last second that is cut off nothing is known
        seconds[-1] = np.inf
    padded = np.pad(seconds, _FAR_REACH, constant_values=np.inf)
    return np.asarray(np.lib.stride_tricks.sliding_window_view(padded, 2 * _FAR_REACH + 1).min(axis=1))


def spread(blocks: FloatArray, count: int) -> FloatArray:
    """Values of seconds as values of ``count`` frames, (count,), linear between the middles of the seconds."""
    at = (np.arange(count) + 0.5) / FRAMES_PER_SECOND - 0.5
    return np.interp(at, np.arange(len(blocks)), blocks)
