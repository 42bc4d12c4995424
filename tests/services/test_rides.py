"""The ride of a track: what drafts, lifts, points, trims and files do to what is heard."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from nivelus.core.deliver.curve_csv import read_csv
from nivelus.core.errors import CurveFileError, NivelusError, NotFound, Refused
from nivelus.services import clips, details, rides, sessions, sound, tracks
from nivelus.services.views import Changed
from nivelus.services.workbench import Workbench
from tests.conftest import bring_in, write_sound
from tests.core.test_ride import wavering
from tests.services.test_details import power, rendered
from tests.store.test_history import content, state_of


@pytest.fixture
def swaying(bench: Workbench, tmp_path) -> str:
    """A track of three phrases whose level sways."""
    return bring_in(bench, sessions.create(bench, "Sway"), write_sound(tmp_path / "sway.wav", wavering()))


def revision(bench: Workbench, track: str) -> int:
    return state_of(bench, track).revision


def gain(bench: Workbench, track: str, *layers: str, at: np.ndarray | None = None) -> np.ndarray:
    """The compiled gain of some layers at some seconds."""
    points = sound.gain_points(bench, track, layers or sound.LAYERS)
    seconds = np.linspace(0, 16, 4001) if at is None else at
    return np.interp(seconds * 48_000, points[:, 0], points[:, 1])


def test_a_draft_shows_what_it_does_and_accepting_does_it(bench: Workbench, swaying: str) -> None:
    before = state_of(bench, swaying)
    shown = rides.draft(bench, swaying)
    assert state_of(bench, swaying) == before
    assert shown.after < 0.4 * shown.before
    assert {p.reason for p in shown.phrases} == {"evened"}
    rides.accept(bench, swaying, before.revision)
    view = rides.view(bench, swaying)
    assert view.ride == shown.points
    assert [p.after for p in view.phrases] == pytest.approx([p.after for p in shown.phrases], abs=0.05)
    after = state_of(bench, swaying)
    assert after.undo == "Draft a ride"
    # each phrase stays where it was, and the render is what the figures say
    assert [c.after for c in after.clips] == pytest.approx([c.before for c in before.clips], abs=0.2)
    a, b = rendered(bench, swaying)
    for clip in after.clips:
        assert clip.phrase_start is not None
        spans = [(clip.phrase_start + t, clip.phrase_start + t + 0.4) for t in np.arange(0.2, 3.2, 0.2)]
        assert np.std([power(b, *s) for s in spans]) < 0.5 * np.std([power(a, *s) for s in spans])


def test_a_draft_for_some_phrases_leaves_the_rest_of_the_ride(bench: Workbench, swaying: str) -> None:
    rides.lift_span(bench, swaying, revision(bench, swaying), "ride", 11.0, 12.0, 3.0)
    first = state_of(bench, swaying).clips[0].id
    rides.accept(bench, swaying, revision(bench, swaying), {"strength": 50.0}, {first})
    at = np.linspace(6.0, 16.0, 500)
    expected = np.interp(at, [10.94, 11.0, 12.0, 12.06], [0, 3, 3, 0])
    assert gain(bench, swaying, "ride", at=at) == pytest.approx(expected, abs=0.02)
    assert np.ptp(gain(bench, swaying, "ride", at=np.linspace(1, 4, 50))) > 1.0


def test_locked_and_left_out_phrases_are_not_ridden(bench: Workbench, swaying: str) -> None:
    ids = [clip.id for clip in state_of(bench, swaying).clips]
    clips.set_flag(bench, swaying, revision(bench, swaying), ids[:1], "locked", True)
    clips.set_flag(bench, swaying, revision(bench, swaying), ids[1:2], "left_out", True)
    assert [p.reason for p in rides.draft(bench, swaying).phrases] == ["not chosen", "not chosen", "evened"]
    clips.set_flag(bench, swaying, revision(bench, swaying), ids[2:], "locked", True)
    with pytest.raises(Refused, match="no phrase"):
        rides.draft(bench, swaying)


def test_a_lift_is_heard_where_it_is_and_nowhere_else(bench: Workbench, swaying: str) -> None:
    changed = rides.lift_span(bench, swaying, revision(bench, swaying), "ride", 2.0, 3.0, -4.0)
    assert changed.label == "Lift the ride by -4.0 dB"
    a, b = rendered(bench, swaying)
    assert power(b, 2.0, 3.0) - power(a, 2.0, 3.0) == pytest.approx(-4.0, abs=0.01)
    outside = np.r_[0 : round(1.94 * 48_000), round(3.06 * 48_000) : len(a)]
    assert (a[outside] == b[outside]).all()
    # only what it touches is sent again
    state = state_of(bench, swaying)
    assert {clip.id for clip in changed.clips} <= {clip.id for clip in state.clips[:2]}
    assert state.clips[0].after < state.clips[0].before - 0.2
    # a second lift of the span uses its points
    rides.lift_span(bench, swaying, revision(bench, swaying), "ride", 3.0, 2.0, 1.5)
    assert len(rides.view(bench, swaying).ride) == 4


def test_points_are_made_moved_set_and_deleted(bench: Workbench, swaying: str) -> None:
    for at, db in ((1.0, 0.0), (2.0, None), (3.0, 4.0), (4.0, 0.0)):
        rides.put_point(bench, swaying, revision(bench, swaying), "ride", at, db)
    assert [(p.at, p.db) for p in rides.view(bench, swaying).ride] == [(1.0, 0.0), (2.0, 0.0), (3.0, 4.0), (4.0, 0.0)]
    rides.change_points(bench, swaying, revision(bench, swaying), "ride", [1, 2], seconds=0.25, by=-1.0)
    rides.change_points(bench, swaying, revision(bench, swaying), "ride", [2], to=-3.0, shape="hold")
    assert [(p.at, p.db, p.shape) for p in rides.view(bench, swaying).ride][1:3] == [
        (2.25, -1.0, "linear"),
        (3.25, -3.0, "hold"),
    ]
    rides.change_points(bench, swaying, revision(bench, swaying), "ride", [0, 1], gone=True)
    assert len(rides.view(bench, swaying).ride) == 2
    with pytest.raises(NotFound, match="not there any more"):
        rides.change_points(bench, swaying, revision(bench, swaying), "ride", [7], by=1.0)


def test_deleting_a_lifted_span_takes_its_ramps_along(bench: Workbench, swaying: str) -> None:
    rides.lift_span(bench, swaying, revision(bench, swaying), "ride", 2.0, 3.0, 4.0)
    rides.change_range(bench, swaying, revision(bench, swaying), "ride", 2.0, 3.0, "delete")
    assert not gain(bench, swaying, "ride").any()


def test_what_is_drawn_by_hand_becomes_few_points_whatever_the_direction(bench: Workbench, swaying: str) -> None:
    at = np.linspace(9.0, 6.0, 200)
    line = [(float(t), float(-3 + 2 * np.sin(t))) for t in at]
    rides.draw_line(bench, swaying, revision(bench, swaying), "ride", line)
    assert gain(bench, swaying, "ride", at=at) == pytest.approx(-3 + 2 * np.sin(at), abs=0.25)
    outside = np.r_[np.linspace(0, 5.99, 50), np.linspace(9.01, 16, 50)]
    assert not gain(bench, swaying, "ride", at=outside).any()
    assert len(rides.view(bench, swaying).ride) < 20
    with pytest.raises(Refused, match="further"):
        rides.draw_line(bench, swaying, revision(bench, swaying), "ride", [(1.0, 0.0), (1.1, 2.0)])


def test_a_range_is_pasted_at_another_time_and_into_another_lane(bench: Workbench, swaying: str) -> None:
    rides.lift_span(bench, swaying, revision(bench, swaying), "ride", 2.0, 3.0, 4.0)
    source = (swaying, "ride")
    rides.paste_range(bench, swaying, revision(bench, swaying), "trim", 8.0, 1.5, 3.5, source)
    at = np.linspace(8.1, 9.9, 100)
    assert gain(bench, swaying, "trim", at=at) == pytest.approx(gain(bench, swaying, "ride", at=at - 6.5), abs=0.01)
    with pytest.raises(NotFound):
        rides.paste_range(bench, swaying, revision(bench, swaying), "trim", 8.0, 1.5, 3.5, ("nothing", "ride"))


def test_the_working_range_holds(bench: Workbench, swaying: str) -> None:
    rides.lift_span(bench, swaying, revision(bench, swaying), "ride", 2.0, 3.0, 100.0)
    assert max(p.db for p in rides.view(bench, swaying).ride) == rides.WORKING_RANGE[1]


def test_a_range_is_deleted_smoothed_or_thinned_alone(bench: Workbench, swaying: str) -> None:
    with pytest.raises(Refused, match="no ride here yet"):
        rides.change_range(bench, swaying, revision(bench, swaying), "ride", 1.0, 2.0, "delete")
    rides.accept(bench, swaying, revision(bench, swaying))
    before = gain(bench, swaying, "ride")
    at = np.linspace(0, 16, 4001)
    for what in ("thin", "smooth", "delete"):
        rides.change_range(bench, swaying, revision(bench, swaying), "ride", 6.0, 9.0, what)
        now = gain(bench, swaying, "ride")
        outside = (at < 5.99) | (at > 9.01)
        assert now[outside] == pytest.approx(before[outside], abs=0.02)
    assert not any(6.0 < p.at < 9.0 for p in rides.view(bench, swaying).ride)


def test_a_trim_lies_over_the_ride_and_is_folded_into_it(bench: Workbench, swaying: str) -> None:
    rides.accept(bench, swaying, revision(bench, swaying))
    ride = gain(bench, swaying, "ride")
    rides.set_offset(bench, swaying, revision(bench, swaying), -2.5)
    rides.lift_span(bench, swaying, revision(bench, swaying), "trim", 6.0, 8.0, 3.0)
    assert rides.view(bench, swaying).offset == -2.5
    assert gain(bench, swaying, "ride") == pytest.approx(ride, abs=1e-6)
    heard = gain(bench, swaying)
    state = state_of(bench, swaying)
    assert state.clips[0].after == pytest.approx(state.clips[0].before - 2.5, abs=0.2)
    rides.fold(bench, swaying, revision(bench, swaying))
    assert gain(bench, swaying) == pytest.approx(heard, abs=0.01)
    assert gain(bench, swaying, "trim") == pytest.approx(np.zeros(4001))
    with pytest.raises(Refused, match="no trim"):
        rides.fold(bench, swaying, revision(bench, swaying))
    rides.clear(bench, swaying, revision(bench, swaying), "ride")
    assert not gain(bench, swaying).any()
    with pytest.raises(Refused, match="no ride to take away"):
        rides.clear(bench, swaying, revision(bench, swaying), "ride")


def test_curves_go_out_and_come_in_again(bench: Workbench, swaying: str) -> None:
    with pytest.raises(Refused, match="no ride to write out"):
        rides.write_out(bench, swaying, "ride", "csv")
    rides.accept(bench, swaying, revision(bench, swaying))
    heard = gain(bench, swaying)
    for ending in ("csv", "mid"):
        name, data = rides.write_out(bench, swaying, "ride", ending)
        assert name == f"sway ride.{ending}"
        rides.clear(bench, swaying, revision(bench, swaying), "ride")
        rides.bring_in(bench, swaying, revision(bench, swaying), "ride", name, data)
        assert gain(bench, swaying) == pytest.approx(heard, abs=0.05)
    assert len(read_csv(rides.write_out(bench, swaying, "ride", "csv")[1])) == len(rides.view(bench, swaying).ride)
    before = state_of(bench, swaying)
    for name, data, words in (("a.csv", b"nonsense", "a.csv"), ("a.wav", b"", "CSV file"), ("a.mid", b"x", "MIDI")):
        with pytest.raises(CurveFileError, match=words):
            rides.bring_in(bench, swaying, before.revision, "ride", name, data)
    for lane, ending in (("dips", "csv"), ("ride", "doc")):
        with pytest.raises(NivelusError):
            rides.write_out(bench, swaying, lane, ending)
    assert state_of(bench, swaying) == before


def steps(bench: Workbench, track: str) -> list[Callable[[int], Changed]]:
    return [
        lambda r: rides.accept(bench, track, r),
        lambda r: rides.lift_span(bench, track, r, "trim", 2.0, 3.0, 2.0),
        lambda r: rides.set_offset(bench, track, r, 1.0),
        lambda r: rides.put_point(bench, track, r, "ride", 5.0, -1.0),
        lambda r: rides.change_points(bench, track, r, "ride", [0], by=0.5),
        lambda r: rides.change_range(bench, track, r, "ride", 1.0, 3.0, "delete"),
        lambda r: rides.fold(bench, track, r),
        lambda r: rides.bring_in(bench, track, r, "trim", "a.csv", b"0,-1\n5,-3\n"),
        lambda r: rides.clear(bench, track, r, "ride"),
    ]


def test_every_step_can_be_undone_and_done_again(bench: Workbench, swaying: str) -> None:
    seen = [(content(state_of(bench, swaying)), rides.view(bench, swaying))]
    for step in steps(bench, swaying):
        step(revision(bench, swaying))
        seen.append((content(state_of(bench, swaying)), rides.view(bench, swaying)))
    session = state_of(bench, swaying).id
    for expected in reversed(seen[:-1]):
        sessions.undo(bench, session, revision(bench, swaying))
        assert (content(state_of(bench, swaying)), rides.view(bench, swaying)) == expected
    for expected in seen[1:]:
        sessions.redo(bench, session, revision(bench, swaying))
        assert (content(state_of(bench, swaying)), rides.view(bench, swaying)) == expected


def test_a_track_goes_with_its_lanes_and_comes_back_with_them(bench: Workbench, swaying: str) -> None:
    rides.accept(bench, swaying, revision(bench, swaying))
    before, ride = state_of(bench, swaying), rides.view(bench, swaying)
    removed = tracks.remove(bench, swaying, before.revision)
    sessions.undo(bench, before.id, removed.revision)
    assert content(state_of(bench, swaying)) == content(before)
    assert rides.view(bench, swaying) == ride


def test_what_moves_a_phrase_and_its_details_alike_is_no_difference_between_them(bench: Workbench, detailed: str) -> None:
    before = {m.id: m for m in state_of(bench, detailed).marks if m.kind in ("breath", "ess", "knock")}
    rides.set_offset(bench, detailed, revision(bench, detailed), -4.0)
    for m in state_of(bench, detailed).marks:
        if m.id in before:
            assert m.after == pytest.approx(before[m.id].after, abs=0.05)
    # a ride under an ess moves the voice around it as well, under a breath it moves the breath alone
    rides.clear(bench, detailed, revision(bench, detailed), "trim")
    breath = next(m for m in before.values() if m.kind == "breath")
    rides.lift_span(bench, detailed, revision(bench, detailed), "ride", breath.start, breath.end, 3.0)
    now = next(m for m in state_of(bench, detailed).marks if m.id == breath.id)
    assert now.after == pytest.approx((breath.after or 0.0) + 3.0, abs=0.2)


def test_details_are_told_with_the_ride_in(bench: Workbench, detailed: str) -> None:
    details.set_rule(bench, detailed, revision(bench, detailed), "gap", {"on": True})
    gap = next(m for m in state_of(bench, detailed).marks if m.kind == "gap")
    rides.set_offset(bench, detailed, revision(bench, detailed), -3.0)
    now = next(m for m in state_of(bench, detailed).marks if m.id == gap.id)
    assert now.after == pytest.approx((gap.after or 0.0) - 3.0, abs=0.1)
