"""Marks that are corrected or made by hand, and what becomes of them."""

from __future__ import annotations

from pathlib import Path

import pytest

from nivelus.core.errors import Refused
from nivelus.services.clips import clips, details
from nivelus.services.sessions import sessions
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import MarkView
from tests.conftest import BREATHS, ESSES, HARSH, bring_in, write_sound
from tests.helpers.edits import content, state_of
from tests.helpers.marks import marks_of, revision
from tests.helpers.renders import power, rendered
from tests.helpers.sounds import with_a_doubtful_breath


def test_corrections_survive_a_new_search(bench: Workbench, detailed: str) -> None:
    state = state_of(bench, detailed)
    breaths, esses = marks_of(state, "breath"), marks_of(state, "ess")
    details.correct(bench, detailed, revision(bench, detailed), [breaths[0].id], gone=True)
    details.correct(bench, detailed, revision(bench, detailed), [breaths[1].id], start=2.6, end=2.8)
    details.correct(bench, detailed, revision(bench, detailed), [esses[0].id], kind="knock")
    details.make(bench, detailed, revision(bench, detailed), "ess", 3.2, 3.3)
    details.set_depth(bench, detailed, revision(bench, detailed), [esses[HARSH].id], to=-3.0)
    before = state_of(bench, detailed)
    assert [round(m.start, 2) for m in marks_of(before, "breath")] == [2.6, pytest.approx(BREATHS[2][0], abs=0.03)]
    assert any(m.start == pytest.approx(ESSES[0][0], abs=0.02) for m in marks_of(before, "knock"))
    details.find_again(bench, detailed, before.revision)
    after = state_of(bench, detailed)
    assert content(after)["marks"] == content(before)["marks"]
    # what was found between other phrases is found from their new edges, and the hand's work is still there
    clips.cut(bench, detailed, after.revision, 3.7)
    details.find_again(bench, detailed, revision(bench, detailed))
    sides = [[m for m in side.marks if m.by_hand] for side in (before, state_of(bench, detailed))]
    what = [[(m.id, m.kind, m.start, m.end, m.depth) for m in side] for side in sides]
    assert what[0] == what[1]


def test_a_mark_that_is_corrected_is_measured_anew(bench: Workbench, detailed: str) -> None:
    gap = marks_of(state_of(bench, detailed), "gap")[0]
    details.make(bench, detailed, revision(bench, detailed), "breath", 2.6, 2.85)
    made = next(m for m in marks_of(state_of(bench, detailed), "breath") if m.made)
    samples, _ = rendered(bench, detailed)
    assert made.level == pytest.approx(power(samples, 2.6, 2.85), abs=0.2)
    assert gap.level < made.level
    # what was made by hand stands for what was found there of its kind
    assert len([m for m in marks_of(state_of(bench, detailed), "breath") if 2.4 < m.start < 3.0]) == 1
    with pytest.raises(Refused, match="one mark at a time"):
        details.correct(bench, detailed, revision(bench, detailed), [gap.id, made.id], start=1.0)


def test_a_dip_of_any_span_is_there_at_once(bench: Workbench, detailed: str) -> None:
    details.make(bench, detailed, revision(bench, detailed), "dip", 1.1, 1.3, -5.0)
    a, b = rendered(bench, detailed)
    assert power(b, 1.13, 1.27) - power(a, 1.13, 1.27) == pytest.approx(-5.0, abs=0.1)
    assert (a[: round(1.1 * 48_000)] == b[: round(1.1 * 48_000)]).all()
    assert (a[round(1.3 * 48_000) :] == b[round(1.3 * 48_000) :]).all()
    (made,) = marks_of(state_of(bench, detailed), "dip")
    details.correct(bench, detailed, revision(bench, detailed), [made.id], gone=True)
    assert marks_of(state_of(bench, detailed), "dip") == []


def test_a_locked_phrase_keeps_its_dips_and_refuses_new_ones(bench: Workbench, detailed: str) -> None:
    state = details.set_rule(bench, detailed, revision(bench, detailed), "breath", {"on": True, "depth": -8.0})
    first = state_of(bench, detailed).clips[0]
    state = clips.set_flag(bench, detailed, state.revision, [first.id], "locked", True)
    details.set_rule(bench, detailed, state.revision, "breath", {"depth": -14.0})
    breaths = marks_of(state_of(bench, detailed), "breath")
    assert [m.depth for m in breaths] == [-8.0, -14.0, -14.0]
    assert breaths[0].reason == "locked"
    for attempt in (
        lambda r: details.set_depth(bench, detailed, r, [breaths[0].id], by=-1.0),
        lambda r: details.make(bench, detailed, r, "dip", 1.1, 1.3),
    ):
        with pytest.raises(Refused, match="locked"):
            attempt(revision(bench, detailed))
    clips.set_flag(bench, detailed, revision(bench, detailed), [first.id], "locked", False)
    assert [m.depth for m in marks_of(state_of(bench, detailed), "breath")] == [-14.0] * 3


def test_what_is_in_doubt_is_turned_down_by_no_rule_until_the_hand_says_what_it_is(bench: Workbench, tmp_path: Path) -> None:
    track = bring_in(bench, sessions.create(bench, "Doubt"), write_sound(tmp_path / "doubt.wav", with_a_doubtful_breath()))

    def breaths() -> list[MarkView]:
        return marks_of(state_of(bench, track), "breath")

    details.set_rule(bench, track, revision(bench, track), "breath", {"on": True, "depth": -8.0})
    sure, doubtful = breaths()
    assert (sure.on, sure.depth, sure.reason) == (True, -8.0, "rule")
    assert (doubtful.on, doubtful.depth, doubtful.reason) == (False, -8.0, "in doubt")
    a, b = rendered(bench, track)
    assert power(b, doubtful.start, doubtful.end) - power(a, doubtful.start, doubtful.end) == pytest.approx(0.0, abs=0.01)
    waiting = content(state_of(bench, track))
    # a word from the hand, to be undone like any other; found again it stays
    details.correct(bench, track, revision(bench, track), [doubtful.id], kind="breath")
    assert [(m.on, m.reason) for m in breaths()] == [(True, "rule"), (True, "rule")]
    details.find_again(bench, track, revision(bench, track))
    assert [m.on for m in breaths()] == [True, True]
    while state_of(bench, track).undo != "Breaths down":
        sessions.undo(bench, state_of(bench, track).id, revision(bench, track))
    assert content(state_of(bench, track)) == waiting
    details.correct(bench, track, revision(bench, track), [doubtful.id], gone=True)
    assert len(breaths()) == 1
    details.find_again(bench, track, revision(bench, track))
    assert len(breaths()) == 1
