"""Edits of ranges of curves, from a curve to a curve. An edit that is confined to a range leaves the outside identical.

Conventions are those of ``core.gain.drawn``: seconds, dB.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numba
import numpy as np
import numpy.typing as npt

from nivelus.core.errors import GainError
from nivelus.core.gain.clips import DECLICK_SECONDS
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import (
    CLOSEST,
    FINE,
    Curve,
    Shape,
    area,
    chained,
    curve_of,
    finite,
    flatten,
    plain,
    with_points,
)
from nivelus.core.gain.point_edits import set_points, shift
from nivelus.core.gain.together import add

Indices = npt.NDArray[np.int64]
SAME_LINE = 0.05
"""dB within which the line on both sides of a range is the same."""


def lift(curve: Curve, start: float, end: float, db: float, ramp_in: float, ramp_out: float) -> Curve:
    """Raise or lower a span by ``db``, with ramps (seconds) that lie outside of it.

    Both edges move by the same amount, and a second lift of the span uses the points of the first. Outside of span and
    ramps the curve is identical.

    Parameters
    ----------
    curve : what is drawn
    start, end : seconds
    db : by how much
    ramp_in, ramp_out : seconds

    Raises
    ------
    GainError
        If the span or a ramp is shorter than CLOSEST.
    """
    start, end = _ordered(start, end)
    if min(ramp_in, ramp_out, end - start) < CLOSEST:
        raise GainError("A lift needs a span and two ramps.")
    edges = (start - ramp_in, start, end, end + ramp_out)
    return add(with_points(curve, edges), curve_of(zip(edges, (0.0, db, db, 0.0), strict=True)))


def scale(curve: Curve, start: float, end: float, factor: float, around: float) -> Curve:
    """Make the moves of a range larger or smaller around a gain; border points keep the outside as it is.

    Parameters
    ----------
    curve : what is drawn
    start, end : seconds
    factor : how much larger the moves get
    around : dB that stays as it is
    """
    cut, inner, _ = _bordered(curve, start, end)
    return replace(cut, db=np.where(inner, around + factor * (cut.db - around), cut.db))


def delete_range(
    curve: Curve, start: float, end: float, ramp: float = DECLICK_SECONDS, ends: tuple[float, float] = (-np.inf, np.inf)
) -> tuple[Curve, float]:
    """A curve without what lies in a range, and the gain that the range is at from then on.

    Where the curve outside is at one gain on both sides, that line goes on through the range, as before a lift. Otherwise,
    and where this would change nothing, the range goes to 0 dB with ramps (seconds) that lie within it. Border points keep the
    outside as it is, so a wide range never becomes one slow slope from side to side. Beyond the ``ends`` (seconds) of what a
    curve belongs to there is no outside.

    Parameters
    ----------
    curve : what is drawn
    start, end : seconds
    ramp : seconds
    ends : from when to when what the curve belongs to lasts, seconds
    """
    start, end = _ordered(start, end)
    cut, inner, borders = _bordered(curve, start, end)
    for border, at_end in zip(borders, (start <= ends[0], end >= ends[1]), strict=True):
        if at_end:
            cut = set_points(cut, np.array([border]), db=0.0)
    left, right = finite(cut.db[borders])
    moves = bool(np.ptp(finite(np.append(curve.db[curve.inside(start, end)], curve([start, end])))) > SAME_LINE)
    if abs(left - right) <= SAME_LINE and (moves or abs(left) <= SAME_LINE):
        return set_points(cut, borders[:1], shape=Shape.LINEAR).keep(~inner), float(cut.db[borders[0]])
    ramp = min(ramp, (end - start) / 4)
    flat = [at for at, side in ((start + ramp, left), (end - ramp, right)) if side]
    return replace_range(cut, start, end, curve_of([(at, 0.0) for at in flat])), 0.0


def copy_range(curve: Curve, start: float, end: float) -> Curve:
    """What lies in a range, in seconds from its start: new points, without ids."""
    cut, inner, borders = _bordered(curve, start, end)
    inner[borders] = True
    piece = cut.keep(inner)
    return replace(piece, at=piece.at - min(start, end), ids=np.zeros(len(piece), np.int64))


def paste(curve: Curve, at: float, piece: Curve) -> Curve:
    """Put what was copied at a moment. The curve reaches it within the de-click ramp at both ends, inside of its range."""
    length = float(piece.at[-1] - piece.at[0]) if len(piece) else 0.0
    if length < 3 * DECLICK_SECONDS:
        raise GainError("What is pasted is too short.")
    edges = piece.at[0] + DECLICK_SECONDS, piece.at[-1] - DECLICK_SECONDS
    inner = with_points(piece, edges)
    inner = inner.keep(inner.inside(edges[0] - CLOSEST, edges[1] + CLOSEST))
    return replace_range(curve, at + float(piece.at[0]), at + float(piece.at[-1]), shift(inner, at))


def draw(curve: Curve, at: FloatArray, db: FloatArray, error: float = 0.1) -> Curve:
    """What the hand drew, in whatever direction, in place of what was there; thinned to ``error`` dB.

    Parameters
    ----------
    curve : what is drawn
    at : (n,) seconds in the order in which the hand came by
    db : (n,) gain there
    error : dB
    """
    if len(at) < 2:
        return curve
    drawn = thin(curve_of(zip(at.tolist(), db.tolist(), strict=True)), error)
    start, end = float(drawn.at[0]), float(drawn.at[-1])
    return replace_range(curve, start - DECLICK_SECONDS, end + DECLICK_SECONDS, drawn)


def replace_range(curve: Curve, start: float, end: float, inner: Curve) -> Curve:
    """A curve with the points of ``inner`` in place of what lay between two moments, where border points keep the outside.

    Parameters
    ----------
    curve : what is drawn
    start, end : seconds
    inner : what comes between them

    Raises
    ------
    GainError
        If ``inner`` does not lie between them.
    """
    cut, _, (left, right) = _bordered(curve, start, end)
    before = set_points(cut.keep(np.arange(len(cut)) <= left), np.array([left]), shape=Shape.LINEAR)
    return chained(before, inner, cut.keep(np.arange(len(cut)) >= right))


def border_points(curve: Curve, spans: Sequence[tuple[float, float]], ramp: float | None = None) -> Curve:
    """Make a point at both ends of spans - clips, sections -, or two at each end with a ``ramp`` (seconds) outside."""
    edges = [edge for span in spans for edge in span]
    if ramp is not None:
        edges += [edge for start, end in spans for edge in (start - ramp, end + ramp)]
    return with_points(curve, edges)


def smooth(curve: Curve, start: float, end: float, seconds: float, error: float = 0.05) -> Curve:
    """Smooth a range by the mean over ``seconds`` around each moment, thinned to ``error`` dB; the borders stay.

    What stays at one gain for longer keeps it in its middle, and the area under the range stays the same, but for what thinning
    takes: what corners lose is given back beside them. O(n log n) in the points of the range, however long it is: where
    a curve is straight the mean is the curve.

    Parameters
    ----------
    curve : what is drawn
    start, end : seconds
    seconds : what the mean is taken of
    error : dB
    """
    start, end = _ordered(start, end)
    straight = flatten(curve)
    # nothing is taken from outside: towards the borders the mean is over less, and at them over nothing
    corners = np.concatenate([[start, end], straight.at[straight.inside(start - seconds, end + seconds)]])
    step = min(seconds / 8, 0.05)
    reach = np.arange(-np.ceil(seconds / step), np.ceil(seconds / step) + 1) * step
    whole = int(np.ceil((end - start) / step)) + 1
    near = (corners[:, None] + reach).ravel() if len(corners) * len(reach) < whole else np.linspace(start, end, whole)
    at = np.unique(np.concatenate([[start, end], np.round(near[(near > start) & (near < end)], 6)]))
    at = at[np.append(np.diff(at) > CLOSEST, True)]
    at[0], at[-1] = start, end
    half = np.minimum(seconds / 2, np.minimum(at - start, end - at))
    mean = (area(straight, at + half) - area(straight, at - half)) / np.where(half > 0, 2 * half, 1.0)
    was = straight.finite_at(at)
    mean = np.where(half > 0, mean, was)
    # what a lone corner loses goes to both sides of it
    reached = plain(at, np.abs(mean - was))
    spread = area(reached, np.minimum(at + seconds / 2, end)) - area(reached, np.maximum(at - seconds / 2, start))
    whole_area = float(np.diff(area(straight, np.array([start, end])))[0])
    mean = _with_area(at, mean, whole_area, spread * half)
    return replace_range(curve, start, end, _inner(thin(plain(at, mean), error)))


def _with_area(at: FloatArray, db: FloatArray, wanted: float, weight: FloatArray) -> FloatArray:
    """Gains (n,) that are moved by a share of ``weight`` (n,) so that the area under them is what is ``wanted``, dB s."""
    room = float(np.trapezoid(weight, at))
    return db + weight * ((wanted - float(np.trapezoid(db, at))) / room) if room > 0 else db


def thin(curve: Curve, error: float, start: float = -np.inf, end: float = np.inf) -> Curve:
    """As few points as stray no more than ``error`` dB from the curve, in a range or everywhere.

    Douglas and Peucker's way (Cartographica 10, 1973), with the distance taken along the axis of gain. O(n log n) as a rule.

    Parameters
    ----------
    curve : what is drawn
    error : dB
    start, end : seconds; everywhere if not given
    """
    if len(curve) < 3:
        return curve
    first, last = max(start, float(curve.at[0])), min(end, float(curve.at[-1]))
    if last - first < CLOSEST:
        return curve
    part = copy_range(curve, first, last)
    straight = flatten(part, min(FINE, error / 4))
    kept = straight.keep(_worth_keeping(straight.at, finite(straight.db), error))
    return replace_range(curve, first, last, _inner(shift(kept, first)))


# --- how it is done


def _ordered(start: float, end: float) -> tuple[float, float]:
    return (start, end) if start <= end else (end, start)


def _bordered(curve: Curve, start: float, end: float) -> tuple[Curve, npt.NDArray[np.bool_], Indices]:
    """A curve with points at the borders of a range, which points lie between them, and which are the borders."""
    start, end = _ordered(start, end)
    if end - start < 2 * CLOSEST:
        raise GainError("The range is too short.")
    cut = with_points(curve, (start, end))
    borders = np.array([np.abs(cut.at - edge).argmin() for edge in (start, end)], np.int64)
    inner = np.zeros(len(cut), bool)
    inner[borders[0] + 1 : borders[1]] = True
    return cut, inner, borders


def _inner(curve: Curve) -> Curve:
    """A curve without its first and last point."""
    return curve.keep((np.arange(len(curve)) > 0) & (np.arange(len(curve)) < len(curve) - 1))


@numba.njit(nogil=True, cache=True)
def _worth_keeping(at: FloatArray, db: FloatArray, error: float) -> npt.NDArray[np.bool_]:
    """Which points Douglas and Peucker keep, (n,)."""
    kept = np.zeros(len(at), np.bool_)
    kept[0] = kept[-1] = True
    # what waits never overlaps, so there are fewer spans than points
    spans = np.empty((len(at), 2), np.int64)
    spans[0, 0], spans[0, 1], waiting = 0, len(at) - 1, 1
    while waiting:
        waiting -= 1
        a, b = spans[waiting]
        slope = (db[b] - db[a]) / (at[b] - at[a])
        furthest, middle = error, -1
        for i in range(a + 1, b):
            away = abs(db[i] - (db[a] + (at[i] - at[a]) * slope))
            if away > furthest:
                furthest, middle = away, i
        if middle > 0:
            kept[middle] = True
            spans[waiting, 0], spans[waiting, 1] = a, middle
            spans[waiting + 1, 0], spans[waiting + 1, 1] = middle, b
            waiting += 2
    return kept
