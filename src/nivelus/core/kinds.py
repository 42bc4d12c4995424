"""The kinds of detail, one row each: what is stored of a kind, what it is called, how it goes down, and how it is told.

A new kind is a row here, a section of ``core.rule.DetailSettings``, and a module in ``core.marks`` that finds it; rules,
requests, options, figures and lists take it from there. Ramps, depths and ranges are common practice.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, get_args

from nivelus.core import words

KindName = Literal["breath", "ess", "knock", "gap"]
AnyKind = Literal[KindName, "dip"]
"""Also a dip that was made by hand."""
Against = Literal["phrase", "usual", "nothing"]
"""What the level of a mark is told against: that of its phrase, what is usual for its kind around it, or nothing: dBFS."""


@dataclass(frozen=True, slots=True)
class Kind:
    """A kind of detail.

    ``code`` is what is stored of it, and never that of another one; the order of KINDS is that in which they are shown.
    ``ramps`` are seconds in and out. ``depth``, ``shallowest`` and ``deepest`` (dB) are its rule as it comes, ``sliders`` how
    far down the slider of its depth goes and that of its range. A kind that ``goes_by_excess`` goes down only by what stands
    out, by the depth at most. ``share`` is the per cent of its marks that stand lower than its figure tells, None where it
    has no figure; ``usually`` is about how far one stands, in the same dB: what is over it comes first in lists. Marks that
    ``leave_gaps`` are cut out of the gap that they lie in; others raise its level. Below a confidence of ``doubtful`` a mark
    may be a word: it is shown as such, and no rule turns it down. ``band`` is the column of the grid that it is heard in.
    """

    name: str
    code: int
    plural: str
    ramps: tuple[float, float]
    depth: float = 0.0
    shallowest: float = 0.0
    deepest: float = -40.0
    sliders: tuple[float, float] = (-40.0, -60.0)
    goes_by_excess: bool = False
    against: Against = "nothing"
    share: float | None = None
    usually: float = 0.0
    leaves_gaps: bool = False
    doubtful: float = 0.0
    band: Literal["plain", "high"] = "plain"


BREATH = Kind(
    "breath",
    code=0,
    plural="breaths",
    ramps=(0.03, 0.03),
    depth=-8.0,
    deepest=-24.0,
    sliders=(-24.0, -40.0),
    against="phrase",
    share=50,
    usually=-20.0,
    leaves_gaps=True,
    doubtful=0.1,
)
ESS = Kind(
    "ess",
    code=1,
    plural="esses",
    ramps=(0.005, 0.005),
    depth=-6.0,
    deepest=-12.0,
    sliders=(-12.0, -24.0),
    goes_by_excess=True,
    against="usual",
    share=90,
    band="high",
)
KNOCK = Kind(
    "knock",
    code=2,
    plural="knocks",
    ramps=(0.005, 0.015),
    depth=-6.0,
    shallowest=-3.0,
    deepest=-9.0,
    sliders=(-12.0, -24.0),
    against="usual",
    share=90,
)
GAP = Kind("gap", code=3, plural="gaps", ramps=(0.15, 0.02), depth=-20.0, usually=-60.0)
KINDS = (BREATH, ESS, KNOCK, GAP)
FREE = Kind("dip", code=4, plural="dips", ramps=(0.02, 0.02), deepest=-60.0, usually=-30.0)
"""A dip that was made by hand and follows no rule."""
ALL_KINDS = (*KINDS, FREE)
NAMES = tuple(kind.name for kind in KINDS)
OF_NAME = {kind.name: kind for kind in ALL_KINDS}
OF_CODE = {kind.code: kind for kind in ALL_KINDS}
assert len(OF_NAME) == len(OF_CODE) == len(ALL_KINDS)
assert get_args(KindName) == NAMES


def listed(ending: str = "and", plural: bool = True) -> str:
    """All kinds in a sentence: "breaths, esses, knocks and gaps"."""
    return words.listed([kind.plural if plural else kind.name for kind in KINDS], ending)
