"""Curves: gain that is drawn. Points in time and dB with a shape between them, and every edit of them as a pure function.

Conventions
-----------
Time is in seconds, gain in dB; ``-inf`` is silence and lies at SILENT on the way to other values. A shape describes the way
from its point to the next:

- *linear*: linear in dB;
- *smooth*: a raised cosine in dB;
- *hold*: stays, and moves to the next value within the de-click ramp that ends at the next point.

Before its first and after its last point a curve keeps its end value; a curve without points is 0 dB. An edit that is
confined to a range leaves the curve outside of it identical. That rests on one mechanism, ``with_points``: a point can be
put anywhere on a curve without changing it. A raised cosine that is cut becomes two pieces of one, so each point also
keeps which part of the cosine its way is, ``phase`` (n, 2) in 0 ... 1.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from enum import IntEnum

import numpy as np
import numpy.typing as npt

from nivelus.core.errors import GainError
from nivelus.core.gain.clips import DECLICK_SECONDS
from nivelus.core.gain.curve import SILENCE, FloatArray, GainCurve

SILENT = -144.0
"""Where silence lies on the way to other values, dB."""
CLOSEST = 1e-6
"""Seconds that two points are apart at least: times are whole microseconds."""
FINE = 0.005
"""dB by which straight pieces may stray from what they stand for."""
_STEEP = 0.2
"""dB per millisecond from which a move that is over too soon is spread over the de-click ramp."""

Indices = npt.NDArray[np.int64]


def _whole(at: npt.ArrayLike) -> FloatArray:
    """Seconds in whole microseconds, so that two moments are the same or apart."""
    return np.asarray(np.round(np.asarray(at, np.float64), 6))


def _level(db: FloatArray) -> FloatArray:
    """Gains with silence at SILENT."""
    return np.where(np.isneginf(db), SILENT, db)


class Shape(IntEnum):
    """The way from a point to the next."""

    LINEAR = 0
    SMOOTH = 1
    HOLD = 2


@dataclass(frozen=True, slots=True)
class Curve:
    """``at`` (n,) seconds in rising order, ``db`` (n,) gains or -inf, ``shape`` (n,) of Shape, ``phase`` (n, 2).

    Raises
    ------
    GainError
        If two points lie in one microsecond or out of order, or a value is no gain.
    """

    at: FloatArray
    db: FloatArray
    shape: npt.NDArray[np.int8]
    phase: FloatArray

    def __post_init__(self) -> None:
        if not len(self.at) == len(self.db) == len(self.shape) == len(self.phase):
            raise GainError("Every point of a curve has a time, a gain and a shape.")
        object.__setattr__(self, "at", _whole(self.at))
        if not np.isfinite(self.at).all() or (np.diff(self.at) < CLOSEST / 2).any():
            raise GainError("The points of a curve follow each other in time.")
        if np.isnan(self.db).any() or (self.db == np.inf).any():
            raise GainError("A point of a curve holds a value that is no gain.")

    def __len__(self) -> int:
        return len(self.at)

    def __call__(self, at: npt.ArrayLike) -> FloatArray:
        """The gain at some seconds, dB; -inf where it is silent. O(log n) each."""
        value = self._finite(np.asarray(at, np.float64))
        return np.where(value <= SILENCE, -np.inf, value)

    def sample(self, start: float, rate: float, count: int) -> FloatArray:
        """The gain at ``start + i / rate`` seconds for ``i`` in 0 ... count - 1, dB."""
        return self(start + np.arange(count) / rate)

    def inside(self, start: float, end: float) -> npt.NDArray[np.bool_]:
        """Which points lie in ``start`` ... ``end``, both included, (n,)."""
        return np.asarray((self.at >= start) & (self.at <= end))

    def _finite(self, at: FloatArray) -> FloatArray:
        """The gain with silence at SILENT."""
        if not len(self):
            return np.zeros(at.shape)
        db = _level(self.db)
        if len(self) == 1:
            return np.full(at.shape, db[0])
        i = np.clip(np.searchsorted(self.at, at, "right") - 1, 0, len(self) - 2)
        length = self.at[i + 1] - self.at[i]
        share = np.clip((at - self.at[i]) / length, 0.0, 1.0)
        shape = self.shape[i]
        ramp = np.minimum(DECLICK_SECONDS, length)
        held = np.clip(1.0 - (self.at[i + 1] - at) / ramp, 0.0, 1.0)
        first, last = self.phase[i, 0], self.phase[i, 1]
        low = _cosine(first)
        span = _cosine(last) - low
        smooth = (_cosine(first + share * (last - first)) - low) / np.where(span == 0, 1.0, span)
        way = np.select([shape == Shape.SMOOTH, shape == Shape.HOLD], [smooth, held], share)
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
    at, db = _whole([row[0] for row in rows]), np.array([row[1] for row in rows], np.float64)
    if np.isnan(at).any():
        raise GainError("A point of a curve has no time.")
    order = np.argsort(at, kind="stable")
    kept: list[int] = []
    for i in order.tolist():
        if kept and at[i] == at[kept[-1]]:
            kept.pop()
        kept.append(i)
    return _plain(at[kept], db[kept], np.array([int(rows[i][2]) for i in kept], np.int8))


def with_points(curve: Curve, at: npt.ArrayLike) -> Curve:
    """The same curve with points at some seconds as well, where there is none yet.

    The curve is identical everywhere. One without points gets points of 0 dB. O((n + m) log n).
    """
    wanted = _apart(curve, at)
    if not len(wanted):
        return curve
    if not len(curve):
        return _plain(wanted, np.zeros(len(wanted)))
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
    db = np.where(known, curve.db[source], curve._finite(new_at))
    shape = np.where(outside, Shape.LINEAR, curve.shape[source]).astype(np.int8)
    shape[(shape == Shape.HOLD) & ~known & (new_at >= ramp[source] - 1e-12)] = Shape.LINEAR
    share = np.clip((new_at - curve.at[source]) / (following - curve.at)[source], 0.0, 1.0)
    until = np.append(np.where(source[1:] == source[:-1], share[1:], 1.0), 1.0)
    first, span = curve.phase[source, 0], np.diff(curve.phase, axis=1)[source, 0]
    phase = np.stack([first + share * span, first + until * span], axis=1)
    phase[shape != Shape.SMOOTH] = (0.0, 1.0)
    return Curve(new_at, db, shape, phase)


# --- single points


def add_point(curve: Curve, at: float, db: float, shape: Shape = Shape.LINEAR) -> Curve:
    """A curve with one point more; a point that is there already gets the new gain and shape."""
    near = np.flatnonzero(np.abs(curve.at - at) < CLOSEST / 2)
    if len(near):
        return set_points(curve, near, db=db, shape=shape)
    i = int(np.searchsorted(curve.at, at))
    # a way that is parted is no longer part of a cosine that was cut
    phase = curve.phase.copy()
    if i > 0:
        phase[i - 1] = (0.0, 1.0)
    return Curve(
        np.insert(curve.at, i, at),
        np.insert(curve.db, i, db),
        np.insert(curve.shape, i, np.int8(shape)),
        np.insert(phase, i, (0.0, 1.0), axis=0),
    )


def set_points(curve: Curve, points: Indices, db: float | None = None, shape: Shape | None = None) -> Curve:
    """Give points an exact gain, a shape, or both; where nothing is given they stay."""
    gains, shapes, phase = curve.db.copy(), curve.shape.copy(), curve.phase.copy()
    if db is not None:
        gains[points] = db
    if shape is not None:
        shapes[points] = np.int8(shape)
        phase[points] = (0.0, 1.0)
    return Curve(curve.at, gains, shapes, phase)


def move_points(curve: Curve, points: Indices, seconds: float = 0.0, db: float = 0.0) -> Curve:
    """Move points in time, in gain, or both. In time they go as far as their neighbours that stay let them."""
    chosen = np.zeros(len(curve), bool)
    chosen[points] = True
    if not chosen.any():
        return curve
    gaps = np.diff(curve.at) - CLOSEST
    back, forth = chosen[1:] & ~chosen[:-1], chosen[:-1] & ~chosen[1:]
    least = max(-float(np.min(gaps[back], initial=np.inf)), -float(curve.at[chosen][0]))
    seconds = min(max(seconds, least), float(np.min(gaps[forth], initial=np.inf)))
    return replace(curve, at=curve.at + seconds * chosen, db=curve.db + db * chosen)


def delete_points(curve: Curve, points: Indices) -> Curve:
    """A curve without some of its points."""
    chosen = np.zeros(len(curve), bool)
    chosen[points] = True
    phase = curve.phase.copy()
    phase[:-1][chosen[1:]] = (0.0, 1.0)
    return _keep(replace(curve, phase=phase), ~chosen)


def shift(curve: Curve, seconds: float) -> Curve:
    """The whole curve earlier or later."""
    return replace(curve, at=curve.at + seconds)


# --- ranges


def lift(curve: Curve, start: float, end: float, db: float, ramp_in: float, ramp_out: float) -> Curve:
    """Raise or lower a span by ``db``, with ramps (seconds) that lie outside of it.

    Both edges move by the same amount, and a second lift of the span uses the points of the first. Outside of span and
    ramps the curve is identical.

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
    """Make the moves of a range larger or smaller around a gain; border points keep the outside as it is."""
    cut, inner, _ = _bordered(curve, start, end)
    return replace(cut, db=np.where(inner, around + factor * (cut.db - around), cut.db))


