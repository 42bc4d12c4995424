"""Clip gain drafts over a track: proposed, looked at, and accepted or dropped.

A draft is computed from the rule and the phrases before gain, so it need not be stored: it is made again when it is
accepted, and its stamp tells whether it is the one that was shown.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping
from typing import Any

import numpy as np
from sqlalchemy.orm import Session as DbSession

from nivelus.core.chain.proposals import GainProposal, peak_hands, propose_gains, with_proposal
from nivelus.core.chain.state import TrackState
from nivelus.core.drafts.clip_gain import ClipGainRule, freeing_target
from nivelus.core.errors import Refused
from nivelus.services.answers.edits import run_edit
from nivelus.services.clips.detail_rows import put_hands
from nivelus.services.track.stamps import require_same, stamp_of
from nivelus.services.track.state import owners_of_track, state_of
from nivelus.services.track.targets import limits_of
from nivelus.services.track.timeline import Timeline
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.services.views.view import View
from nivelus.store.editing import Edit
from nivelus.store.reading import clip_rows
from nivelus.store.tables import Clip, Session, Track


class DraftItem(View):
    """What a draft would do to one phrase, and why."""

    clip: str
    gain: float
    after: float
    reason: str


class DraftView(View):
    """A draft: one item per phrase, how many it would move, and how many would be level then.

    ``base`` (dB) is how far the whole voice moves. ``peaks`` short peaks hold ``by_peaks`` phrases back; ``deepest`` (dB) is
    the deepest dip that they would take. ``freeing`` is a lower target at which every phrase gets level, or None. ``stamp``
    tells this draft from any other.
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
    stamp: str


HELD = ("locked", "reference", "left out", "by hand")


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
        session, track, timeline = owners_of_track(db, track_id)
        # what is only tried stands in a copy, which the database never sees
        session = Session(**session.model_dump() | dict(rule or {}))
        state = state_of(bench, db, session, track, timeline)
        judged, found = _propose(bench, db, session, state, ids, peaks)
    gain, reason, clips = found.draft.gain, found.draft.reason, state.clips
    # what is promised is measured with all that will be there
    hands = peak_hands(state, found, timeline.shows_esses) if peaks and found.freed else ()
    after, unasked = with_proposal(state, found, hands).levels_asked(found.places)
    counted = ~clips.left_out[found.places]
    dips = [dip for phrase in found.freed.values() for dip in phrase.dips]
    rooms = clips.room_tone[found.places]
    return DraftView(
        target=judged.target,
        base=judged.base,
        by_peaks=len(found.freed),
        peaks=len(dips),
        deepest=min((dip.depth for dip in dips), default=0.0),
        freeing=freeing_target(found.levels, found.true_peaks, rooms, judged, reason),
        items=[
            DraftItem(clip=clips.ids[place], gain=gain, after=level, reason=why)
            for place, gain, level, why in zip(found.places.tolist(), gain.tolist(), after.tolist(), reason, strict=True)
        ],
        moves=int((clips.gain[found.places] != gain).sum()),
        level=int((np.abs(unasked - judged.target)[counted] <= session.tolerance + 1e-9).sum()),
        count=int(counted.sum()),
        reasons=dict(Counter(reason)),
        stamp=stamp_of(*_does(state, found, peaks)),
    )


def accept(
    bench: Workbench,
    track_id: str,
    revision: int,
    ids: Collection[str] | None = None,
    peaks: bool = False,
    stamp: str | None = None,
) -> Changed:
    """Do what the draft proposes, as one step; with a ``stamp`` only what had it. Raises DraftChanged."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        state = state_of(bench, edit.db, edit.session, track, timeline)
        clips = state.clips
        _, found = _propose(bench, edit.db, edit.session, state, ids, peaks)
        require_same(stamp, *_does(state, found, peaks))
        drafted = zip(found.places.tolist(), found.draft.gain.tolist(), found.draft.reason, strict=True)
        wanted = {
            clips.ids[place]: {"gain": gain, "by_hand": False, "drafted": True}
            for place, gain, reason in drafted
            if reason not in HELD and (clips.gain[place] != gain or clips.by_hand[place] or not clips.drafted[place])
        }
        chosen = [clip for clip in clip_rows(edit.db, track.id) if clip.id in wanted]
        edit.change_many(Clip, chosen, wanted)
        moved = sum(clip.gain != wanted[clip.id]["gain"] for clip in chosen)
        edit.label = "Even out 1 phrase" if moved == 1 else f"Even out {moved} phrases"
        if peaks and found.freed:
            dips = [dip for phrase in found.freed.values() for dip in phrase.dips]
            put_hands(edit, track, timeline, state, peak_hands(state, found, timeline.shows_esses))
            deepest = min(dip.depth for dip in dips)
            what = "1 short peak" if len(dips) == 1 else f"{len(dips)} short peaks"
            edit.label += f", {what} down by {-deepest:.1f} dB" + (" at most" if len(dips) > 1 else "")

    return run_edit(bench, track_id, "Even out", revision, work)


def _does(state: TrackState, found: GainProposal, peaks: bool) -> tuple[object, ...]:
    """What a draft would do, as its stamp tells it."""
    ids = [state.clips.ids[place] for place in found.places.tolist()]
    freed = [(place, phrase.dips) for place, phrase in found.freed.items()] if peaks else []
    return ids, found.draft.gain.tolist(), freed


def _propose(
    bench: Workbench, db: DbSession, session: Session, state: TrackState, ids: Collection[str] | None, peaks: bool
) -> tuple[ClipGainRule, GainProposal]:
    """What is proposed for the phrases of a track, or for some of them, and by which rule."""
    clips = state.clips
    chosen = [place for place in clips.voiced.tolist() if ids is None or clips.ids[place] in ids]
    if not chosen:
        raise Refused("There is no phrase here to even out.")
    rule = limits_of(bench, db, session, state)
    keep = [_held(session, state, place) for place in chosen]
    return rule, propose_gains(state, rule, np.array(chosen, np.int64), keep, peaks)


def _held(session: Session, state: TrackState, place: int) -> str | None:
    """Why a draft leaves a phrase alone, or None."""
    clips = state.clips
    if clips.locked[place]:
        return "locked"
    if clips.left_out[place]:
        return "left out"
    if clips.reference[place] and session.target_kind == "reference":
        return "reference"
    return "by hand" if clips.by_hand[place] and session.keep_by_hand else None
