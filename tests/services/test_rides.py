"""The ride of a track: what drafts, lifts, points, trims and files do to what is heard."""

from __future__ import annotations

import numpy as np
import pytest

from nivelus.core.errors import NivelusError, NotFound, Refused
from nivelus.services.clips import clips, details
from nivelus.services.lanes import curve_files, drawing, rides, whole
from nivelus.services.sessions import sessions
from nivelus.services.track.workbench import Workbench
from nivelus.store import database
from tests.helpers.edits import points_of, state_of
from tests.helpers.lanes import change_range, gain_of, revision
from tests.helpers.renders import power, rendered


def test_a_draft_shows_what_it_does_and_accepting_does_it(bench: Workbench, swaying: str) -> None:
    before = state_of(bench, swaying)
    shown = rides.draft(bench, swaying)
    assert state_of(bench, swaying) == before
    assert shown.after < 0.4 * shown.before
    assert {p.reason for p in shown.phrases} == {"evened"}
    rides.accept(bench, swaying, before.revision)
    view = rides.view(bench, swaying)
    assert [p.model_dump(exclude={"id", "clip"}) for p in view.ride] == [p.model_dump() for p in shown.points]
    assert [p.after for p in rides.inside(bench, swaying).phrases] == pytest.approx([p.after for p in shown.phrases], abs=0.05)
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
    drawing.lift_span(bench, swaying, revision(bench, swaying), "ride", 11.0, 12.0, 3.0)
    first = state_of(bench, swaying).clips[0].id
    rides.accept(bench, swaying, revision(bench, swaying), {"strength": 50.0}, {first})
    at = np.linspace(6.0, 16.0, 500)
    expected = np.interp(at, [10.94, 11.0, 12.0, 12.06], [0, 3, 3, 0])
    assert gain_of(bench, swaying, "ride", at=at) == pytest.approx(expected, abs=0.02)
    assert np.ptp(gain_of(bench, swaying, "ride", at=np.linspace(1, 4, 50))) > 1.0


def test_locked_and_left_out_phrases_are_not_ridden(bench: Workbench, swaying: str) -> None:
    ids = [clip.id for clip in state_of(bench, swaying).clips]
    clips.set_flag(bench, swaying, revision(bench, swaying), ids[:1], "locked", True)
    clips.set_flag(bench, swaying, revision(bench, swaying), ids[1:2], "left_out", True)
    assert [p.reason for p in rides.draft(bench, swaying).phrases] == ["not chosen", "not chosen", "evened"]
    clips.set_flag(bench, swaying, revision(bench, swaying), ids[2:], "locked", True)
    with pytest.raises(Refused, match="no phrase"):
        rides.draft(bench, swaying)


def test_a_lift_is_heard_where_it_is_and_nowhere_else(bench: Workbench, swaying: str) -> None:
    changed = drawing.lift_span(bench, swaying, revision(bench, swaying), "ride", 2.0, 3.0, -4.0)
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
    drawing.lift_span(bench, swaying, revision(bench, swaying), "ride", 3.0, 2.0, 1.5)
    assert len(rides.view(bench, swaying).ride) == 4


def test_points_are_made_moved_set_and_deleted(bench: Workbench, swaying: str) -> None:
    for at, db in ((1.0, 0.0), (2.0, None), (3.0, 4.0), (4.0, 0.0)):
        drawing.put_point(bench, swaying, revision(bench, swaying), "ride", at, db)
    assert [(p.at, p.db) for p in rides.view(bench, swaying).ride] == [(1.0, 0.0), (2.0, 0.0), (3.0, 4.0), (4.0, 0.0)]
    change_range(bench, swaying, "ride", [1, 2], seconds=0.25, by=-1.0)
    change_range(bench, swaying, "ride", [2], to=-3.0, shape="hold")
    assert [(p.at, p.db, p.shape) for p in rides.view(bench, swaying).ride][1:3] == [
        (2.25, -1.0, "linear"),
        (3.25, -3.0, "hold"),
    ]
    change_range(bench, swaying, "ride", [0, 1], gone=True)
    assert len(rides.view(bench, swaying).ride) == 2
    with pytest.raises(NotFound, match="no longer exists"):
        drawing.change_points(bench, swaying, revision(bench, swaying), "ride", ["7"], by=1.0)


