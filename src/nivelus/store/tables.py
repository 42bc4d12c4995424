"""The tables. Ids are short random strings; positions are samples, gains dB.

All positions of a track are in samples of one rate, that of its own recording. Those of clips are positions of the track;
marks and what the hand made of them keep those of their recording, so that they go with it wherever it is moved. ``shift`` is
what a position of a recording has to be moved by to be one of the track. ``recording_id`` is None for the track's own one.
"""

from __future__ import annotations

import secrets
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import JSON, Column, DateTime, LargeBinary, UniqueConstraint
from sqlmodel import Field, SQLModel

from nivelus.core.rule import DEFAULT

MEASURED = 2
"""The rule by which the level of a phrase and the room around it are measured now; it goes up when the values do."""


MOVED = 2
"""The rule by which gain moves in pauses and gaps now: since 2 it glides, and gaps mind the breaths beside them."""


def new_id() -> str:
    """A short random id: 72 bits, safe in a URL."""
    return secrets.token_urlsafe(9)


def now() -> datetime:
    """The present moment, UTC."""
    return datetime.now(UTC)


class Session(SQLModel, table=True):
    """One piece of work: tracks, a target, and the rule of its drafts."""

    id: str = Field(default_factory=new_id, primary_key=True)
    name: str
    created: datetime = Field(default_factory=now, sa_type=DateTime)
    touched: datetime = Field(default_factory=now, sa_type=DateTime)
    revision: int = 0
    unit: str = DEFAULT.target.unit
    target_kind: str = DEFAULT.target.kind
    target: float = DEFAULT.target.level
    tolerance: float = DEFAULT.target.tolerance
    strength: float = DEFAULT.phrases.strength
    most_up: float = DEFAULT.phrases.most_up
    most_down: float = DEFAULT.phrases.most_down
    ceiling: float = DEFAULT.phrases.ceiling
    noise_limit: float = DEFAULT.phrases.noise_limit
    base_kind: str = DEFAULT.phrases.base_kind
    """"auto", "hand" or "none": what most up and most down count from; ``base`` (dB) is that by hand."""
    base: float = DEFAULT.phrases.base
    settle: bool = DEFAULT.phrases.settle
    """Whether drafted phrases follow when other gain moves them."""
    keep_by_hand: bool = DEFAULT.phrases.keep_by_hand
    mono_as_two: bool = DEFAULT.target.mono_as_two
    longest: float = DEFAULT.phrases.longest
    """Seconds from which a phrase is divided at its best pauses, when phrases are found."""
    ride: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSON, nullable=False))
    """What is set of how a ride is drafted; what is absent is as it comes."""
    moved: int = MOVED
    """By which rule its gain moved in pauses and gaps when that was told last."""
    origin: float | None = None
    """Seconds since midnight at which the session begins, where it is laid out by start stamps."""


class KeptRule(SQLModel, table=True):
    """A rule that a person kept under a name: ``values`` by their paths, see ``core.rule``; what is absent is as it comes."""

    __tablename__ = "kept_rule"

    id: str = Field(default_factory=new_id, primary_key=True)
    name: str
    created: datetime = Field(default_factory=now, sa_type=DateTime)
    values: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSON, nullable=False))


class Recording(SQLModel, table=True):
    """An imported sound file; its samples, grid and waveform lie in the vault under its content hash."""

    id: str = Field(default_factory=new_id, primary_key=True)
    hash: str = Field(unique=True)
    suffix: str
    format: str
    subtype: str
    sample_rate: int
    channels: int
    frames: int
    time_reference: int | None = None
    room_tone: float
    shows_esses: bool = True
    """Whether anything lies high enough in it for esses to be seen."""
    measured: int = MEASURED
    """By which rule the phrases of its tracks were measured."""
    missing: bool = False


class Track(SQLModel, table=True):
    """A voice in a session: takes made of clips, one of which is heard, and a fader that nothing but the hand moves.

    ``recording_id`` is its own recording, with which it began: its rate is the track's. ``take`` is the number of the take
    that is heard, and ``takes`` are the numbers and names of all of them, in order; empty for a single one, which is 0.
    """

    id: str = Field(default_factory=new_id, primary_key=True)
    session_id: str = Field(foreign_key="session.id", index=True, ondelete="CASCADE")
    recording_id: str = Field(foreign_key="recording.id", index=True)
    name: str
    position: int
    fader: float = 0.0
    range_low: float = -20.0
    range_high: float = 6.0
    """The working range, dB, that what is drawn stays within; a low of -144 lets it go down to silence."""
    dip_rules: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSON, nullable=False))
    """By kind of mark: on, depth, shallowest, deepest, silent; what is absent is as it comes."""
    take: int = 0
    takes: list[dict[str, Any]] = Field(default_factory=list, sa_column=Column(JSON, nullable=False))
    kind: str = "voice"
    """A "voice", or a "bed" of music or ambience."""
    mute: bool = False
    solo: bool = False
    load: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSON, nullable=False))
    """What is set of the reference compressor; what is absent is as it comes."""
    duck: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSON, nullable=False))
    """What is set of how a bed makes room, and under "locked" the spans (seconds) that no draft touches."""
    follows: str | None = None
    """The track whose gain it has, and beside whose clips it is heard; it has no clips and marks of its own then."""
    lag: int = 0
    """By how many of its samples its recording begins later than that of the track that it follows."""


def takes_of(track: Track) -> list[dict[str, Any]]:
    """The takes of a track, number and name; a single one is called as the track."""
    return track.takes or [{"number": track.take, "name": track.name}]


class MarkSet(SQLModel, table=True):
    """What was found in a recording of a track, packed: see ``store.packing``. One row per track and recording."""

    __tablename__ = "mark_set"

    id: str = Field(default_factory=new_id, primary_key=True)
    track_id: str = Field(foreign_key="track.id", index=True, ondelete="CASCADE")
    recording_id: str | None = None
    data: str


