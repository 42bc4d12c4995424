"""Riding by hand: what was taken down waits, survives, is kept as one step, and nothing is written by listening."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from nivelus.core.chain.state import LAYERS
from nivelus.core.errors import NotFound, Refused
from nivelus.services.clips import clips, following
from nivelus.services.lanes import drawing, passes, taking, whole
from nivelus.services.sessions import sessions
from nivelus.services.track import sound
from nivelus.services.track.workbench import Workbench
from nivelus.settings import Settings
from tests.conftest import bring_in, write_sound
from tests.helpers.answers import known_of, put_in, same
from tests.helpers.edits import content, state_of
from tests.helpers.renders import power, rendered
from tests.helpers.riding import AS_IT_COMES, moves, ride
from tests.helpers.sounds import wavering


@pytest.fixture
def track(bench: Workbench, tmp_path: Path) -> str:
    """Three phrases of some 4 s in 16 s."""
    return bring_in(bench, sessions.create(bench, "By hand"), write_sound(tmp_path / "voice.wav", wavering()))


def revision(bench: Workbench, track: str) -> int:
    return state_of(bench, track).revision


def lane(bench: Workbench, track: str, at: np.ndarray, *layers: str) -> np.ndarray:
    points = sound.gain_points(bench, track, layers or ("ride",))
    return np.interp(at * 48_000, points[:, 0], points[:, 1])


def test_taking_a_pass_down_changes_nothing_of_the_session(bench: Workbench, track: str) -> None:
    before = state_of(bench, track)
    at = np.linspace(0, 16, 3000)
    gain = lane(bench, track, at, *LAYERS)
    id = ride(bench, track, moves((2, 0), (3, -5), (6, 3)))
    assert state_of(bench, track) == before
    assert (lane(bench, track, at, *LAYERS) == gain).all()
    (shown,) = passes.view(bench, track).items
    assert (shown.id, shown.number, shown.state, shown.elsewhere) == (id, 1, "waiting", False)
    assert (shown.start, shown.end) == pytest.approx((2, 6), abs=0.01)
    assert 3 <= len(passes.draft(bench, id, AS_IT_COMES).points) <= 10


def test_keeping_makes_it_the_ride_in_one_step_and_the_render_follows(bench: Workbench, track: str) -> None:
    before = state_of(bench, track)
    points = ((2, 0), (3, -5), (6, 3), (9, 3))
    id = ride(bench, track, moves(*points))
    answer = passes.keep(bench, id, before.revision, AS_IT_COMES)
    assert answer.undo == "Keep pass 1 in the ride"
    at = np.arange(2.05, 8.95, 0.01)
    held = np.interp(at, *np.array(points).T)
    assert np.abs(lane(bench, track, at) - held).max() <= 0.3
    outside = np.concatenate([np.arange(0, 1.99, 0.01), np.arange(9.31, 16, 0.01)])
    assert np.abs(lane(bench, track, outside)).max() == 0
    plain, ridden = rendered(bench, track)
    for start in np.arange(2.4, 8.4, 0.31):
        got = power(ridden, start, start + 0.02) - power(plain, start, start + 0.02)
        assert got == pytest.approx(np.interp(start + 0.01, *np.array(points).T), abs=0.35)
    (shown,) = passes.view(bench, track).items
    assert shown.state == "kept"
    undone = sessions.undo(bench, before.id, answer.revision)
    assert content(state_of(bench, track)) == content(before)
    assert passes.view(bench, track).items[0].state == "waiting"
    sessions.redo(bench, before.id, undone.revision)
    assert passes.view(bench, track).items[0].state == "kept"
    # another one is kept over it, and then it is chosen again
    other = ride(bench, track, moves((1.5, 2), (10, 2)))
    passes.keep(bench, other, revision(bench, track), AS_IT_COMES)
    assert lane(bench, track, np.array([6.0])) == pytest.approx([2], abs=0.01)
    assert passes.keep(bench, id, revision(bench, track), AS_IT_COMES).undo == "Keep pass 1 in the ride again"
    assert np.abs(lane(bench, track, at) - held).max() <= 0.3


def test_answers_to_deciding_equal_a_fresh_load(bench: Workbench, track: str) -> None:
    session = state_of(bench, track).id
    known = known_of(sessions.state(bench, session))
    first, second = ride(bench, track, moves((2, 0), (6, 3))), ride(bench, track, moves((3, -2), (8, -2)))
    third = ride(bench, track, moves((1.2, 0), (4, 2)), lane="curve")
    fourth = ride(bench, track, moves((1, 0), (5, 2)), lane="trim")
    fifth = ride(bench, track, moves((0.5, 4), (15, 4)))
    works = [
        lambda r: passes.keep(bench, first, r, AS_IT_COMES),
        lambda r: passes.drop(bench, second, r),
        lambda r: passes.keep(bench, third, r, AS_IT_COMES),
        lambda r: passes.keep(bench, fourth, r, AS_IT_COMES),
        lambda r: passes.keep(bench, fifth, r, AS_IT_COMES, as_clip_gain=True),
    ]
    for work in works:
        known = put_in(known, work(revision(bench, track)))
        same(known, sessions.state(bench, session))
    for step in (sessions.undo, sessions.redo):
        for _ in works:
            known = put_in(known, step(bench, session, revision(bench, track)))
            same(known, sessions.state(bench, session))


def test_an_edit_elsewhere_while_it_plays_loses_nothing(bench: Workbench, track: str) -> None:
    id = ride(bench, track, moves((2, 0), (4, 4)), ends=False)
    clip = state_of(bench, track).clips[1]
    clips.set_gain(bench, track, revision(bench, track), [clip.id], by=-3.0)
    drawing.lift_span(bench, track, revision(bench, track), "ride", 9.0, 10.0, -6.0)
    view = passes.end(bench, id)
    assert view is not None
    # it was heard over another ride than there is now, which is said; what was written elsewhere stays
    assert view.elsewhere
    passes.keep(bench, id, revision(bench, track), AS_IT_COMES)
    assert lane(bench, track, np.array([4.0, 9.5])) == pytest.approx([4.0, -6.0], abs=0.26)


def test_pieces_are_taken_once_and_in_order(bench: Workbench, track: str) -> None:
    id = "a-pass-of-its-own"
    taking.begin(bench, track, id, "ride", "touch", None, AS_IT_COMES)
    data = moves((1, 0), (2, 4))
    half = len(data) // 2
    raw = data.astype("<f8").tobytes()
    assert taking.take_down(bench, id, 0, raw[: half * 16]) == half
    # asked for twice, as after an answer that was lost, it is there once
    assert taking.take_down(bench, id, 0, raw[: half * 16]) == half
    assert taking.begin(bench, track, id, "ride", "touch", None, AS_IT_COMES).number == 1
    with pytest.raises(Refused, match="missing"):
        taking.take_down(bench, id, half + 5, raw[half * 16 :])
    assert taking.take_down(bench, id, half, raw[half * 16 :]) == len(data)
    view = passes.end(bench, id)
    assert view is not None
    assert (view.start, view.end) == pytest.approx((1, 2), abs=0.01)
    # the end is told twice as well
    assert passes.end(bench, id) == view
    assert taking.take_down(bench, id, len(data), raw) >= 2


def test_what_was_not_finished_waits_after_a_restart(bench: Workbench, track: str, settings: Settings) -> None:
    """The page crashed, or the server was killed: what was taken down until then is there to be decided on."""
    id = ride(bench, track, moves((2, 0), (5, 3)), ends=False)
    bench.close()
    again = Workbench(settings)
    (shown,) = passes.view(again, track).items
    assert (shown.id, shown.state) == (id, "waiting")
    assert (shown.start, shown.end) == pytest.approx((2, 5), abs=0.01)
    passes.keep(again, id, revision(again, track), AS_IT_COMES)
    assert lane(again, track, np.array([4.9])) == pytest.approx([2.9], abs=0.3)
    again.close()


def test_a_span_is_never_left(bench: Workbench, track: str) -> None:
    drawing.lift_span(bench, track, revision(bench, track), "ride", 1.0, 12.0, -2.0)
    at = np.linspace(0, 16, 16001)
    before = lane(bench, track, at)
    id = ride(bench, track, moves((2, 0), (9, 5)), span=(4.0, 7.0))
    passes.keep(bench, id, revision(bench, track), replace(AS_IT_COMES, glide=2.0))
    after = lane(bench, track, at)
    outside = (at < 4.0 - 1e-6) | (at > 7.0 + 1e-6)
    np.testing.assert_allclose(after[outside], before[outside], atol=1e-9)
    assert after[(at > 4.5) & (at < 6.5)].max() > 2


def test_the_trim_is_ridden_as_an_offset_folded_and_ridden_again(bench: Workbench, track: str) -> None:
    drawing.lift_span(bench, track, revision(bench, track), "ride", 1.0, 12.0, -2.0)
    at = np.array([3.0, 5.0])
    kept = ""
    for turn in (1, 2):
        if kept:
            with pytest.raises(Refused, match="already in the trim"):
                passes.keep(bench, kept, revision(bench, track), AS_IT_COMES)
        id = ride(bench, track, moves((2, 0), (3, 1.5), (6, 1.5)), lane="trim")
        passes.keep(bench, id, revision(bench, track), AS_IT_COMES)
        kept = id
        assert lane(bench, track, at, "trim") == pytest.approx([1.5, 1.5], abs=0.26)
        whole.hand_over(bench, track, revision(bench, track), "trim", "ride")
        assert lane(bench, track, at) == pytest.approx([-2 + 1.5 * turn] * 2, abs=0.5)
        assert lane(bench, track, at, "trim") == pytest.approx([0, 0])


def test_a_clip_curve_is_written_into_each_clip_and_goes_with_it(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    voiced = [clip for clip in state.clips if clip.phrase_start is not None]
    clips.set_flag(bench, track, state.revision, [voiced[1].id], "locked", True)
    id = ride(bench, track, moves((voiced[0].start + 0.5, -4), (voiced[2].end - 0.5, -4)), lane="curve")
    answer = passes.keep(bench, id, revision(bench, track), AS_IT_COMES)
    assert answer.told == "1 locked phrase stayed as it was"
    middles = np.array([(clip.start + clip.end) / 2 for clip in voiced[:3]])
    assert lane(bench, track, middles, "curve") == pytest.approx([-4, 0, -4], abs=0.26)


def test_a_pass_becomes_clip_gain_and_what_is_left_stays_a_ride(bench: Workbench, track: str) -> None:
    """The mean of each phrase goes into its clip; what is heard is the same to a hundredth outside of the borders' ramps."""
    state = state_of(bench, track)
    voiced = [clip for clip in state.clips if clip.phrase_start is not None]
    end = voiced[-1].end
    id = ride(bench, track, moves((0.1, 0), (2, 3), (7, -2), (end - 0.5, 4)))
    shown = passes.draft(bench, id, AS_IT_COMES)
    assert len(shown.phrases) == len(voiced)
    at = np.arange(0.2, end - 1, 0.01)
    first = passes.keep(bench, id, state.revision, AS_IT_COMES)
    as_ride = lane(bench, track, at, *LAYERS)
    sessions.undo(bench, state.id, first.revision)
    answer = passes.keep(bench, id, revision(bench, track), AS_IT_COMES, as_clip_gain=True)
    assert answer.undo == f"Turn pass 1 into clip gain of {len(voiced)} phrases"
    now = {clip.id: clip for clip in state_of(bench, track).clips}
    for gain in shown.phrases:
        assert now[gain.clip].gain == pytest.approx(gain.by)
        assert now[gain.clip].by_hand
    np.testing.assert_allclose(lane(bench, track, at, *LAYERS), as_ride, atol=0.02)
    # the ride that is left lies around 0 in every phrase
    for clip in voiced:
        inside = np.arange(clip.phrase_start, clip.phrase_end, 0.01)
        assert np.mean(lane(bench, track, inside)) == pytest.approx(0, abs=0.05)


