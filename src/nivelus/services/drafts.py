"""Clip gain drafts over a track: proposed, looked at, and accepted or dropped.

A draft is computed from the rule and the phrases before gain, so it need not be stored: what is accepted is what was
shown, as long as the revision is the same.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping
from typing import Any

import numpy as np
from sqlalchemy.orm import Session as DbSession

from nivelus.core.drafts.clip_gain import ClipGainDraft, ClipGainRule, draft_clip_gain
from nivelus.core.errors import Refused
from nivelus.services.edits import run_edit
from nivelus.services.lanes import layers_of
from nivelus.services.levels import clip_rows, clips_of, gain_curve, level_before, levels_after, target_of
from nivelus.services.marks import marks_of
from nivelus.services.views import Changed, DraftItem, DraftView
from nivelus.services.workbench import Workbench
from nivelus.store.history import Edit, require
from nivelus.store.tables import Clip, Recording, Session, Track

HELD = ("locked", "reference", "left out", "by hand")


def draft(
    bench: Workbench, track_id: str, ids: Collection[str] | None = None, rule: Mapping[str, Any] | None = None
) -> DraftView:
    """What evening out would do to the phrases of a track, or to some of them. Nothing is changed.

    ``rule`` holds values to try instead of the session's own.
    """
    with bench.database.reading() as db:
        track = require(db, Track, track_id, "track")
        session = require(db, Session, track.session_id, "session")
        recording = require(db, Recording, track.recording_id, "recording")
        # what is only tried must not reach the database
        db.expunge(session)
        for name, value in (rule or {}).items():
            setattr(session, name, value)
        target, chosen, levels, result = _propose(bench, db, session, track, recording, clip_rows(db, track_id), ids)
    after = levels + result.gain
    counted = np.array([not clip.left_out for clip in chosen], bool)
    return DraftView(
        target=target,
        items=[
            DraftItem(clip=clip.id, gain=gain, after=level, reason=reason)
            for clip, gain, level, reason in zip(chosen, result.gain.tolist(), after.tolist(), result.reason, strict=True)
        ],
        moves=sum(clip.gain != gain for clip, gain in zip(chosen, result.gain.tolist(), strict=True)),
        level=int((np.abs(after - target)[counted] <= session.tolerance + 1e-9).sum()),
        count=int(counted.sum()),
        reasons=dict(Counter(result.reason)),
    )


def accept(bench: Workbench, track_id: str, revision: int, ids: Collection[str] | None = None) -> Changed:
    """Do what the draft proposes, as one step."""

    def work(edit: Edit, track: Track, recording: Recording) -> None:
        _, chosen, _, result = _propose(bench, edit.db, edit.session, track, recording, clip_rows(edit.db, track.id), ids)
        wanted = {
            clip.id: gain
            for clip, gain, reason in zip(chosen, result.gain.tolist(), result.reason, strict=True)
            if reason not in HELD and (clip.gain != gain or clip.by_hand)
        }
        moved = 0
        # only what changes is loaded as more than rows
        for clip in clips_of(edit.db, track.id) if wanted else ():
            if clip.id in wanted:
                moved += clip.gain != wanted[clip.id]
                clip.gain, clip.by_hand = wanted[clip.id], False
        edit.label = "Even out 1 phrase" if moved == 1 else f"Even out {moved} phrases"

    return run_edit(bench, track_id, "Even out", revision, work)


def _propose(
    bench: Workbench,
    db: DbSession,
    session: Session,
    track: Track,
    recording: Recording,
    clips: list[Clip],
    ids: Collection[str] | None,
) -> tuple[float, list[Clip], np.ndarray, ClipGainDraft]:
    """The resolved target, the clips that are drafted, their levels before clip gain, and what is proposed for them.

    A phrase is judged with all that belongs to it: its clip curve, and the dips that lie in it.
    """
    target = target_of(db, session, recording, clips)
    chosen = [clip for clip in clips if clip.loudness is not None and (ids is None or clip.id in ids)]
    if not chosen:
        raise Refused("There is no phrase here to even out.")
    levels = np.array([level_before(session, recording, clip) for clip in chosen], np.float64)
    layers = layers_of(db, track, clips, marks_of(db, track, recording, clips).curve(), recording.sample_rate)
    if not layers.before_ride.is_flat_zero and not recording.missing:
        curve = gain_curve(clips, recording, layers.before_ride)
        after = levels_after(bench.vault.grid(recording), session, recording, clips, layers.before_ride, curve)
        levels = np.array([after[clip.id] - clip.gain for clip in chosen], np.float64)
    rule = ClipGainRule(
        target=target,
        tolerance=session.tolerance,
        strength=session.strength / 100,
        most_up=session.most_up,
        most_down=session.most_down,
        ceiling=session.ceiling,
        noise_limit=session.noise_limit,
    )
    result = draft_clip_gain(
        levels,
        np.array([clip.true_peak for clip in chosen]),
        np.array([clip.room_tone for clip in chosen]),
        rule,
        present=np.array([clip.gain for clip in chosen]),
        keep=tuple(_held(session, clip) for clip in chosen),
    )
    return target, chosen, levels, result


def _held(session: Session, clip: Clip) -> str | None:
    """Why a draft leaves a phrase alone, or None."""
    if clip.locked:
        return "locked"
    if clip.left_out:
        return "left out"
    if clip.reference and session.target_kind == "reference":
        return "reference"
    return "by hand" if clip.by_hand and session.keep_by_hand else None
