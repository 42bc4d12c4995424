"""What the phrases of a track are judged by: the target, and the limits of a draft with the base that they count from."""

from __future__ import annotations

from dataclasses import replace
from typing import cast

import numpy as np
from sqlalchemy.orm import Session as DbSession

from nivelus.core.chain.state import TrackState
from nivelus.core.drafts.clip_gain import ClipGainRule, resolve_base, resolve_target
from nivelus.core.drafts.from_rule import gain_rule
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.rule import BaseKind
from nivelus.services.track.rules import rule_of
from nivelus.services.track.state import state_of
from nivelus.services.track.timeline import timelines_of
from nivelus.services.track.workbench import Workbench
from nivelus.store.tables import Session
from nivelus.store.track_rows import tracks_with_references


def target_of(bench: Workbench, db: DbSession, session: Session, state: TrackState) -> float:
    """The resolved target of a track in some state.

    The median is that of the track's phrases before gain, so a draft does not move it. The reference is the mean of the
    phrases marked as such in the whole session, as they sound now: drafts leave those alone.
    """
    if session.target_kind == "median":
        return resolve_target("median", session.target, _judged_before(state))
    if session.target_kind == "reference":
        levels_now = _references(bench, db, session)
        return resolve_target("reference", session.target, levels_now, np.ones(len(levels_now), bool))
    return session.target


def limits_of(bench: Workbench, db: DbSession, session: Session, state: TrackState) -> ClipGainRule:
    """The rule of a session's drafts for one of its tracks, with the target and the base that the track has.

    The base is how far the whole voice has to move, dB: what most up and most down count from.
    """
    target = target_of(bench, db, session, state)
    base = resolve_base(cast(BaseKind, session.base_kind), session.base, target, _judged_before(state))
    return replace(gain_rule(rule_of(session)), target=target, base=base)


def _references(bench: Workbench, db: DbSession, session: Session) -> FloatArray:
    """The levels of the phrases of a session that are marked as references, as they sound now, (n,)."""
    tracks = tracks_with_references(db, session.id)
    levels = [np.zeros(0)]
    for track, timeline in zip(tracks, timelines_of(db, tracks), strict=True):
        state = state_of(bench, db, session, track, timeline)
        # what was asked for of them is not asked for of others
        chosen = state.clips.judged[state.clips.reference[state.clips.judged]]
        levels.append(state.off(chosen, 0.0))
    return np.concatenate(levels)


def _judged_before(state: TrackState) -> FloatArray:
    """The levels before gain of the phrases of a track that count, (n,)."""
    return state.levels_before[state.clips.judged]
