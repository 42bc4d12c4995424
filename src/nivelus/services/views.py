"""What the use cases answer with: plain values, as the interface shows them.

Positions are seconds of the recording, levels in the unit of the session's target, gains dB. ``before`` is a phrase's
level without gain and ``after`` with it; ``deviation`` is ``after`` less the target.
"""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Literal

from pydantic import BaseModel, ConfigDict, field_validator

LaneName = Literal["curve", "ride", "trim"]
"""A lane that is drawn, as it is called in requests and answers."""


class View(BaseModel):
    """What all views are: read-only, every field present."""

    model_config = ConfigDict(
        frozen=True,
        json_schema_mode_override="serialization",
        json_schema_serialization_defaults_required=True,
    )


class RuleView(View):
    """The target of a session and the rule of its drafts; ``strength`` in percent."""

    unit: str
    target_kind: str
    target: float
    tolerance: float
    strength: float
    most_up: float
    most_down: float
    ceiling: float
    noise_limit: float
    base_kind: str
    base: float
    settle: bool
    keep_by_hand: bool
    mono_as_two: bool
    longest: float


class ClipView(View):
    """A clip; what belongs to its phrase is None where it has none. ``peak`` is the true peak of the clip before gain, dBTP.

    ``recording`` is the one that it is of, empty for the track's own, and ``shift`` the seconds by which that lies later.
    """

    id: str
    track: str
    start: float
    end: float
    gain: float
    phrase_start: float | None
    phrase_end: float | None
    before: float | None
    after: float | None
    peak: float
    room_tone: float
    recording: str
    shift: float
    confidence: float
    locked: bool
    left_out: bool
    by_hand: bool
    reference: bool
    label: str


class DipRuleView(View):
    """How the marks of one kind go down: whether they do, by how much (dB), within which range, or to silence."""

    on: bool
    depth: float
    shallowest: float
    deepest: float
    silent: bool


class MarkView(View):
    """A breath, ess, knock or gap, or a dip made by hand, with the dip that it makes.

    ``before`` and ``after`` say how it stands: a breath in dB against its phrase, an ess and a knock by their excess, a gap
    and a dip in dBFS. ``depth`` is what the dip would be, ``on`` whether it is applied, ``keep`` is rule, in or out.
    ``dip_start`` ... ``dip_end`` is at full depth, the ramps (seconds) lie outside.
    """

    id: str
    track: str
    kind: str
    start: float
    end: float
    level: float
    confidence: float
    excess: float | None
    holds: list[str]
    before: float | None
    after: float | None
    lisp: bool
    on: bool
    keep: str
    reason: str
    by_hand: bool
    made: bool
    moved: bool
    depth: float
    dip_start: float
    dip_end: float
    ramp_in: float
    ramp_out: float
    notch: bool


class ClipValues(View):
    """Clips of which only values are different, column by column: what many of them are told by.

    ``ids`` are parted by spaces, ``flags`` have a bit for each of ``names``.
    """

    ids: str
    gain: list[float]
    after: list[float | None]
    flags: list[int]
    names: list[str]


class MarkValues(View):
    """Marks of which only the dip and what it makes of them are different, column by column.

    ``ids`` are parted by spaces; one that begins with a full stop has the kind of the one before it. ``flags`` have a bit for
    each of ``names``, ``reason`` indexes ``reasons``.
    """

    ids: str
    depth: list[float]
    after: list[float | None]
    flags: list[int]
    names: list[str]
    reason: list[int]
    reasons: list[str]


class TimelineView(View):
    """What is heard of a track. ``key`` tells its sound from any other: what was fetched for a key never changes.

    ``lengths`` are the seconds of the recordings that its clips are of, by their ids as clips have them.
    """

    key: str
    formats: list[str]
    sample_rate: int
    channels: int
    frames: int
    duration: float
    room_tone: float
    missing: bool
    lengths: dict[str, float]


class TakeName(View):
    """A take of a track: its number, by which it is asked for, and what it is called.

    ``recordings`` are those of which more is heard in it than in any other take, empty for the track's own: a clip of one of
    them that lies in another take was chosen from here. A track with a single take names none.
    """

    number: int
    name: str
    recordings: list[str]