class Detail(SQLModel, table=True):
    """What the hand made of one mark, or a mark that was made by hand; the columns are those of ``core.chain.marks.Hand``.

    It belongs to where a recording lies in a take, and holds in every clip that lets the recording be heard there.
    """

    id: str = Field(default_factory=new_id, primary_key=True)
    track_id: str = Field(foreign_key="track.id", index=True, ondelete="CASCADE")
    found: str | None = None
    found_end: int | None = None
    kind: str
    start: int
    end: int
    moved: bool = False
    level: float
    excess: float | None = None
    gone: bool = False
    keep: str = "rule"
    offset: float = 0.0
    pinned: float | None = None
    notch: bool = False
    dip_start: int | None = None
    dip_end: int | None = None
    ramp_in: float | None = None
    ramp_out: float | None = None
    take: int = 0
    recording_id: str | None = None
    shift: int = 0


class Lane(SQLModel, table=True):
    """A lane of a track that is drawn: "ride" or "trim", with its packed points and an offset in dB on all of it.

    One that is ``off`` keeps both and does nothing.
    """

    __table_args__ = (UniqueConstraint("track_id", "name"),)

    id: str = Field(default_factory=new_id, primary_key=True)
    track_id: str = Field(foreign_key="track.id", ondelete="CASCADE")
    name: str
    points: str = ""
    offset: float = 0.0
    off: bool = False


class Clip(SQLModel, table=True):
    """A span of a recording at a place of a track, with its gain and at most one phrase. Clips of a take never overlap.

    ``loudness``, ``rms`` and ``peak`` are the levels of the phrase before gain (LUFS, dBFS, dBTP), ``true_peak`` and
    ``room_tone`` those of the whole clip. ``curve`` is the clip curve, packed, in seconds of the recording. ``drafted`` says
    that its gain is what a draft made of it.
    """

    id: str = Field(default_factory=new_id, primary_key=True)
    track_id: str = Field(foreign_key="track.id", index=True, ondelete="CASCADE")
    start: int
    end: int
    gain: float = 0.0
    curve: str = ""
    phrase_start: int | None = None
    phrase_end: int | None = None
    confidence: float = 0.0
    loudness: float | None = None
    rms: float | None = None
    peak: float | None = None
    true_peak: float = -100.0
    room_tone: float = -100.0
    locked: bool = False
    left_out: bool = False
    by_hand: bool = False
    drafted: bool = False
    reference: bool = False
    label: str = ""
    take: int = 0
    recording_id: str | None = None
    shift: int = 0


class Job(SQLModel, table=True):
    """Long work: an import or a render, with its progress and what became of it.

    ``run`` names who is at work on it; whoever finds another name there has lost it. ``beat`` goes up while it is at work,
    ``tries`` is how often it has begun.
    """

    id: str = Field(default_factory=new_id, primary_key=True)
    session_id: str = Field(foreign_key="session.id", index=True, ondelete="CASCADE")
    kind: str
    name: str
    state: str = "waiting"
    stage: str = "waiting"
    percent: float = 0.0
    message: str = ""
    run: str = ""
    beat: int = 0
    tries: int = 0
    payload: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSON, nullable=False))
    result: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSON, nullable=False))
    created: datetime = Field(default_factory=now, sa_type=DateTime)


class Pass(SQLModel, table=True):
    """A live recording of the hand on a lane: how it was made, what it is to be written with, and what became of it.

    It is "writing" while it plays, "waiting" until it is decided on, then "kept" or "dropped"; those two are steps of the
    history. ``stamp`` tells the lane that was heard from any other. Times are seconds. A track that is taken out and comes
    back finds its passes again.
    """

    id: str = Field(default_factory=new_id, primary_key=True)
    session_id: str = Field(foreign_key="session.id", index=True, ondelete="CASCADE")
    track_id: str = Field(index=True)
    take: int = 0
    number: int
    lane: str
    mode: str = "touch"
    stamp: str = ""
    span_start: float | None = None
    span_end: float | None = None
    glide: float = 0.3
    lead: float = 0.0
    error: float = 0.25
    snap: bool = False
    state: str = "writing"
    created: datetime = Field(default_factory=now, sa_type=DateTime)


class PassPiece(SQLModel, table=True):
    """A piece of what was heard of the hand: float64 pairs of seconds and dB, from pair number ``first`` on."""

    __tablename__ = "pass_piece"

    pass_id: str = Field(primary_key=True)
    first: int = Field(primary_key=True)
    session_id: str = Field(foreign_key="session.id", index=True, ondelete="CASCADE")
    data: bytes = Field(sa_column=Column(LargeBinary, nullable=False))


class Change(SQLModel, table=True):
    """One step of a session's history: what it changed of each row, packed by ``store.steps``.

    ``recordings`` are the ids of the recordings that it refers to, parted by spaces. ``gesture`` names what it was made in, and
    ``moved`` is by how much it moved what it did, where it is said in those terms.
    """

    id: int | None = Field(default=None, primary_key=True)
    session_id: str = Field(foreign_key="session.id", index=True, ondelete="CASCADE")
    label: str
    created: datetime = Field(default_factory=now, sa_type=DateTime)
    data: bytes = Field(sa_column=Column(LargeBinary, nullable=False))
    recordings: str = ""
    undone: bool = False
    gesture: str = ""
    moved: float = 0.0


class Tombstone(SQLModel, table=True):
    """A recording that was deleted on purpose: what lies in the vault under this hash may be cleared away."""

    hash: str = Field(primary_key=True)
    at: datetime = Field(default_factory=now, sa_type=DateTime)
