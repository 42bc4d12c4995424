"""What finding marks does many thousand times, compiled by Numba: ranks, runs, floors, bumps.

Conventions are those of ``core.marks.features``: one value per frame, levels in dB.
"""

from __future__ import annotations

import numba
import numpy as np
import numpy.typing as npt

FloatArray = npt.NDArray[np.float64]


@numba.njit(nogil=True, cache=True)
def ranked(values: FloatArray, share: int) -> float:
    """The value below which ``share`` percent of ``values`` (n > 0,) lie, by nearest rank."""
    rank = min(len(values) * share // 100, len(values) - 1)
    return float(np.partition(values, rank)[rank])


@numba.njit(nogil=True, cache=True)
def floors(level: FloatArray, second: int, reach: int, share: int, lowest: float, every: int) -> FloatArray:
    """For each second of ``level``, the rank of ``every`` so many frames within ``reach`` seconds of it and over ``lowest``.

    Parameters
    ----------
    level : (n,) dB
    second : frames of a second
    reach : seconds on each side
    share : the rank, percent
    lowest : dB over which a frame counts
    every : frames between two that are looked at
    """
    count = max(1, -(-len(level) // second))
    out = np.full(count, lowest)
    for block in range(count):
        part = level[max(0, (block - reach) * second) : (block + reach + 1) * second : every]
        heard = part[part > lowest]
        if len(heard):
            out[block] = ranked(heard, share)
    return out


@numba.njit(nogil=True, cache=True)
def runs(mask: npt.NDArray[np.bool_]) -> npt.NDArray[np.int64]:
    """First and one-past-last index of every run of True, (runs, 2)."""
    count = 0
    for i in range(len(mask)):
        count += mask[i] and (i == 0 or not mask[i - 1])
    out = np.empty((count, 2), np.int64)
    at = -1
    for i in range(len(mask)):
        if mask[i]:
            if i == 0 or not mask[i - 1]:
                at += 1
                out[at, 0] = i
            out[at, 1] = i + 1
    return out


@numba.njit(nogil=True, cache=True)
def steps(level: FloatArray, most: FloatArray, reach: int, steady: float, least: float) -> npt.NDArray[np.int64]:
    """Frames at which noise steps by ``least`` dB to another level, within ``steady`` dB for ``reach`` frames on both sides.

    Only what lies under ``most`` (n,) is noise. Of frames close together the one where the step is highest counts.

    Parameters
    ----------
    level : (n,) dB
    most : (n,) dB under which it is noise
    reach : frames on each side
    steady : dB within which it stays there
    least : dB that a step has
    """
    count = len(level)
    out = np.empty(count // reach + 1, np.int64)
    found, best = 0, 0.0
    gap = 2
    for t in range(reach + gap, count - reach - gap):
        # the way up or down takes a frame or two; most places fail here
        height = abs(level[t + gap] - level[t - gap - 1])
        if height < least or level[t + gap] > most[t] or level[t - gap - 1] > most[t]:
            continue
        low, high = np.inf, -np.inf
        sum_before = sum_after = 0.0
        for i in range(t - gap - reach, t - gap):
            low, high = min(low, level[i]), max(high, level[i])
            sum_before += level[i]
        if high - low > steady:
            continue
        low, high = np.inf, -np.inf
        for i in range(t + gap, t + gap + reach):
            low, high = min(low, level[i]), max(high, level[i])
            sum_after += level[i]
        if high - low > steady:
            continue
        height = abs(sum_after - sum_before) / reach
        if height < least:
            continue
        if found and t - out[found - 1] < reach:
            if height > best:
                out[found - 1], best = t, height
        else:
            out[found], best = t, height
            found += 1
    return out[:found]


@numba.njit(nogil=True, cache=True)
def usual(band: FloatArray, a: int, b: int, first: int, last: int, near: int, away: int) -> float:
    """The level that a band reaches around frames a ... b, within first ... last; infinite where there is nothing around.

    Parameters
    ----------
    band : (n,) dB
    a, b : frames of what is looked at
    first, last : frames within which its neighbourhood lies
    near, away : how many frames away that is at most, and at least
    """
    left = band[max(first, a - near) : max(first, a - away)]
    right = band[b + away - 1 : max(b + away - 1, min(last, b + near))]
    if len(left) + len(right) < away:
        return np.inf
    return ranked(np.concatenate((left, right)), 90)


@numba.njit(nogil=True, cache=True)
def bumps(
    band: FloatArray, a: int, b: int, least: float, loud: float, drop: float, rise: float, frames: npt.NDArray[np.int64]
) -> FloatArray:
    """Bumps of a band within frames a ... b, (n, 3): first and one-past-last frame, and dB over the neighbourhood.

    ``loud`` is the level that they reach, ``drop`` how far down their edges lie, ``rise`` how far they come up within as many
    frames as ``frames`` says, after the longest they may last, and what is near and away.

    Parameters
    ----------
    band : (n,) dB
    a, b : frames within which they lie
    least : dB over the neighbourhood
    loud : level that they reach, dB
    drop : dB from the top down to their edges
    rise : dB that they come up
    frames : of the rise, the longest, near and away
    """
    rise_frames, longest, near, away = frames[0], frames[1], frames[2], frames[3]
    first, last = max(0, a - 3), min(len(band), b + 3)
    part = band[first:last]
    limit = min(ranked(part, 90), part.max() - 0.1)
    spans = runs(part > limit)
    out = np.empty((len(spans), 3))
    count = 0
    for i in range(len(spans)):
        top = first + spans[i, 0] + np.argmax(part[spans[i, 0] : spans[i, 1]])
        floor = band[top] - drop
        c = d = top
        while c > first and band[c - 1] > floor and top - c < longest:
            c -= 1
        while d + 1 < last and band[d + 1] > floor and d - top < longest:
            d += 1
        if d + 1 - c > longest or band[top] < loud:
            continue
        excess = band[top] - usual(band, c, d + 1, first, last, near, away)
        up = band[top] - band[max(0, top - rise_frames) : top + 1].min()
        if excess >= least and up >= rise:
            out[count, 0], out[count, 1], out[count, 2] = c, d + 1, excess
            count += 1
    return out[:count]


@numba.njit(nogil=True, cache=True)
def running_median(values: FloatArray, frames: int) -> FloatArray:
    """Median of an odd number of frames around each; the ends are repeated."""
    count, half = len(values), frames // 2
    out, around = np.empty(count), np.empty(frames)
    for i in range(count):
        for j in range(frames):
            value = values[min(max(i + j - half, 0), count - 1)]
            k = j
            while k > 0 and around[k - 1] > value:
                around[k] = around[k - 1]
                k -= 1
            around[k] = value
        out[i] = around[half]
    return out


@numba.njit(nogil=True, cache=True)
def tops(height: FloatArray, dip: float) -> npt.NDArray[np.int64]:
    """Frames of the tops of a level that have a dip of ``dip`` dB on both sides, (m,) in rising order; its ends are dips."""
    out = np.empty(len(height), np.int64)
    found, rising = 0, True
    top = low = 0
    for i in range(len(height)):
        if rising:
            if height[i] > height[top]:
                top = i
            elif height[i] < height[top] - dip:
                out[found] = top
                found += 1
                rising, low = False, i
        elif height[i] < height[low]:
            low = i
        elif height[i] > height[low] + dip:
            rising, top = True, i
    if rising and len(height):
        out[found] = top
        found += 1
    return out[:found]


@numba.njit(nogil=True, cache=True)
def mean_of(column: npt.NDArray[np.float32], a: int, b: int) -> float:
    """The mean of values a ... b - 1 of a column."""
    total = 0.0
    for i in range(a, b):
        total += column[i]
    return total / (b - a)


@numba.njit(nogil=True, cache=True)
def hisses(
    high: FloatArray,
    rest: FloatArray,
    hiss: FloatArray,
    loud: FloatArray,
    body: FloatArray,
    mid: FloatArray,
    phrases: npt.NDArray[np.int64],
    levels: FloatArray,
    frames: npt.NDArray[np.int64],
) -> tuple[npt.NDArray[np.int64], FloatArray]:
    """Stretches of phrases in which the highest band is strong: (n, 4) of span and phrase, and (n, 8) of measures.

    ``levels`` are over the rest, under the voice, over the room, and down to the feet; ``frames`` are around a phrase, the
    shortest and longest, the most that length counts, and from where to where before it a closure lies.

    Parameters
    ----------
    high, rest, hiss, loud, body, mid : (n,) dB of the bands
    phrases : (m, 2) frames
    levels : dB over the rest, under the voice, over the room, down to the feet
    frames : around a phrase, shortest, longest, most that length counts, and the closure from and to
    """
    over_rest, under_voice, over_room, feet = levels[0], levels[1], levels[2], levels[3]
    around, shortest, longest, long = frames[0], frames[1], frames[2], frames[3]
    spans = np.empty((1024, 4), np.int64)
    rows = np.empty((1024, 8))
    count = 0
    for p in range(len(phrases)):
        start, end = phrases[p, 0], phrases[p, 1]
        voice = ranked(loud[start:end], 80)
        first, last = max(0, start - around), min(len(high), end + around)
        a = first
        while a < last:
            if not (rest[a] > over_rest and high[a] > voice + under_voice and hiss[a] > over_room):
                a += 1
                continue
            b = a
            while b < last and rest[b] > over_rest and high[b] > voice + under_voice and hiss[b] > over_room:
                b += 1
            following = b
            top = high[a:b].max()
            while high[a] <= top - feet:
                a += 1
            while high[b - 1] <= top - feet:
                b -= 1
            if shortest <= b - a <= longest:
                if count == len(spans):
                    spans = np.concatenate((spans, np.empty_like(spans)))
                    rows = np.concatenate((rows, np.empty_like(rows)))
                before = loud[max(0, a - frames[4]) : max(1, a - frames[5])].min() - voice
                spans[count, 0], spans[count, 1], spans[count, 2], spans[count, 3] = a, b, start, end
                rows[count, 0] = min(b - a, long)
                rows[count, 1] = top - voice
                rows[count, 2] = rest[a:b].mean()
                rows[count, 3] = (high[a:b] - body[a:b]).mean()
                rows[count, 4] = (high[a:b] - mid[a:b]).mean()
                rows[count, 5] = max(before, -40.0)
                rows[count, 6] = high[a : a + 2].max() - high[max(0, a - 3) : a + 1].min()
                rows[count, 7] = np.flatnonzero(high[a:b] > top - 3.0).mean() / max(b - a - 1, 1)
                count += 1
            a = following
    return spans[:count], rows[:count]
