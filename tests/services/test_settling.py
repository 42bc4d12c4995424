"""Levels that last: the base of a draft, peaks that hold a phrase back, and phrases that settle when other gain moves them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from nivelus.core.kinds import NAMES
from nivelus.services.clips import clips, details, drafts
from nivelus.services.lanes import drawing, rides
from nivelus.services.sessions import cards, sessions
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from tests.conftest import bring_in, detailed_voice, uneven_voice, write_sound
from tests.helpers.edits import content, state_of
from tests.helpers.real_voices import programme
from tests.helpers.sounds import with_a_click

TARGET = -20.0


def opened(bench: Workbench, folder: Path, samples: np.ndarray, **rule: object) -> str:
    """A session with one track of these samples, and a rule."""
    session = sessions.create(bench, "One")
    track = bring_in(bench, session, write_sound(folder / "voice.wav", samples))
    sessions.update(bench, session, state_of(bench, track).revision, {"target": TARGET, "tolerance": 0.3, **rule})
    return track


@pytest.fixture
def evened(bench: Workbench, tmp_path: Path) -> str:
    """A voice with esses and breaths, evened out."""
    track = opened(bench, tmp_path, detailed_voice(), most_up=20.0)
    drafts.accept(bench, track, state_of(bench, track).revision)
    return track


def revision(bench: Workbench, track: str) -> int:
    return state_of(bench, track).revision


def phrase_levels(state: Changed) -> list[float]:
    return [clip.after for clip in state.clips if clip.after is not None]


def level_phrases(bench: Workbench, track: str) -> int:
    state = state_of(bench, track)
    return sum(abs(level - state.tracks[0].target) <= state.rule.tolerance + 1e-6 for level in phrase_levels(state))


def esses_down(bench: Workbench, track: str) -> Changed:
    return details.set_rule(bench, track, revision(bench, track), "ess", {"on": True, "depth": -12.0, "deepest": -20.0})


def deep_dip(bench: Workbench, track: str) -> Changed:
    """A dip by hand over a good part of the first phrase."""
    return details.make(bench, track, revision(bench, track), "dip", 1.0, 1.6, -9.0)


def test_phrases_settle_when_their_details_go_down_and_it_is_one_step(bench: Workbench, evened: str) -> None:
    before = state_of(bench, evened)
    assert phrase_levels(before) == pytest.approx([TARGET] * 3, abs=0.05)
    done = deep_dip(bench, evened)
    assert phrase_levels(state_of(bench, evened)) == pytest.approx([TARGET] * 3, abs=0.06)
    assert done.told.startswith("1 phrase re-levelled, by up to ")
    assert done.label == f"Make a dip · {done.told}"
    moved = [a.gain - b.gain for a, b in zip(state_of(bench, evened).clips, before.clips, strict=True)]
    assert moved[0] > 1.0
    assert moved[1:] == [0.0, 0.0]
    assert f"by up to {moved[0]:.1f} dB" in done.told
    undone = sessions.undo(bench, before.id, revision(bench, evened))
    assert content(state_of(bench, evened)) == content(before)
    assert undone.told == ""
    redone = sessions.redo(bench, before.id, undone.revision)
    assert redone.label == done.label
    assert phrase_levels(state_of(bench, evened)) == pytest.approx([TARGET] * 3, abs=0.06)


def test_a_rule_settles_what_it_moves_and_gives_it_back(bench: Workbench, evened: str) -> None:
    before = [clip.gain for clip in state_of(bench, evened).clips]
    esses_down(bench, evened)
    assert phrase_levels(state_of(bench, evened)) == pytest.approx([TARGET] * 3, abs=0.06)
    details.set_rule(bench, evened, revision(bench, evened), "ess", {"on": False})
    assert [clip.gain for clip in state_of(bench, evened).clips] == pytest.approx(before, abs=0.06)


def test_what_was_set_by_hand_locked_or_left_out_does_not_settle(bench: Workbench, tmp_path: Path) -> None:
    track = opened(bench, tmp_path, uneven_voice((-26.0, -26.0, -26.0, -26.0)), most_up=20.0)
    ids = [clip.id for clip in state_of(bench, track).clips]
    drafts.accept(bench, track, revision(bench, track))
    clips.set_gain(bench, track, revision(bench, track), [ids[0]], to=3.0)
    clips.set_flag(bench, track, revision(bench, track), [ids[1]], "locked", True)
    clips.set_flag(bench, track, revision(bench, track), [ids[2]], "left_out", True)
    before = [clip.gain for clip in state_of(bench, track).clips]
    for start in (0.8, 4.2, 5.9):
        details.make(bench, track, revision(bench, track), "dip", start, start + 0.5, -9.0)
    after = [clip.gain for clip in state_of(bench, track).clips]
    assert after[:3] == before[:3]
    assert after[3] > before[3] + 1.0


def test_nothing_settles_before_a_draft_or_with_the_switch_off(bench: Workbench, tmp_path: Path) -> None:
    track = opened(bench, tmp_path, detailed_voice(), most_up=20.0)
    assert deep_dip(bench, track).told == ""
    session = sessions.undo(bench, state_of(bench, track).id, revision(bench, track))
    drafts.accept(bench, track, revision(bench, track))
    sessions.update(bench, session.id, revision(bench, track), {"settle": False})
    before = [clip.gain for clip in state_of(bench, track).clips]
    assert deep_dip(bench, track).told == ""
    assert [clip.gain for clip in state_of(bench, track).clips] == before


def test_limits_hold_what_settles(bench: Workbench, tmp_path: Path) -> None:
    """Ceiling and noise limit; most up is about how far phrases are moved against each other."""
    track = opened(bench, tmp_path, uneven_voice((-26.0, -26.0)), most_up=5.5, base_kind="none")
    drafts.accept(bench, track, revision(bench, track))
    first = state_of(bench, track).clips[0]
    details.make(bench, track, revision(bench, track), "dip", 0.8, 1.3, -9.0)
    settled = state_of(bench, track).clips[0]
    assert settled.gain > 5.5 + 2.0
    assert settled.after == pytest.approx(first.after, abs=0.02)
    sessions.undo(bench, state_of(bench, track).id, revision(bench, track))
    ceiling = first.peak + first.gain + 0.3
    sessions.update(bench, state_of(bench, track).id, revision(bench, track), {"ceiling": ceiling})
    details.make(bench, track, revision(bench, track), "dip", 0.8, 1.3, -9.0)
    assert state_of(bench, track).clips[0].gain == pytest.approx(first.gain + 0.3, abs=0.01)


@pytest.mark.parametrize(("language", "seed", "tone"), [("ru", 2, -47.0), ("ru", 3, -47.0), ("en", 20, -48.0)])
def test_no_phrase_of_a_real_voice_stops_being_level_on_the_way(
    bench: Workbench, tmp_path: Path, language: str, seed: int, tone: float
) -> None:
    """Prompts of ``tests.helpers.real_voices`` in a room so loud that the noise limit holds many of them back."""
    samples, _ = programme(language, 16, seed, (0.4, 0.8), tone, uneven=8.0, rate=16_000)
    path = write_sound(tmp_path / "voice.wav", samples / max(np.abs(samples).max(), 1.0), 16_000)
    track = bring_in(bench, sessions.create(bench, "Real"), path)
    counts = [level_phrases(bench, track)]
    drafts.accept(bench, track, revision(bench, track))
    counts.append(level_phrases(bench, track))
    for kind in NAMES:
        details.set_rule(bench, track, revision(bench, track), kind, {"on": True})
        counts.append(level_phrases(bench, track))
    rides.accept(bench, track, revision(bench, track))
    counts.append(level_phrases(bench, track))
    assert counts == sorted(counts)
    assert counts[0] < counts[-1] < len(phrase_levels(state_of(bench, track))), "the noise limit holds some of them"
    # and not when everything is let up again
    for kind in NAMES:
        details.set_rule(bench, track, revision(bench, track), kind, {"on": False})
        assert level_phrases(bench, track) >= counts[1], kind


def test_a_drafted_ride_settles_and_a_lift_by_hand_is_not_undone(bench: Workbench, tmp_path: Path) -> None:
    voice = uneven_voice((-26.0, -26.0, -26.0))
    t = np.arange(len(voice)) / 48_000
    track = opened(bench, tmp_path, voice * (1 - 0.75 * ((t % 1.7) > 1.2)), most_up=20.0)
    drafts.accept(bench, track, revision(bench, track))
    done = rides.accept(bench, track, revision(bench, track))
    assert done.label.startswith("Draft a ride")
    assert phrase_levels(state_of(bench, track)) == pytest.approx([TARGET] * 3, abs=0.06)
    before = phrase_levels(state_of(bench, track))
    lifted = drawing.lift_span(bench, track, revision(bench, track), "trim", 0.6, 1.8, 3.0)
    assert lifted.told == ""
    assert phrase_levels(state_of(bench, track))[0] > before[0] + 2.0


def test_the_base_is_told_with_the_track_and_the_draft(bench: Workbench, tmp_path: Path) -> None:
    track = opened(bench, tmp_path, uneven_voice((-40.0, -42.0, -38.0, -41.0), tone=-90.0))
    state = state_of(bench, track)
    assert state.rule.base_kind == "auto"
    assert state.tracks[0].base == pytest.approx(21.6, abs=0.6)
    draft = drafts.draft(bench, track)
    assert draft.base == state.tracks[0].base
    assert draft.level == 4
    without = drafts.draft(bench, track, rule={"base_kind": "none"})
    assert (without.base, without.level) == (0.0, 0)
    assert set(without.reasons) == {"most up"}
    by_hand = drafts.draft(bench, track, rule={"base_kind": "hand", "base": 14.0, "most_up": 9.0})
    assert by_hand.base == 14.0


def test_the_target_that_frees_what_is_held_back_is_named(bench: Workbench, tmp_path: Path) -> None:
    track = opened(bench, tmp_path, uneven_voice((-30.0,) * 6, tone=-50.0), most_up=30.0, noise_limit=-44.0)
    held = drafts.draft(bench, track)
    assert held.reasons == {"noise limit": 6}
    assert held.freeing is not None
    assert drafts.draft(bench, track, rule={"target": held.freeing}).level == 6


def test_peaks_that_hold_a_phrase_back_go_down_with_it_in_one_step(bench: Workbench, tmp_path: Path) -> None:
    track = opened(bench, tmp_path, with_a_click(0.3), most_up=20.0, target=-18.0)
    before = state_of(bench, track)
    draft = drafts.draft(bench, track)
    assert (draft.by_peaks, draft.peaks, draft.level) == (1, 1, 2)
    assert draft.reasons["peaks"] == 1
    assert -9.0 <= draft.deepest < -3.0
    shown = drafts.draft(bench, track, peaks=True)
    assert shown.level == 3
    done = drafts.accept(bench, track, before.revision, peaks=True)
    assert done.label == f"Even out 3 phrases, 1 short peak down by {-draft.deepest:.1f} dB"
    state = state_of(bench, track)
    assert phrase_levels(state) == pytest.approx([-18.0] * 3, abs=0.1)
    (knock,) = [mark for mark in state.marks if mark.kind == "knock" and mark.on]
    assert knock.depth == pytest.approx(draft.deepest, abs=0.01)
    again = drafts.draft(bench, track)
    assert (again.level, again.by_peaks) == (3, 0)
    sessions.undo(bench, before.id, done.revision)
    assert content(state_of(bench, track)) == content(before)


def test_the_card_and_the_reference_are_told_as_they_sound(bench: Workbench, evened: str) -> None:
    """With every layer in, not by clip gain alone."""
    state = state_of(bench, evened)
    sessions.update(bench, state.id, state.revision, {"settle": False})
    first = next(clip for clip in state.clips if clip.after is not None)
    clips.set_flag(bench, evened, revision(bench, evened), [first.id], "reference", True)
    deep_dip(bench, evened)
    now = state_of(bench, evened)
    heard = next(clip.after for clip in now.clips if clip.id == first.id)
    assert heard is not None
    assert heard < TARGET - 1.0
    card = cards.list_cards(bench)[0]
    assert (card.level, card.count) == (2, 3)
    assert card.worst == pytest.approx(heard - TARGET, abs=0.01)
    by_reference = sessions.update(bench, state.id, now.revision, {"target_kind": "reference"})
    assert by_reference.tracks[0].target == pytest.approx(heard, abs=0.01)
