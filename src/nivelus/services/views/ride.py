"""What the interface is told of rides."""

from __future__ import annotations

from nivelus.services.views.view import View


class RidePoint(View):
    """A point of a curve: seconds, dB (-144 is silence), and the shape of the way to the next."""

    at: float
    db: float
    shape: str


class LanePoint(RidePoint):
    """A point of a lane, and the clip that owns it if any. Its ``id`` is its own in the lane, and stays with it."""

    id: str
    clip: str | None = None


class RidePhraseView(View):
    """How much goes on inside a phrase before the ride and after it: spread of 400 ms loudness, LU."""

    clip: str
    before: float
    after: float
    reason: str


class StrayView(View):
    """A span inside a phrase whose loudness strays from that of its phrase, by ``deviation`` LU on the average."""

    clip: str
    start: float
    end: float
    deviation: float


class RideView(View):
    """The drawn lanes of a track: points of the clip curves, ride and trim, and the trim's offset, dB.

    ``ramp`` is that of a lift, seconds.
    """

    curve: list[LanePoint]
    ride: list[LanePoint]
    trim: list[LanePoint]
    offset: float
    ramp: float


class InsideView(View):
    """How much goes on inside the phrases without the ride and with it, and the spans that stray."""

    phrases: list[RidePhraseView]
    strays: list[StrayView]


class RideDraftView(View):
    """A drafted ride: its points, what it does to each phrase, and the mean spread inside those that are drafted, LU.

    ``strays`` has the deviation that each stray of the present state would have, in their order, LU. ``stamp`` tells this draft
    from any other.
    """

    points: list[RidePoint]
    phrases: list[RidePhraseView]
    strays: list[float]
    before: float
    after: float
    stamp: str
