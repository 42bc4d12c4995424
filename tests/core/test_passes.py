"""Passes: what a hand did becomes a curve, and nothing else changes. Property tests over lanes and gestures."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nivelus.core.errors import GainError
from nivelus.core.gain.clips import DECLICK_SECONDS
from nivelus.core.gain.drawn import EMPTY, Curve, Shape, curve_of
from nivelus.core.passes.gesture import Gesture, Run, clipped, earlier, gesture_of, pairs_of, reduced
from nivelus.core.passes.snapping import BEFORE, moves_of, snapped
from nivelus.core.passes.thinning import fewest
from nivelus.core.passes.writing import WriteRule, by_phrase, written

LENGTH = 60.0
QUANTUM = 128 / 48_000

lanes = st.lists(st.tuples(st.floats(0, LENGTH), st.floats(-18, 6), st.sampled_from(list(Shape))), max_size=12).map(
    lambda points: curve_of([(round(at, 2), db, shape) for at, db, shape in points])
)


@st.composite
def gestures(draw: st.DrawFn) -> Gesture:
    """One to three runs that do not touch each other, each a walk in steps of a few milliseconds to a second."""
    runs = []
    at = draw(st.floats(0.1, 10))
    for _ in range(draw(st.integers(1, 3))):
        steps = draw(st.lists(st.tuples(st.floats(0.003, 1), st.floats(-4, 4)), min_size=2, max_size=20))
        moments = at + np.cumsum([0.0] + [step for step, _ in steps])
        gains = np.clip(draw(st.floats(-10, 4)) + np.cumsum([0.0] + [by for _, by in steps]), -20, 6)
        runs.append(Run(moments, gains))
        at = moments[-1] + draw(st.floats(0.02, 3))
    return Gesture(tuple(runs))


rules = st.builds(
    WriteRule,
    offset=st.booleans(),
    glide=st.sampled_from([0.0, 0.05, 0.3, 1.0]),
    lead=st.sampled_from([0.0, 0.15]),
    error=st.sampled_from([0.05, 0.25]),
    span=st.one_of(st.none(), st.tuples(st.floats(0, 20), st.floats(25, 59)).map(lambda pair: pair)),
)
fine = np.arange(0, LENGTH, 0.0017)


@settings(max_examples=150, deadline=None)
@given(lanes, gestures(), rules)
def test_outside_of_what_was_written_the_lane_is_identical(lane: Curve, gesture: Gesture, rule: WriteRule) -> None:
    after = written(lane, gesture, rule, LENGTH)
    outside = np.ones(len(fine), bool)
    for run in gesture.runs:
        start, end = run.start - rule.lead, run.end - rule.lead + rule.glide
        outside &= (fine < start - DECLICK_SECONDS - 1e-6) | (fine > end + DECLICK_SECONDS + 1e-6)
    if rule.span:
        outside |= (fine < rule.span[0] - 1e-6) | (fine > rule.span[1] + 1e-6)
    np.testing.assert_allclose(after.finite_at(fine[outside]), lane.finite_at(fine[outside]), atol=1e-6)


@settings(max_examples=150, deadline=None)
@given(lanes, gestures(), st.booleans())
def test_within_a_run_the_curve_is_what_was_held(lane: Curve, gesture: Gesture, offset: bool) -> None:
    rule = WriteRule(offset=offset, error=0.25)
    after = written(lane, gesture, rule, LENGTH)
    for run in clipped(gesture, DECLICK_SECONDS, LENGTH - DECLICK_SECONDS).runs:
        at = fine[(fine > run.start) & (fine < run.end)]
        held = np.interp(at, run.at, run.db) + (lane.finite_at(at) if offset else 0.0)
        # a raised cosine beside an offset is straightened within 0.005 dB
        np.testing.assert_allclose(after.finite_at(at), held, atol=0.25 + 0.02)


@settings(max_examples=80, deadline=None)
@given(lanes, st.floats(1, 20), st.floats(0.5, 30), rules)
def test_a_pass_of_the_lanes_own_values_changes_nothing(lane: Curve, start: float, length: float, rule: WriteRule) -> None:
    at = np.arange(start, start + length, QUANTUM)
    db = np.zeros(len(at)) if rule.offset else lane.finite_at(at)
    same = WriteRule(offset=rule.offset, glide=rule.glide, error=rule.error, span=rule.span)
    after = written(lane, Gesture((Run(at, db),)), same, LENGTH)
    assert np.abs(after.finite_at(fine) - lane.finite_at(fine)).max() <= 0.01


@settings(max_examples=80, deadline=None)
@given(lanes, rules)
def test_a_pass_in_which_nothing_was_held_changes_nothing(lane: Curve, rule: WriteRule) -> None:
    assert written(lane, Gesture(()), rule, LENGTH) is lane


def test_the_way_back_is_a_straight_difference() -> None:
    lane = curve_of([(0, -6.0), (10, -6.0), (20, 0.0)])
    after = written(lane, Gesture((Run(np.array([5.0, 8.0]), np.array([0.0, -1.0])),)), WriteRule(glide=4.0), LENGTH)
    assert float(after([8.0])[0]) == pytest.approx(-1.0)
    # 5 dB beside the lane at the end of the run, half of it after half of the glide, on a lane that moves meanwhile
    assert float(after([10.0])[0]) == pytest.approx(-6 + 2.5, abs=0.02)
    assert float(after([11.0])[0]) == pytest.approx(-5.4 + 1.25, abs=0.26)
    assert float(after([12.0])[0]) == pytest.approx(-4.8, abs=0.02)


def test_what_is_held_again_before_the_lane_is_back_goes_on_from_there() -> None:
    lane = curve_of([(0, 0.0), (30, 0.0)])
    first, second = Run(np.array([5.0, 6.0]), np.array([0.0, -4.0])), Run(np.array([6.5, 8.0]), np.array([-2.0, 3.0]))
    after = written(lane, Gesture((first, second)), WriteRule(glide=1.0, error=0.01), LENGTH)
    assert after([6.25, 6.4999]) == pytest.approx([-3.0, -2.0], abs=0.02)
    assert after([6.5, 8.0, 8.5, 9.01]) == pytest.approx([-2.0, 3.0, 1.5, 0.0], abs=0.02)


def test_after_a_stop_in_latch_the_last_value_is_what_was_held() -> None:
    """A latch is one run until the stop; its last value stands there, and the glide leads on from it."""
    lane = curve_of([(0, -3.0)])
    run = Run(np.array([10.0, 20.0, 40.0]), np.array([-3.0, 2.0, 2.0]))
    after = written(lane, Gesture((run,)), WriteRule(glide=0.5), LENGTH)
    assert after([40.0, 40.52]) == pytest.approx([2.0, -3.0], abs=1e-6)
    assert any(np.isclose(after.at, 40.0))


def test_an_offset_keeps_the_shape_below() -> None:
    lane = curve_of([(0, 0.0), (10, 0.0, Shape.SMOOTH), (14, -8.0), (30, -8.0)])
    run = Run(np.array([8.0, 9.0, 16.0]), np.array([0.0, 2.0, 2.0]))
    after = written(lane, Gesture((run,)), WriteRule(offset=True, glide=0.0, error=0.25), LENGTH)
    at = np.linspace(9, 16, 400)
    np.testing.assert_allclose(after.finite_at(at) - lane.finite_at(at), 2.0, atol=0.006)


def test_ten_minutes_of_constant_movement_are_a_few_hundred_points() -> None:
    """As the worklet reports them, 375 a second, of a hand that turns round every two seconds or so."""
    at = np.arange(0.02, 600, QUANTUM)
    rng = np.random.default_rng(3)
    turns = np.cumsum(rng.uniform(1.5, 3.5, 400))
    db = np.interp(at, turns, rng.uniform(-8, 4, 400))
    gesture = reduced(Gesture((Run(at, db),)))
    after = written(EMPTY, gesture, WriteRule(), 700.0)
    assert 100 < len(after) < 600
    assert np.abs(after.finite_at(at) - db).max() <= 0.3


@settings(max_examples=150, deadline=None)
@given(gestures(), st.sampled_from([0.05, 0.25, 1.0]))
def test_few_points_stray_no_further_than_is_allowed_and_end_exactly(gesture: Gesture, error: float) -> None:
    for run in gesture.runs:
        at, db = fewest(run.at, run.db, error)
        assert (at[0], at[-1], db[0], db[-1]) == (run.start, run.end, run.db[0], run.db[-1])
        assert (np.diff(at) > 0).all()
        assert np.abs(np.interp(run.at, at, db) - run.db).max() <= error + 1e-9


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 2**32), st.sampled_from([0.01, 0.25, 6.0]), st.sampled_from([0.0, 3600.0]))
def test_whatever_was_reported_becomes_points_within_the_error(seed: int, error: float, start: float) -> None:
    """Hundreds of moments at once, held, jumping and a microsecond apart, also an hour into a file."""
    random = np.random.default_rng(seed)
    steps = random.choice([QUANTUM, 0.01, 0.0003, 1e-6, 1.0], 300, p=[0.5, 0.2, 0.15, 0.05, 0.1])
    moments = start + np.cumsum(steps)
    gains = np.round(np.cumsum(random.normal(0, random.choice([0.01, 0.1, 1.0]), 300)), int(random.integers(0, 4)))
    at, db = fewest(moments, gains.astype(np.float64), error)
    assert (np.diff(at) > 0).all()
    assert np.abs(np.interp(moments, at, db) - gains).max() <= error + 1e-4


def _fewest_in_steps(at: np.ndarray, low: np.ndarray, high: np.ndarray, heights: np.ndarray) -> int:
    """How few points pass a corridor with corners on a lattice alone: by looking at every one of them."""
    n = len(at)
    points = np.full((n, len(heights)), n + 1)
    points[0, np.isclose(heights, low[0])] = 1
    for j in range(1, n):
        inside = (heights >= low[j] - 1e-9) & (heights <= high[j] + 1e-9)
        for i in range(j):
            between = np.arange(i + 1, j)
            share = ((at[between] - at[i]) / (at[j] - at[i]))[:, None, None]
            line = heights[:, None] + share * (heights[None, :] - heights[:, None])
            passes = ((line >= low[between, None, None] - 1e-9) & (line <= high[between, None, None] + 1e-9)).all(axis=0)
            reached = np.where(passes, points[i][:, None] + 1, n + 1).min(axis=0)
            points[j] = np.where(inside, np.minimum(points[j], reached), points[j])
    return int(points[-1, np.isclose(heights, low[-1])][0])


@settings(max_examples=100, deadline=None)
@given(st.lists(st.integers(-4, 4), min_size=3, max_size=9), st.sampled_from([0.5, 1.0]))
def test_no_way_with_corners_at_the_moments_has_fewer_points(gains: list[int], error: float) -> None:
    """Against trying all of them; those of the program may lie between the moments as well, so it may have fewer."""
    at, db = np.arange(len(gains), dtype=np.float64), np.array(gains, np.float64)
    allowed = np.full(len(at), error)
    allowed[[0, -1]] = 0.0
    heights = np.arange(-6, 6.01, 0.25)
    # a hair more room: ways that touch a wall three times hang on the last digit
    assert len(fewest(at, db, error + 1e-6)[0]) <= _fewest_in_steps(at, db - allowed, db + allowed, heights)


def test_of_ways_with_as_few_points_the_nearest_is_taken() -> None:
    at, db = np.array([0.0, 1.0, 2.0, 3.0, 4.0]), np.array([0.0, -2.0, -4.0, -1.0, 2.0])
    assert [part.tolist() for part in fewest(at, db, 1.0)] == [[0, pytest.approx(2), 4], [0, pytest.approx(-4), 2]]


def test_what_was_reported_is_read_again() -> None:
    gesture = Gesture((Run(np.array([1.0, 2.0]), np.array([0.0, 1.0])), Run(np.array([3.0, 4.0]), np.array([2.0, 3.0]))))
    again = gesture_of(pairs_of(gesture))
    assert [run.at.tolist() for run in again.runs] == [[1, 2], [3, 4]]
    assert [run.db.tolist() for run in again.runs] == [[0, 1], [2, 3]]


@pytest.mark.parametrize(
    "rows",
    [[(1.0, np.inf), (2.0, 0.0)], [(1.0, np.nan), (2.0, 0.0)], [(1.0, 200.0), (2.0, 0.0)], [(np.inf, 0.0), (2.0, 0.0)]],
)
def test_what_is_no_gain_is_refused(rows: list[tuple[float, float]]) -> None:
    with pytest.raises(GainError):
        gesture_of(np.array(rows))


def test_out_of_order_and_twice_counts_once() -> None:
    rows = [(1.0, 0.0), (1.0, 5.0), (2.0, 1.0), (1.5, 9.0), (3.0, 2.0), (np.nan, np.nan), (2.5, 1.0), (2.8, 1.0)]
    (run,) = gesture_of(np.array(rows)).runs
    assert run.at.tolist() == [1.0, 2.0, 3.0]
    assert run.db.tolist() == [0.0, 1.0, 2.0]


def test_a_lead_moves_all_of_it_earlier_and_nothing_before_the_start() -> None:
    moved = earlier(Gesture((Run(np.array([0.1, 0.3]), np.array([0.0, 2.0])),)), 0.2)
    (run,) = moved.runs
    assert run.at == pytest.approx([0.0, 0.1])
    assert run.db == pytest.approx([1.0, 2.0])


@settings(max_examples=100, deadline=None)
@given(gestures(), st.lists(st.floats(0.5, 4), min_size=2, max_size=16))
def test_snapping_keeps_the_order_and_the_gains(gesture: Gesture, lengths: list[float]) -> None:
    edges = np.cumsum(lengths)
    phrases = edges[: len(edges) // 2 * 2].reshape(-1, 2)
    for was, now in zip(gesture.runs, snapped(gesture, phrases).runs, strict=True):
        assert (np.diff(now.at) > 0).all()
        assert (now.start, now.end) == pytest.approx((was.start, was.end))
        assert np.interp(now.at[[0, -1]], now.at, now.db) == pytest.approx(was.db[[0, -1]], abs=1e-3)
        assert set(np.round(now.db, 9)) <= set(np.round(was.db, 9)) | set(
            np.round(np.interp(moves_of(was).ravel(), was.at, was.db), 9)
        )


def test_moves_are_done_before_the_onset_and_begin_behind_the_end() -> None:
    """A hand that reacts 150 ms late to a phrase at 10 ... 14 s, and lets go 200 ms before its end."""
    run = Run(np.array([8.0, 10.15, 10.4, 13.8, 14.1, 16.0]), np.array([0.0, 0.0, 4.0, 4.0, 0.0, 0.0]))
    (pulled,) = snapped(Gesture((run,)), np.array([[10.0, 14.0]])).runs
    up, down = moves_of(pulled)
    assert up[1] == pytest.approx(10.0 - BEFORE, abs=0.01)
    assert down[0] == pytest.approx(14.0 + BEFORE, abs=0.01)


def test_the_mean_of_a_change_in_each_phrase() -> None:
    before, after = curve_of([(0, -2.0)]), curve_of([(0, -2.0), (10, -2.0), (12, 2.0), (20, 2.0)])
    means = by_phrase(before, after, np.array([[1.0, 9.0], [10.0, 12.0], [13.0, 19.0]]))
    assert means == pytest.approx([0.0, 2.0, 4.0])
