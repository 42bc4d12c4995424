"""What the phrases of a track are judged by: the target, and the limits of a draft with the base that they count from."""

from __future__ import annotations

from typing import cast

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session as DbSession
from sqlmodel import col

from nivelus.core.drafts.clip_gain import BaseKind, ClipGainRule, resolve_base, resolve_target
from nivelus.core.errors import NotFound
from nivelus.core.gain.curve import FloatArray
from nivelus.services.lanes import layers_of
from nivelus.services.levels import gain_curve, is_judged, level_before, levels_after
from nivelus.services.marks import marks_of
from nivelus.services.rows import clip_rows
from nivelus.services.workbench import Workbench
from nivelus.store.tables import Clip, Recording, Session, Track


def target_of(bench: Workbench, db: DbSession, session: Session, track: Track, recording: Recording) -> float:
    """The resolved target of a track.

    The median is that of the track's phrases before gain, so a draft does not move it. The reference is the mean of the
    phrases marked as such in the whole session, as they sound now: drafts leave those alone.
    """
    if session.target_kind == "median":
        return resolve_target("median", session.target, _levels_before(db, session, track, recording))
    if session.target_kind == "reference":
        levels_now = np.array(_references(bench, db, session), np.float64)
        return resolve_target("reference", session.target, levels_now, np.ones(len(levels_now), bool))
    return session.target


def heard_levels(
    bench: Workbench, db: DbSession, session: Session, track: Track, recording: Recording, only: set[str] | None = None
) -> dict[str, float]:
    """The level of the phrases of a track as they sound now, with all gain before the fader, by clip id; or of some ``only``.

    Where the sound file is missing, clip gain is all that is known.
    """
    clips = clip_rows(db, track.id)
    try:
        grid = None if recording.missing else bench.vault.grid(recording)
    except NotFound:
        grid = None
    if grid is None:
        known = [(clip, level_before(session, recording, clip)) for clip in clips if only is None or clip.id in only]
        return {clip.id: level + clip.gain for clip, level in known if level is not None}
    dips = marks_of(db, track, recording, clips).curve()
    beyond = layers_of(db, track, clips, dips, recording.sample_rate).beyond
    curve = gain_curve(clips, recording, beyond)
    return levels_after(grid, session, recording, clips, beyond, curve, only=only)


def _references(bench: Workbench, db: DbSession, session: Session) -> list[float]:
    """The levels of the phrases of a session that are marked as references, as they sound now."""
    query = (
        select(col(Clip.id), Track, Recording)
        .join(Track, col(Clip.track_id) == col(Track.id))
        .join(Recording, col(Track.recording_id) == col(Recording.id))
        .where(col(Track.session_id) == session.id, col(Clip.reference).is_(True))
        .where(col(Clip.loudness).is_not(None), col(Clip.left_out).is_(False))
        .order_by(col(Track.position), col(Clip.start))
    )
    owners: dict[str, tuple[Track, Recording, set[str]]] = {}
    for clip, track, recording in db.execute(query):
        owners.setdefault(track.id, (track, recording, set()))[2].add(clip)
    levels: list[float] = []
    for track, recording, chosen in owners.values():
        levels += heard_levels(bench, db, session, track, recording, chosen).values()
    return levels


def limits_of(bench: Workbench, db: DbSession, session: Session, track: Track, recording: Recording) -> ClipGainRule:
    """The rule of a session's drafts for one of its tracks, with the target and the base that the track has.

    The base is how far the whole voice has to move, dB: what most up and most down count from.
    """
    target = target_of(bench, db, session, track, recording)
    # only an automatic base looks at the phrases
    levels = _levels_before(db, session, track, recording) if session.base_kind == "auto" else np.zeros(0)
    return ClipGainRule(
        target=target,
        tolerance=session.tolerance,
        strength=session.strength / 100,
        most_up=session.most_up,
        most_down=session.most_down,
        ceiling=session.ceiling,
        noise_limit=session.noise_limit,
        base=resolve_base(cast(BaseKind, session.base_kind), session.base, target, levels),
    )


def _levels_before(db: DbSession, session: Session, track: Track, recording: Recording) -> FloatArray:
    """The levels before gain of the phrases of a track that count, (n,)."""
    levels = [level_before(session, recording, clip) for clip in clip_rows(db, track.id) if is_judged(clip)]
    return np.array(levels, np.float64)