class TakeView(TakeName):
    """A take with its clips and figures: mean and spread of its phrase levels, room tone, and how many phrases count.

    ``key`` tells its sound from any other, as that of a timeline does.
    """

    key: str
    duration: float
    missing: bool
    level: float | None
    spread: float | None
    room_tone: float
    count: int
    clips: list[ClipView]
    stands: dict[str, list[str]]
    """By the clips of the take that is heard, those of this one whose phrases stand for theirs."""


class TakesView(View):
    """The takes of a track, in order."""

    items: list[TakeView]


class ArrangementView(View):
    """Which way of laying out some tracks is likely to be meant, and which of the ways there are."""

    likely: str
    ways: list[str]


class LoadSettings(View):
    """The reference compressor of a track: dBFS, ratio, dB, seconds. ``threshold_after`` is None where it is the same."""

    threshold: float
    ratio: float
    knee: float
    attack: float
    release: float
    makeup: float
    detector: str
    threshold_after: float | None


class SpanView(View):
    """A span of time, seconds."""

    start: float
    end: float


class DuckSettings(View):
    """How a bed makes room, see ``core.drafts.duck.DuckRule``; ``locked`` spans (seconds) are left alone by drafts."""

    way: str
    depth: float
    distance: float
    lead: float
    hold: float
    release: float
    most_down: float
    locked: list[SpanView]


class TrackView(View):
    """A track without its clips and marks. ``target`` is the resolved target, in the session's unit, and ``base``
    (dB) how far the whole voice has to move.

    ``rules`` say for each kind of mark how it goes down; ``shows_esses`` is False where nothing high enough was recorded.
    ``lanes`` names the lanes in which something is drawn: curve (of the clips), ride, trim. ``range_low`` ... ``range_high``
    is the working range, dB, that they stay within. ``take`` is the number of the take that is heard. ``kind`` is voice or bed.
    ``gain_key`` tells the pre-fader gain from any other while the program runs.
    """

    id: str
    name: str
    position: int
    kind: str
    fader: float
    mute: bool
    solo: bool
    gain_key: str
    target: float
    base: float
    rules: dict[str, DipRuleView]
    shows_esses: bool
    lanes: list[str]
    range_low: float
    range_high: float
    timeline: TimelineView
    take: int
    takes: list[TakeName]
    load: LoadSettings
    duck: DuckSettings


class RideDefaults(View):
    """The rule of a ride as it comes; ``strength`` in percent, times in seconds."""

    strength: float
    most_up: float
    most_down: float
    attack: float
    release: float
    look_ahead: float
    error: float


class PassTerms(View):
    """How a pass is written as it comes, and how far that goes: times in seconds, and dB that points may stray."""

    glide: float
    lead: float
    error: float
    snap: bool
    most_glide: float
    most_lead: float


class Terms(View):
    """What holds for every session and is said once: the reasons of drafts in words, and the limits of the hand.

    Lengths are seconds: the shortest mark, clip and lifted span, and the longest ramp of a dip. The fader's ends are dB.
    ``slow_most_down`` (dB) is how far a slow ride goes down as it comes, ``distance_slack`` (LU) what a phrase may miss its
    distance by.
    """

    gain_reasons: dict[str, str]
    mark_reasons: dict[str, str]
    ride_reasons: dict[str, str]
    ride: RideDefaults
    passes: PassTerms
    shortest_mark: float
    shortest_clip: float
    longest_ramp: float
    fader_low: float
    fader_high: float
    slow_most_down: float
    distance_slack: float


class Changed(View):
    """The state of a session after a step: all that is small, and the clips and marks that are different.

    ``whole`` names the tracks of which every clip and mark is here; those of other tracks that are not here stay.
    ``removed`` and ``removed_marks`` name what went, by track. ``clip_values`` and ``mark_values`` hold, by track, what is
    different of those that stay as they are but for that.
    ``told`` says what the step did besides what it was asked for; empty for nothing.
    """

    id: str
    name: str
    revision: int
    rule: RuleView
    tracks: list[TrackView]
    clips: list[ClipView]
    marks: list[MarkView]
    clip_values: dict[str, ClipValues]
    mark_values: dict[str, MarkValues]
    whole: list[str]
    removed: dict[str, list[str]]
    removed_marks: dict[str, list[str]]
    label: str
    told: str
    undo: str | None
    redo: str | None
    terms: Terms | None = None
    """With a whole session."""


