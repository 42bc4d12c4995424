"""Curves: every edit of any curve at all leaves what lies outside of it as it was, and nothing that is compiled clicks."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from nivelus.core.errors import GainError
from nivelus.core.gain.clips import DECLICK_SECONDS
from nivelus.core.gain.compile import compile_curves
from nivelus.core.gain.drawn import CLOSEST, EMPTY, FINE, SPACING, Curve, Shape, curve_of, flatten, spaced, with_points
from nivelus.core.gain.edits import border_points, copy_range, delete_range, draw, lift, paste, scale, smooth, thin
from nivelus.core.gain.point_edits import add_point, delete_points, hold_points, move_points, set_points, shift
from nivelus.core.gain.together import add
from tests.conftest import RATE
from tests.helpers.curves import curves, shapes, times
from tests.helpers.near import near


def finite(db: np.ndarray) -> np.ndarray:
    return np.maximum(db, -120.0)


def test_shapes_mean_what_they_say() -> None:
    linear, smoothed, held = (curve_of([(1.0, -6.0, shape), (3.0, 2.0)]) for shape in Shape)
    assert linear([0, 1, 1.5, 2, 3, 9]).tolist() == pytest.approx([-6, -6, -4, -2, 2, 2])
    # a raised cosine: half way in the middle, and a quarter of the time in it has done 0.146
    assert smoothed([1, 1.5, 2, 2.5, 3]).tolist() == pytest.approx([-6, -6 + 8 * 0.14645, -2, -6 + 8 * 0.85355, 2], abs=1e-3)
    ramp = DECLICK_SECONDS
    assert held([1, 2, 3 - ramp, 3 - ramp / 2, 3]).tolist() == pytest.approx([-6, -6, -6, -2, 2])
    assert EMPTY([0.0, 5.0]).tolist() == [0.0, 0.0]
    assert curve_of([(2.0, -3.0)])([0.0, 5.0]).tolist() == [-3.0, -3.0]
    assert curve_of([(0.0, 0.0), (1.0, -np.inf)])([1.0, 4.0]).tolist() == [-np.inf, -np.inf]
    assert linear.sample(1.0, 2.0, 3).tolist() == pytest.approx([-6, -4, -2])


def test_what_is_no_curve_is_refused() -> None:
    with pytest.raises(GainError):
        curve_of([(np.nan, 0.0)])
    with pytest.raises(GainError):
        curve_of([(0.0, np.nan)])
    with pytest.raises(GainError):
        curve_of([(0.0, np.inf)])
    with pytest.raises(GainError):
        lift(EMPTY, 1.0, 1.0, 3.0, 0.1, 0.1)
    assert curve_of([(1.0, -3.0), (0.0, 1.0), (1.0, 5.0)]).db.tolist() == [1.0, 5.0]


@given(curve=curves(), at=st.lists(st.floats(-1, 11), max_size=6))
@settings(max_examples=200, deadline=None)
def test_a_point_can_be_put_anywhere_without_changing_the_curve(curve: Curve, at: list[float]) -> None:
    cut = with_points(curve, at)
    assert np.isin(np.round(at, 6), cut.at).all()
    assert finite(cut(times)) == near(finite(curve(times)), abs=1e-6)
    again = with_points(cut, at)
    assert len(again) == len(cut)


edits: list[Callable[[Curve, float, float], Curve]] = [
    lambda c, a, b: delete_range(c, a, b)[0],
    lambda c, a, b: delete_range(c, a, b, 0.06)[0],
    lambda c, a, b: scale(c, a, b, 0.5, -6.0),
    lambda c, a, b: lift(c, a + (b - a) / 4, b - (b - a) / 4, 3.0, (b - a) / 4, (b - a) / 4),
    lambda c, a, b: smooth(c, a, b, 0.3),
    lambda c, a, b: thin(c, 1.0, a, b),
    lambda c, a, b: draw(c, np.linspace(a + 0.006, b - 0.006, 40), -np.arange(40.0) % 7),
    lambda c, a, b: paste(c, a, copy_range(curve_of([(0.0, -20.0, Shape.SMOOTH), (9.0, 5.0)]), 1.0, 1.0 + b - a)),
]


@given(curve=curves(), index=st.integers(0, len(edits) - 1), start=st.floats(-1, 9), length=st.floats(0.05, 3))
@settings(max_examples=400, deadline=None)
def test_every_edit_of_a_range_leaves_the_outside_identical(curve: Curve, index: int, start: float, length: float) -> None:
    start, end = round(start, 6), round(start + length, 6)
    edited = edits[index](curve, start, end)
    outside = times[(times < start) | (times > end)]
    assert finite(edited(outside)) == near(finite(curve(outside)), abs=1e-6)


@given(curve=curves(finite=True), start=st.floats(0, 8), length=st.floats(0.1, 2), db=st.floats(-9, 9))
@settings(max_examples=100, deadline=None)
def test_a_lift_moves_its_span_by_so_much_and_a_second_one_uses_its_points(
    curve: Curve, start: float, length: float, db: float
) -> None:
    start, end = round(start, 6), round(start + length, 6)
    once = lift(curve, start, end, db, 0.05, 0.08)
    inside = times[(times >= start) & (times <= end)]
    assert once(inside) == near(curve(inside) + db, abs=1e-6)
    assert once([start, end]) == pytest.approx(curve([start, end]) + db)
    twice = lift(once, end, start, -db, 0.05, 0.08)
    assert len(twice) == len(once)
    assert twice(times) == near(curve(times), abs=2 * FINE)


@given(first=curves(), second=curves())
@example(EMPTY, curve_of([(0.0, 0.0), (2.966, -21.0, Shape.SMOOTH), (2.971, 0.0)]))
@example(curve_of([(1.0, -3.0)]), curve_of([(0.0, 0.0), (2.966, -21.0, Shape.SMOOTH), (2.971, 0.0)]))
@example(curve_of([(0.0, 0.0, Shape.SMOOTH), (1.0, -np.inf), (2.0, 0.0)]), curve_of([(0.0, -np.inf), (0.25, 0.0), (2.0, 0.0)]))
@settings(max_examples=200, deadline=None)
def test_a_trim_is_folded_into_a_ride_without_changing_what_is_heard(first: Curve, second: Curve) -> None:
    """Within 0.01 dB at every sample, as often as one likes."""
    both, folded = compile_curves([first, second], RATE), compile_curves([add(first, second)], RATE)
    at = np.arange(0, 10 * RATE, 97, dtype=np.float64)
    assert finite(np.interp(at, folded.at, folded.db)) == near(finite(np.interp(at, both.at, both.db)), abs=0.01)
    plain = finite(first(times)) + finite(second(times))
    total = add(first, second)
    loud = (first(times) > -119) & (second(times) > -119) & (plain > -119)
    assert total(times)[loud] == near(plain[loud], abs=0.01)


def test_sums_of_straight_curves_are_exact_and_add_no_points_of_their_own() -> None:
    first, second = curve_of([(0.0, 0.0), (4.0, -8.0)]), curve_of([(1.0, 3.0), (2.0, -3.0)])
    total = add(first, second)
    assert total.at.tolist() == [0.0, 1.0, 2.0, 4.0]
    assert total.db.tolist() == [3.0, 1.0, -7.0, -11.0]
    held = add(curve_of([(0.0, 1.0, Shape.SMOOTH), (4.0, 5.0)]), curve_of([(0.0, -2.0)]))
    assert held.shape[0] == Shape.SMOOTH
    assert held.db.tolist() == [-1.0, 3.0]


@given(curve=curves(least=2), error=st.floats(0.05, 3.0))
@settings(max_examples=150, deadline=None)
def test_a_thinned_curve_strays_no_further_than_stated(curve: Curve, error: float) -> None:
    thinned = thin(curve, error)
    assert np.abs(finite(thinned(times)) - finite(curve(times))).max() <= error + FINE
    assert len(thin(thinned, error)) <= len(flatten(thinned))


def test_thinning_finds_the_few_points_that_many_stand_for() -> None:
    at = np.linspace(0, 10, 2001)
    zigzag = np.interp(at, [0, 3, 4, 9, 10], [0, -6, 2, 2, -3])
    thinned = thin(curve_of(zip(at.tolist(), zigzag.tolist(), strict=True)), 0.1)
    assert thinned.at.tolist() == pytest.approx([0, 3, 4, 9, 10])


@given(curve=curves())
@settings(max_examples=200, deadline=None)
def test_nothing_that_is_compiled_moves_faster_than_the_declick_ramp(curve: Curve) -> None:
    """A step of d dB takes at least 3 ms: within 1 ms no more than a third of what the 5 ms around it hold, and rounding."""
    compiled = compile_curves([curve], RATE)
    at = np.arange(-0.1, 10.1, 0.001)
    db = np.interp(at * RATE, compiled.at, compiled.db)
    steps = np.abs(np.diff(db))
    # six points span 5 ms; more on both sides for where the ramp begins, and for the next that cuts it short
    around = np.lib.stride_tricks.sliding_window_view(np.pad(db, 8, mode="edge"), 17)
    span = around.max(axis=1) - around.min(axis=1)
    # on the way out of silence and back a spike of a millisecond is cut, and a silence that is shorter than the way to it is
    # not reached: what is left of either climbs as 144 dB in 5 ms do
    silent = curve.at[np.isneginf(curve.db)]
    near = (np.abs(at[:-1, None] - silent) < 0.006).any(axis=1) | (np.minimum(db[1:], db[:-1]) < -60)
    from_silence = near & (steps <= 144 / 5 + 0.25)
    assert (from_silence | (steps <= 0.34 * span[:-1] + 0.25)).all()


def test_steps_drawn_within_a_blink_are_spread_and_slow_moves_are_left_alone() -> None:
    step = compile_curves([curve_of([(1.0, 0.0), (1.0001, -12.0), (2.0, -12.0), (2.5, 0.0)])], RATE)
    at = np.array([0.997, 0.999, 1.00005, 1.0015, 1.003, 1.5, 2.25]) * RATE
    assert np.interp(at, step.at, step.db) == pytest.approx([0, -3.4, -6.0, -9.5, -12, -12, -6], abs=0.2)


def test_a_ramp_of_the_declick_time_is_heard_as_drawn_and_a_jump_at_the_end_of_a_slow_move_is_spread() -> None:
    ramp = curve_of([(0.0, 0.0), (1.0, 0.0, Shape.SMOOTH), (1.0 + DECLICK_SECONDS, -21.0), (3.0, -21.0)])
    for lanes in ([ramp], [ramp, EMPTY], [ramp, curve_of([(0.0, 2.0), (3.0, 2.0)])]):
        compiled = compile_curves(lanes, RATE)
        at = np.linspace(0.9, 1.1, 2001)
        assert np.interp(at * RATE, compiled.at, compiled.db) == pytest.approx(sum(lane(at) for lane in lanes), abs=2 * FINE)
    # 0.3 dB in each millisecond is heard as it is, the 12 dB that follow in one of them are not
    jump = compile_curves([curve_of([(1.0, 0.0), (1.05, 15.0), (1.051, 27.0)])], RATE)
    before, within = np.array([1.01, 1.04]) * RATE, np.arange(1.045, 1.057, 0.001) * RATE
    assert np.interp(before, jump.at, jump.db) == pytest.approx([3.0, 12.0], abs=0.01)
    assert np.diff(np.interp(within, jump.at, jump.db)).max() < 12 / 5 + 0.3 + 0.1


def test_points_move_as_far_as_their_neighbours_let_them() -> None:
    curve = curve_of([(0.0, 0.0), (1.0, 1.0), (2.0, 2.0), (3.0, 3.0)])
    moved = move_points(curve, np.array([1, 2]), seconds=5.0, db=-2.0)
    assert moved.at.tolist() == pytest.approx([0.0, 2.0 - SPACING, 3.0 - SPACING, 3.0], abs=1e-9)
    assert moved.db.tolist() == [0.0, -1.0, 0.0, 3.0]
    assert move_points(curve, np.array([1]), seconds=-5.0).at[1] == pytest.approx(SPACING, abs=1e-9)
    assert move_points(curve, np.array([0]), seconds=-5.0).at[0] == 0.0
    assert move_points(curve, np.array([], np.int64), 1.0) is curve


@pytest.mark.parametrize("rate", [8000, 44_100, 48_000, 192_000])
def test_a_curve_can_be_moved_by_any_number_of_samples(rate: int) -> None:
    # two moments one microsecond apart are one moment in some places
    twins = curve_of([(0.5, 0.0), (0.500001, -6.0), (1.0, -6.0)])
    kept = spaced(twins)
    assert kept.at == pytest.approx([0.500001 - SPACING, 0.500001, 1.0])
    for samples in range(1, 400):
        moved = shift(twins, samples / rate)
        assert 2 <= len(moved) <= 3
        assert moved.db[-2:].tolist() == [-6.0, -6.0]
        assert len(shift(kept, samples / rate)) == 3


def test_of_points_that_lie_closer_than_a_sample_the_last_counts_and_a_step_stays_one() -> None:
    assert spaced(curve_of([(0.0, 0.0), (1.0, 3.0), (1.00005, 3.001)])).at.tolist() == [0.0, 1.00005]
    step = spaced(curve_of([(0.0, 0.0), (1.0, 0.0), (1.00002, -12.0), (2.0, -12.0)]))
    assert step([0.5, 0.9995, 1.0001, 1.5]).tolist() == [0.0, 0.0, -12.0, -12.0]
    # where there is no room for a step, the last of them is what is left
    crowd = spaced(curve_of([(0.00001 * i, -float(i)) for i in range(40)]))
    assert (crowd.at[-1], crowd.db[-1]) == pytest.approx((0.00039, -39.0))
    assert (np.diff(crowd.at) >= SPACING - 2 * CLOSEST).all()


@given(curve=curves(least=1), at=st.floats(0, 10), gap=st.floats(0, 3e-4), db=st.floats(-60, 6), by=st.integers(0, 10**6))
@settings(max_examples=200, deadline=None)
def test_what_is_kept_of_a_curve_is_the_curve_but_for_a_sample(curve: Curve, at: float, gap: float, db: float, by: int) -> None:
    close = with_points(with_points(curve, [at]), [at + gap])
    kept = spaced(close)
    assert (np.diff(kept.at) >= SPACING - 2 * CLOSEST).all()
    assert kept.db[-1] == close.db[-1]
    assert len(shift(kept, by / 44_100)) == len(kept)
    assert spaced(kept) is kept
    away = np.linspace(0, 10, 300)
    away = away[np.abs(away[:, None] - np.append(curve.at, [at, at + gap])).min(axis=1) > 0.01]
    slope = np.abs(np.diff(finite(close.db))) / np.diff(close.at)
    if not len(slope) or slope.max() < 100:
        assert finite(kept(away)) == near(finite(close(away)), abs=0.05)


@given(curve=curves(least=3), at=st.floats(0, 10), db=st.floats(-20, 6), shape=shapes)
@settings(max_examples=100, deadline=None)
def test_a_single_point_is_added_set_and_deleted(curve: Curve, at: float, db: float, shape: Shape) -> None:
    with_it = add_point(curve, at, db, shape)
    place = int(np.abs(with_it.at - at).argmin())
    assert with_it.db[place] == db
    far = times[(times < with_it.at[max(place - 1, 0)]) | (times > with_it.at[min(place + 1, len(with_it) - 1)])]
    if 0 < place < len(with_it) - 1:
        assert finite(with_it(far)) == near(finite(curve(far)), abs=1e-6)
    assert set_points(with_it, np.array([place]), db=-3.5, shape=Shape.HOLD).db[place] == -3.5
    gone = delete_points(with_it, np.array([place]))
    assert len(gone) == len(with_it) - 1


def test_a_piece_is_copied_shifted_and_pasted_elsewhere() -> None:
    ride = curve_of([(0.0, 0.0), (2.0, -6.0, Shape.SMOOTH), (3.0, 4.0), (5.0, 0.0)])
    piece = copy_range(ride, 2.0, 4.0)
    assert piece.at[0] == 0.0
    assert shift(piece, 2.0)(np.array([2.25, 3.5])) == pytest.approx(ride(np.array([2.25, 3.5])))
    other = paste(curve_of([(0.0, -1.0), (20.0, -1.0)]), 10.0, piece)
    inside = np.linspace(10.01, 11.99, 50)
    assert other(inside) == pytest.approx(ride(inside - 8.0))
    assert other([9.99, 12.01]).tolist() == pytest.approx([-1.0, -1.0])
    with pytest.raises(GainError):
        paste(ride, 1.0, curve_of([(0.0, 1.0)]))


def test_border_points_are_two_or_four_for_each_span() -> None:
    curve = curve_of([(0.0, 0.0), (10.0, -10.0)])
    spans = [(1.0, 2.0), (4.0, 5.0)]
    assert border_points(curve, spans).at.tolist() == [0.0, 1.0, 2.0, 4.0, 5.0, 10.0]
    assert len(border_points(curve, spans, 0.1)) == 10


def test_a_deleted_range_goes_back_to_the_line_beside_it_or_to_0_db() -> None:
    """What is wanted of a hand: no slope of seconds from one side to the other, and nothing is moved outside."""
    lifted = lift(curve_of([(0.0, -2.0), (20.0, -2.0)]), 4.0, 8.0, 5.0, 0.06, 0.06)
    gone, level = delete_range(lifted, 3.94, 8.06)
    assert level == -2.0
    assert gone(times) == near(np.full(len(times), -2.0), abs=1e-9)
    ridden = curve_of([(0.0, -3.0), (2.0, -3.0), (3.0, 4.0), (7.0, 1.0), (20.0, 1.0)])
    gone, level = delete_range(ridden, 2.5, 6.5, 0.06)
    assert level == 0.0
    assert gone([2.5, 2.56, 4.0, 6.44, 6.5]) == pytest.approx([0.5, 0.0, 0.0, 0.0, float(ridden([6.5])[0])])
    assert len(gone) == 7 + 1
    # a line that lies still is deleted to 0 dB, and where that is so there is nothing to do
    still, level = delete_range(curve_of([(0.0, -2.0), (20.0, -2.0)]), 4.0, 8.0, 0.06)
    assert (level, float(still([6.0])[0]), float(still([4.0])[0])) == (0.0, 0.0, -2.0)
    # beyond the ends of a track nothing is kept
    gone, level = delete_range(ridden, 0.0, 20.0, 0.06, (0.0, 20.0))
    assert not gone(times).any()
    gone, _ = delete_range(ridden, 0.0, 5.0, 0.06, (0.0, 20.0))
    assert gone([0.0, 2.0, 4.94]) == pytest.approx([0.0, 0.0, 0.0], abs=1e-9)
    assert gone([5.0, 6.0]) == pytest.approx(ridden([5.0, 6.0]))


@pytest.mark.parametrize("chosen", [[0, 1, 2, 3], [1, 2], [1]])
def test_what_is_held_has_its_edges_where_it_begins_and_ends(chosen: list[int]) -> None:
    """Lifted with ramps of 60 ms and then held: with the de-click ramp alone, and not 60 ms late."""
    for outside in (curve_of([]), curve_of([(0.0, -1.0), (9.0, -4.0)])):
        lifted = lift(outside, 2.0, 5.0, 4.0, 0.06, 0.06)
        first = int(np.flatnonzero(np.isclose(lifted.at, 1.94))[0])
        held = hold_points(lifted, np.array(chosen) + first, 0.06)
        ramp = DECLICK_SECONDS
        if len(outside):
            # what is not level inside is held step by step, with its own edges
            assert held([2.0, 4.9]) == pytest.approx(lifted([2.0, 2.0]), abs=1e-6)
            continue
        assert held([1.9, 2.0 - ramp, 2.0, 3.5, 5.0]) == pytest.approx([0, 0, 4, 4, 4], abs=1e-6)
        assert held([5.0 + ramp, 5.03, 6.0]) == pytest.approx([0, 0, 0], abs=1e-6)


@given(curve=curves(finite=True), start=st.floats(0, 5), length=st.floats(0.5, 4), seconds=st.floats(0.1, 2))
@settings(max_examples=100, deadline=None)
def test_smoothing_keeps_the_area(curve: Curve, start: float, length: float, seconds: float) -> None:
    start, end = round(start, 6), round(start + length, 6)
    smoothed = smooth(curve, start, end, seconds)
    fine = np.linspace(start, end, 20_001)
    moved = float(np.trapezoid(np.abs(smoothed(fine) - curve(fine)), fine))
    missing = float(np.trapezoid(smoothed(fine) - curve(fine), fine))
    # thinning strays by 0.05 dB; a jump within a microsecond is more than the samples of this test see
    assert abs(missing) <= 0.05 * length + 0.02 * moved


def test_smoothing_keeps_the_height_of_what_is_longer_than_it() -> None:
    curve = curve_of([(0.0, 0.0), (4.0, 0.0), (4.02, 6.0), (5.5, 6.0), (5.52, 0.0), (10.0, 0.0)])
    smoothed = smooth(curve, 1.0, 9.0, 1.0)
    assert smoothed([4.75]) == pytest.approx([6.0], abs=0.1)
    assert np.abs(np.gradient(smoothed(times), times)).max() < 8
    assert np.abs(np.gradient(smooth(curve, 1.0, 9.0, 0.2)(times), times)).max() > 20


def test_smoothing_flattens_what_jumps_and_keeps_the_mean() -> None:
    curve = curve_of([(i * 0.1, -3.0 if i % 2 else 3.0) for i in range(51)])
    smoothed = smooth(curve, 0.5, 4.5, 0.8)
    inside = np.linspace(1.0, 4.0, 300)
    assert np.abs(smoothed(inside)).max() < 1.0
    assert np.mean(smoothed(inside)) == pytest.approx(0.0, abs=0.1)