def test_a_point_is_the_same_whatever_becomes_of_those_around_it(bench: Workbench, swaying: str) -> None:
    def now() -> dict[str, float]:
        return {p.id: p.at for p in rides.view(bench, swaying).ride}

    for at in (1.0, 2.0, 3.0):
        drawing.put_point(bench, swaying, revision(bench, swaying), "ride", at, -at)
    first, second, third = now()
    # it keeps its id where it is moved, lifted, set, smoothed around and cut beside
    drawing.change_points(bench, swaying, revision(bench, swaying), "ride", [second], seconds=0.5, by=-1.0)
    drawing.lift_span(bench, swaying, revision(bench, swaying), "ride", 0.5, 4.0, -2.0)
    drawing.make_borders(bench, swaying, revision(bench, swaying), "ride", [(2.2, 2.3)], four=False)
    drawing.change_points(bench, swaying, revision(bench, swaying), "ride", [first], to=-9.0, shape="smooth")
    whole.hand_over(bench, swaying, whole.set_trim(bench, swaying, revision(bench, swaying), 1.0).revision, "trim", "ride")
    there = now()
    assert {first: 1.0, second: 2.5, third: 3.0}.items() <= there.items()
    assert len(there) == 10
    # what is gone is left out, and its id is nobody else's
    drawing.change_points(bench, swaying, revision(bench, swaying), "ride", [first], gone=True)
    drawing.put_point(bench, swaying, revision(bench, swaying), "ride", 1.0, -1.0)
    assert first not in now()
    drawing.change_points(bench, swaying, revision(bench, swaying), "ride", [first, third], at=None, by=1.0)
    assert state_of(bench, swaying).undo == "Move 1 point of the ride"
    with pytest.raises(NotFound, match="These points no longer exist"):
        drawing.change_points(bench, swaying, revision(bench, swaying), "ride", [first, "7"], by=1.0)
    # what is copied is new
    drawing.paste_range(bench, swaying, revision(bench, swaying), "ride", 8.0, 0.5, 4.0, (swaying, "ride"))
    assert {first, *there} - {first} <= now().keys()
    assert len(now()) == len(rides.view(bench, swaying).ride) > len(there)
    # and one that comes back is itself
    for _ in range(4):
        sessions.undo(bench, (state := state_of(bench, swaying)).id, state.revision)
    assert now() == there


def test_a_point_can_be_put_at_a_moment_wherever_it_is(bench: Workbench, swaying: str) -> None:
    for at in (1.0, 2.0, 3.0):
        drawing.put_point(bench, swaying, revision(bench, swaying), "ride", at, 0.0)
    change_range(bench, swaying, "ride", [1], at=2.75)
    assert [p.at for p in rides.view(bench, swaying).ride] == [1.0, 2.75, 3.0]
    assert state_of(bench, swaying).undo == "Move 1 point of the ride"


def test_both_halves_of_a_clip_have_points_of_their_own(bench: Workbench, swaying: str) -> None:
    first = state_of(bench, swaying).clips[0]
    for at in (1.0, 2.0, 3.0):
        drawing.put_point(bench, swaying, revision(bench, swaying), "curve", at, -at)
    clips.cut(bench, swaying, revision(bench, swaying), 1.5)
    own = points_of(bench, swaying, "curve")
    assert len(set(own)) == 3
    assert len({id.split(".")[0] for id in own}) == 2
    drawing.change_points(bench, swaying, revision(bench, swaying), "curve", own[1:2], by=-1.0)
    assert [p.db for p in rides.view(bench, swaying).curve] == [-1.0, -3.0, -3.0]
    halves = [clip.id for clip in state_of(bench, swaying).clips[:2]]
    assert halves[0] == first.id
    clips.join(bench, swaying, revision(bench, swaying), halves)
    joined = points_of(bench, swaying, "curve")
    assert own[0] in joined
    assert len(set(joined)) == len(joined)


def test_deleting_a_lifted_span_takes_its_ramps_along(bench: Workbench, swaying: str) -> None:
    drawing.lift_span(bench, swaying, revision(bench, swaying), "ride", 2.0, 3.0, 4.0)
    drawing.delete_range(bench, swaying, revision(bench, swaying), "ride", 2.0, 3.0)
    assert not gain_of(bench, swaying, "ride").any()


def test_what_is_drawn_by_hand_becomes_few_points_whatever_the_direction(bench: Workbench, swaying: str) -> None:
    at = np.linspace(9.0, 6.0, 200)
    line = [(float(t), float(-3 + 2 * np.sin(t))) for t in at]
    drawing.draw_line(bench, swaying, revision(bench, swaying), "ride", line)
    assert gain_of(bench, swaying, "ride", at=at) == pytest.approx(-3 + 2 * np.sin(at), abs=0.25)
    outside = np.r_[np.linspace(0, 5.99, 50), np.linspace(9.01, 16, 50)]
    assert not gain_of(bench, swaying, "ride", at=outside).any()
    assert len(rides.view(bench, swaying).ride) < 20
    with pytest.raises(Refused, match="longer line"):
        drawing.draw_line(bench, swaying, revision(bench, swaying), "ride", [(1.0, 0.0), (1.05, 2.0)])