class CardPhrase(View):
    """A phrase on a card's thumbnail: where it lies (share of the length) and how far it is from the target."""

    start: float
    end: float
    deviation: float


class CardView(View):
    """A session on the sessions page. ``worst`` is the deviation of the phrase furthest from the target."""

    id: str
    name: str
    touched: datetime
    duration: float
    tracks: list[str]
    level: int
    count: int
    worst: float | None
    tolerance: float
    phrases: list[CardPhrase]
    importing: int

    @field_validator("touched")
    @classmethod
    def _is_utc(cls, value: datetime) -> datetime:
        # SQLite keeps no time zone; every moment in the database is UTC
        return value.replace(tzinfo=UTC) if value.tzinfo is None else value


class CardsView(View):
    """All sessions."""

    items: list[CardView]


class LooseView(View):
    """A recording that belongs to no session: the name it came under, bytes, and seconds if it is measured."""

    hash: str
    name: str
    size: int
    length: float | None


class LooseViews(View):
    """The recordings that belong to no session, and the room that they take, bytes."""

    items: list[LooseView]
    size: int


class JobView(View):
    """Long work: ``state`` is waiting, running, done, failed or cancelled."""

    id: str
    kind: str
    name: str
    state: str
    stage: str
    percent: float
    message: str
    track: str | None
    file: str | None


class JobsView(View):
    """The jobs of a session."""

    items: list[JobView]


class DraftItem(View):
    """What a draft would do to one phrase, and why."""

    clip: str
    gain: float
    after: float
    reason: str


class DraftView(View):
    """A draft: one item per phrase, how many it would move, and how many would be level then.

    ``base`` (dB) is how far the whole voice moves. ``peaks`` short peaks hold ``by_peaks`` phrases back; ``deepest`` (dB) is
    the deepest dip that they would take. ``freeing`` is a lower target at which every phrase gets level, or None.
    """

    target: float
    base: float
    by_peaks: int
    peaks: int
    deepest: float
    freeing: float | None
    items: list[DraftItem]
    moves: int
    level: int
    count: int
    reasons: dict[str, int]


class TrialView(View):
    """What other rules would make of the dips: the depth of each, dB, in the order of ``marks``."""

    marks: list[str]
    depth: list[float]


class RidePoint(View):
    """A point of a lane: seconds, dB (-144 is silence), the shape of the way to the next, and the clip that owns it if any."""

    at: float
    db: float
    shape: str
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
    """The drawn lanes of a track: points of the clip curves, ride and trim; the trim's offset (dB) and whether it is off.

    ``ramp`` is that of a lift, seconds.
    """

    curve: list[RidePoint]
    ride: list[RidePoint]
    trim: list[RidePoint]
    offset: float
    off: bool
    ramp: float


class InsideView(View):
    """How much goes on inside the phrases without the ride and with it, and the spans that stray."""

    phrases: list[RidePhraseView]
    strays: list[StrayView]


class RideDraftView(View):
    """A drafted ride: its points, what it does to each phrase, and the mean spread inside those that are drafted, LU.

    ``strays`` has the deviation that each stray of the present state would have, in their order, LU.
    """

    points: list[RidePoint]
    phrases: list[RidePhraseView]
    strays: list[float]
    before: float
    after: float


class FiguresView(View):
    """Level figures, None where nothing passed the gates. Loudness in LUFS, peaks dBTP and dBFS, spread and width LU or dB.

    ``overs`` is the number of phrases whose clip passes the ceiling. ``breath`` is the middle level of breaths against
    their phrases, ``ess`` and ``knock`` the excess that nine in ten stay under, dB; ``lisps`` counts the esses that are
    pulled too far under their neighbours; ``down`` the dips that are on. ``inside`` is the mean spread of 400 ms loudness
    inside the phrases, LU.
    """

    integrated: float | None
    loudness_range: float
    momentary_max: float | None
    short_term_max: float | None
    true_peak: float | None
    room_tone: float
    level: int
    count: int
    spread: float
    width: float
    overs: int
    breath: float | None
    ess: float | None
    knock: float | None
    lisps: int
    down: int
    inside: float


class BeforeAfter(View):
    """Figures without gain and with it."""

    before: FiguresView
    after: FiguresView
