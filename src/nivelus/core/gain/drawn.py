"""Curves: gain that is drawn. Points in time and dB with a shape between them, and the sum of two of them.

Conventions
-----------
Time is in seconds, gain in dB; ``-inf`` is silence and lies at SILENT on the way to other values. A shape describes the way
from its point to the next:

- *linear*: linear in dB;
- *smooth*: a raised cosine in dB;
- *hold*: stays, and moves to the next value within the de-click ramp that ends at the next point.

Before its first and after its last point a curve keeps its end value; a curve without points is 0 dB. Of points in one
microsecond the last counts, so rounding never makes a curve that cannot be; what is kept of a curve has its points a sample
apart (``spaced``). Edits
(``core.gain.edits``) rest on one mechanism, ``with_points``: a point can be put anywhere on a curve without changing it. A
raised cosine that is cut becomes two pieces of one, so each point also keeps which part of the cosine its way is, ``phase``
(n, 2) in 0 ... 1.

A point that is kept has a number of its own, by which the hand means it whatever becomes of the points around it. Edits carry
the numbers of points that they move, and leave 0 for those that they make; ``numbered`` gives these theirs.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from enum import IntEnum

import numpy as np
import numpy.typing as npt

from nivelus.core.errors import GainError
from nivelus.core.gain.clips import DECLICK_SECONDS
from nivelus.core.gain.compiled import SILENCE, FloatArray

SILENT = -144.0
"""Where silence lies on the way to other values, dB."""
CLOSEST = 1e-6
"""Seconds from a moment to the next: times are whole microseconds."""
SPACING = 1.3e-4
"""Seconds that points of a curve that is kept are apart: a sample of the slowest recording (8 kHz) and what rounding takes."""
MANY = 200
FINE = 0.005
"""dB by which straight pieces may stray from what they stand for."""
Indices = npt.NDArray[np.int64]
_NO_IDS = np.zeros(0, np.int64)


def _whole(at: npt.ArrayLike) -> FloatArray:
    """Seconds in whole microseconds, so that two moments are the same or apart."""
    return np.asarray(np.round(np.asarray(at, np.float64), 6))


def finite(db: FloatArray) -> FloatArray:
    """Gains with silence at SILENT."""
    return np.where(np.isneginf(db), SILENT, db)


class Shape(IntEnum):
    """The way from a point to the next."""

    LINEAR = 0
    SMOOTH = 1
    HOLD = 2


COLUMNS = ("at", "db", "shape", "phase", "ids")
"""What a curve keeps of each point."""


@dataclass(frozen=True, slots=True, eq=False)
class Curve:
    """``at`` (n,) seconds in rising order, ``db`` (n,) gains or -inf, ``shape`` (n,) of Shape, ``phase`` (n, 2), ``ids`` (n,).

    Of points in one microsecond the last is kept. Where no ids are given all are 0: points that have none yet.

    Raises
    ------
    GainError
        If points lie out of order, or a value is no gain.
    """

    at: FloatArray
    db: FloatArray
    shape: npt.NDArray[np.int8]
    phase: FloatArray
    ids: Indices = field(default_factory=lambda: _NO_IDS)

    def __post_init__(self) -> None:
        if not len(self.ids):
            object.__setattr__(self, "ids", np.zeros(len(self.at), np.int64))
        if not len(self.at) == len(self.db) == len(self.shape) == len(self.phase) == len(self.ids):
            raise GainError("Every point of a curve has a time, a gain and a shape.")
        at = _whole(self.at)
        steps = np.diff(at)
        if not np.isfinite(at).all() or (steps < -CLOSEST / 2).any():
            raise GainError("The points of a curve follow each other in time.")
        object.__setattr__(self, "at", at)
        if (steps < CLOSEST / 2).any():
            last = np.append(steps >= CLOSEST / 2, True)
            for name in COLUMNS:
                object.__setattr__(self, name, getattr(self, name)[last])
        if np.isnan(self.db).any() or (self.db == np.inf).any():
            raise GainError("A point of a curve holds a value that is no gain.")

    def __len__(self) -> int:
        return len(self.at)

    def __call__(self, at: npt.ArrayLike) -> FloatArray:
        """The gain at some seconds, dB; -inf where it is silent. O(log n) each."""
        value = self.finite_at(np.asarray(at, np.float64))
        return np.where(value <= SILENCE, -np.inf, value)

    def sample(self, start: float, rate: float, count: int) -> FloatArray:
        """The gain at ``start + i / rate`` seconds for ``i`` in 0 ... count - 1, dB."""
        return self(start + np.arange(count) / rate)

    def inside(self, start: float, end: float) -> npt.NDArray[np.bool_]:
        """Which points lie in ``start`` ... ``end``, both included, (n,)."""
        return np.asarray((self.at >= start) & (self.at <= end))

    def keep(self, which: npt.NDArray[np.bool_] | Indices) -> Curve:
        """The curve with only some of its points, ``which`` (n,) or their places."""
        return Curve(*(getattr(self, name)[which] for name in COLUMNS))

    def finite_at(self, at: FloatArray) -> FloatArray:
        """The gain with silence at SILENT."""
        if not len(self):
            return np.zeros(at.shape)
        db = finite(self.db)
        if len(self) == 1:
            return np.full(at.shape, db[0])
        i = np.clip(np.searchsorted(self.at, at, "right") - 1, 0, len(self) - 2)
        length = self.at[i + 1] - self.at[i]
        share = np.clip((at - self.at[i]) / length, 0.0, 1.0)
        way = share
        # most lines are straight, and none pays for what it has not
        if (held := self.shape == Shape.HOLD).any():
            ramp = np.minimum(DECLICK_SECONDS, length)
            way = np.where(held[i], np.clip(1.0 - (self.at[i + 1] - at) / ramp, 0.0, 1.0), way)
        if (smooth := self.shape == Shape.SMOOTH).any():
            first, last = self.phase[i, 0], self.phase[i, 1]
            low = _cosine(first)
            span = _cosine(last) - low
            bent = (_cosine(first + share * (last - first)) - low) / np.where(span == 0, 1.0, span)
            way = np.where(smooth[i], bent, way)
        # exact at both ends, whatever lies between
        return np.where(way >= 1.0, db[i + 1], db[i] + way * (db[i + 1] - db[i]))


EMPTY = Curve(np.zeros(0), np.zeros(0), np.zeros(0, np.int8), np.zeros((0, 2)))


def curve_of(points: Iterable[tuple[float, float] | tuple[float, float, Shape]]) -> Curve:
    """A curve of (seconds, dB) or (seconds, dB, shape), in any order. Of points at one time the last counts.

    Raises
    ------
    GainError
        If a value is no number.
    """
    rows = [(*point, Shape.LINEAR)[:3] for point in points]
    at, db, shape = (np.array([row[i] for row in rows], np.float64) for i in range(3))
    return curve_from(at, db, shape.astype(np.int8))


def curve_from(at: FloatArray, db: FloatArray, shape: npt.NDArray[np.int8]) -> Curve:
    """``curve_of`` for points that are arrays already, (n,) each. O(n log n)."""
    if np.isnan(at).any():
        raise GainError("A point of a curve has no time.")
    at = _whole(at)
    order = np.argsort(at, kind="stable")
    last = np.append(at[order][1:] != at[order][:-1], [True] * bool(len(at)))
    kept = order[last.astype(bool)]
    return plain(at[kept], np.asarray(db, np.float64)[kept], shape[kept])


def plain(at: FloatArray, db: FloatArray, shape: npt.NDArray[np.int8] | None = None) -> Curve:
    """A curve of whole ways: straight ones, or of the shapes that are given."""
    return Curve(at, db, np.zeros(len(at), np.int8) if shape is None else shape, np.tile((0.0, 1.0), (len(at), 1)))


def with_points(curve: Curve, at: npt.ArrayLike) -> Curve:
    """The same curve with points at some seconds as well, where there is none yet.

    The curve is identical everywhere. One without points gets points of 0 dB. O((n + m) log n).
    """
    wanted = _apart(curve, at)
    if not len(wanted):
        return curve
    if not len(curve):
        return plain(wanted, np.zeros(len(wanted)))
    last = len(curve) - 1
    following = np.append(curve.at[1:], np.inf)
    # a hold that is cut within its ramp is also cut where the ramp begins
    source = np.searchsorted(curve.at, wanted, "right") - 1
    ramp = _whole(np.maximum(following - DECLICK_SECONDS, curve.at))
    in_ramp = (source >= 0) & (source < last) & (curve.shape[source] == Shape.HOLD) & (wanted > ramp[source])
    new_at = np.union1d(np.union1d(curve.at, wanted), ramp[source[in_ramp]])
    source = np.searchsorted(curve.at, new_at, "right") - 1
    outside = (source < 0) | ((source == last) & (new_at > curve.at[last]))
    source = np.clip(source, 0, last)
    known = (new_at == curve.at[source]) & ~outside
    db = np.where(known, curve.db[source], curve.finite_at(new_at))
    shape = np.where(outside, Shape.LINEAR, curve.shape[source]).astype(np.int8)
    shape[(shape == Shape.HOLD) & ~known & (new_at >= ramp[source] - 1e-12)] = Shape.LINEAR
    share = np.clip((new_at - curve.at[source]) / (following - curve.at)[source], 0.0, 1.0)
    until = np.append(np.where(source[1:] == source[:-1], share[1:], 1.0), 1.0)
    first, span = curve.phase[source, 0], np.diff(curve.phase, axis=1)[source, 0]
    phase = np.stack([first + share * span, first + until * span], axis=1)
    # behind the last point there is nothing of a cosine yet, whatever its shape says of a point that may follow
    phase[(shape != Shape.SMOOTH) | (source == last)] = (0.0, 1.0)
    return Curve(new_at, db, shape, phase, np.where(known, curve.ids[source], 0))


def numbered(curve: Curve, before: Curve, fresh: Callable[[int], Indices]) -> Curve:
    """A curve of which every point has an id: its own, else that of the point of ``before`` at the same moment, else a new one.

    Parameters
    ----------
    before : the curve in whose place this one comes
    fresh : gives as many ids that were never used

    O((n + m) log n), with n and m points.
    """
    ids = curve.ids.copy()
    if len(before):
        there = np.clip(np.searchsorted(before.at, curve.at), 0, len(before) - 1)
        stays = (ids == 0) & (before.at[there] == curve.at) & ~np.isin(before.ids[there], ids)
        ids[stays] = before.ids[there][stays]
    # of two points with one id the first keeps it
    first = np.zeros(len(ids), bool)
    first[np.unique(ids, return_index=True)[1]] = True
    new = (ids == 0) | ~first
    ids[new] = fresh(int(new.sum()))
    return replace(curve, ids=ids)


def chained(*parts: Curve) -> Curve:
    """Curves that follow each other as one."""
    return Curve(*(np.concatenate([getattr(part, name) for part in parts]) for name in COLUMNS))


def spaced(curve: Curve, earliest: float = 0.0) -> Curve:
    """A curve whose points lie SPACING apart: of those that lie closer the last counts.

    Where that would lose a step, the point before it stays and lies SPACING earlier, though not before ``earliest`` seconds or
    on the one before. O(n), and O(1) more where nothing is too close.
    """
    least = SPACING - 2 * CLOSEST
    if len(curve) < 2 or (np.diff(curve.at) >= least).all():
        return curve
    at, db, phase = curve.at.tolist(), finite(curve.db).tolist(), curve.phase.copy()
    kept = np.ones(len(at), bool)
    following = len(at) - 1
    for i in range(len(at) - 2, -1, -1):
        if at[following] - at[i] < least:
            earlier = at[following] - SPACING
            has_room = earlier >= (at[i - 1] + SPACING if i else earliest)
            if abs(db[i] - db[following]) <= FINE or not has_room:
                kept[i] = False
                if i:
                    # two pieces of one cosine are one again
                    is_one = curve.shape[i - 1] == curve.shape[i] == Shape.SMOOTH and phase[i - 1, 1] == phase[i, 0]
                    phase[i - 1] = (phase[i - 1, 0], phase[i, 1]) if is_one else (0.0, 1.0)
                continue
            at[i] = earlier
        following = i
    return replace(curve, at=np.array(at), phase=phase).keep(kept)


# --- curves together


def flatten(curve: Curve, error: float = FINE) -> Curve:
    """The same curve with straight pieces only; what was smooth strays by no more than ``error`` dB."""
    return straightened(curve, curve.shape != Shape.LINEAR, error)


def whole_shapes(curve: Curve) -> Curve:
    """The same curve without parts of cosines: those become straight pieces within FINE dB. For what only knows shapes."""
    parts = (curve.shape == Shape.SMOOTH) & (curve.phase != (0.0, 1.0)).any(axis=1)
    return straightened(curve, parts, FINE)


def area(line: Curve, at: FloatArray) -> FloatArray:
    """The integral over a straight curve from its first point to some seconds, dB s; O(log n) each."""
    if not len(line):
        return np.zeros(at.shape)
    db = finite(line.db)
    sums = np.concatenate([[0.0], np.cumsum(np.diff(line.at) * (db[1:] + db[:-1]) / 2)])
    i = np.clip(np.searchsorted(line.at, at, "right") - 1, 0, len(line) - 1)
    return np.asarray(sums[i] + (at - line.at[i]) * (db[i] + line.finite_at(at)) / 2)


# --- how it is done


def _cosine(phase: npt.ArrayLike) -> FloatArray:
    return np.asarray(0.5 - 0.5 * np.cos(np.pi * np.asarray(phase, np.float64)))


def _apart(curve: Curve, at: npt.ArrayLike) -> FloatArray:
    """The moments at which there is no point yet, rising."""
    return np.setdiff1d(_whole(at), curve.at)


def moves(curve: Curve) -> npt.NDArray[np.bool_]:
    """From which points the curve goes to another value, (n,)."""
    db = finite(curve.db)
    return np.asarray(np.diff(db, append=db[-1:]) != 0)


def is_bent(curve: Curve) -> npt.NDArray[np.bool_]:
    """From which points the curve goes on in another way than a straight line, (n,)."""
    return np.asarray((curve.shape != Shape.LINEAR) & moves(curve))


def straightened(curve: Curve, ways: npt.NDArray[np.bool_], error: float) -> Curve:
    """Make straight pieces of some ``ways`` (n,) from a point to the next."""
    if not ways.any():
        return curve
    bent = ways & is_bent(curve)
    if not bent.any():
        return replace(curve, shape=np.where(ways, Shape.LINEAR, curve.shape).astype(np.int8))
    steps = np.abs(np.diff(finite(curve.db)))
    length = np.diff(curve.at)
    extra = [curve.at[1:][bent[:-1] & (curve.shape[:-1] == Shape.HOLD) & (length > DECLICK_SECONDS)] - DECLICK_SECONDS]
    for i in np.flatnonzero(bent[:-1] & (curve.shape[:-1] == Shape.SMOOTH)).tolist():
        # a chord strays by h^2 / 8 of the second derivative, which is pi^2 / 2 of the height of the whole cosine
        first, last = curve.phase[i]
        height = steps[i] / max(abs(float(_cosine(last) - _cosine(first))), 1e-9)
        pieces = int(np.ceil(np.pi * (last - first) * np.sqrt(height / 16 / error)))
        pieces = min(pieces, int(length[i] / CLOSEST / 2))
        extra.append(curve.at[i] + length[i] * np.arange(1, pieces) / max(pieces, 1))
    cut = with_points(curve, np.concatenate(extra))
    straight = ways[np.clip(np.searchsorted(curve.at, cut.at + CLOSEST / 2, "right") - 1, 0, len(curve) - 1)]
    shape = np.where(straight, Shape.LINEAR, cut.shape).astype(np.int8)
    return replace(cut, shape=shape, phase=np.where(straight[:, None], (0.0, 1.0), cut.phase))
