"""Clips by hand: what each edit means to the ear and to the eye."""

from __future__ import annotations

import numpy as np
import pytest

from nivelus.core.errors import NotFound, Refused
from nivelus.core.gain.compiled import apply_gain
from nivelus.core.measure.grid import measure_samples
from nivelus.core.measure.spans import span_levels
from nivelus.core.sound.timeline import open_sound
from nivelus.services.clips import clips, drafts
from nivelus.services.sessions import sessions
from nivelus.services.track import sound
from nivelus.services.track.limits import GAIN_RANGE
from nivelus.services.track.workbench import Workbench
from tests.helpers.edits import state_of


def rendered_levels(bench: Workbench, track: str) -> list[float]:
    """Loudness of every phrase in the samples that the present gain makes."""
    source, _, state, _ = sound.render_source(bench, track)
    with open_sound(source) as reader:
        samples = apply_gain(reader.read(0, state.samples), state.gain, 0)
    grid = measure_samples(samples, state.rate)
    return [span_levels(grid, start, end).loudness for start, end in (state.clips.phrases / state.rate).tolist()]


def test_the_four_phrases_are_found_and_measured(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    assert len(state.clips) == 4
    assert [clip.before for clip in state.clips] == pytest.approx(rendered_levels(bench, track), abs=0.01)
    assert [clip.after for clip in state.clips] == [clip.before for clip in state.clips]


def test_many_are_moved_at_once_and_keep_their_differences(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    ids = [clip.id for clip in state.clips]
    state = clips.set_gain(bench, track, state.revision, ids[1:2], by=2.0)
    state = clips.set_gain(bench, track, state.revision, ids[:3], by=-1.5)
    assert [clip.gain for clip in state_of(bench, track).clips] == [-1.5, 0.5, -1.5, 0.0]
    assert state.label == "3 phrases by -1.5 dB"
    assert [c.after for c in state_of(bench, track).clips] == pytest.approx(rendered_levels(bench, track), abs=0.1)


def test_a_locked_phrase_is_not_moved_with_the_others(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    ids = [clip.id for clip in state.clips]
    state = clips.set_flag(bench, track, state.revision, ids[:1], "locked", True)
    state = clips.set_gain(bench, track, state.revision, ids, by=3.0)
    assert [clip.gain for clip in state_of(bench, track).clips] == [0.0, 3.0, 3.0, 3.0]
    with pytest.raises(Refused, match="locked"):
        clips.set_gain(bench, track, state.revision, ids[:1], by=3.0)
    with pytest.raises(Refused, match="locked"):
        clips.join(bench, track, state.revision, ids[:2])
    with pytest.raises(Refused, match="locked"):
        clips.move_border(bench, track, state.revision, ids[0], 1.0)


def test_gain_stays_within_what_makes_sense(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    answer = clips.set_gain(bench, track, state.revision, [state.clips[0].id], by=100.0)
    assert state_of(bench, track).clips[0].gain == GAIN_RANGE[1]
    assert answer.told == "24 dB: that is the most"
    answer = clips.set_gain(bench, track, answer.revision, [clip.id for clip in state.clips], to=-80.0)
    assert answer.told == "−60 dB: that is the least"
    assert clips.set_gain(bench, track, answer.revision, [state.clips[0].id], by=3.0).told == ""


def test_a_gain_set_by_hand_is_left_alone_by_drafts_until_it_is_given_back(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    first = state.clips[0].id
    state = clips.set_gain(bench, track, state.revision, [first], to=1.0)
    item = next(i for i in drafts.draft(bench, track).items if i.clip == first)
    assert (item.gain, item.reason) == (1.0, "by hand")
    clips.set_gain(bench, track, state.revision, [first], to=0.0)
    assert next(i for i in drafts.draft(bench, track).items if i.clip == first).reason != "by hand"


def test_cutting_a_phrase_makes_two_and_joining_them_makes_it_again(bench: Workbench, track: str) -> None:
    before = state_of(bench, track)
    clip = before.clips[1]
    state = clips.set_label(bench, track, before.revision, clip.id, "one two three four")
    at = (clip.phrase_start + clip.phrase_end) / 2
    state = clips.cut(bench, track, state.revision, at)
    left, right = state_of(bench, track).clips[1:3]
    assert left.end == right.start == pytest.approx(at, abs=1e-4)
    assert left.phrase_end == right.phrase_start == left.end
    assert (left.label, right.label) == ("one two", "three four")
    assert left.before == pytest.approx(clip.before, abs=1.5)
    clips.join(bench, track, state.revision, [left.id, right.id])
    joined = state_of(bench, track).clips[1]
    assert joined.model_dump(exclude={"label"}) == clip.model_dump(exclude={"label"})
    assert joined.label == "one two three four"


def test_cutting_a_pause_makes_a_piece_without_a_phrase(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    clips.cut(bench, track, state.revision, state.clips[0].phrase_start / 2)
    piece, phrase = state_of(bench, track).clips[:2]
    assert piece.before is None
    assert phrase.phrase_start == state.clips[0].phrase_start
    assert phrase.before == pytest.approx(state.clips[0].before)


def test_a_cut_on_a_border_is_refused(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    with pytest.raises(Refused, match="border here already"):
        clips.cut(bench, track, state.revision, state.clips[0].end + 0.001)


def test_only_neighbours_can_be_joined(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    ids = [clip.id for clip in state.clips]
    with pytest.raises(Refused, match="neighbours"):
        clips.join(bench, track, state.revision, [ids[0], ids[2]])
    with pytest.raises(Refused, match="two or more"):
        clips.join(bench, track, state.revision, ids[:1])
    with pytest.raises(NotFound):
        clips.join(bench, track, state.revision, [ids[0], "other"])


def test_a_border_moved_in_the_pause_changes_no_phrase(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    left, right = state.clips[:2]
    clips.move_border(bench, track, state.revision, left.id, (left.phrase_end + right.phrase_start) / 2)
    new_left, new_right = state_of(bench, track).clips[:2]
    assert new_left.end == new_right.start
    assert (new_left.phrase_end, new_right.phrase_start) == (left.phrase_end, right.phrase_start)
    assert (new_left.before, new_right.before) == (left.before, right.before)


def test_a_border_moved_into_a_phrase_ends_it_there_but_cannot_swallow_it(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    left, right = state.clips[:2]
    with pytest.raises(Refused, match="swallow"):
        clips.move_border(bench, track, state.revision, left.id, right.end)
    clips.move_border(bench, track, state.revision, left.id, right.phrase_start + 0.3)
    new_right = state_of(bench, track).clips[1]
    assert new_right.phrase_start == new_right.start == pytest.approx(right.phrase_start + 0.3, abs=1e-4)


def test_a_ramp_that_reaches_into_a_phrase_is_measured(bench: Workbench, track: str) -> None:
    """Where two clips meet inside the sound, what is told is what the samples measure, not gain alone."""
    state = state_of(bench, track)
    clip = state.clips[1]
    state = clips.cut(bench, track, state.revision, clip.phrase_start + 0.15)
    clips.set_gain(bench, track, state.revision, [state_of(bench, track).clips[2].id], by=-10.0)
    told = [c.after for c in state_of(bench, track).clips]
    assert told == pytest.approx(rendered_levels(bench, track), abs=0.1)
    first = state_of(bench, track).clips[1]
    assert first.after != pytest.approx(first.before + first.gain, abs=0.01)


def test_accepting_a_draft_is_one_step_and_does_what_it_said(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    state = sessions.update(bench, state.id, state.revision, {"target": -24.0, "most_up": 30.0, "noise_limit": -20.0})
    proposed = drafts.draft(bench, track)
    assert state_of(bench, track).clips[0].gain == 0.0
    changed = drafts.accept(bench, track, state.revision)
    after = state_of(bench, track)
    assert {c.id: c.gain for c in after.clips} == {i.clip: i.gain for i in proposed.items}
    assert {c.id: c.after for c in after.clips} == pytest.approx({i.clip: i.after for i in proposed.items})
    assert proposed.level == proposed.count == 4
    assert changed.label == f"Even out {proposed.moves} phrases"
    assert rendered_levels(bench, track) == pytest.approx([c.after for c in after.clips], abs=0.1)


def test_a_draft_may_try_other_rules_without_keeping_them(bench: Workbench, track: str) -> None:
    before = state_of(bench, track)
    half = drafts.draft(bench, track, rule={"strength": 50.0})
    assert state_of(bench, track) == before
    full = drafts.draft(bench, track)
    moved = [(h.gain, f.gain) for h, f in zip(half.items, full.items, strict=True) if f.reason == "to target"]
    assert moved
    for h, f in moved:
        assert h == pytest.approx(f / 2, abs=0.01)


def test_a_draft_for_some_leaves_the_others(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    chosen = {state.clips[0].id}
    assert [item.clip for item in drafts.draft(bench, track, chosen).items] == list(chosen)
    drafts.accept(bench, track, state.revision, chosen)
    moved = [clip.id for clip in state_of(bench, track).clips if clip.gain != 0.0]
    assert moved == list(chosen)
    with pytest.raises(Refused, match="no phrase"):
        drafts.draft(bench, track, {"nothing"})


def test_references_set_the_target_as_they_sound_and_are_not_moved(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    named = state.clips[2]
    state = clips.set_gain(bench, track, state.revision, [named.id], by=1.0)
    state = clips.set_flag(bench, track, state.revision, [named.id], "reference", True)
    state = sessions.update(bench, state.id, state.revision, {"target_kind": "reference"})
    assert state.tracks[0].target == pytest.approx(named.before + 1.0)
    item = next(i for i in drafts.draft(bench, track).items if i.clip == named.id)
    assert (item.gain, item.reason) == (1.0, "reference")
    drafts.accept(bench, track, state.revision)
    assert state_of(bench, track).tracks[0].target == pytest.approx(named.before + 1.0)


@pytest.mark.parametrize("unit", ["loudness", "rms", "peak"])
def test_phrases_can_be_judged_in_every_unit(bench: Workbench, track: str, unit: str) -> None:
    state = state_of(bench, track)
    sessions.update(bench, state.id, state.revision, {"unit": unit, "target_kind": "median"})
    after = state_of(bench, track)
    levels = [clip.before for clip in after.clips]
    assert after.tracks[0].target == pytest.approx(np.median(levels))
    assert len(sound.trace(bench, track)) == pytest.approx(after.tracks[0].timeline.duration * 20, abs=2)
    inside = [sound.trace(bench, track)[round((c.phrase_start + 0.5) * 20)] for c in after.clips]
    assert inside == pytest.approx(levels, abs=4.0)


def test_left_out_phrases_do_not_count(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    clips.set_flag(bench, track, state.revision, [state.clips[0].id], "left_out", True)
    figures = sound.before_after(bench, track)
    assert figures.after.count == 3
    item = next(i for i in drafts.draft(bench, track).items if i.clip == state.clips[0].id)
    assert item.reason == "left out"


def test_figures_before_and_after_and_the_live_meter_agree_with_the_gain(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    before, meter = sound.before_after(bench, track), sound.meter(bench, track)
    assert before.before.stands == before.after.stands
    same, plain = (side.model_dump(exclude={"stands"}) for side in (before.before, before.after))
    assert same == pytest.approx(plain)
    assert (meter[:, 0] == meter[:, 1]).all()
    clips.set_gain(bench, track, state.revision, [clip.id for clip in state.clips], by=-6.0)
    after, moved = sound.before_after(bench, track), sound.meter(bench, track)
    assert after.after.true_peak == pytest.approx(after.before.true_peak - 6.0, abs=1e-6)
    assert after.after.room_tone == pytest.approx(after.before.room_tone - 6.0, abs=1e-3)
    np.testing.assert_allclose(moved[:, 1], meter[:, 1] - 6.0, atol=1e-3)


def test_a_mono_voice_may_count_as_two_loudspeakers(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    one = sound.before_after(bench, track).before.integrated
    sessions.update(bench, state.id, state.revision, {"mono_as_two": True})
    after = state_of(bench, track)
    assert after.clips[0].before == pytest.approx(state.clips[0].before + 3.01, abs=0.01)
    assert sound.before_after(bench, track).before.integrated == pytest.approx(one + 3.01, abs=0.01)


def test_the_live_meter_of_a_target_in_dbfs_knows_no_loudspeakers(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    state = sessions.update(bench, state.id, state.revision, {"unit": "rms"})
    one = sound.meter(bench, track)
    sessions.update(bench, state.id, state.revision, {"mono_as_two": True})
    np.testing.assert_allclose(sound.meter(bench, track), one, atol=1e-5)


def test_gain_points_are_the_compiled_curve(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    clips.set_gain(bench, track, state.revision, [state.clips[1].id], by=-3.0)
    points = sound.gain_points(bench, track)
    assert points.shape[1] == 2
    middle = (state.clips[1].phrase_start + state.clips[1].phrase_end) / 2 * 48_000
    assert np.interp(middle, points[:, 0], points[:, 1]) == -3.0


def test_words_are_kept_without_control_characters(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    clips.set_label(bench, track, state.revision, state.clips[0].id, "  Good\x00 mor\nning\u202e ")
    assert state_of(bench, track).clips[0].label == "Good morning"
