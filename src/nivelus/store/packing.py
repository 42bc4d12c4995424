"""Found marks and drawn curves packed into text: a table of numbers, compressed, in base 64.

An hour of marks takes some 150 kB. One row per mark in order of time, see ``core.marks.mark.mark_table``. One row per point of
a curve: seconds, dB, shape, both ends of its phase, and its id.
"""

from __future__ import annotations

import base64
import zlib
from collections.abc import Iterable
from functools import lru_cache

import numpy as np
import numpy.typing as npt

from nivelus.core.gain.drawn import CLOSEST, EMPTY, Curve, spaced
from nivelus.core.marks.mark import COLUMNS, Mark, mark_table

_CURVE = 6
"""Columns of a packed curve; ids stay far below 2^53, so a float holds them."""


def pack(marks: Iterable[Mark], rate: int, samples: int) -> str:
    """Pack marks, whose times are seconds, for a recording of so many ``samples`` at ``rate`` Hz."""
    return pack_table(mark_table(marks, rate, samples))


def unpack(data: str) -> npt.NDArray[np.float64]:
    """The packed rows, (n, len(COLUMNS)), not to be written to; none for an empty text."""
    return _unpacked(data, len(COLUMNS)) if data else np.zeros((0, len(COLUMNS)))


def pack_curve(curve: Curve) -> str:
    """Pack a curve; one without points is an empty text."""
    return pack_table(np.column_stack([_line(curve), curve.ids])) if len(curve) else ""


def pack_line(curve: Curve) -> str:
    """What a curve draws, whatever its points are called: the same for two that sound the same point by point."""
    return pack_table(_line(curve)) if len(curve) else ""


def _line(curve: Curve) -> npt.NDArray[np.float64]:
    return np.column_stack([curve.at, curve.db, curve.shape, curve.phase])


@lru_cache(maxsize=24)
def unpack_curve(data: str) -> Curve:
    """The packed curve."""
    if not data:
        return EMPTY
    at, db, shape, first, last, ids = _unpacked(data, _CURVE).T
    return Curve(at, db, shape.astype(np.int8), np.stack([first, last], axis=1), ids.astype(np.int64))


def mended_curve(data: str) -> str | None:
    """A packed curve whose points lie apart and in order and hold gains, where those of ``data`` do not; None where they do.

    What cannot even be unpacked is left to the history.
    """
    try:
        at, db, shape, first, last, ids = _unpacked(data, _CURVE).T
    except (ValueError, zlib.error):
        return None
    good = np.isfinite(at) & ~np.isnan(db) & (db < np.inf)
    if good.all() and (np.diff(at) >= 2 * CLOSEST).all():
        return None
    order = np.flatnonzero(good)[np.argsort(at[good], kind="stable")]
    phase = np.nan_to_num(np.stack([first, last], axis=1)[order])
    named = np.nan_to_num(ids[order]).astype(np.int64)
    return pack_curve(spaced(Curve(at[order], db[order], shape[order].astype(np.int8), phase, named)))


Splice = tuple[int, str, str]
"""From which row on a packed table differs from another, and the packed rows that stand there in the one and the other."""


def difference(before: str, after: str) -> Splice:
    """What is different between two packed curves; a few rows for an edit of a few points."""
    a, b = (_unpacked(text, _CURVE) if text else np.zeros((0, _CURVE)) for text in (before, after))
    shorter = min(len(a), len(b))
    alike = (a[:shorter] == b[:shorter]).all(axis=1)
    first = int(np.argmin(alike)) if not alike.all() else shorter
    alike = (a[len(a) - shorter + first :] == b[len(b) - shorter + first :]).all(axis=1)[::-1]
    last = int(np.argmin(alike)) if not alike.all() else len(alike)
    return first, pack_table(a[first : len(a) - last]), pack_table(b[first : len(b) - last])


def splice(text: str, at: int, old: str, new: str) -> str:
    """A packed curve with the rows ``new`` in place of ``old`` from row ``at`` on."""
    table = _unpacked(text, _CURVE) if text else np.zeros((0, _CURVE))
    gone, put = _unpacked(old, _CURVE), _unpacked(new, _CURVE)
    out = np.concatenate([table[:at], put, table[at + len(gone) :]])
    return pack_table(out) if len(out) else ""


def pack_table(table: npt.NDArray[np.float64]) -> str:
    """Pack a table of numbers (n, columns)."""
    return base64.b64encode(zlib.compress(np.ascontiguousarray(table.T, "<f8").tobytes(), 1)).decode("ascii")


@lru_cache(maxsize=8)
def _unpacked(data: str, width: int) -> npt.NDArray[np.float64]:
    # what an edit or an undo puts together is read again at once
    columns = np.frombuffer(zlib.decompress(base64.b64decode(data)), "<f8")
    table = columns.reshape(width, -1).T
    table.setflags(write=False)
    return table