def delete_range(curve: Curve, start: float, end: float) -> Curve:
    """Delete what lies in a range: border points keep the outside as it is, and a straight line leads from one to the other."""
    cut, inner, borders = _bordered(curve, start, end)
    return _keep(set_points(cut, borders[:1], shape=Shape.LINEAR), ~inner)


def copy_range(curve: Curve, start: float, end: float) -> Curve:
    """What lies in a range, in seconds from its start."""
    cut, inner, borders = _bordered(curve, start, end)
    inner[borders] = True
    return shift(_keep(cut, inner), -min(start, end))


def paste(curve: Curve, at: float, piece: Curve) -> Curve:
    """Put what was copied at a moment. The curve reaches it within the de-click ramp at both ends, inside of its range."""
    length = float(piece.at[-1] - piece.at[0]) if len(piece) else 0.0
    if length < 3 * DECLICK_SECONDS:
        raise GainError("What is pasted is too short.")
    edges = piece.at[0] + DECLICK_SECONDS, piece.at[-1] - DECLICK_SECONDS
    inner = with_points(piece, edges)
    inner = _keep(inner, inner.inside(edges[0] - CLOSEST, edges[1] + CLOSEST))
    return replace_range(curve, at + float(piece.at[0]), at + float(piece.at[-1]), shift(inner, at))


