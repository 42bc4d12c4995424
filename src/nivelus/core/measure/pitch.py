"""How clearly each frame repeats itself: what has pitch is a voice, and a breath has none.

The sound is taken down to some 4 kHz and freed of what lies below 80 Hz. Of 40 ms around the middle of each frame, the
highest normalised correlation with what follows 1 ... 16.7 ms later (1000 ... 60 Hz) is kept: near 1 for a vowel, a
laugh or a held note, under 0.6 nearly everywhere for air and for room. Normalised cross-correlation is a usual way to tell
voiced from unvoiced sound: D. Talkin, "A robust algorithm for pitch tracking", in Speech Coding and Synthesis (1995); from
memory.

Nothing is looked for but how periodic a frame is, so a wrong octave does no harm. O(n) in samples.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numba
import numpy as np
import numpy.typing as npt

from nivelus.core.measure.filters import high_pass

RATE = 4000
"""The rate in Hz, nearly, at which it is looked for: every so many samples of the sound."""
LOWEST_HZ, HIGHEST_HZ = 60, 1000
BEFORE, AFTER = 2, 2
"""Frames from the start of a frame that are compared with what follows: with what they are compared with, the frame lies
in the middle."""
REACH_SECONDS = 0.04
"""How far after the start of a frame its measure looks, at most."""
_UNDER = 80.0
_TAPS_EACH_SIDE = 2
_SILENT = 1e-10
"""Mean square, -100 dBFS, below which nothing has a pitch."""


def measure_pitch(x: npt.NDArray[Any], at: int, first: int, count: int, rate: int) -> npt.NDArray[np.float32]:
    """How clearly each frame of a channel repeats itself, (count,) from 0 (not at all) to 1.

    Parameters
    ----------
    x : (n,) samples; half a second before the first frame settles a filter, and REACH_SECONDS follow the last one
    at : which sample of the recording ``x[0]`` is, so that the answer does not hang on where ``x`` begins
    first, count : the frames of 10 ms, of the recording
    rate : of ``x``, Hz
    """
    factor = max(1, round(rate / RATE))
    own = rate / factor
    # every factor-th sample of the recording, whatever part of it this is
    begin = -(-at // factor)
    slow = np.empty(max(0, -(-(at + len(x)) // factor) - begin), np.float32)
    _take_down(x, begin * factor - at - _TAPS_EACH_SIDE * factor, factor, _taps(factor), slow)
    _cut_low(slow, high_pass(_UNDER, own))
    borders = np.rint(np.arange(first - BEFORE, first + count + AFTER) * own / 100).astype(np.int64) - begin
    out = np.zeros(count, np.float32)
    _correlate(slow, borders, int(own // HIGHEST_HZ), -(-int(own) // LOWEST_HZ), out)
    return out


@lru_cache(maxsize=16)
def _taps(factor: int) -> npt.NDArray[np.float32]:
    """A low-pass (windowed sinc) for taking every ``factor``-th sample, whose middle is tap ``_TAPS_EACH_SIDE * factor``."""
    at = np.arange(-_TAPS_EACH_SIDE * factor, _TAPS_EACH_SIDE * factor + 1)
    taps = np.sinc(at / factor * (0.85 if factor > 1 else 1.0)) * np.hanning(len(at) + 2)[1:-1]
    # a length that is compiled without a loop for the rest
    return np.pad(np.asarray(taps / taps.sum(), np.float32), (0, -len(taps) % 32))


@numba.njit(nogil=True, cache=True, fastmath=True)
def _take_down(
    x: npt.NDArray[Any], first: int, factor: int, taps: npt.NDArray[np.float32], out: npt.NDArray[np.float32]
) -> None:
    """Weigh ``x`` with ``taps`` at every ``factor``-th sample from ``first`` on; 0 where they reach beyond its ends."""
    count = len(taps)
    for i in range(len(out)):
        start = first + i * factor
        total = np.float32(0)
        if start >= 0 and start + count <= len(x):
            part = x[start : start + count]
            for k in range(count):
                total += taps[k] * np.float32(part[k])
        out[i] = total


@numba.njit(nogil=True, cache=True)
def _cut_low(y: npt.NDArray[np.float32], section: npt.NDArray[np.float64]) -> None:
    """Put a second-order section over ``y`` in place."""
    b0, b1, b2, a1, a2 = section[0], section[1], section[2], section[3], section[4]
    w1 = w2 = 0.0
    for i in range(len(y)):
        # the tiny constant keeps the recursion out of denormal numbers, which are slow
        v = np.float64(y[i]) + 1e-25
        out = b0 * v + w1
        w1 = b1 * v - a1 * out + w2
        w2 = b2 * v - a2 * out
        y[i] = out


@numba.njit(nogil=True, cache=True, fastmath=True)
def _correlate(
    y: npt.NDArray[np.float32], borders: npt.NDArray[np.int64], low: int, high: int, out: npt.NDArray[np.float32]
) -> None:
    """The highest normalised correlation of the frames around each frame with what lies ``low`` ... ``high`` samples later.

    ``borders`` are those of the frames, from BEFORE the first to AFTER the last of ``out`` (m,), which is filled. Frames
    share what they are made of, so each product is formed once: O(n) times the number of lags. Where there is not enough
    sound on both sides it stays as it is.
    """
    window = BEFORE + AFTER
    # running totals in doubles: where a loud word has left, nothing of it may stay
    totals = np.zeros(len(y) + 1)
    for i in range(len(y)):
        totals[i + 1] = totals[i] + np.float64(y[i]) * np.float64(y[i])
    lags = high - low + 1
    products, sums = np.zeros((window, lags), np.float32), np.zeros(lags, np.float32)
    for frame in range(len(borders) - 1):
        a, b = borders[frame], borders[frame + 1]
        row = products[frame % window]
        row[:] = 0
        if a >= 0 and b + high < len(y):
            # four at once, and along the lags: so the compiler keeps what it adds up in registers
            whole = a + (b - a) // 4 * 4
            for i in range(a, whole, 4):
                v0, v1, v2, v3 = y[i], y[i + 1], y[i + 2], y[i + 3]
                moved = y[i + low : i + low + lags + 3]
                for lag in range(lags):
                    row[lag] += v0 * moved[lag] + v1 * moved[lag + 1] + v2 * moved[lag + 2] + v3 * moved[lag + 3]
            for i in range(whole, b):
                v0, moved = y[i], y[i + low : i + low + lags]
                for lag in range(lags):
                    row[lag] += v0 * moved[lag]
        own = frame - window + 1
        if own < 0:
            continue
        first, last = borders[own], borders[own + window]
        if first < 0 or last + high >= len(y):
            continue
        least = (last - first) * _SILENT
        power = totals[last] - totals[first]
        if power < least:
            continue
        sums[:] = 0
        for part in range(window):
            for lag in range(lags):
                sums[lag] += products[part, lag]
        before, after = totals[first + low : first + low + lags], totals[last + low : last + low + lags]
        best = 0.0
        for lag in range(lags):
            both = max(np.float64(sums[lag]), 0.0)
            best = max(best, both * both / max(after[lag] - before[lag], least))
        out[own] = min(np.sqrt(best / power), 1.0)
