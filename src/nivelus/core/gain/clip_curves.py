"""Clip curves: a curve that a clip owns, in the recording's time, and is heard in that clip only.

Conventions
-----------
A clip keeps its whole curve; what lies outside of its borders is not heard, but is there again when a border is moved back,
and both halves of a clip that is cut sound as before. Where two neighbours do not meet in the same value, the way from one
to the other is a ramp around their border, as wide as that of clip gains; silence between them is way enough.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from nivelus.core.gain.clips import ClipSpans, border_ramps
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import CLOSEST, EMPTY, Curve, finite, flatten, plain, with_points


def heard(curve: Curve, start: float, end: float) -> npt.NDArray[np.bool_]:
    """Which points of a clip's curve lie in the clip from ``start`` to ``end`` seconds, (n,)."""
    return curve.inside(start - CLOSEST / 2, end + CLOSEST / 2)


def part(curve: Curve, start: float, end: float) -> Curve:
    """What a clip from ``start`` to ``end`` seconds lets be heard of a curve, with points at both borders. O(points in it)."""
    if not len(curve):
        return curve
    # a way is decided by the points at both of its ends: what lies further off need not be looked at
    first, last = np.searchsorted(curve.at, (start - CLOSEST, end + CLOSEST))
    near = np.arange(max(int(first) - 1, 0), min(int(last) + 1, len(curve)))
    cut = with_points(curve.keep(near), (start, end))
    return cut.keep(heard(cut, start, end))


def join_clip_curves(clips: ClipSpans, curves: Sequence[Curve], rate: int) -> Curve:
    """The curves of clips that follow each other as one straight curve over them; O(clips + points).

    Parameters
    ----------
    clips : n clips in order of time
    curves : n curves, without points where a clip has none
    rate : samples a second of the clips' positions
    """
    width = border_ramps(clips, rate) / rate
    owners = [i for i, curve in enumerate(curves) if len(curve)]
    if not owners:
        return EMPTY
    lines = {i: flatten(curves[i]) for i in owners}
    spans = np.stack([clips.start, clips.end], axis=1) / rate
    edges = np.zeros((len(clips), 2))
    for i, line in lines.items():
        edges[i] = np.interp(spans[i], line.at, finite(line.db))
    apart = spans[1:, 0] > spans[:-1, 1]
    # where a neighbour takes over at the same value there is no ramp
    half = np.where(apart | (np.abs(edges[:-1, 1] - edges[1:, 0]) <= 1e-9), 0.0, width / 2)
    before, after = np.insert(half, 0, 0.0), np.append(half, 0.0)
    alone = np.concatenate([[False], apart, [False]])
    at: list[FloatArray] = []
    db: list[FloatArray] = []
    for i, line in lines.items():
        first, last = spans[i, 0] + before[i], spans[i, 1] - after[i]
        a, b = np.searchsorted(line.at, (first, last))
        own = np.concatenate([[first], line.at[a:b], [last]])
        value = np.interp(own, line.at, finite(line.db))
        # a neighbour without a curve is at 0 dB
        if (before[i] or alone[i]) and i - 1 not in lines:
            own, value = np.insert(own, 0, min(spans[i, 0] - before[i], spans[i - 1, 1])), np.insert(value, 0, 0.0)
        if (after[i] or alone[i + 1]) and i + 1 not in lines:
            own, value = np.append(own, max(spans[i, 1] + after[i], spans[i + 1, 0])), np.append(value, 0.0)
        at.append(own)
        db.append(value)
    all_at, all_db = np.round(np.concatenate(at), 6), np.concatenate(db)
    kept = np.concatenate([[True], np.diff(all_at) > CLOSEST / 2])
    return plain(all_at[kept], all_db[kept])