def draw(curve: Curve, at: FloatArray, db: FloatArray, error: float = 0.1) -> Curve:
    """What the hand drew, in whatever direction, in place of what was there; thinned to ``error`` dB."""
    if len(at) < 2:
        return curve
    drawn = thin(curve_of(zip(at.tolist(), db.tolist(), strict=True)), error)
    start, end = float(drawn.at[0]), float(drawn.at[-1])
    return replace_range(curve, start - DECLICK_SECONDS, end + DECLICK_SECONDS, drawn)


def replace_range(curve: Curve, start: float, end: float, inner: Curve) -> Curve:
    """A curve with the points of ``inner`` in place of what lay between two moments, where border points keep the outside.

    Raises
    ------
    GainError
        If ``inner`` does not lie between them.
    """
    cut, _, (left, right) = _bordered(curve, start, end)
    before = set_points(_keep(cut, np.arange(len(cut)) <= left), np.array([left]), shape=Shape.LINEAR)
    parts = (before, inner, _keep(cut, np.arange(len(cut)) >= right))
    return Curve(*(np.concatenate([getattr(part, name) for part in parts]) for name in ("at", "db", "shape", "phase")))


def border_points(curve: Curve, spans: Sequence[tuple[float, float]], ramp: float | None = None) -> Curve:
    """Make a point at both ends of spans - clips, sections -, or two at each end with a ``ramp`` (seconds) outside."""
    edges = [edge for span in spans for edge in span]
    if ramp is not None:
        edges += [edge for start, end in spans for edge in (start - ramp, end + ramp)]
    return with_points(curve, edges)


def smooth(curve: Curve, start: float, end: float, seconds: float, error: float = 0.1) -> Curve:
    """Smooth a range by the mean over ``seconds`` around each moment, thinned to ``error`` dB; the borders stay."""
    start, end = _ordered(start, end)
    count = max(int(np.ceil((end - start) / min(seconds / 8, 0.05))), 2)
    at = np.linspace(start, end, count + 1)
    straight = flatten(curve)
    # nothing is taken from outside: towards the borders the mean is over less, and at them over nothing
    half = np.minimum(seconds / 2, np.minimum(at - start, end - at))
    mean = (_area(straight, at + half) - _area(straight, at - half)) / np.where(half > 0, 2 * half, 1.0)
    mean = np.where(half > 0, mean, straight._finite(at))
    return replace_range(curve, start, end, _inner(thin(_plain(at, mean), error)))


