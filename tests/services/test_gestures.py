"""Edits that are made in one gesture are one step of the history, whatever they touch."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from nivelus.services.clips import clips, details, drafts, moves
from nivelus.services.lanes import drawing, whole
from nivelus.services.sessions import sessions, tracks
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.store import gestures
from tests.conftest import bring_in, detailed_voice, write_sound
from tests.helpers.answers import known_of, put_in, same
from tests.helpers.edits import content, points_of, state_of


@pytest.fixture(autouse=True)
def no_gesture() -> Iterator[None]:
    yield
    gestures.begin("")


@pytest.fixture
def voice(bench: Workbench, tmp_path: Path) -> str:
    """A voice with details, and points in its ride."""
    id = bring_in(bench, sessions.create(bench, "Hand"), write_sound(tmp_path / "voice.wav", detailed_voice()))
    state = drawing.lift_span(bench, id, state_of(bench, id).revision, "ride", 1.0, 2.0, -2.0)
    drawing.put_point(bench, id, state.revision, "ride", 3.0, -1.0)
    return id


Hand = Callable[[Workbench, str, Changed], Changed]
HANDS: dict[str, tuple[Hand, str]] = {
    "gain": (lambda b, t, s: clips.set_gain(b, t, s.revision, [s.clips[0].id], by=0.5), "1 phrase by +2.0 dB"),
    "lift": (lambda b, t, s: drawing.lift_span(b, t, s.revision, "ride", 2.5, 4.0, 0.5), "Lift the ride by +2.0 dB"),
    "points": (
        lambda b, t, s: drawing.change_points(b, t, s.revision, "ride", points_of(b, t, "ride", 1, 2), by=-0.5),
        "Move 2 points of the ride",
    ),
    "move": (lambda b, t, s: moves.move(b, t, s.revision, [s.clips[-1].id], 0.1), "Move 1 phrase by +0.400 s"),
    "depth": (
        lambda b, t, s: details.set_depth(b, t, s.revision, [next(m.id for m in s.marks if m.kind == "breath")], by=-0.5),
        "",
    ),
    "rule": (lambda b, t, s: sessions.update(b, s.id, s.revision, {"tolerance": s.rule.tolerance + 0.1}), "Set the rule"),
    "kind": (
        lambda b, t, s: details.set_rule(b, t, s.revision, "breath", {"depth": s.tracks[0].rules["breath"].depth - 1}),
        "",
    ),
    "fader": (lambda b, t, s: tracks.set_fader(b, t, s.revision, s.tracks[0].fader - 1.0), ""),
    "trim": (lambda b, t, s: whole.set_trim(b, t, s.revision, db=s.revision / 10), ""),
}


@pytest.mark.parametrize("name", HANDS)
def test_what_is_done_in_one_gesture_is_undone_and_done_again_at_once(bench: Workbench, voice: str, name: str) -> None:
    hand, label = HANDS[name]
    before = sessions.state(bench, state_of(bench, voice).id)
    now, known = before, known_of(before)
    gestures.begin("first")
    for _ in range(4):
        known = put_in(known, hand(bench, voice, now))
        now = sessions.state(bench, now.id)
        same(known, now, name)
    done = content(now)
    assert now.undo == label or not label
    assert now.undo != before.undo
    gestures.begin("")
    known = put_in(known, sessions.undo(bench, now.id, now.revision))
    now = sessions.state(bench, now.id)
    same(known, now, f"undo of {name}")
    assert content(now) == content(before)
    assert now.undo == before.undo
    known = put_in(known, sessions.redo(bench, now.id, now.revision))
    now = sessions.state(bench, now.id)
    same(known, now, f"redo of {name}")
    assert content(now) == done


def test_a_gesture_is_one_step_only_by_itself(bench: Workbench, voice: str) -> None:
    """Another one is another step, so is what comes after an undo, and what is no gesture; there and back is none at all."""
    session, first = state_of(bench, voice).id, state_of(bench, voice).clips[0].id

    def nudge(by: float, name: str) -> str | None:
        gestures.begin(name)
        return clips.set_gain(bench, voice, state_of(bench, voice).revision, [first], by=by).undo

    start = state_of(bench, voice).undo
    assert [nudge(0.5, "a"), nudge(0.5, "b"), nudge(0.5, "b")] == ["1 phrase by +0.5 dB"] * 2 + ["1 phrase by +1.0 dB"]
    gestures.begin("")
    assert sessions.undo(bench, session, state_of(bench, voice).revision).undo == "1 phrase by +0.5 dB"
    # the gesture that was undone is over
    assert nudge(2.0, "b") == "1 phrase by +2.0 dB"
    assert nudge(1.0, "") == "1 phrase by +1.0 dB"
    assert nudge(1.0, "") == "1 phrase by +1.0 dB"
    # what is no name is no gesture
    assert nudge(1.0, "x" * 65) == "1 phrase by +1.0 dB"
    assert start != state_of(bench, voice).undo


def test_there_and_back_in_one_gesture_is_no_step(bench: Workbench, voice: str) -> None:
    state = state_of(bench, voice)
    first, start = state.clips[0].id, state.undo
    clips.set_gain(bench, voice, state.revision, [first], by=3.0)
    gestures.begin("up-and-down")
    for by in (1.0, 1.0, -2.0):
        state = clips.set_gain(bench, voice, state_of(bench, voice).revision, [first], by=by)
    assert state.undo == "1 phrase by +3.0 dB"
    assert sessions.undo(bench, state.id, state.revision).undo == start


def test_all_phrases_by_the_same_are_not_set_by_hand(bench: Workbench, voice: str) -> None:
    """An equal shift of everything is the overall gain: a draft goes on levelling these phrases."""
    state = drafts.accept(bench, voice, state_of(bench, voice).revision)
    own = [clip for clip in state_of(bench, voice).clips if clip.phrase_start is not None]
    assert len(own) > 2
    state = sessions.update(bench, state.id, state.revision, {"base_kind": "hand", "base": 4.0})
    every = [clip.id for clip in state_of(bench, voice).clips]
    answer = clips.set_gain(bench, voice, state.revision, every, by=1.5)
    assert answer.undo == f"all {len(every)} phrases by +1.5 dB"
    now = state_of(bench, voice)
    assert not any(clip.by_hand for clip in now.clips)
    assert now.rule.base == 5.5
    moved = {clip.id: clip.gain for clip in now.clips}
    assert all(moved[clip.id] == pytest.approx(clip.gain + 1.5) for clip in own)
    # but for one of them it is
    answer = clips.set_gain(bench, voice, now.revision, [clip.id for clip in own[1:]], by=1.5)
    assert sum(clip.by_hand for clip in state_of(bench, voice).clips) == len(own) - 1
    assert state_of(bench, voice).rule.base == 5.5
    sessions.undo(bench, answer.id, answer.revision)
