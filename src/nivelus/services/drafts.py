"""Clip gain drafts over a track: proposed, looked at, and accepted or dropped.

A draft is computed from the rule and the phrases before gain, so it need not be stored: what is accepted is what was
shown, as long as the revision is the same.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from sqlalchemy.orm import Session as DbSession

from nivelus.core.drafts.clip_gain import ClipGainDraft, ClipGainRule, draft_clip_gain, freeing_target
from nivelus.core.drafts.peaks import FreedPhrase, free_phrases, with_peaks_down
from nivelus.core.errors import Refused
from nivelus.core.gain.curve import FloatArray
from nivelus.core.measure.spans import as_table, levels_of_spans
from nivelus.services.details import turn_peaks_down
from nivelus.services.edits import run_edit
from nivelus.services.lanes import layers_of
from nivelus.services.levels import (
    clip_frames,
    clips_of,
    gain_curve,
    gain_per_frame,
    level_before,
    levels_after,
    loudness_offset,
    phrase_frames,
)
from nivelus.services.marks import TrackMarks, marks_of
from nivelus.services.rows import clip_rows
from nivelus.services.targets import limits_of
from nivelus.services.views import Changed, DraftItem, DraftView
from nivelus.services.workbench import Workbench
from nivelus.store.history import Edit, require
from nivelus.store.tables import Clip, Recording, Session, Track

HELD = ("locked", "reference", "left out", "by hand")


@dataclass(frozen=True)
class Proposal:
    """A draft worked out: the rule with its target and base, the clips it is for, their levels and true peaks before clip
    gain, what becomes of them, and which of them short peaks hold back."""

    rule: ClipGainRule
    clips: list[Clip]
    levels: FloatArray
    true_peaks: FloatArray
    draft: ClipGainDraft
    freed: dict[int, FreedPhrase]
    marks: TrackMarks


def draft(
    bench: Workbench,
    track_id: str,
    ids: Collection[str] | None = None,
    rule: Mapping[str, Any] | None = None,
    peaks: bool = False,
) -> DraftView:
    """What evening out would do to the phrases of a track, or to some of them. Nothing is changed.

    ``rule`` holds values to try instead of the session's own; ``peaks`` says whether short peaks are turned down that hold
    phrases back.
    """
    with bench.database.reading() as db:
        track = require(db, Track, track_id, "track")
        session = require(db, Session, track.session_id, "session")
        recording = require(db, Recording, track.recording_id, "recording")
        # what is only tried must not reach the database
        db.expunge(session)
        for name, value in (rule or {}).items():
            setattr(session, name, value)
        found = _propose(bench, db, session, track, recording, clip_rows(db, track_id), ids, peaks)
    gain, reason = found.draft.gain, found.draft.reason
    after = found.levels + gain
    for place in found.freed if peaks else ():
        # a dip on its peak takes from a phrase what the gain gives back
        after[place] = found.rule.target
    counted = np.array([not clip.left_out for clip in found.clips], bool)
    dips = [dip for phrase in found.freed.values() for dip in phrase.dips]
    rooms = np.array([clip.room_tone for clip in found.clips])
    return DraftView(
        target=found.rule.target,
        base=found.rule.base,
        by_peaks=len(found.freed),
        peaks=len(dips),
        deepest=min((dip.depth for dip in dips), default=0.0),
        freeing=freeing_target(found.levels, found.true_peaks, rooms, found.rule, reason),
        items=[
            DraftItem(clip=clip.id, gain=gain, after=level, reason=why)
            for clip, gain, level, why in zip(found.clips, gain.tolist(), after.tolist(), reason, strict=True)
        ],
        moves=sum(clip.gain != gain for clip, gain in zip(found.clips, gain.tolist(), strict=True)),
        level=int((np.abs(after - found.rule.target)[counted] <= session.tolerance + 1e-9).sum()),
        count=int(counted.sum()),
        reasons=dict(Counter(reason)),
    )


def accept(bench: Workbench, track_id: str, revision: int, ids: Collection[str] | None = None, peaks: bool = False) -> Changed:
    """Do what the draft proposes, as one step."""

    def work(edit: Edit, track: Track, recording: Recording) -> None:
        clips = clip_rows(edit.db, track.id)
        found = _propose(bench, edit.db, edit.session, track, recording, clips, ids, peaks)
        wanted = {
            clip.id: gain
            for clip, gain, reason in zip(found.clips, found.draft.gain.tolist(), found.draft.reason, strict=True)
            if reason not in HELD and (clip.gain != gain or clip.by_hand or not clip.drafted)
        }
        moved = 0
        # only what changes is loaded as more than rows
        for clip in clips_of(edit.db, track.id) if wanted else ():
            if clip.id in wanted:
                moved += clip.gain != wanted[clip.id]
                clip.gain, clip.by_hand, clip.drafted = wanted[clip.id], False, True
        edit.label = "Even out 1 phrase" if moved == 1 else f"Even out {moved} phrases"
        if peaks and found.freed:
            dips = [dip for phrase in found.freed.values() for dip in phrase.dips]
            turn_peaks_down(bench, edit, track, recording, clips, found.marks, dips)
            deepest = min(dip.depth for dip in dips)
            what = "1 short peak" if len(dips) == 1 else f"{len(dips)} short peaks"
            edit.label += f", {what} down by {-deepest:.1f} dB" + (" at most" if len(dips) > 1 else "")

    return run_edit(bench, track_id, "Even out", revision, work)


def _propose(
    bench: Workbench,
    db: DbSession,
    session: Session,
    track: Track,
    recording: Recording,
    clips: list[Clip],
    ids: Collection[str] | None,
    peaks: bool,
) -> Proposal:
    """What is proposed for the clips of a track, or for some of them.

    A phrase is judged with all that belongs to it: its clip curve, and the dips that lie in it.
    """
    chosen = [clip for clip in clips if clip.loudness is not None and (ids is None or clip.id in ids)]
    if not chosen:
        raise Refused("There is no phrase here to even out.")
    levels = np.array([level_before(session, recording, clip) for clip in chosen], np.float64)
    tops = np.array([clip.true_peak for clip in chosen], np.float64)
    marks = marks_of(db, track, recording, clips)
    beyond = layers_of(db, track, clips, marks.curve(), recording.sample_rate).before_ride
    grid = None if recording.missing else bench.vault.grid(recording)
    gain = None
    if grid is not None and not beyond.is_flat_zero:
        curve = gain_curve(clips, recording, beyond)
        after = levels_after(grid, session, recording, clips, beyond, curve)
        levels = np.array([after[clip.id] - clip.gain for clip in chosen], np.float64)
        gain = gain_per_frame(beyond, recording)
        tops = levels_of_spans(grid, as_table(clip_frames(grid, chosen)), gain, "peak")
    rule = limits_of(bench, db, session, track, recording)
    rooms = np.array([clip.room_tone for clip in chosen])
    result = draft_clip_gain(
        levels,
        tops,
        rooms,
        rule,
        present=np.array([clip.gain for clip in chosen]),
        keep=tuple(_held(session, clip) for clip in chosen),
    )
    freed: dict[int, FreedPhrase] = {}
    if grid is not None and "ceiling" in result.reason:
        gain = np.ones((len(grid.data), 2)) if gain is None else gain
        # what is heard from two loudspeakers is louder by an offset that the grid knows nothing of
        judged = replace(rule, target=rule.target - loudness_offset(session, recording))
        frames = clip_frames(grid, chosen), phrase_frames(grid, chosen)
        freed = free_phrases(grid, *frames, session.unit, gain, rooms, judged, result)
        result = with_peaks_down(result, freed, peaks)
    return Proposal(rule, chosen, levels, tops, result, freed, marks)


def _held(session: Session, clip: Clip) -> str | None:
    """Why a draft leaves a phrase alone, or None."""
    if clip.locked:
        return "locked"
    if clip.left_out:
        return "left out"
    if clip.reference and session.target_kind == "reference":
        return "reference"
    return "by hand" if clip.by_hand and session.keep_by_hand else None