def thin(curve: Curve, error: float, start: float = -np.inf, end: float = np.inf) -> Curve:
    """As few points as stray no more than ``error`` dB from the curve, in a range or everywhere.

    Douglas and Peucker's way (Cartographica 10, 1973), with the distance taken along the axis of gain. O(n log n) as a rule.
    """
    if len(curve) < 3:
        return curve
    first, last = max(start, float(curve.at[0])), min(end, float(curve.at[-1]))
    if last - first < CLOSEST:
        return curve
    part = copy_range(curve, first, last)
    straight = flatten(part, min(FINE, error / 4))
    kept = _keep(straight, _worth_keeping(straight.at, _level(straight.db), error))
    return replace_range(curve, first, last, _inner(shift(kept, first)))


# --- curves together


def add(first: Curve, second: Curve) -> Curve:
    """The sum of two curves: exact where both are straight or one is constant, else within FINE dB. O(n log n).

    This is what folds a trim into a ride.
    """
    a, b = _joined(first, second)
    crossed = (_bent(a) & _moves(b)) | (_bent(b) & _moves(a))
    if crossed.any():
        a, b = _joined(_straighten(a, crossed, FINE / 2), _straighten(b, crossed, FINE / 2))
    bent_a, bent_b = _bent(a), _bent(b)
    shape = np.where(bent_b, b.shape, np.where(bent_a, a.shape, Shape.LINEAR)).astype(np.int8)
    total = _level(a.db) + _level(b.db)
    return Curve(a.at, total, shape, np.where(bent_b[:, None], b.phase, a.phase))


def flatten(curve: Curve, error: float = FINE) -> Curve:
    """The same curve with straight pieces only; what was smooth strays by no more than ``error`` dB."""
    return _straighten(curve, curve.shape != Shape.LINEAR, error)


def changed_span(before: Curve, after: Curve) -> tuple[float, float] | None:
    """From where to where two curves differ, seconds (infinite where they do to the end); None where they do not."""
    a, b = _joined(before, after)
    if not len(a):
        return None
    value = np.abs(_level(a.db) - _level(b.db)) > 1e-9
    # between two points that agree, another way of going there is a difference too
    way = (a.shape != b.shape) | (a.phase != b.phase).any(axis=1)
    touched = np.flatnonzero(value | (way & (_moves(a) | _moves(b))))
    if not len(touched):
        return None
    first, last = int(touched[0]), int(touched[-1])
    start = -np.inf if first == 0 and value[0] else float(a.at[max(first - 1, 0)])
    return start, np.inf if last == len(a) - 1 else float(a.at[last + 1])


def whole_shapes(curve: Curve) -> Curve:
    """The same curve without parts of cosines: those become straight pieces within FINE dB. For what only knows shapes."""
    parts = (curve.shape == Shape.SMOOTH) & (curve.phase != (0.0, 1.0)).any(axis=1)
    return _straighten(curve, parts, FINE)


def compile_curves(curves: Sequence[Curve], rate: int) -> GainCurve:
    """Compile the sum of curves to a gain curve in samples.

    A move that is over in less than the de-click ramp is spread over it, so that nothing clicks whatever was drawn.
    """
    total = EMPTY
    for curve in curves:
        total = add(total, curve) if len(total) else curve
    if not len(total):
        return GainCurve(np.zeros(1), np.zeros(1))
    straight = flatten(total)
    at, db = _spread(straight.at, _level(straight.db))
    return GainCurve(at * rate, db)


