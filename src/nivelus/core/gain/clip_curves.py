"""Clip curves: a curve that a clip owns, in the recording's time, and is heard in that clip only.

Conventions
-----------
A clip keeps its whole curve; what lies outside of its borders is not heard, but is there again when a border is moved back,
and both halves of a clip that is cut sound as before. Where two neighbours do not meet in the same value, the way from one
to the other is a ramp around their border, as wide as that of clip gains.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from nivelus.core.gain.clips import ClipGain, border_ramps
from nivelus.core.gain.curve import FloatArray
from nivelus.core.gain.curves import CLOSEST, EMPTY, Curve, finite, flatten, plain, with_points


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
    cut = with_points(Curve(curve.at[near], curve.db[near], curve.shape[near], curve.phase[near]), (start, end))
    return cut.keep(heard(cut, start, end))


def join_clip_curves(clips: Sequence[ClipGain], curves: Sequence[Curve], rate: int) -> Curve:
    """The curves of clips that tile a recording as one straight curve over it; O(clips + points).

    Parameters
    ----------
    clips : n clips in order of time
    curves : n curves, without points where a clip has none
    rate : samples a second of the clips' positions

    Raises
    ------
    GainError
        If clips leave holes or overlap.
    """
    border, width = (values / rate for values in border_ramps(clips, rate))
    owners = [i for i, curve in enumerate(curves) if len(curve)]
    if not owners:
        return EMPTY
    straight = {i: flatten(curves[i]) for i in owners}
    at: list[FloatArray] = []
    db: list[FloatArray] = []

    def reach(i: int) -> float:
        """Half the ramp at the end of clip ``i``; 0 where its neighbour takes over at the same value."""
        if not 0 <= i < len(border):
            return 0.0
        sides = [straight[k].finite_at(border[i : i + 1])[0] if k in straight else 0.0 for k in (i, i + 1)]
        return float(width[i] / 2) if abs(sides[0] - sides[1]) > 1e-9 else 0.0

    for i in owners:
        start, end = clips[i].start / rate, clips[i].end / rate
        before, after = reach(i - 1), reach(i)
        own = part(straight[i], start + before, end - after)
        if before and i - 1 not in straight:
            at.append(np.array([start - before]))
            db.append(np.zeros(1))
        at.append(own.at)
        db.append(finite(own.db))
        if after and i + 1 not in straight:
            at.append(np.array([end + after]))
            db.append(np.zeros(1))
    all_at, all_db = np.concatenate(at), np.concatenate(db)
    apart = np.concatenate([[True], np.diff(all_at) > CLOSEST / 2])
    return plain(all_at[apart], all_db[apart])
