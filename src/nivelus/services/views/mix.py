"""What the use cases of balance and load answer with; see ``services.views.session``."""

from __future__ import annotations

from nivelus.services.views.ride import RidePoint
from nivelus.services.views.session import LoadSettings
from nivelus.services.views.view import View


class DistancePhrase(View):
    """How far a phrase lies above the bed, LU; None where there is none under it. ``level`` is its loudness, LUFS."""

    track: str
    clip: str
    level: float
    distance: float | None


class DistanceView(View):
    """The distance of phrases to the bed: the ``mean`` and the ``worst`` (LU), and how many keep what is ``wanted``."""

    wanted: float | None
    phrases: list[DistancePhrase]
    mean: float | None
    worst: float | None
    kept: int


class DuckPhrase(View):
    """What a drafted duck does to the distance of a phrase, LU, and why it goes no further."""

    track: str
    clip: str
    before: float | None
    after: float | None
    reason: str


class DuckDraftView(View):
    """A drafted duck: its points, what it does to each phrase, and how many of ``count`` keep the distance wanted.

    ``told`` says what it could not do; empty for nothing. ``stamp`` tells this draft from any other.
    """

    points: list[RidePoint]
    phrases: list[DuckPhrase]
    mean: float
    worst: float
    kept: int
    count: int
    told: str
    stamp: str


class SlowDraftView(View):
    """A drafted slow ride: its points, the loudness that it goes for (LUFS), and the loudness range before and after, LU."""

    points: list[RidePoint]
    target: float
    before: float
    after: float
    stamp: str


class LoadFiguresView(View):
    """How hard the compressor works while the voice speaks: dB, and shares of that time over 3, 6 and 10 dB.

    ``spread`` is the standard deviation of the phrases' averages.
    """

    average: float
    spread: float
    highest: float
    over3: float
    over6: float
    over10: float


class LoadPhrase(View):
    """Mean reduction in a phrase before and after, dB, and whether that after is ``hard`` work beside the average."""

    clip: str
    before: float
    after: float
    hard: bool


class OrderView(View):
    """The gain ahead of the compressor, and behind it: reduction and crest (dB) of the quieter and of the louder half of the
    phrases, and the spread of what comes out, LU."""

    ahead_quiet: float
    ahead_quiet_crest: float
    ahead_loud: float
    ahead_loud_crest: float
    ahead_spread: float
    behind_quiet: float
    behind_quiet_crest: float
    behind_loud: float
    behind_loud_crest: float
    behind_spread: float


class LoadView(View):
    """The load of a track. ``proposed`` is the threshold for After at which it works as hard as before on the average;
    ``at_proposed`` says how evenly it works there."""

    settings: LoadSettings
    before: LoadFiguresView
    after: LoadFiguresView
    proposed: float
    at_proposed: LoadFiguresView
    phrases: list[LoadPhrase]
    order: OrderView | None
