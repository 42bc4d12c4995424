"""Lanes: clip curves, the trim, what is moved from one into another, ranges, files, and every step there and back."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from nivelus.core.deliver.curve_csv import read_csv
from nivelus.core.errors import CurveFileError, NivelusError, Refused
from nivelus.services.clips import clips, following
from nivelus.services.lanes import curve_files, drawing, rides, whole
from nivelus.services.sessions import sessions
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from tests.helpers.edits import content, points_of, state_of
from tests.helpers.lanes import change_range, gain_of, revision
from tests.helpers.renders import power, rendered


def test_a_clip_curve_belongs_to_its_clip(bench: Workbench, swaying: str) -> None:
    before = state_of(bench, swaying)
    first, second = before.clips[:2]
    # a lift across the border of two clips is drawn on both, and heard without a seam
    changed = drawing.lift_span(bench, swaying, revision(bench, swaying), "curve", first.end - 1, first.end + 1, -5.0)
    assert changed.label == "Lift the clip curve by -5.0 dB"
    view = rides.view(bench, swaying)
    assert {p.clip for p in view.curve} == {first.id, second.id}
    at = np.linspace(first.end - 2, first.end + 2, 2001)
    edges = [first.end - 1.06, first.end - 1, first.end + 1, first.end + 1.06]
    assert gain_of(bench, swaying, "curve", at=at) == pytest.approx(np.interp(at, edges, [0, -5, -5, 0]), abs=0.02)
    assert "curve" in changed.tracks[0].lanes
    # the phrase under it is measured with it, and what is rendered is what is measured
    a, b = rendered(bench, swaying)
    now = state_of(bench, swaying).clips[0]
    assert now.after != first.after
    assert power(b, first.end - 1, first.end) - power(a, first.end - 1, first.end) == pytest.approx(-5.0, abs=0.05)
    # both halves of a clip that is cut sound as before, and so does the whole when they are joined again
    whole = gain_of(bench, swaying)
    clips.cut(bench, swaying, revision(bench, swaying), first.end - 0.5)
    assert gain_of(bench, swaying) == pytest.approx(whole, abs=1e-6)
    halves = [clip.id for clip in state_of(bench, swaying).clips[:2]]
    drawing.put_point(bench, swaying, revision(bench, swaying), "curve", first.end - 0.25, -8.0)
    different = gain_of(bench, swaying)
    clips.join(bench, swaying, revision(bench, swaying), halves)
    assert gain_of(bench, swaying) == pytest.approx(different, abs=0.02)
    # a border that comes back finds what the clip drew there
    clips.move_border(bench, swaying, revision(bench, swaying), halves[0], first.end - 0.02)
    clips.move_border(bench, swaying, revision(bench, swaying), halves[0], first.end)
    assert gain_of(bench, swaying) == pytest.approx(different, abs=0.02)


def test_a_locked_phrase_keeps_its_curve(bench: Workbench, swaying: str) -> None:
    first = state_of(bench, swaying).clips[0]
    clips.set_flag(bench, swaying, revision(bench, swaying), [first.id], "locked", True)
    before = state_of(bench, swaying)
    with pytest.raises(Refused, match="locked"):
        drawing.lift_span(bench, swaying, before.revision, "curve", first.end - 1, first.end + 1, -5.0)
    assert state_of(bench, swaying) == before


def test_points_of_clip_curves_stay_in_their_clips(bench: Workbench, swaying: str) -> None:
    first = state_of(bench, swaying).clips[0]
    drawing.put_point(bench, swaying, revision(bench, swaying), "curve", first.end - 0.5, -2.0)
    drawing.put_point(bench, swaying, revision(bench, swaying), "curve", first.end + 0.5, -4.0)
    change_range(bench, swaying, "curve", [0], seconds=2.0, by=-1.0)
    points = rides.view(bench, swaying).curve
    assert [(p.at, p.db) for p in points] == [(pytest.approx(first.end), -3.0), (pytest.approx(first.end + 0.5), -4.0)]
    change_range(bench, swaying, "curve", [0, 1], to=-6.0, shape="smooth")
    assert [p.db for p in rides.view(bench, swaying).curve] == [-6.0, -6.0]
    # each fills its clip, and nothing else
    at = np.array([first.start + 0.1, first.end - 0.1, first.end + 0.1, state_of(bench, swaying).clips[1].end + 0.1])
    assert gain_of(bench, swaying, "curve", at=at) == pytest.approx([-6.0, -6.0, -6.0, 0.0], abs=0.01)
    change_range(bench, swaying, "curve", [1], gone=True)
    assert len(rides.view(bench, swaying).curve) == 1
    whole.clear(bench, swaying, revision(bench, swaying), "curve")
    assert not rides.view(bench, swaying).curve


@pytest.mark.parametrize("span", [None, (2.0, 3.5)])
def test_clip_curve_and_ride_are_mirrored_and_nothing_is_heard_of_it(
    bench: Workbench, swaying: str, span: tuple[float, float] | None
) -> None:
    rides.accept(bench, swaying, revision(bench, swaying))
    drawing.draw_line(bench, swaying, revision(bench, swaying), "curve", [(1.0, 0.0), (2.5, -4.0), (5.5, 2.0)])
    before = gain_of(bench, swaying)
    alone = gain_of(bench, swaying, "ride")
    for lane, to in (("ride", "curve"), ("curve", "ride")):
        whole.hand_over(bench, swaying, revision(bench, swaying), lane, to, span)
        # the ramps at the borders of clips are the only place where it may show
        assert gain_of(bench, swaying) == pytest.approx(before, abs=0.01)
        at = np.linspace(2.1, 3.4, 50) if span else None
        assert not gain_of(bench, swaying, lane, at=at).any()
    if span:
        outside = np.linspace(6.0, 16.0, 1000)
        assert gain_of(bench, swaying, "ride", at=outside) == pytest.approx(
            np.interp(outside, np.linspace(0, 16, 4001), alone), abs=0.05
        )


def test_a_lane_that_is_moved_is_moved_as_it_is_heard(bench: Workbench, swaying: str) -> None:
    curve_files.bring_in(bench, swaying, revision(bench, swaying), "ride", "a.csv", b"0,-30\n8,10\n")
    curve_files.bring_in(bench, swaying, revision(bench, swaying), "trim", "a.csv", b"0,2\n4,9\n")
    whole.set_range(bench, swaying, revision(bench, swaying), -20.0, 6.0)
    before = gain_of(bench, swaying)
    whole.hand_over(bench, swaying, revision(bench, swaying), "trim", "ride")
    assert gain_of(bench, swaying) == pytest.approx(before, abs=0.01)
    assert state_of(bench, swaying).tracks[0].range_high == 12.0
    whole.hand_over(bench, swaying, revision(bench, swaying), "ride", "curve", (3.0, 9.0))
    assert gain_of(bench, swaying) == pytest.approx(before, abs=0.01)


def kept_down(bench: Workbench, track: str) -> np.ndarray:
    """Lanes and a locked clip curve that reach further than a range that is narrowed then; what is heard of them, of each."""
    for lane, lines in (("ride", b"0,-30\n8,10\n10,10\n"), ("trim", b"0,2\n4,9\n10,9\n"), ("curve", b"0,-40\n5,0\n")):
        curve_files.bring_in(bench, track, revision(bench, track), lane, "a.csv", lines)
    first = state_of(bench, track).clips[0]
    clips.set_flag(bench, track, revision(bench, track), [first.id], "locked", True)
    whole.set_range(bench, track, revision(bench, track), -20.0, 6.0)
    return np.array([gain_of(bench, track, lane) for lane in ("curve", "ride", "trim")])


def test_what_a_narrowed_range_keeps_down_stays_down_when_a_draft_widens_it(bench: Workbench, swaying: str) -> None:
    before = kept_down(bench, swaying)
    assert before.min() == -20.0
    whole.set_trim(bench, swaying, revision(bench, swaying), -15.0)
    track = state_of(bench, swaying).tracks[0]
    assert (track.range_low, track.range_high) == (-20.0, 6.0)
    whole.set_trim(bench, swaying, revision(bench, swaying), 9.0)
    assert state_of(bench, swaying).tracks[0].range_high == 24.0
    # by so much louder than it was heard, and nothing else is
    assert gain_of(bench, swaying, "trim") == pytest.approx(before[2] + 9.0, abs=0.01)
    assert gain_of(bench, swaying, "ride") == pytest.approx(before[1], abs=0.01)
    whole.set_trim(bench, swaying, revision(bench, swaying), -40.0)
    assert state_of(bench, swaying).tracks[0].range_low == -40.0
    assert gain_of(bench, swaying, "curve") == pytest.approx(before[0], abs=0.01)
    assert state_of(bench, swaying).clips[0].locked
    # undone, what was drawn beyond the range is there again
    for _ in range(4):
        sessions.undo(bench, state_of(bench, swaying).id, revision(bench, swaying))
    assert gain_of(bench, swaying, "curve").min() == pytest.approx(-40.0, abs=0.01)


@pytest.mark.parametrize("lane", ["ride", "trim"])
def test_drawing_where_a_range_was_narrowed_changes_nothing_beside_it(bench: Workbench, swaying: str, lane: str) -> None:
    """By hand, with numbers, and by deleting: what is heard outside is what was heard there."""
    before, outside = kept_down(bench, swaying)[["curve", "ride", "trim"].index(lane)], np.linspace(0, 16, 4001) < 9.9
    steps: list[Callable[[], Changed]] = [
        lambda: drawing.lift_span(bench, swaying, revision(bench, swaying), lane, 12.0, 13.0, -3.0),
        lambda: drawing.put_point(bench, swaying, revision(bench, swaying), lane, 11.0, -5.0),
        lambda: change_range(bench, swaying, lane, [-1], to=20.0),
        lambda: drawing.delete_range(bench, swaying, revision(bench, swaying), lane, 12.0, 13.0),
    ]
    for step in steps:
        step()
        assert gain_of(bench, swaying, lane)[outside] == pytest.approx(before[outside], abs=0.01)


def test_a_trim_that_is_off_is_kept_and_not_heard(bench: Workbench, swaying: str) -> None:
    whole.set_trim(bench, swaying, revision(bench, swaying), -3.0)
    a = state_of(bench, swaying).clips
    changed = whole.set_trim(bench, swaying, revision(bench, swaying), off=True)
    assert changed.label == "Switch the trim off"
    trim = changed.tracks[0].trim
    assert (trim.off, trim.offset, rides.view(bench, swaying).offset) == (True, -3.0, -3.0)
    assert not gain_of(bench, swaying).any()
    assert [c.after for c in state_of(bench, swaying).clips] == pytest.approx([(c.after or 0.0) + 3.0 for c in a], abs=0.01)
    with pytest.raises(Refused, match="switched off"):
        whole.hand_over(bench, swaying, revision(bench, swaying), "trim", "ride")
    sessions.undo(bench, state_of(bench, swaying).id, revision(bench, swaying))
    assert gain_of(bench, swaying).max() == -3.0


def test_a_range_is_deleted_smoothed_or_thinned_alone(bench: Workbench, swaying: str) -> None:
    with pytest.raises(Refused, match="no ride here yet"):
        drawing.delete_range(bench, swaying, revision(bench, swaying), "ride", 1.0, 2.0)
    rides.accept(bench, swaying, revision(bench, swaying))
    before = gain_of(bench, swaying, "ride")
    at = np.linspace(0, 16, 4001)
    for what in ("thin", "smooth", "delete"):
        if what == "delete":
            drawing.delete_range(bench, swaying, revision(bench, swaying), "ride", 6.0, 9.0)
        else:
            drawing.change_range(bench, swaying, revision(bench, swaying), "ride", 6.0, 9.0, what)
        now = gain_of(bench, swaying, "ride")
        outside = (at < 5.99) | (at > 9.01)
        assert now[outside] == pytest.approx(before[outside], abs=0.02)
    # it lies at 0 dB, not on a slope from one side to the other, and says so
    assert not gain_of(bench, swaying, "ride", at=np.linspace(6.07, 8.93, 50)).any()
    assert state_of(bench, swaying).undo == "Delete a range of the ride: back to 0 dB"
    with pytest.raises(Refused, match="nothing to delete here: the ride is at 0 dB"):
        drawing.delete_range(bench, swaying, revision(bench, swaying), "ride", 7.0, 8.0)


def test_a_span_of_clip_curves_is_deleted_clip_by_clip(bench: Workbench, swaying: str) -> None:
    drawing.lift_span(bench, swaying, revision(bench, swaying), "curve", 2.0, 13.0, -4.0)
    drawing.delete_range(bench, swaying, revision(bench, swaying), "curve", 3.0, 16.0)
    now = gain_of(bench, swaying, "curve")
    at = np.linspace(0, 16, 4001)
    assert not now[at > 3.07].any()
    assert now[(at > 2.01) & (at < 2.99)] == pytest.approx(np.full(len(now[(at > 2.01) & (at < 2.99)]), -4.0))


def test_a_trim_lies_over_the_ride_and_is_folded_into_it(bench: Workbench, swaying: str) -> None:
    rides.accept(bench, swaying, revision(bench, swaying))
    ride = gain_of(bench, swaying, "ride")
    whole.set_trim(bench, swaying, revision(bench, swaying), -2.5)
    drawing.lift_span(bench, swaying, revision(bench, swaying), "trim", 6.0, 8.0, 3.0)
    assert rides.view(bench, swaying).offset == -2.5
    assert gain_of(bench, swaying, "ride") == pytest.approx(ride, abs=1e-6)
    heard = gain_of(bench, swaying)
    state = state_of(bench, swaying)
    assert state.clips[0].after == pytest.approx(state.clips[0].before - 2.5, abs=0.2)
    whole.hand_over(bench, swaying, revision(bench, swaying), "trim", "ride")
    assert gain_of(bench, swaying) == pytest.approx(heard, abs=0.01)
    assert gain_of(bench, swaying, "trim") == pytest.approx(np.zeros(4001))
    with pytest.raises(Refused, match="no trim"):
        whole.hand_over(bench, swaying, revision(bench, swaying), "trim", "ride")
    whole.clear(bench, swaying, revision(bench, swaying), "ride")
    assert not gain_of(bench, swaying).any()
    with pytest.raises(Refused, match="no ride to remove"):
        whole.clear(bench, swaying, revision(bench, swaying), "ride")


def test_curves_go_out_and_come_in_again(bench: Workbench, swaying: str) -> None:
    with pytest.raises(Refused, match="no ride to write out"):
        curve_files.write_out(bench, swaying, "ride", "csv")
    rides.accept(bench, swaying, revision(bench, swaying))
    heard = gain_of(bench, swaying)
    for ending in ("csv", "mid"):
        name, data = curve_files.write_out(bench, swaying, "ride", ending)
        assert name == f"sway ride.{ending}"
        whole.clear(bench, swaying, revision(bench, swaying), "ride")
        curve_files.bring_in(bench, swaying, revision(bench, swaying), "ride", name, data)
        assert gain_of(bench, swaying) == pytest.approx(heard, abs=0.05)
    assert len(read_csv(curve_files.write_out(bench, swaying, "ride", "csv")[1])) == len(rides.view(bench, swaying).ride)
    before = state_of(bench, swaying)
    for name, data, words in (("a.csv", b"nonsense", "a.csv"), ("a.wav", b"", "a curve is CSV"), ("a.mid", b"x", "MIDI")):
        with pytest.raises(CurveFileError, match=words):
            curve_files.bring_in(bench, swaying, before.revision, "ride", name, data)
    for lane, ending in (("dips", "csv"), ("ride", "doc")):
        with pytest.raises(NivelusError):
            curve_files.write_out(bench, swaying, lane, ending)
    assert state_of(bench, swaying) == before


def steps(bench: Workbench, track: str) -> list[Callable[[int], Changed]]:
    return [
        lambda r: rides.accept(bench, track, r),
        lambda r: drawing.lift_span(bench, track, r, "trim", 2.0, 3.0, 2.0),
        lambda r: whole.set_trim(bench, track, r, 1.0),
        lambda r: drawing.put_point(bench, track, r, "ride", 5.0, -1.0),
        lambda r: drawing.change_points(bench, track, r, "ride", points_of(bench, track, "ride", 0), by=0.5),
        lambda r: drawing.delete_range(bench, track, r, "ride", 1.0, 3.0),
        lambda r: whole.hand_over(bench, track, r, "trim", "ride"),
        lambda r: curve_files.bring_in(bench, track, r, "trim", "a.csv", b"0,-1\n5,-3\n"),
        lambda r: whole.clear(bench, track, r, "ride"),
        lambda r: drawing.lift_span(bench, track, r, "curve", 2.0, 7.0, -2.0),
        lambda r: whole.hand_over(bench, track, r, "curve", "ride", (3.0, 4.0)),
        lambda r: whole.set_range(bench, track, r, -40.0, 12.0),
        lambda r: whole.set_trim(bench, track, r, off=True),
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
    removed = following.remove(bench, swaying, before.revision)
    sessions.undo(bench, before.id, removed.revision)
    assert content(state_of(bench, swaying)) == content(before)
    assert rides.view(bench, swaying) == ride
