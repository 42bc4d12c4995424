"""What the use cases answer with: plain values, as the interface shows them.

Positions are seconds of the recording, levels in the unit of the session's target, gains dB. ``before`` is a phrase's
level without gain and ``after`` with it; ``deviation`` is ``after`` less the target.
"""

from __future__ import annotations

from typing import Literal

from nivelus.core.kinds import AnyKind
from nivelus.core.rule import Pace
from nivelus.services.views.terms import Terms
from nivelus.services.views.view import View

LaneName = Literal["curve", "ride", "trim"]
"""A lane that is drawn, as it is called in requests and answers."""


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

    ``wish`` is by how much the trim moves the phrase, dB: it is level where it stands at the target and that.

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
    wish: float
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
    """How the marks of one kind go down: whether they do, by how much (dB), within which range, or to silence.

    Gaps may go to one level (``even``), by ``depth`` at most, and close and open within shares of their length.
    """

    on: bool
    depth: float
    shallowest: float
    deepest: float
    silent: bool
    even: bool
    closes: float
    opens: float


class MarkView(View):
    """A detail, or a dip made by hand, with the dip that it makes.

    ``before`` and ``after`` say how it stands against what its kind is told against, see ``core.kinds``. ``depth`` is what
    the dip would be, ``on`` whether it is applied, ``keep`` is rule, in or out.
    ``dip_start`` ... ``dip_end`` is at full depth, the ramps (seconds) lie outside.
    """

    id: str
    track: str
    kind: AnyKind
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


class MarkColumns(View):
    """Marks as ``MarkView`` has them, column by column: what many of them that are new are told by.

    ``ids`` and ``flags`` are as in ``MarkValues``. Of ``numbers`` and ``words`` each name is a column; words index ``said``,
    where several words of one mark are parted by spaces.
    """

    ids: str
    numbers: dict[str, list[float | None]]
    flags: list[int]
    names: list[str]
    words: dict[str, list[int]]
    said: dict[str, list[str]]


class ClipValues(View):
    """Clips of which only values are different, column by column: what many of them are told by.

    ``ids`` are parted by spaces, ``flags`` have a bit for each of ``names``.
    """

    ids: str
    gain: list[float]
    after: list[float | None]
    wish: list[float]
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


class TrimSettings(View):
    """The trim of a whole track: the offset of all of it, dB, and whether it is switched off; off, it keeps what it is."""

    offset: float
    off: bool


class TrackView(View):
    """A track without its clips and marks. ``target`` is the resolved target, in the session's unit, and ``base``
    (dB) how far the whole voice has to move.

    ``rules`` say for each kind of mark how it goes down; ``shows_esses`` is False where nothing high enough was recorded.
    ``lanes`` names the lanes in which something is drawn: curve (of the clips), ride, trim. ``range_low`` ... ``range_high``
    is the working range, dB, that they stay within. ``take`` is the number of the take that is heard. ``kind`` is voice or bed.
    ``gain_key`` tells the pre-fader gain, and the scale of the levels, from any other while the program runs. ``follows`` is
    the track whose gain it has, and ``lag`` by how many seconds its recording begins later than that one's.
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
    trim: TrimSettings
    range_low: float
    range_high: float
    timeline: TimelineView
    take: int
    takes: list[TakeName]
    load: LoadSettings
    duck: DuckSettings
    follows: str | None
    lag: float


class RideSettings(View):
    """How rides of a session are drafted; ``strength`` in percent, ``natural_fall`` in LU."""

    strength: float
    most_up: float
    most_down: float
    natural_fall: float
    pace: Pace
    error: float


class Changed(View):
    """The state of a session after a step: all that is small, and the clips and marks that are different.

    ``whole`` names the tracks of which every clip and mark is here; those of other tracks that are not here stay. Where
    marks are many, ``mark_columns`` holds them by track, in place of ``marks``.
    ``removed`` and ``removed_marks`` name what went, by track. ``clip_values`` and ``mark_values`` hold, by track, what is
    different of those that stay as they are but for that.
    ``told`` says what the step did besides what it was asked for; empty for nothing.
    """

    id: str
    name: str
    revision: int
    rule: RuleView
    ride: RideSettings
    tracks: list[TrackView]
    clips: list[ClipView]
    marks: list[MarkView]
    mark_columns: dict[str, MarkColumns]
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
