"""What the interface is told of passes."""

from __future__ import annotations

from typing import Literal

from nivelus.services.views.ride import RidePoint, RideView
from nivelus.services.views.session import LaneName, SpanView
from nivelus.services.views.view import View


class PassView(View):
    """A pass: seconds from where to where it was held, how it is written, and what became of it.

    ``elsewhere`` says that the lane is another one by now than was heard. ``state`` is "waiting" or "kept"; one that is kept
    may be kept again, if something else has been written over it, unless it is an offset.
    """

    id: str
    number: int
    lane: LaneName
    mode: Literal["touch", "latch"]
    state: Literal["waiting", "kept"]
    start: float
    end: float
    span: SpanView | None
    glide: float
    lead: float
    error: float
    snap: bool
    elsewhere: bool


class PassesView(View):
    """The passes of a track that wait to be decided on or are kept, the newest first."""

    items: list[PassView]


class DrawnView(View):
    """What is drawn on a track: its lanes, and the passes that could be written into them."""

    lanes: RideView
    passes: list[PassView]


class PiecesTaken(View):
    """How many pairs of a pass the program has."""

    count: int


class PhraseGain(View):
    """How far a phrase is moved, dB."""

    clip: str
    by: float


class PassDraftView(View):
    """What keeping a pass would make of its lane: the points of what it writes, and the difference, straight from ``at`` to
    ``at`` (seconds), where it is ``by`` dB.

    ``phrases`` is how much of it clip gain could do, the mean in each phrase that it covers. ``stamp`` tells this
    draft from any other.
    """

    points: list[RidePoint]
    at: list[float]
    by: list[float]
    phrases: list[PhraseGain]
    stamp: str