def test_dropped_it_is_gone_until_undo(bench: Workbench, track: str) -> None:
    id = ride(bench, track, moves((2, 0), (5, 3)))
    session = state_of(bench, track).id
    answer = passes.drop(bench, id, revision(bench, track))
    assert passes.view(bench, track).items == []
    sessions.undo(bench, session, answer.revision)
    assert [item.id for item in passes.view(bench, track).items] == [id]


def test_passes_come_back_with_their_track(bench: Workbench, track: str) -> None:
    id = ride(bench, track, moves((2, 0), (5, 3)))
    session = state_of(bench, track).id
    answer = following.remove(bench, track, revision(bench, track))
    with pytest.raises(NotFound):
        passes.view(bench, track)
    sessions.undo(bench, session, answer.revision)
    assert [item.id for item in passes.view(bench, track).items] == [id]
    sessions.remove(bench, session)
    with pytest.raises(NotFound):
        passes.draft(bench, id, AS_IT_COMES)


def test_bad_input_is_told(bench: Workbench, track: str) -> None:
    with pytest.raises(Refused, match="letters"):
        taking.begin(bench, track, "../x", "ride", "touch", None, AS_IT_COMES)
    with pytest.raises(NotFound):
        taking.take_down(bench, "nothing-there", 0, b"")
    id = "one-more-pass"
    taking.begin(bench, track, id, "ride", "touch", None, AS_IT_COMES)
    for data in (b"12345", np.array([[1.0, np.inf]]).tobytes(), np.array([[1.0, 500.0]]).tobytes()):
        with pytest.raises(Refused):
            taking.take_down(bench, id, 0, data)
    assert passes.end(bench, id) is None
    same_as_there = ride(bench, track, moves((2, 0), (5, 0)))
    with pytest.raises(Refused, match="changes nothing"):
        passes.keep(bench, same_as_there, revision(bench, track), AS_IT_COMES)


def test_many_undecided_passes_are_told_without_working_each_of_them_out(
    bench: Workbench, track: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    ids = [ride(bench, track, moves((1 + n / 10, 0), (2 + n / 10, -5), (6, 3))) for n in range(30)]
    shown = passes.view(bench, track).items
    assert [item.id for item in shown] == ids[::-1]
    assert [item.start for item in shown[::-1]] == pytest.approx([1 + n / 10 for n in range(30)], abs=0.01)
    # asked again, nothing of what was ridden is read
    monkeypatch.setattr(passes, "_gesture", lambda *_: 1 / 0)
    monkeypatch.setattr(passes, "_written", lambda *_: 1 / 0)
    assert passes.view(bench, track).items == shown