def _spread(at: FloatArray, db: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Spread moves that are steep and over within less than the de-click ramp: there, the mean over the ramp's length."""
    slope = np.diff(db) / np.diff(at) / 1000
    steep = np.abs(slope) > _STEEP
    regions: list[list[float]] = []
    i = 0
    while i < len(slope):
        j = i + 1
        if steep[i]:
            while j < len(slope) and steep[j] and (slope[j] > 0) == (slope[i] > 0):
                j += 1
            if at[j] - at[i] < DECLICK_SECONDS * 0.999:
                region = [float(at[i]) - DECLICK_SECONDS / 2, float(at[j]) + DECLICK_SECONDS / 2]
                if regions and region[0] <= regions[-1][1]:
                    regions[-1][1] = region[1]
                else:
                    regions.append(region)
        i = j
    if not regions:
        return at, db
    line = _plain(at, db)
    half = DECLICK_SECONDS / 2
    outside = np.ones(len(at), bool)
    new_at, new_db = [], []
    for start, end in regions:
        outside &= (at < start) | (at > end)
        inner = np.concatenate([at - half, at + half, np.linspace(start, end, 9)])
        inner = np.unique(inner[(inner >= start) & (inner <= end)])
        value = (_area(line, inner + half) - _area(line, inner - half)) / DECLICK_SECONDS
        value[0], value[-1] = line._finite(inner[[0, -1]])
        new_at.append(inner)
        new_db.append(value)
    all_at = np.concatenate([at[outside], *new_at])
    all_db = np.concatenate([db[outside], *new_db])
    order = np.argsort(all_at, kind="stable")
    all_at, all_db = all_at[order], all_db[order]
    rising = np.concatenate([[True], np.diff(all_at) > 1e-9])
    return all_at[rising], all_db[rising]


# --- how it is done


def _cosine(phase: npt.ArrayLike) -> FloatArray:
    return np.asarray(0.5 - 0.5 * np.cos(np.pi * np.asarray(phase, np.float64)))


def _plain(at: FloatArray, db: FloatArray, shape: npt.NDArray[np.int8] | None = None) -> Curve:
    return Curve(at, db, np.zeros(len(at), np.int8) if shape is None else shape, np.tile((0.0, 1.0), (len(at), 1)))


def _keep(curve: Curve, which: npt.NDArray[np.bool_]) -> Curve:
    return Curve(curve.at[which], curve.db[which], curve.shape[which], curve.phase[which])


def _ordered(start: float, end: float) -> tuple[float, float]:
    return (start, end) if start <= end else (end, start)


def _apart(curve: Curve, at: npt.ArrayLike) -> FloatArray:
    """The moments at which there is no point yet, rising."""
    return np.setdiff1d(_whole(at), curve.at)


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
    return _keep(curve, (np.arange(len(curve)) > 0) & (np.arange(len(curve)) < len(curve) - 1))


def _joined(first: Curve, second: Curve) -> tuple[Curve, Curve]:
    """Two curves with points wherever one of them has one."""
    if not len(first) or not len(second):
        both = first if len(first) else second
        silent = replace(both, db=np.zeros(len(both)))
        return (both, silent) if len(first) else (silent, both)
    a, b = with_points(first, second.at), second
    while len(a) != len(b):
        # a hold that is cut gets a point of its own
        b = with_points(b, a.at)
        a = with_points(a, b.at)
    return a, b


def _moves(curve: Curve) -> npt.NDArray[np.bool_]:
    """From which points the curve goes to another value, (n,)."""
    db = _level(curve.db)
    return np.asarray(np.diff(db, append=db[-1:]) != 0)


def _bent(curve: Curve) -> npt.NDArray[np.bool_]:
    """From which points the curve goes on in another way than a straight line, (n,)."""
    return np.asarray((curve.shape != Shape.LINEAR) & _moves(curve))


def _straighten(curve: Curve, ways: npt.NDArray[np.bool_], error: float) -> Curve:
    """Make straight pieces of some ``ways`` (n,) from a point to the next."""
    bent = ways & _bent(curve)
    if not bent.any():
        return replace(curve, shape=np.where(ways, Shape.LINEAR, curve.shape).astype(np.int8)) if ways.any() else curve
    steps = np.abs(np.diff(_level(curve.db)))
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
    return Curve(cut.at, cut.db, shape, np.where(straight[:, None], (0.0, 1.0), cut.phase))


def _area(line: Curve, at: FloatArray) -> FloatArray:
    """The integral over a straight curve from its first point to some seconds, dB s; O(log n) each."""
    if not len(line):
        return np.zeros(at.shape)
    db = _level(line.db)
    sums = np.concatenate([[0.0], np.cumsum(np.diff(line.at) * (db[1:] + db[:-1]) / 2)])
    i = np.clip(np.searchsorted(line.at, at, "right") - 1, 0, len(line) - 1)
    return np.asarray(sums[i] + (at - line.at[i]) * (db[i] + line._finite(at)) / 2)


def _worth_keeping(at: FloatArray, db: FloatArray, error: float) -> npt.NDArray[np.bool_]:
    """Which points Douglas and Peucker keep, (n,)."""
    kept = np.zeros(len(at), bool)
    kept[[0, -1]] = True
    spans = [(0, len(at) - 1)]
    while spans:
        a, b = spans.pop()
        if b - a < 2:
            continue
        line = db[a] + (at[a + 1 : b] - at[a]) * ((db[b] - db[a]) / (at[b] - at[a]))
        away = np.abs(db[a + 1 : b] - line)
        middle = int(away.argmax())
        if away[middle] > error:
            middle += a + 1
            kept[middle] = True
            spans += [(a, middle), (middle, b)]
    return kept
