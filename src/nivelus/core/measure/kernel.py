"""The inner loop of the level grid: one pass over one channel, compiled by Numba.

The eight recursions of a sample do not depend on each other, so the processor works on them side by side; the
interpolator of the true peak is written so that it is vectorised along time. No array is made inside the loops.
"""

from __future__ import annotations

from typing import Any

import numba
import numpy as np
import numpy.typing as npt

from nivelus.core.measure.filters import TRUE_PEAK_TAPS, true_peak_phases

BINS_PER_FRAME = 16
"""Waveform bins in a frame; they tile it exactly (borders are rounded), so no sample is lost."""

_PHASES = true_peak_phases().astype(np.float32)
_TAPS = TRUE_PEAK_TAPS
_BEFORE = TRUE_PEAK_TAPS // 2 - 1


@numba.njit(nogil=True, cache=True)
def all_finite(x: npt.NDArray[Any]) -> bool:
    """Whether ``x`` (n,) holds no NaN and no infinity."""
    total = 0.0
    for value in x:
        # x - x is 0 for every finite number and NaN for all others
        total += value - value
    return total == 0.0


@numba.njit(nogil=True, cache=True)
def measure_channel(
    x: npt.NDArray[Any],
    borders: npt.NDArray[np.int64],
    k: npt.NDArray[np.float64],
    bands: npt.NDArray[np.float64],
    sums: npt.NDArray[np.float64],
    peaks: npt.NDArray[np.float32],
    wave: npt.NDArray[np.float32],
) -> None:
    """Filter one channel and add up its frames.

    Parameters
    ----------
    x : (n,) samples; those before ``borders[0]`` only settle the filters
    borders : (m + 1,) first sample of each frame in ``x``, and the end of the last
    k, bands : sections from ``k_weighting`` and ``voice_bands``
    sums : (m, 5) filled with the mean square of: K-weighted, plain, and the three bands
    peaks : (m,) filled with the sample peak
    wave : (m * BINS_PER_FRAME, 2) filled with the lowest and highest sample of each bin
    """
    k00, k01, k02, k03, k04 = k[0]
    k10, k11, k12, k13, k14 = k[1]
    a00, a01, a02, a03, a04 = bands[0, 0]
    a10, a11, a12, a13, a14 = bands[0, 1]
    b00, b01, b02, b03, b04 = bands[1, 0]
    b10, b11, b12, b13, b14 = bands[1, 1]
    c00, c01, c02, c03, c04 = bands[2, 0]
    c10, c11, c12, c13, c14 = bands[2, 1]
    ks0 = ks1 = kt0 = kt1 = as0 = as1 = at0 = at1 = 0.0
    bs0 = bs1 = bt0 = bt1 = cs0 = cs1 = ct0 = ct1 = 0.0
    count = len(borders) - 1
    for frame in range(-1, count):
        start = 0 if frame < 0 else borders[frame]
        stop = borders[0] if frame < 0 else borders[frame + 1]
        part = x[start:stop]
        length = len(part)
        sum_k = sum_p = sum_a = sum_b = sum_c = 0.0
        for i in range(length):
            # the tiny constant keeps the recursions out of denormal numbers, which are slow
            v = np.float64(part[i]) + 1e-25
            y = k00 * v + ks0
            ks0 = k01 * v - k03 * y + ks1
            ks1 = k02 * v - k04 * y
            z = k10 * y + kt0
            kt0 = k11 * y - k13 * z + kt1
            kt1 = k12 * y - k14 * z
            sum_k += z * z
            sum_p += v * v
            y = a00 * v + as0
            as0 = a01 * v - a03 * y + as1
            as1 = a02 * v - a04 * y
            z = a10 * y + at0
            at0 = a11 * y - a13 * z + at1
            at1 = a12 * y - a14 * z
            sum_a += z * z
            y = b00 * v + bs0
            bs0 = b01 * v - b03 * y + bs1
            bs1 = b02 * v - b04 * y
            z = b10 * y + bt0
            bt0 = b11 * y - b13 * z + bt1
            bt1 = b12 * y - b14 * z
            sum_b += z * z
            y = c00 * v + cs0
            cs0 = c01 * v - c03 * y + cs1
            cs1 = c02 * v - c04 * y
            z = c10 * y + ct0
            ct0 = c11 * y - c13 * z + ct1
            ct1 = c12 * y - c14 * z
            sum_c += z * z
        if frame < 0:
            continue
        if length:
            sums[frame, 0] = sum_k / length
            sums[frame, 1] = sum_p / length
            sums[frame, 2] = sum_a / length
            sums[frame, 3] = sum_b / length
            sums[frame, 4] = sum_c / length
        peak = np.float32(0.0)
        done = 0
        for b in range(BINS_PER_FRAME):
            end = (length * (b + 1)) // BINS_PER_FRAME
            low = high = np.float32(0.0)
            if end > done:
                low = high = np.float32(part[done])
                for i in range(done, end):
                    value = np.float32(part[i])
                    low = min(low, value)
                    high = max(high, value)
            done = end
            wave[frame * BINS_PER_FRAME + b, 0] = low
            wave[frame * BINS_PER_FRAME + b, 1] = high
            peak = max(peak, max(high, -low))
        peaks[frame] = peak


@numba.njit(nogil=True, cache=True, fastmath=True)
def true_peaks(
    x: npt.NDArray[np.float32],
    borders: npt.NDArray[np.int64],
    sample_peaks: npt.NDArray[np.float32],
    out: npt.NDArray[np.float32],
) -> None:
    """True peak of each frame by fourfold interpolation; O(n * taps).

    ``x`` (n,) must reach TRUE_PEAK_TAPS samples past the last border on both sides. A point between two samples
    counts for the frame of the first of them. ``out`` (m,) is never less than ``sample_peaks``.
    """
    longest = 0
    for frame in range(len(borders) - 1):
        longest = max(longest, borders[frame + 1] - borders[frame])
    scratch = np.empty(longest, np.float32)
    for frame in range(len(borders) - 1):
        start = borders[frame]
        length = borders[frame + 1] - start
        peak = sample_peaks[frame]
        if peak > np.float32(1e-6):
            for phase in range(3):
                h = _PHASES[phase]
                row = x[start - _BEFORE : start - _BEFORE + length + _TAPS - 1]
                for i in range(length):
                    acc = np.float32(0.0)
                    for t in range(_TAPS):
                        acc += h[t] * row[i + t]
                    scratch[i] = abs(acc)
                for i in range(length):
                    peak = max(peak, scratch[i])
        out[frame] = peak
