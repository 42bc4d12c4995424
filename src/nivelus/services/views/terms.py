"""What the interface is told once: words, limits and formats that hold for every session."""

from __future__ import annotations

from nivelus.core.kinds import Against
from nivelus.services.views.view import View


class PassTerms(View):
    """How a pass is written as it comes, and how far that goes: times in seconds, and dB that points may stray."""

    glide: float
    lead: float
    error: float
    snap: bool
    most_glide: float
    most_lead: float


class SettingTerms(View):
    """What the number at a path of the rule may be, and from where to where a slider of it goes."""

    least: float
    most: float
    low: float
    high: float


class KindTerms(View):
    """How marks of a kind are told: against what, the share of them (%) that its figure speaks of, and about how they stand."""

    against: Against
    share: float | None
    usually: float


class SoundFormatTerms(View):
    """A format of sound files: what it and its kin are called, the endings of names, and the bits that it is written in.

    ``common`` are the words that people look for.
    """

    name: str
    words: list[str]
    common: list[str]
    endings: list[str]
    bits: list[int]


class SoundFormats(View):
    """The formats of sound files."""

    items: list[SoundFormatTerms]


class CurveFormatTerms(View):
    """A format of curves: what it is called in a sentence, and the endings of its names, the first for what is written."""

    words: str
    endings: list[str]


class Terms(View):
    """What holds for every session and is said once: the reasons of drafts in words, and the limits of the hand.

    Lengths are seconds: the shortest mark, clip and lifted span, and the longest ramp of a dip. The fader's ends are dB.
    ``slow_most_down`` (dB) is how far a slow ride goes down as it comes, ``distance_slack`` (LU) what a phrase may miss its
    distance by. ``lisp`` (dB) is how far under its neighbours an ess has to be pulled to be likely to lisp.
    """

    gain_reasons: dict[str, str]
    mark_reasons: dict[str, str]
    ride_reasons: dict[str, str]
    settings: dict[str, SettingTerms]
    kinds: dict[str, KindTerms]
    passes: PassTerms
    curve_formats: list[CurveFormatTerms]
    shortest_mark: float
    shortest_clip: float
    longest_ramp: float
    fader_low: float
    fader_high: float
    slow_most_down: float
    distance_slack: float
    lisp: float
