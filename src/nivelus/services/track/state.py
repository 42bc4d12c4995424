"""The state of a track, read from the database: what every figure, picture, draft and render is taken from.

States are kept by what they are made of, so that what one answer worked out is there for the next one.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, replace
from functools import lru_cache
from typing import Any

import numpy as np
from sqlalchemy.orm import Session as DbSession

from nivelus.core.chain.clips import ClipTable
from nivelus.core.chain.following import Following
from nivelus.core.chain.marks import Rules, SwitchedRule
from nivelus.core.chain.placing import place_found, place_hands
from nivelus.core.chain.state import TrackState
from nivelus.core.drafts.dip_rules import DEFAULT_RULES, DipRule
from nivelus.core.errors import NotFound
from nivelus.core.kinds import NAMES
from nivelus.core.measure.grid import LevelGrid
from nivelus.core.measure.loudness import judged_offset
from nivelus.services.track.latest import Newest
from nivelus.services.track.timeline import Timeline, grid_of, leader_of, stamp_of, timeline_of
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import DipRuleView
from nivelus.store.history import require
from nivelus.store.reading import clip_rows, found_marks, hands_of, lanes_of, stamp_of_rows
from nivelus.store.tables import Session, Track

_states: Newest[TrackState] = Newest(3)


def state_of(
    bench: Workbench,
    db: DbSession,
    session: Session,
    track: Track,
    timeline: Timeline,
    trial: Mapping[str, Mapping[str, Any]] | None = None,
    take: int | None = None,
) -> TrackState:
    """The state of a track. In an edit, with what it has made of details, rules and range so far.

    ``timeline`` is that of the ``take``, or of the one that is heard. ``trial`` holds values of rules to try instead of the
    track's own.
    """
    try:
        grid = None if timeline.missing else grid_of(bench, timeline)
    except NotFound:
        grid = None
    table = clip_rows(db, track.id, take).table
    parts = (
        timeline.sample_rate,
        timeline.frames,
        table if len({recorded.channels for recorded in timeline.heard}) < 2 else _at_equal_power(table, timeline),
        place_found(found_marks(db, track.id), timeline.runs, timeline.own.frames),
        place_hands(hands_of(db, track.id, take), timeline.runs),
        core_rules(rules_of(track, trial)),
        lanes_of(db, track.id),
        working_range(track),
        session.unit,
        loudness_offset(session, timeline),
    )
    key = timeline.key, None if grid is None else stamp_of(bench, timeline), *parts
    leader = leader_of(db, track)
    if leader is None:
        return _states.get(key, lambda: TrackState(grid, *parts))
    lead = state_of(bench, db, session, leader, timeline_of(db, leader))
    # the state of a follower keeps that of its leader, so there is no other one in its place
    return _states.get((*key, id(lead)), lambda: Following(grid, *parts, leader=lead))


def owners_of_track(db: DbSession, track_id: str, take: int | None = None) -> tuple[Session, Track, Timeline]:
    """A track with its session and its timeline, of the take that is heard if none is named. Raises NotFound."""
    track = require(db, Track, track_id, "track")
    return require(db, Session, track.session_id, "session"), track, timeline_of(db, track, take)


def whole_state(
    bench: Workbench, db: DbSession, track_id: str, take: int | None = None
) -> tuple[Session, Track, Timeline, TrackState, LevelGrid]:
    """A track whose sound is there: its rows, its state and its grid.

    Raises
    ------
    NotFound
        If there is no such track, or its sound file is missing.
    """
    session, track, timeline = owners_of_track(db, track_id, take)
    state = state_of(bench, db, session, track, timeline, take=take)
    if state.grid is None:
        raise NotFound(f"The sound file of “{track.name}” is missing. Import it again.", id=track_id)
    return session, track, timeline, state, state.grid


def rules_of(track: Track, trial: Mapping[str, Mapping[str, Any]] | None = None) -> dict[str, DipRuleView]:
    """The rules of a track by kind, with values to try instead."""
    return rules_by_kind(track.dip_rules, trial)


def rules_by_kind(
    stored: Mapping[str, Mapping[str, Any]], trial: Mapping[str, Mapping[str, Any]] | None = None
) -> dict[str, DipRuleView]:
    """Rules as they are stored, what is absent as it comes, with values to try instead."""
    rules = {}
    for kind in NAMES:
        values = {"on": False, **asdict(DEFAULT_RULES[kind]), **stored.get(kind, {}), **(trial or {}).get(kind, {})}
        rules[kind] = DipRuleView(**values)
    return rules


def are_even(track: Track) -> bool:
    """Whether the gaps of a track go down to one level, which the gain of its clips decides."""
    gap = rules_of(track)["gap"]
    return gap.on and gap.even


def mono_offset(session: Session, timeline: Timeline) -> float:
    """LU added to loudness where the session counts a mono voice as two loudspeakers."""
    return judged_offset(session.mono_as_two, timeline.channels, "loudness")


def loudness_offset(session: Session, timeline: Timeline) -> float:
    """``mono_offset`` if the session judges by loudness; RMS and peak know no loudspeakers."""
    return judged_offset(session.mono_as_two, timeline.channels, session.unit)


def working_range(track: Track) -> tuple[float, float]:
    """The dB between which what is drawn stays."""
    return track.range_low, track.range_high


def gain_key(db: DbSession, session: Session, track: Track, timeline: Timeline) -> str:
    """What tells the gain of a track, and the scale that its level is told on, from any other while the program runs."""
    rules = repr(sorted((kind, sorted(rule.items())) for kind, rule in track.dip_rules.items()))
    scale = session.unit, session.mono_as_two
    leader = leader_of(db, track)
    led = None if leader is None else gain_key(db, session, leader, timeline_of(db, leader))
    return f"{hash((stamp_of_rows(db, track.id), timeline.key, rules, working_range(track), scale, led)) & 0xFFFFFFFFFFFF:x}"


def core_rules(rules: Mapping[str, DipRuleView]) -> Rules:
    """Rules of details as the core takes them."""
    return tuple((kind, SwitchedRule(rule.on, DipRule(**rule.model_dump(exclude={"on"})))) for kind, rule in rules.items())


@lru_cache(maxsize=4)
def _at_equal_power(clips: ClipTable, timeline: Timeline) -> ClipTable:
    """Clips of a track that is stereo, some of them of mono recordings: those are half as strong in each channel."""
    starts = np.array([run.start for run in timeline.runs])
    own = np.array([timeline.recorded(run.recording).channels for run in timeline.runs])
    db = 10 * np.log10(own / timeline.channels)[np.searchsorted(starts, clips.spans.start, "right") - 1]
    names = ("rms", "peak", "true_peak", "room_tone")
    return replace(clips, **{name: getattr(clips, name) + db for name in names})
