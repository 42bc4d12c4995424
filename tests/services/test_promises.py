"""What a draft promises is what is measured once it is accepted, and what was asked for in the trim is nothing to even out."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from nivelus.core.errors import NivelusError
from nivelus.services.clips import drafts
from nivelus.services.lanes import drawing, rides, whole
from nivelus.services.sessions import sessions
from nivelus.services.track import sound
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed, ClipView
from tests.conftest import bring_in, detailed_voice, uneven_voice, write_sound
from tests.helpers.edits import state_of
from tests.helpers.random_edits import RandomEdits


@pytest.fixture
def session(bench: Workbench, tmp_path: Path, known_ids: None) -> str:
    """Two voices, one of them with details."""
    id = sessions.create(bench, "Promises")
    bring_in(bench, id, write_sound(tmp_path / "details.wav", detailed_voice()))
    bring_in(bench, id, write_sound(tmp_path / "other.wav", uneven_voice((-20.0, -30.0, -25.0, -22.0, -28.0))))
    return id


def keep_a_draft(bench: Workbench, track: str, ids: list[str] | None, peaks: bool) -> None:
    """Draft clip gains and accept them: every level, and how many are level, is as it was promised."""
    promised = drafts.draft(bench, track, ids, peaks=peaks)
    drafts.accept(bench, track, state_of(bench, track).revision, ids, peaks, stamp=promised.stamp)
    state = state_of(bench, track)
    clips_now = {clip.id: clip for clip in state.clips}
    target = next(one for one in state.tracks if one.id == track).target
    assert promised.target == pytest.approx(target, abs=1e-6)
    for item in promised.items:
        now = clips_now[item.clip]
        assert now.after is not None
        # levels of -100 and below are silence, of which nothing is promised but that
        assert now.after == pytest.approx(item.after, abs=0.01) or max(now.after, item.after) < -90
        assert now.gain == pytest.approx(item.gain, abs=0.005)
    own = [clips_now[item.clip] for item in promised.items if not clips_now[item.clip].left_out]
    off = [clip.after - clip.wish - target for clip in own if clip.after is not None]
    tolerance = state.rule.tolerance
    # one that stands at the edge of the tolerance by a hair may be told either way
    edge = sum(abs(abs(value) - tolerance) < 0.01 for value in off)
    assert abs(sum(abs(value) <= tolerance + 1e-9 for value in off) - promised.level) <= edge
    assert len(off) == promised.count
    if ids is None:
        assert abs(sound.before_after(bench, track).after.level - promised.level) <= edge


def keep_a_ride(bench: Workbench, track: str) -> None:
    """Draft a ride and accept it: the inside of every phrase that was ridden is as it was promised."""
    promised = rides.draft(bench, track)
    rides.accept(bench, track, state_of(bench, track).revision, stamp=promised.stamp)
    now = {phrase.clip: phrase.after for phrase in rides.inside(bench, track).phrases}
    for phrase in promised.phrases:
        if phrase.reason != "not chosen":
            assert now[phrase.clip] == pytest.approx(phrase.after, abs=0.05)


@pytest.mark.parametrize("seed", range(6))
def test_what_is_promised_is_what_there_is(bench: Workbench, session: str, seed: int) -> None:
    """With rides, trims, curves, dips, cuts and whatever else is there after edits of every kind in random order."""
    edits, random = RandomEdits(bench, session, 100 + seed), np.random.default_rng(seed)
    state, kept = sessions.state(bench, session), 0
    for round in range(6):
        for _ in range(8):
            edits.next(state)
            state = sessions.state(bench, session)
        for track in state.tracks:
            voiced = [clip.id for clip in state.clips if clip.track == track.id and clip.after is not None]
            some = None if round % 2 else [id for id in voiced if random.random() < 0.6] or None
            try:
                keep_a_draft(bench, track.id, some, bool(random.integers(2)))
                keep_a_ride(bench, track.id)
                kept += 1
            except NivelusError:
                continue
        state = sessions.state(bench, session)
    assert kept > 0


def phrases_of(state: Changed, track: str) -> list[ClipView]:
    return [clip for clip in state.clips if clip.track == track and clip.after is not None]


def test_a_refrain_that_a_client_wants_louder_is_level_there(bench: Workbench, session: str) -> None:
    track = state_of(bench, sessions.state(bench, session).tracks[1].id).tracks[1].id
    drafts.accept(bench, track, state_of(bench, track).revision)
    before = sound.before_after(bench, track).after
    refrain = phrases_of(state_of(bench, track), track)[1:3]
    drawing.lift_span(bench, track, state_of(bench, track).revision, "trim", refrain[0].start, refrain[-1].end, 3.0)
    state = state_of(bench, track)
    lifted = [clip for clip in phrases_of(state, track) if clip.id in {one.id for one in refrain}]
    assert [clip.wish for clip in lifted] == pytest.approx([3.0, 3.0], abs=0.05)
    assert [now.after - was.after for now, was in zip(lifted, refrain, strict=True)] == pytest.approx([3.0, 3.0], abs=0.05)
    after = sound.before_after(bench, track).after
    assert (after.level, after.count) == (before.level, before.count) == (5, 5)
    assert after.spread == pytest.approx(before.spread, abs=0.01)
    # a draft undoes nothing of it, and promises what there is
    promised = drafts.draft(bench, track)
    assert (promised.moves, promised.level) == (0, 5)
    # switched off it is no wish
    whole.set_trim(bench, track, state.revision, off=True)
    assert {clip.wish for clip in phrases_of(state_of(bench, track), track)} == {0.0}
    whole.set_trim(bench, track, state_of(bench, track).revision, off=False)
    # in the ride it is part of evenness again, and the step says what that does
    folded = whole.hand_over(bench, track, state_of(bench, track).revision, "trim", "ride")
    assert folded.undo == "Fold the trim into the ride · 2 phrases are off by it"
    assert sound.before_after(bench, track).after.level == 3
    assert drafts.draft(bench, track).level == 5


def test_a_ride_by_hand_is_part_of_what_a_draft_evens_out(bench: Workbench, session: str) -> None:
    track = sessions.state(bench, session).tracks[1].id
    first = phrases_of(state_of(bench, track), track)[0]
    drawing.lift_span(bench, track, state_of(bench, track).revision, "ride", first.start, first.end, 5.0)
    assert drafts.draft(bench, track).level == 5
    drafts.accept(bench, track, state_of(bench, track).revision)
    state = state_of(bench, track)
    target = state.tracks[1].target
    assert [clip.after for clip in phrases_of(state, track)] == pytest.approx([target] * 5, abs=0.05)


def test_a_wish_is_kept_under_the_ceiling(bench: Workbench, session: str) -> None:
    """What is asked for comes on top: a draft turns a phrase up no further than leaves room for it."""
    track = sessions.state(bench, session).tracks[1].id
    sessions.update(bench, session, state_of(bench, track).revision, {"target": -12.0, "noise_limit": -10.0, "most_up": 40.0})
    whole.set_trim(bench, track, state_of(bench, track).revision, 6.0)
    drafts.accept(bench, track, state_of(bench, track).revision)
    assert sound.before_after(bench, track).after.true_peak <= -1.0 + 0.01
