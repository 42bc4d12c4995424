"""Details by hand: what a rule, a step, a handle and a correction mean, and that what was done by hand stays."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from sqlalchemy import delete, update

from nivelus.core.drafts.dip_rules import REASONS
from nivelus.core.errors import NotFound, Refused
from nivelus.core.gain.dips import SILENT_DIP
from nivelus.core.marks.details import find_marks
from nivelus.core.measure.grid import measure_samples
from nivelus.services.clips import clips, details, drafts, following
from nivelus.services.sessions import sessions
from nivelus.services.track import sound
from nivelus.services.track.workbench import Workbench
from nivelus.services.upkeep.mending import mend
from nivelus.store.tables import MarkSet, Track
from tests.conftest import BREATHS, ESSES, KNOCK
from tests.helpers.edits import content, state_of
from tests.helpers.marks import mark_with, marks_of, revision
from tests.helpers.renders import power, rendered


def test_a_track_comes_with_its_marks_and_nothing_is_turned_down(bench: Workbench, detailed: str) -> None:
    state = state_of(bench, detailed)
    assert [round(m.start, 1) for m in marks_of(state, "breath")] == [round(start, 1) for start, _ in BREATHS]
    assert len(marks_of(state, "ess")) == len(ESSES)
    assert len(marks_of(state, "knock")) == 1
    assert not any(m.on or m.by_hand for m in state.marks)
    assert all(m.before == m.after for m in state.marks if m.before is not None)
    a, b = rendered(bench, detailed)
    assert (a == b).all()


def test_one_switch_turns_a_kind_down_and_the_figures_are_those_of_the_render(bench: Workbench, detailed: str) -> None:
    details.set_rule(bench, detailed, revision(bench, detailed), "breath", {"on": True, "depth": -8.0})
    state = state_of(bench, detailed)
    assert state.undo == "Breaths down"
    assert [m.depth for m in marks_of(state, "breath")] == [-8.0] * 3
    assert [m.on for m in marks_of(state, "ess")] == [False] * 4
    for m in marks_of(state, "breath"):
        assert m.before is not None
        assert m.after == pytest.approx(m.before - 8.0, abs=0.6)
    a, b = rendered(bench, detailed)
    for start, end in BREATHS:
        assert power(b, start + 0.03, end - 0.03) - power(a, start + 0.03, end - 0.03) == pytest.approx(-8.0, abs=0.5)
    for clip in state.clips:
        span = slice(round((clip.phrase_start or 0) * 48_000), round((clip.phrase_end or 0) * 48_000))
        assert (a[span] == b[span]).all()
    figures = sound.before_after(bench, detailed)
    assert figures.after.down == 3
    before, after = figures.before.stands["breath"], figures.after.stands["breath"]
    assert before is not None
    assert after == pytest.approx(before - 8.0, abs=0.6)


def test_the_slider_moves_all_and_a_difference_made_by_hand_stays(bench: Workbench, detailed: str) -> None:
    details.set_rule(bench, detailed, revision(bench, detailed), "breath", {"on": True, "depth": -8.0})
    chosen = marks_of(state_of(bench, detailed), "breath")[1].id
    details.set_depth(bench, detailed, revision(bench, detailed), [chosen], by=-2.0)
    assert mark_with(bench, detailed, chosen).reason == "by hand"
    for depth in (-5.0, -11.0):
        details.set_rule(bench, detailed, revision(bench, detailed), "breath", {"depth": depth})
        assert [m.depth for m in marks_of(state_of(bench, detailed), "breath")] == [depth, depth - 2.0, depth]
    details.reset(bench, detailed, revision(bench, detailed), [chosen])
    assert [m.depth for m in marks_of(state_of(bench, detailed), "breath")] == [-11.0] * 3
    with pytest.raises(Refused, match="Nothing was done by hand"):
        details.reset(bench, detailed, revision(bench, detailed), [chosen])


def test_a_trial_says_what_a_rule_would_do_and_does_nothing(bench: Workbench, detailed: str) -> None:
    before = state_of(bench, detailed)
    tried = details.trial(bench, detailed, {"breath": {"on": True, "depth": -6.5}})
    assert tried.depth == [-6.5] * 3
    assert tried.marks == [m.id for m in marks_of(before, "breath")]
    assert state_of(bench, detailed) == before


def test_one_dip_is_deepened_and_eased_although_its_kind_is_off(bench: Workbench, detailed: str) -> None:
    chosen = marks_of(state_of(bench, detailed), "breath")[0].id
    steps = []
    for by in (-1.0, -1.0, 1.0, 20.0, -1.0):
        details.set_depth(bench, detailed, revision(bench, detailed), [chosen], by=by)
        steps.append(mark_with(bench, detailed, chosen).depth)
    # the first step down takes what the rule proposes
    assert steps == [-8.0, -9.0, -8.0, 0.0, -1.0]
    assert [m.on for m in marks_of(state_of(bench, detailed), "breath")] == [True, False, False]
    with pytest.raises(Refused, match="a change in dB"):
        details.set_depth(bench, detailed, revision(bench, detailed), [chosen])


def test_what_is_kept_out_stays_as_it_is(bench: Workbench, detailed: str) -> None:
    details.set_rule(bench, detailed, revision(bench, detailed), "ess", {"on": True})
    harsh = max(marks_of(state_of(bench, detailed), "ess"), key=lambda m: m.excess or 0.0)
    assert (harsh.on, harsh.reason) == (True, "at most")
    details.set_keep(bench, detailed, revision(bench, detailed), [harsh.id], "out")
    kept = mark_with(bench, detailed, harsh.id)
    assert (kept.on, kept.reason, kept.after) == (False, "kept out", kept.before)
    details.set_keep(bench, detailed, revision(bench, detailed), [harsh.id], "rule")
    assert mark_with(bench, detailed, harsh.id).on


def test_an_ess_taken_far_under_its_neighbours_is_said_to_lisp(bench: Workbench, detailed: str) -> None:
    soft = marks_of(state_of(bench, detailed), "ess")[0]
    for depth, lisps in ((-3.0, False), (-9.0, True)):
        details.set_depth(bench, detailed, revision(bench, detailed), [soft.id], to=depth)
        assert mark_with(bench, detailed, soft.id).lisp == lisps
    assert sound.before_after(bench, detailed).after.lisps == 1


def test_gaps_go_to_silence_on_request_and_phrases_stay(bench: Workbench, detailed: str) -> None:
    details.set_rule(bench, detailed, revision(bench, detailed), "gap", {"on": True, "silent": True})
    gaps = marks_of(state_of(bench, detailed), "gap")
    long = [gap for gap in gaps if gap.end - gap.start > 0.3]
    assert [gap.depth for gap in long] == [SILENT_DIP] * len(long)
    assert {gap.reason for gap in gaps} <= {"silence", "too short"}
    a, b = rendered(bench, detailed)
    middle = round((long[0].dip_start + long[0].dip_end) / 2 * 48_000)
    assert not b[middle : middle + 100].any()
    assert (a[48_000 : 2 * 48_000] == b[48_000 : 2 * 48_000]).all()


def test_gaps_go_to_one_level_which_follows_the_gain_of_the_clips(bench: Workbench, detailed: str) -> None:
    details.set_rule(bench, detailed, revision(bench, detailed), "gap", {"on": True})
    details.set_rule(bench, detailed, revision(bench, detailed), "gap", {"even": True, "depth": -24.0})
    assert state_of(bench, detailed).undo == "Gaps to one level, -24.0 dB at most"
    state = state_of(bench, detailed)
    # the room of this voice is as loud everywhere
    assert all(gap.depth > -4.0 for gap in marks_of(state, "gap"))
    (last,) = [clip for clip in state.clips if clip.phrase_start is not None][-1:]
    answer = clips.set_gain(bench, detailed, revision(bench, detailed), [last.id], by=12.0)
    there = [gap for gap in marks_of(answer, "gap") if gap.start >= last.phrase_end and gap.end - gap.start > 0.4]
    assert [gap.depth for gap in there] == pytest.approx([-12.0] * len(there), abs=4.0)
    assert len(there) > 0


def test_a_gap_or_a_span_is_silenced_alone_and_comes_back(bench: Workbench, detailed: str) -> None:
    gap = max(marks_of(state_of(bench, detailed), "gap"), key=lambda m: m.end - m.start)
    details.set_depth(bench, detailed, revision(bench, detailed), [gap.id], silent=True)
    silent = mark_with(bench, detailed, gap.id)
    assert (silent.depth, silent.on, silent.reason) == (SILENT_DIP, True, "silence")
    details.make(bench, detailed, revision(bench, detailed), "dip", 1.2, 1.6, silent=True)
    assert state_of(bench, detailed).undo == "Silence a span"
    _, b = rendered(bench, detailed)
    for start, end in ((silent.dip_start, silent.dip_end), (1.3, 1.5)):
        middle = round((start + end) / 2 * 48_000)
        assert not b[middle : middle + 100].any()
    # a step up is one from what its rule says
    details.set_depth(bench, detailed, revision(bench, detailed), [gap.id], by=2.0)
    assert mark_with(bench, detailed, gap.id).depth == pytest.approx(-18.0)
    with pytest.raises(Refused, match="or silence"):
        details.set_depth(bench, detailed, revision(bench, detailed), [gap.id], to=-3.0, silent=True)


def test_edges_and_ramps_of_a_dip_are_moved_alone(bench: Workbench, detailed: str) -> None:
    details.set_rule(bench, detailed, revision(bench, detailed), "breath", {"on": True})
    first, second, _ = (m.id for m in marks_of(state_of(bench, detailed), "breath"))
    before = mark_with(bench, detailed, second)
    details.set_edges(bench, detailed, revision(bench, detailed), first, start=0.6, ramp_in=0.1)
    moved = mark_with(bench, detailed, first)
    assert (moved.dip_start, moved.ramp_in, moved.by_hand) == (pytest.approx(0.6), 0.1, True)
    assert moved.start == pytest.approx(BREATHS[0][0], abs=0.03)
    assert mark_with(bench, detailed, second) == before
    with pytest.raises(Refused, match="end has to come after"):
        details.set_edges(bench, detailed, revision(bench, detailed), first, start=0.8, end=0.7)


def test_a_notch_is_deepest_in_the_middle(bench: Workbench, detailed: str) -> None:
    details.set_rule(bench, detailed, revision(bench, detailed), "breath", {"on": True, "depth": -12.0})
    chosen = marks_of(state_of(bench, detailed), "breath")[0]
    details.set_shape(bench, detailed, revision(bench, detailed), [chosen.id], notch=True)
    a, b = rendered(bench, detailed)
    middle = (chosen.dip_start + chosen.dip_end) / 2
    at_middle = power(b, middle - 0.005, middle + 0.005) - power(a, middle - 0.005, middle + 0.005)
    at_start = power(b, chosen.dip_start, chosen.dip_start + 0.02) - power(a, chosen.dip_start, chosen.dip_start + 0.02)
    assert at_middle == pytest.approx(-12.0, abs=0.2)
    assert at_start > -4.0


def test_layers_are_given_alone_and_together(bench: Workbench, detailed: str) -> None:
    state = details.set_rule(bench, detailed, revision(bench, detailed), "gap", {"on": True})
    clips.set_gain(bench, detailed, state.revision, [c.id for c in state_of(bench, detailed).clips], by=3.0)
    at = np.linspace(0, 7 * 48_000, 500)

    def curve(*layers: str) -> np.ndarray:
        points = np.asarray(sound.gain_points(bench, detailed, frozenset(layers))).reshape(-1, 2)
        return np.interp(at, points[:, 0], points[:, 1])

    assert (curve("dips") <= 0).all()
    assert curve("clip") == pytest.approx(np.full(500, 3.0))
    assert curve("clip", "dips") == pytest.approx(curve("clip") + curve("dips"), abs=1e-3)


def test_drafts_judge_phrases_with_their_dips_in(bench: Workbench, detailed: str) -> None:
    plain = {item.clip: item.after for item in drafts.draft(bench, detailed).items}
    clip = state_of(bench, detailed).clips[0]
    assert clip.phrase_start is not None
    assert clip.phrase_end is not None
    details.make(bench, detailed, revision(bench, detailed), "dip", clip.phrase_start, clip.phrase_end, -3.0)
    assert state_of(bench, detailed).clips[0].after == pytest.approx(clip.after - 3.0, abs=0.4)
    drafted = {item.clip: item for item in drafts.draft(bench, detailed).items}
    # what the dip took is given back, so the phrase ends where it would have ended
    assert drafted[clip.id].after == pytest.approx(plain[clip.id], abs=0.3)


def test_marks_that_are_gone_and_wrong_tracks_are_said(bench: Workbench, detailed: str) -> None:
    with pytest.raises(NotFound, match="no longer exists"):
        details.set_depth(bench, detailed, revision(bench, detailed), ["breath.1"], by=-1.0)
    with pytest.raises(NotFound):
        details.trial(bench, "nothing", {"breath": {"depth": -3.0}})
    with pytest.raises(Refused, match="deepest"):
        details.set_rule(bench, detailed, revision(bench, detailed), "breath", {"deepest": -3.0, "shallowest": -9.0})
    assert {m.reason for m in state_of(bench, detailed).marks} <= set(REASONS)


def test_a_track_goes_with_its_marks_and_comes_back_with_them(bench: Workbench, detailed: str) -> None:
    details.make(bench, detailed, revision(bench, detailed), "dip", 1.1, 1.3)
    before = state_of(bench, detailed)
    removed = following.remove(bench, detailed, before.revision)
    assert sessions.state(bench, before.id).marks == []
    sessions.undo(bench, before.id, removed.revision)
    assert content(state_of(bench, detailed)) == content(before)


def test_a_data_folder_from_before_marks_were_kept_is_mended(bench: Workbench, detailed: str) -> None:
    before = state_of(bench, detailed)
    with bench.database.writing() as db:
        db.execute(delete(MarkSet))
        db.execute(update(Track).values(dip_rules={}))
    assert mend(bench) == ["The details of “details” were found."]
    assert content(state_of(bench, detailed)) == content(before)
    assert mend(bench) == []


def test_a_grid_of_an_older_measure_is_measured_again(bench: Workbench, detailed: str) -> None:
    before = state_of(bench, detailed)
    source = sound.render_source(bench, detailed)[0]
    assert isinstance(source, Path)
    path = source.parent / "grid.npy"
    now = np.load(path)
    np.save(path, now[:, :7])
    bench.close()
    again = Workbench(bench.settings)
    try:
        assert mend(again) == []
        assert (np.load(path) == now).all()
        assert content(state_of(again, detailed)) == content(before)
    finally:
        again.close()


def test_the_figures_after_are_those_of_the_rendered_sound(bench: Workbench, detailed: str) -> None:
    for kind in ("breath", "ess", "knock"):
        details.set_rule(bench, detailed, revision(bench, detailed), kind, {"on": True})
    state = state_of(bench, detailed)
    _, after = rendered(bench, detailed)
    again = find_marks(measure_samples(after, 48_000))
    for m in marks_of(state, "breath"):
        (near,) = [b for b in again.of("breath") if abs(b.start - m.start) < 0.05]
        clip = next(c for c in state.clips if c.start <= m.start < c.end)
        phrase = power(after, clip.phrase_start or 0, clip.phrase_end or 0)
        assert m.after == pytest.approx(near.level - phrase, abs=1.0)
    assert any(abs(m.start - KNOCK[0]) < 0.05 and (m.after or 0.0) < (m.before or 0.0) for m in marks_of(state, "knock"))
