"""The inner loop of the level grid: one pass over one channel, compiled by Numba.

The recursions of a filter need each sample before the next, so eight stretches of time are filtered side by side; the
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
    wrong, beyond = 0, 0
    for value in x:
        # so written, whatever is no number is counted as well
        wrong += not abs(value) <= LOUDEST
    if wrong:
        for value in x:
            beyond += abs(value) > LOUDEST
            # x - x is 0 for every finite number and NaN for all others
            if value - value != 0:
                return True, 0
    return False, beyond


LANES = 8
"""Stretches of a channel that are filtered side by side: one register of the processor holds the same filter of all."""
_SECTIONS, _SUMS = 12, 7
_FIRST_SUM = LANES * (1 + 2 * _SECTIONS)


@numba.njit(nogil=True, cache=True, fastmath=True)
def measure_channel(
    x: npt.NDArray[Any],
    borders: npt.NDArray[np.int64],
    sections: npt.NDArray[np.float64],
    sums: npt.NDArray[np.float64],
) -> None:
    """Filter one channel and add up its frames. O(n).

    Parameters
    ----------
    x : (n,) samples; those before ``borders[0]`` only settle the filters, of each of the LANES as many
    borders : (m + 1,) first sample of each frame in ``x``, and the end of the last
    sections : (6, 2, 5) from ``k_weighting`` and ``voice_bands``
    sums : (m, 7) filled with the mean square of: K-weighted, plain, and the five bands
    """
    count, settle = len(borders) - 1, borders[0]
    each = -(-count // LANES)
    w = np.zeros(_FIRST_SUM + LANES * _SUMS)
    frame, at, left = np.zeros(LANES, np.int64), np.zeros(LANES, np.int64), np.zeros(LANES, np.int64)
    for lane in range(LANES):
        frame[lane] = min(lane * each, count)
        at[lane] = borders[frame[lane]] - settle
    _filter(w, x, at, settle, sections)
    w[_FIRST_SUM:] = 0.0
    for lane in range(LANES):
        at[lane] += settle
    while True:
        # as far as none of them comes to the end of its frame; one that is done filters what nobody asks for
        length = np.int64(0)
        for lane in range(LANES):
            last = min((lane + 1) * each, count)
            while left[lane] == 0 and frame[lane] < last:
                left[lane] = borders[frame[lane] + 1] - borders[frame[lane]]
                if left[lane] == 0:
                    frame[lane] += 1
            if frame[lane] == last:
                at[lane] = 0
            elif length == 0 or left[lane] < length:
                length = left[lane]
        if length == 0:
            return
        _filter(w, x, at, length, sections)
        for lane in range(LANES):
            at[lane] += length
            if left[lane] == 0:
                continue
            left[lane] -= length
            if left[lane] == 0:
                own = frame[lane]
                for column in range(_SUMS):
                    place = _FIRST_SUM + column * LANES + lane
                    sums[own, column] = w[place] / (borders[own + 1] - borders[own])
                    w[place] = 0.0
                frame[lane] += 1


@numba.njit(nogil=True, cache=True, fastmath=True)
def _section(
    w: npt.NDArray[np.float64], lane: int, number: int, v: Any, b0: float, b1: float, b2: float, a1: float, a2: float
) -> Any:
    """One sample of a lane through the second-order section of a ``number``."""
    place = (1 + 2 * number) * LANES + lane
    y = b0 * v + w[place]
    w[place] = b1 * v - a1 * y + w[place + LANES]
    w[place + LANES] = b2 * v - a2 * y
    return y


@numba.njit(nogil=True, cache=True)
def _five(sections: npt.NDArray[np.float64], filter: int, number: int) -> tuple[float, float, float, float, float]:
    c = sections[filter, number]
    return c[0], c[1], c[2], c[3], c[4]


@numba.njit(nogil=True, cache=True, fastmath=True)
def _filter(
    w: npt.NDArray[np.float64],
    x: npt.NDArray[Any],
    at: npt.NDArray[np.int64],
    length: Any,
    sections: npt.NDArray[np.float64],
) -> None:
    """Filter ``length`` samples of each lane from ``at`` on.

    ``w`` is one array, so that the compiler sees that nothing in it lies over anything else: of each lane its sample, two
    values for each section, and its sums.
    """
    k00, k01, k02, k03, k04 = _five(sections, 0, 0)
    k10, k11, k12, k13, k14 = _five(sections, 0, 1)
    a00, a01, a02, a03, a04 = _five(sections, 1, 0)
    a10, a11, a12, a13, a14 = _five(sections, 1, 1)
    b00, b01, b02, b03, b04 = _five(sections, 2, 0)
    b10, b11, b12, b13, b14 = _five(sections, 2, 1)
    c00, c01, c02, c03, c04 = _five(sections, 3, 0)
    c10, c11, c12, c13, c14 = _five(sections, 3, 1)
    d00, d01, d02, d03, d04 = _five(sections, 4, 0)
    d10, d11, d12, d13, d14 = _five(sections, 4, 1)
    e00, e01, e02, e03, e04 = _five(sections, 5, 0)
    e10, e11, e12, e13, e14 = _five(sections, 5, 1)
    p0, p1, p2, p3, p4, p5, p6, p7 = at[0], at[1], at[2], at[3], at[4], at[5], at[6], at[7]
    for i in range(length):
        # the tiny constant keeps the recursions out of denormal numbers, which are slow
        w[0] = np.float64(x[p0 + i]) + 1e-25
        w[1] = np.float64(x[p1 + i]) + 1e-25
        w[2] = np.float64(x[p2 + i]) + 1e-25
        w[3] = np.float64(x[p3 + i]) + 1e-25
        w[4] = np.float64(x[p4 + i]) + 1e-25
        w[5] = np.float64(x[p5 + i]) + 1e-25
        w[6] = np.float64(x[p6 + i]) + 1e-25
        w[7] = np.float64(x[p7 + i]) + 1e-25
        for lane in range(LANES):
            v = w[lane]
            y = _section(w, lane, 0, v, k00, k01, k02, k03, k04)
            y = _section(w, lane, 1, y, k10, k11, k12, k13, k14)
            w[_FIRST_SUM + 0 * LANES + lane] += y * y
            y = _section(w, lane, 2, v, a00, a01, a02, a03, a04)
            y = _section(w, lane, 3, y, a10, a11, a12, a13, a14)
            w[_FIRST_SUM + 2 * LANES + lane] += y * y
            y = _section(w, lane, 4, v, b00, b01, b02, b03, b04)
            y = _section(w, lane, 5, y, b10, b11, b12, b13, b14)
            w[_FIRST_SUM + 3 * LANES + lane] += y * y
            y = _section(w, lane, 6, v, c00, c01, c02, c03, c04)
            y = _section(w, lane, 7, y, c10, c11, c12, c13, c14)
            w[_FIRST_SUM + 4 * LANES + lane] += y * y
            y = _section(w, lane, 8, v, d00, d01, d02, d03, d04)
            y = _section(w, lane, 9, y, d10, d11, d12, d13, d14)
            w[_FIRST_SUM + 5 * LANES + lane] += y * y
            y = _section(w, lane, 10, v, e00, e01, e02, e03, e04)
            y = _section(w, lane, 11, y, e10, e11, e12, e13, e14)
            w[_FIRST_SUM + 6 * LANES + lane] += y * y
            w[_FIRST_SUM + 1 * LANES + lane] += v * v


@numba.njit(nogil=True, cache=True, fastmath=True)
def measure_wave(
    x: npt.NDArray[Any],
    borders: npt.NDArray[np.int64],
    peaks: npt.NDArray[np.float32],
    wave: npt.NDArray[np.float32],
) -> None:
    """The waveform and the sample peaks of one channel.

    Parameters
    ----------
    x : (n,) samples
    borders : (m + 1,) first sample of each frame, and the end
    peaks : (m,) is filled with the sample peak of each frame
    wave : (m * BINS_PER_FRAME, 2) is filled with the lowest and highest sample of each bin
    """
    for frame in range(len(borders) - 1):
        part = x[borders[frame] : borders[frame + 1]]
        length = len(part)
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

    Parameters
    ----------
    x : (n,) samples
    borders : (m + 1,) first sample of each frame, and the end
    sample_peaks : (m,) that of each frame
    out : (m,) is filled
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