def test_a_range_is_pasted_at_another_time_and_into_another_lane(bench: Workbench, swaying: str) -> None:
    drawing.lift_span(bench, swaying, revision(bench, swaying), "ride", 2.0, 3.0, 4.0)
    source = (swaying, "ride")
    drawing.paste_range(bench, swaying, revision(bench, swaying), "trim", 8.0, 1.5, 3.5, source)
    at = np.linspace(8.1, 9.9, 100)
    assert gain_of(bench, swaying, "trim", at=at) == pytest.approx(gain_of(bench, swaying, "ride", at=at - 6.5), abs=0.01)
    with pytest.raises(NotFound):
        drawing.paste_range(bench, swaying, revision(bench, swaying), "trim", 8.0, 1.5, 3.5, ("nothing", "ride"))


def test_the_working_range_holds_the_hand_and_takes_in_what_is_typed(bench: Workbench, swaying: str) -> None:
    def now() -> tuple[float, float]:
        (track,) = state_of(bench, swaying).tracks
        return track.range_low, track.range_high

    assert now() == (-20.0, 6.0)  # common practice: a useful range for the hand
    drawing.lift_span(bench, swaying, revision(bench, swaying), "ride", 2.0, 3.0, 4.0)
    drawing.lift_span(bench, swaying, revision(bench, swaying), "ride", 1.0, 4.0, 100.0)
    # what is lifted together keeps its shape
    assert sorted({p.db for p in rides.view(bench, swaying).ride}) == [0.0, 2.0, 6.0]
    with pytest.raises(Refused, match=r"from -20 dB to \+6 dB"):
        drawing.lift_span(bench, swaying, revision(bench, swaying), "ride", 1.0, 4.0, 0.5)
    with pytest.raises(Refused, match="working range"):
        change_range(bench, swaying, "ride", [2, 3], by=1.0)
    drawing.put_point(bench, swaying, revision(bench, swaying), "ride", 9.0, -50.0)
    assert min(p.db for p in rides.view(bench, swaying).ride) == -20.0
    change_range(bench, swaying, "ride", [0], to=9.5)
    assert now() == (-20.0, 12.0)
    change_range(bench, swaying, "ride", [0], to=-144.0)
    assert now() == (-144.0, 12.0)
    assert gain_of(bench, swaying, "ride", at=np.zeros(1)) == -144.0
    # narrowed again, what lies beyond is heard at its end, and is there again when it is widened
    drawn = rides.view(bench, swaying).ride
    whole.set_range(bench, swaying, revision(bench, swaying), -20.0, 6.0)
    assert state_of(bench, swaying).undo == "Working range -20 to +6 dB"
    assert gain_of(bench, swaying).min() == -20.0
    assert rides.view(bench, swaying).ride == drawn
    whole.set_range(bench, swaying, revision(bench, swaying), -144.0, 6.0)
    assert gain_of(bench, swaying).min() == -144.0
    with pytest.raises(Refused, match="around 0 dB"):
        whole.set_range(bench, swaying, revision(bench, swaying), 2.0, 6.0)


def test_moves_are_scaled_around_a_gain_and_borders_change_nothing(bench: Workbench, swaying: str) -> None:
    rides.accept(bench, swaying, revision(bench, swaying))
    before = gain_of(bench, swaying, "ride")
    at = np.linspace(0, 16, 4001)
    count = len(rides.view(bench, swaying).ride)
    drawing.make_borders(bench, swaying, revision(bench, swaying), "ride", [(6.0, 9.0), (11.0, 12.0)], four=True)
    view = rides.view(bench, swaying)
    assert len(view.ride) == count + 8
    assert {5.94, 6.0, 9.0, 9.06} <= {round(p.at, 4) for p in view.ride}
    assert gain_of(bench, swaying, "ride") == pytest.approx(before, abs=1e-6)
    drawing.scale_range(bench, swaying, revision(bench, swaying), "ride", 6.0, 9.0, 0.5, 1.0)
    now = gain_of(bench, swaying, "ride")
    outside = (at < 6.0) | (at > 9.0)
    assert now[outside] == pytest.approx(before[outside], abs=1e-6)
    points = [p for p in view.ride if 6.0 < p.at < 9.0]
    assert [p.db for p in rides.view(bench, swaying).ride if 6.0 < p.at < 9.0] == pytest.approx(
        [1.0 + 0.5 * (p.db - 1.0) for p in points]
    )
    drawing.scale_range(bench, swaying, revision(bench, swaying), "ride", 6.0, 9.0, 0.0, None)
    assert np.ptp([p.db for p in rides.view(bench, swaying).ride if 6.0 < p.at < 9.0]) == 0.0


