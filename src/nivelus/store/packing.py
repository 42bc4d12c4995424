"""Found marks packed into text: a table of numbers, compressed, in base 64. An hour of marks takes some 150 kB.

One row per mark in order of time: kind (index into ``KINDS``), start and end in samples, level (RMS dBFS), confidence,
excess, how far it stands over the voice (each NaN where there is none), and what is in a gap (bits: 1 clicks, 2 bleed).
"""

from __future__ import annotations

import base64
import zlib
from collections.abc import Iterable
from functools import lru_cache

import numpy as np
import numpy.typing as npt

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
    table = np.array(rows, "<f8").reshape(-1, len(COLUMNS))
    return base64.b64encode(zlib.compress(np.ascontiguousarray(table.T).tobytes(), 1)).decode("ascii")


@lru_cache(maxsize=32)
def unpack(data: str) -> npt.NDArray[np.float64]:
    """The packed rows, (n, len(COLUMNS)), not to be written to. Kept for the next time, for every edit asks for them."""
    columns = np.frombuffer(zlib.decompress(base64.b64decode(data)), "<f8")
    table = columns.reshape(len(COLUMNS), -1).T
    table.setflags(write=False)
    return table
