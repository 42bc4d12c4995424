"""The inner loop of the level grid: one pass over one channel, compiled by Numba.

The twelve recursions of a sample do not depend on each other, so the processor works on them side by side; the
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

# the three interpolators share what is symmetric: tap k of a quarter is tap 23 - k of three quarters
_QUARTER, _HALF, _ = true_peak_phases().astype(np.float32)
_EVEN = (_QUARTER + _QUARTER[::-1]) / np.float32(2)
_ODD = (_QUARTER - _QUARTER[::-1]) / np.float32(2)
_BEFORE = TRUE_PEAK_TAPS // 2 - 1
G0, G1, G2, G3, G4, G5, G6, G7, G8, G9, G10, G11 = (np.float32(v) for v in _HALF[:12])
E0, E1, E2, E3, E4, E5, E6, E7, E8, E9, E10, E11 = (np.float32(v) for v in _EVEN[:12])
O0, O1, O2, O3, O4, O5, O6, O7, O8, O9, O10, O11 = (np.float32(v) for v in _ODD[:12])


LOUDEST = 1000.0
"""Full scale and 60 dB: samples beyond it are a fault of the file."""


@numba.njit(nogil=True, cache=True)
def faults(x: npt.NDArray[Any]) -> tuple[bool, int]:
    """Whether ``x`` (n,) holds anything that is no finite number, and how many samples lie beyond LOUDEST."""
    total, beyond = 0.0, 0
    for value in x:
        # x - x is 0 for every finite number and NaN for all others
        total += value - value
        beyond += abs(value) > LOUDEST
    return total != 0.0, beyond


@numba.njit(nogil=True, cache=True, fastmath=True)
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
    sums : (m, 7) filled with the mean square of: K-weighted, plain, and the five bands
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
    d00, d01, d02, d03, d04 = bands[3, 0]
    d10, d11, d12, d13, d14 = bands[3, 1]
    e00, e01, e02, e03, e04 = bands[4, 0]
    e10, e11, e12, e13, e14 = bands[4, 1]
    ks0 = ks1 = kt0 = kt1 = as0 = as1 = at0 = at1 = 0.0
    bs0 = bs1 = bt0 = bt1 = cs0 = cs1 = ct0 = ct1 = 0.0
    ds0 = ds1 = dt0 = dt1 = es0 = es1 = et0 = et1 = 0.0
    count = len(borders) - 1
    for frame in range(-1, count):
        start = 0 if frame < 0 else borders[frame]
        stop = borders[0] if frame < 0 else borders[frame + 1]
        part = x[start:stop]
        length = len(part)
        sum_k = sum_p = sum_a = sum_b = sum_c = sum_d = sum_e = 0.0
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
            y = d00 * v + ds0
            ds0 = d01 * v - d03 * y + ds1
            ds1 = d02 * v - d04 * y
            z = d10 * y + dt0
            dt0 = d11 * y - d13 * z + dt1
            dt1 = d12 * y - d14 * z
            sum_d += z * z
            y = e00 * v + es0
            es0 = e01 * v - e03 * y + es1
            es1 = e02 * v - e04 * y
            z = e10 * y + et0
            et0 = e11 * y - e13 * z + et1
            et1 = e12 * y - e14 * z
            sum_e += z * z
        if frame < 0:
            continue
        if length:
            sums[frame, 0] = sum_k / length
            sums[frame, 1] = sum_p / length
            sums[frame, 2] = sum_a / length
            sums[frame, 3] = sum_b / length
            sums[frame, 4] = sum_c / length
            sums[frame, 5] = sum_d / length
            sums[frame, 6] = sum_e / length
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

    Sums and differences of mirrored samples give all three points from one set of loads: half a sample on is the sum over
    G * a, a quarter and three quarters are the sums E * a plus and minus O * d, so the larger of their sizes is
    abs(E * a) + abs(O * d). Everything is written out so that the loop is vectorised along time.
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
            row = x[start - _BEFORE : start - _BEFORE + length + 23]
            for i in range(length):
                a0, d0 = row[i + 0] + row[i + 23], row[i + 0] - row[i + 23]
                a1, d1 = row[i + 1] + row[i + 22], row[i + 1] - row[i + 22]
                a2, d2 = row[i + 2] + row[i + 21], row[i + 2] - row[i + 21]
                a3, d3 = row[i + 3] + row[i + 20], row[i + 3] - row[i + 20]
                a4, d4 = row[i + 4] + row[i + 19], row[i + 4] - row[i + 19]
                a5, d5 = row[i + 5] + row[i + 18], row[i + 5] - row[i + 18]
                a6, d6 = row[i + 6] + row[i + 17], row[i + 6] - row[i + 17]
                a7, d7 = row[i + 7] + row[i + 16], row[i + 7] - row[i + 16]
                a8, d8 = row[i + 8] + row[i + 15], row[i + 8] - row[i + 15]
                a9, d9 = row[i + 9] + row[i + 14], row[i + 9] - row[i + 14]
                a10, d10 = row[i + 10] + row[i + 13], row[i + 10] - row[i + 13]
                a11, d11 = row[i + 11] + row[i + 12], row[i + 11] - row[i + 12]
                half = (
                    G0 * a0
                    + G1 * a1
                    + G2 * a2
                    + G3 * a3
                    + G4 * a4
                    + G5 * a5
                    + G6 * a6
                    + G7 * a7
                    + G8 * a8
                    + G9 * a9
                    + G10 * a10
                    + G11 * a11
                )
                even = (
                    E0 * a0
                    + E1 * a1
                    + E2 * a2
                    + E3 * a3
                    + E4 * a4
                    + E5 * a5
                    + E6 * a6
                    + E7 * a7
                    + E8 * a8
                    + E9 * a9
                    + E10 * a10
                    + E11 * a11
                )
                odd = (
                    O0 * d0
                    + O1 * d1
                    + O2 * d2
                    + O3 * d3
                    + O4 * d4
                    + O5 * d5
                    + O6 * d6
                    + O7 * d7
                    + O8 * d8
                    + O9 * d9
                    + O10 * d10
                    + O11 * d11
                )
                scratch[i] = max(abs(half), abs(even) + abs(odd))
            for i in range(length):
                peak = max(peak, scratch[i])
        out[frame] = peak


@numba.njit(nogil=True, cache=True)
def lay_frames(
    out: npt.NDArray[np.float32],
    source: npt.NDArray[np.float32],
    first: int,
    last: int,
    place: int,
    late: float,
    weights: npt.NDArray[np.float32],
    is_peak: npt.NDArray[np.bool_],
) -> None:
    """Lay rows of one grid over the rows ``first`` ... ``last`` - 1 of another.

    Parameters
    ----------
    out, source : (frames, columns)
    place : which row of ``source`` lies at ``first``; beyond its ends is silence
    late : the share of a frame by which the source lies later than that
    weights : (columns,) what its columns are multiplied by
    is_peak : (columns,) of which columns the higher of two rows holds, instead of their sum by shares
    """
    count = len(source)
    now, before = np.float32(1.0 - late), np.float32(late)
    for row in range(first, last):
        own = place + row - first
        for column in range(out.shape[1]):
            a = source[own, column] if 0 <= own < count else np.float32(0)
            b = source[own - 1, column] if late > 0 and 0 < own <= count else np.float32(0)
            value = max(a, b) if is_peak[column] else (now * a + before * b if late > 0 else a)
            out[row, column] = value * weights[column]
