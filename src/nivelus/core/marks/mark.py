"""A detail of a recording that was found: what kind it is, where it lies, and how far it stands out."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nivelus.core.kinds import ALL_KINDS, FREE, OF_NAME, Kind
from nivelus.core.marks.kernel import mean_of
from nivelus.core.marks.room import LOWEST
from nivelus.core.measure.grid import FRAME, LevelGrid

HOLDS = ("clicks", "bleed")
"""What can be in a gap besides room tone."""
COLUMNS = ("kind", "start", "end", "level", "confidence", "excess", "stands", "holds")
"""Columns of a table of marks, see ``mark_table``."""

Span = tuple[int, int]
"""First and one-past-last frame."""


@dataclass(frozen=True, slots=True)
class Mark:
    """A found detail.

    ``start`` and ``end`` are seconds, ``level`` is RMS dBFS, ``confidence`` 0 ... 1, see ``is_doubtful``. ``excess`` is
    how many dB it stands over what is usual around it; None for kinds that have no such measure. ``holds`` says what is in a
    gap besides room tone: "clicks", "bleed". ``stands`` is how far the high band of an ess stands over the voice, dB.
    """

    kind: str
    start: float
    end: float
    level: float
    confidence: float
    excess: float | None = None
    holds: tuple[str, ...] = ()
    stands: float | None = None

    @property
    def is_doubtful(self) -> bool:
        """Whether it may be something else, a word."""
        return self.confidence < OF_NAME[self.kind].doubtful


def by_code(value: Callable[[Kind], float | tuple[float, ...]]) -> npt.NDArray[np.float64]:
    """What ``value`` says of each kind, at the place of its code, to be indexed by codes; NaN where no kind has that code."""
    table = np.full((max(kind.code for kind in ALL_KINDS) + 1, *np.shape(value(FREE))), np.nan)
    for kind in ALL_KINDS:
        table[kind.code] = value(kind)
    return table


def which(is_so: Callable[[Kind], bool]) -> npt.NDArray[np.bool_]:
    """Of which kinds something is so, to be indexed by codes."""
    return np.asarray(by_code(is_so) == 1)


def mark_table(marks: Iterable[Mark], rate: int, samples: int) -> npt.NDArray[np.float64]:
    """Marks as a table of numbers, (n, len(COLUMNS)), for a recording of so many ``samples`` at ``rate`` Hz.

    The columns are: kind (its code), start and end in samples, level, confidence, excess and stands (each NaN where
    there is none), and what a gap holds (bits, in the order of HOLDS).
    """
    rows = [
        (
            OF_NAME[mark.kind].code,
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
    return np.array(rows, "<f8").reshape(-1, len(COLUMNS))


def new_mark(
    kind: str,
    grid: LevelGrid,
    span: Span,
    confidence: float,
    excess: float | None = None,
    holds: tuple[str, ...] = (),
    stands: float | None = None,
) -> Mark:
    """A mark over a span of frames, with its level measured.

    Parameters
    ----------
    kind : name of one of ``core.kinds.KINDS``
    grid : that of the recording
    span : frames
    confidence : 0 ... 1
    excess : dB over what is usual, where it has one
    holds : what a gap holds, of HOLDS
    stands : dB over the room, where it is told
    """
    a, b = span
    return Mark(
        kind=kind,
        start=a * FRAME,
        end=min(b * FRAME, grid.duration),
        level=span_level(grid, a, b),
        confidence=min(max(float(confidence), 0.0), 1.0),
        excess=excess,
        holds=holds,
        stands=stands,
    )


def span_level(grid: LevelGrid, a: int, b: int) -> float:
    """RMS level of frames ``a`` to ``b`` in dBFS, never below LOWEST."""
    return 10 * math.log10(max(mean_of(grid.column("plain"), a, b), 10 ** (LOWEST / 10)))


def phrase_frames(grid: LevelGrid, phrases: list[tuple[float, float]]) -> list[Span]:
    """Spans in seconds as spans of frames within the grid."""
    count = len(grid.data)
    return [(min(round(a / FRAME), count - 1), min(max(round(b / FRAME), round(a / FRAME) + 1), count)) for a, b in phrases]
