"""Found marks and drawn curves packed into text: a table of numbers, compressed, in base 64.

An hour of marks takes some 150 kB. One row per mark in order of time: kind (index into ``KINDS``), start and end in samples,
level (RMS dBFS), confidence, excess, how far it stands over the voice (each NaN where there is none), and what is in a gap
(bits: 1 clicks, 2 bleed). One row per point of a curve: seconds, dB, shape, and both ends of its phase.
"""

from __future__ import annotations

import base64
import zlib
from collections.abc import Iterable
from functools import lru_cache

import numpy as np
import numpy.typing as npt

from nivelus.core.gain.curves import EMPTY, Curve
from nivelus.core.marks.mark import KINDS, Mark

HOLDS = ("clicks", "bleed")
COLUMNS = ("kind", "start", "end", "level", "confidence", "excess", "stands", "holds")


def pack(marks: Iterable[Mark], rate: int, samples: int) -> str:
    """Pack marks, whose times are seconds, for a recording of so many ``samples`` at ``rate`` Hz."""
    rows = [
        (
            KINDS.index(mark.kind),
            round(mark.start * rate),
            min(round(mark.end * rate), samples),
            mark.level,
            mark.confidence,
            np.nan if mark.excess is None else mark.excess,
            np.nan if mark.stands is None else mark.stands,
            sum(1 << HOLDS.index(what) for what in mark.holds),
        )
        for mark in marks
    ]
    return _packed(np.array(rows, "<f8").reshape(-1, len(COLUMNS)))


@lru_cache(maxsize=32)
def unpack(data: str) -> npt.NDArray[np.float64]:
    """The packed rows, (n, len(COLUMNS)), not to be written to. Kept for the next time, for every edit asks for them."""
    return _unpacked(data, len(COLUMNS))


def pack_curve(curve: Curve) -> str:
    """Pack a curve; one without points is an empty text."""
    if not len(curve):
        return ""
    return _packed(np.column_stack([curve.at, curve.db, curve.shape, curve.phase]))


@lru_cache(maxsize=64)
def unpack_curve(data: str) -> Curve:
    """The packed curve."""
    if not data:
        return EMPTY
    at, db, shape, first, last = _unpacked(data, 5).T
    return Curve(at, db, shape.astype(np.int8), np.stack([first, last], axis=1))


def _packed(table: npt.NDArray[np.float64]) -> str:
    return base64.b64encode(zlib.compress(np.ascontiguousarray(table.T, "<f8").tobytes(), 1)).decode("ascii")


def _unpacked(data: str, width: int) -> npt.NDArray[np.float64]:
    columns = np.frombuffer(zlib.decompress(base64.b64decode(data)), "<f8")
    table = columns.reshape(width, -1).T
    table.setflags(write=False)
    return table
