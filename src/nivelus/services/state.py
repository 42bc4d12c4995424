"""The state of a track, read from the database: what every figure, picture, draft and render is taken from.

States are kept by what they are made of, so that what one answer worked out is there for the next one.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Mapping
from dataclasses import asdict
from threading import Lock
from typing import Any

from sqlalchemy.orm import Session as DbSession

from nivelus.core.chain.marks import Rules, SwitchedRule
from nivelus.core.chain.state import TrackState
from nivelus.core.drafts.dips import DEFAULT_RULES, DipRule
from nivelus.core.errors import NotFound, Refused
from nivelus.core.marks.mark import KINDS
from nivelus.core.measure.grid import LevelGrid
from nivelus.core.measure.loudness import AS_TWO_LOUDSPEAKERS
from nivelus.services.views import DipRuleView
from nivelus.services.workbench import Workbench
from nivelus.store.history import require
from nivelus.store.reading import clip_rows, found_marks, hands_of, lanes_of
from nivelus.store.tables import Recording, Session, Track

MISSING = "The sound file of this track is missing. Bring it in again."
_KEPT = 3
_states: OrderedDict[tuple[Any, ...], TrackState] = OrderedDict()
_lock = Lock()


def state_of(
    bench: Workbench,
    db: DbSession,
    session: Session,
    track: Track,
    recording: Recording,
    trial: Mapping[str, Mapping[str, Any]] | None = None,
) -> TrackState:
    """The state of a track. In an edit, with what it has made of details, rules and range so far.

    ``trial`` holds values of rules to try instead of the track's own.
    """
    try:
        grid = None if recording.missing else bench.vault.grid(recording)
    except NotFound:
        grid = None
    parts = (
        recording.sample_rate,
        recording.frames,
        clip_rows(db, track.id).table,
        found_marks(db, track.id),
        hands_of(db, track.id),
        core_rules(rules_of(track, trial)),
        lanes_of(db, track.id),
        working_range(track),
        session.unit,
        loudness_offset(session, recording),
    )
    # a grid that was written anew is another one
    key = bench.settings.data, recording.hash, None if grid is None else bench.vault.stamp(recording), *parts
    with _lock:
        state = _states.pop(key, None) or TrackState(grid, *parts)
        _states[key] = state
        while len(_states) > _KEPT:
            _states.popitem(last=False)
    return state


def owners_of_track(db: DbSession, track_id: str) -> tuple[Session, Track, Recording]:
    """A track with its session and its recording. Raises NotFound."""
    track = require(db, Track, track_id, "track")
    recording = require(db, Recording, track.recording_id, "recording")
    return require(db, Session, track.session_id, "session"), track, recording


def grid_of(bench: Workbench, recording: Recording) -> LevelGrid:
    """The grid of a recording for an edit that measures. Raises Refused where its sound is missing."""
    if recording.missing:
        raise Refused(MISSING)
    return bench.vault.grid(recording)


def whole_state(bench: Workbench, db: DbSession, track_id: str) -> tuple[Session, Track, Recording, TrackState, LevelGrid]:
    """A track whose sound is there: its rows, its state and its grid.

    Raises
    ------
    NotFound
        If there is no such track, or its sound file is missing.
    """
    session, track, recording = owners_of_track(db, track_id)
    state = state_of(bench, db, session, track, recording)
    if state.grid is None:
        raise NotFound(f"The sound file of “{track.name}” is missing. Bring it in again.", id=track_id)
    return session, track, recording, state, state.grid


def rules_of(track: Track, trial: Mapping[str, Mapping[str, Any]] | None = None) -> dict[str, DipRuleView]:
    """The rules of a track by kind, with values to try instead."""
    return rules_by_kind(track.dip_rules, trial)


def rules_by_kind(
    stored: Mapping[str, Mapping[str, Any]], trial: Mapping[str, Mapping[str, Any]] | None = None
) -> dict[str, DipRuleView]:
    """Rules as they are stored, what is absent as it comes, with values to try instead."""
    rules = {}
    for kind in KINDS:
        values = {"on": False, **asdict(DEFAULT_RULES[kind]), **stored.get(kind, {}), **(trial or {}).get(kind, {})}
        rules[kind] = DipRuleView(**values)
    return rules


def mono_offset(session: Session, recording: Recording) -> float:
    """LU added to loudness where the session counts a mono voice as two loudspeakers."""
    return float(AS_TWO_LOUDSPEAKERS) if session.mono_as_two and recording.channels == 1 else 0.0


def loudness_offset(session: Session, recording: Recording) -> float:
    """``mono_offset`` if the session judges by loudness; RMS and peak know no loudspeakers."""
    return mono_offset(session, recording) if session.unit == "loudness" else 0.0


def working_range(track: Track) -> tuple[float, float]:
    """The dB between which what is drawn stays."""
    return track.range_low, track.range_high


def core_rules(rules: Mapping[str, DipRuleView]) -> Rules:
    """Rules of details as the core takes them."""
    return tuple(
        (kind, SwitchedRule(rule.on, DipRule(rule.depth, rule.shallowest, rule.deepest, rule.silent)))
        for kind, rule in rules.items()
    )