def test_a_draft_within_a_span_leaves_the_rest_of_the_ride(bench: Workbench, swaying: str) -> None:
    drawing.lift_span(bench, swaying, revision(bench, swaying), "ride", 7.0, 7.5, 3.0)
    before = gain_of(bench, swaying, "ride")
    shown = rides.draft(bench, swaying, span=(2.0, 3.5))
    assert [p.reason for p in shown.phrases] == ["evened", "not chosen", "not chosen"]
    changed = rides.accept(bench, swaying, revision(bench, swaying), span=(3.5, 2.0))
    assert changed.label == "Draft a ride for a span"
    at = np.linspace(0, 16, 4001)
    now = gain_of(bench, swaying, "ride")
    outside = (at < 2.0) | (at > 3.5)
    assert now[outside] == pytest.approx(before[outside], abs=1e-6)
    assert np.ptp(now[~outside]) > 1.0
    with pytest.raises(NivelusError, match="too short"):
        rides.draft(bench, swaying, span=(2.0, 2.05))


def test_what_strays_is_told_and_a_lift_by_as_much_brings_it_to_its_phrase(bench: Workbench, swaying: str) -> None:
    strays = rides.inside(bench, swaying).strays
    assert strays
    assert all(abs(s.deviation) > 1.5 for s in strays)
    shown = rides.draft(bench, swaying)
    assert len(shown.strays) == len(strays)
    assert np.abs(shown.strays).mean() < 0.5 * np.mean([abs(s.deviation) for s in strays])
    worst = max(strays, key=lambda s: abs(s.deviation))
    drawing.lift_span(bench, swaying, revision(bench, swaying), "ride", worst.start, worst.end, -worst.deviation)
    now = [s for s in rides.inside(bench, swaying).strays if s.start < worst.end and s.end > worst.start]
    assert all(abs(s.deviation) < 0.75 * abs(worst.deviation) for s in now)
    # a phrase that is left out is not judged
    clips.set_flag(bench, swaying, revision(bench, swaying), [worst.clip], "left_out", True)
    assert worst.clip not in {s.clip for s in rides.inside(bench, swaying).strays}


def test_what_moves_a_phrase_and_its_details_alike_is_no_difference_between_them(bench: Workbench, detailed: str) -> None:
    before = {m.id: m for m in state_of(bench, detailed).marks if m.kind in ("breath", "ess", "knock")}
    whole.set_trim(bench, detailed, revision(bench, detailed), -4.0)
    for m in state_of(bench, detailed).marks:
        if m.id in before:
            assert m.after == pytest.approx(before[m.id].after, abs=0.05)
    # a ride under an ess moves the voice around it as well, under a breath it moves the breath alone
    whole.clear(bench, detailed, revision(bench, detailed), "trim")
    breath = next(m for m in before.values() if m.kind == "breath")
    drawing.lift_span(bench, detailed, revision(bench, detailed), "ride", breath.start, breath.end, 3.0)
    now = next(m for m in state_of(bench, detailed).marks if m.id == breath.id)
    assert now.after == pytest.approx((breath.after or 0.0) + 3.0, abs=0.2)


def test_details_are_told_with_the_ride_in(bench: Workbench, detailed: str) -> None:
    details.set_rule(bench, detailed, revision(bench, detailed), "gap", {"on": True})
    gap = next(m for m in state_of(bench, detailed).marks if m.kind == "gap")
    whole.set_trim(bench, detailed, revision(bench, detailed), -3.0)
    now = next(m for m in state_of(bench, detailed).marks if m.id == gap.id)
    assert now.after == pytest.approx((gap.after or 0.0) - 3.0, abs=0.1)


def test_what_was_drawn_before_there_was_a_working_range_sounds_as_it_did(bench: Workbench, swaying: str, track: str) -> None:
    from alembic import command

    curve_files.bring_in(bench, swaying, revision(bench, swaying), "ride", "a.csv", b"0,-30\n8,10\n")
    before = gain_of(bench, swaying)
    config = database._alembic()
    config.attributes["engine"] = bench.database.engine
    command.downgrade(config, "0003")
    bench.database.migrate()
    ranges = {t.id: (t.range_low, t.range_high) for id in (swaying, track) for t in state_of(bench, id).tracks}
    assert ranges == {swaying: (-144.0, 24.0), track: (-20.0, 6.0)}
    assert gain_of(bench, swaying) == pytest.approx(before)
