"""Lines with few corners: they go where the course goes, keep to what bounds it, and spend corners where they tell most."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nivelus.core.drafts.line import CLOSE, Corners, Course, corners_of, heights_of, moved_corners

FREE = 1e3


def course_of(
    wanted: np.ndarray, weight: np.ndarray | None = None, bound: float = FREE, slope: float = FREE, fixed: tuple[int, ...] = ()
) -> Course:
    count = len(wanted)
    sides = np.full(count, bound)
    ends = np.array([0, *fixed, count - 1])
    return Course(wanted, np.ones(count) if weight is None else weight, -sides, sides, np.full(count, slope), ends)


def strays(course: Course, corners: np.ndarray) -> float:
    """The weighted sum of squares by which the nearest line with these corners strays, by NumPy's own least squares."""
    at = np.arange(len(course.wanted))
    shapes = np.array([np.interp(at, corners, row) for row in np.eye(len(corners))]).T
    root = np.sqrt(course.weight)
    best = np.linalg.lstsq(shapes * root[:, None], course.wanted * root, rcond=None)[0]
    return float((course.weight * (shapes @ best - course.wanted) ** 2).sum())


@given(st.lists(st.floats(-9, 9), min_size=4, max_size=8), st.randoms(use_true_random=False))
@settings(max_examples=40, deadline=None)
def test_a_course_of_straight_pieces_is_found_again(heights: list[float], random) -> None:
    """Corners at places of the search, far enough apart: as many corners as it has are enough."""
    steps = [random.randrange(3, 9) * CLOSE for _ in heights[1:]]
    at = np.concatenate([[0], np.cumsum(steps)])
    wanted = np.interp(np.arange(at[-1] + 1), at, heights)
    course = course_of(wanted)
    kept = moved_corners(course, corners_of(course).best(len(at)))
    assert len(kept) == len(at)
    line = np.interp(np.arange(len(wanted)), kept, heights_of(course, kept))
    assert np.abs(line - wanted).max() < 0.35 * max(1.0, np.ptp(wanted) / 9)


def test_corners_stand_where_they_tell_most() -> None:
    """Half of the course is steady, half sways: its line strays far less than one with evenly spaced corners."""
    at = np.arange(800)
    wanted = np.where(at < 400, 0.0, 4 * np.sin((at - 400) / 25))
    course = course_of(wanted)
    kept = moved_corners(course, corners_of(course).best(20))
    assert (kept < 380).sum() <= 3
    assert strays(course, kept) < 0.2 * strays(course, np.linspace(0, 799, 20).round().astype(np.int64))


def test_moving_corners_only_brings_them_nearer() -> None:
    random = np.random.default_rng(4)
    for _ in range(10):
        course = course_of(np.cumsum(random.standard_normal(500)) / 3, random.uniform(0.05, 1, 500))
        kept = corners_of(course).best(15)
        moved = moved_corners(course, kept)
        assert len(moved) == len(kept)
        assert (np.diff(moved) >= CLOSE).all()
        assert strays(course, moved) <= strays(course, kept) + 1e-6


def test_the_heights_are_those_of_least_squares() -> None:
    random = np.random.default_rng(5)
    course = course_of(random.standard_normal(300), random.uniform(0.1, 1, 300))
    kept = corners_of(course).best(9)
    line = np.interp(np.arange(300), kept, heights_of(course, kept))
    assert (course.weight * (line - course.wanted) ** 2).sum() == pytest.approx(strays(course, kept), rel=1e-6)


@given(st.floats(0.5, 6), st.floats(0.005, 0.1))
@settings(max_examples=20, deadline=None)
def test_bounds_and_slope_are_kept(bound: float, slope: float) -> None:
    wanted = 9 * np.sign(np.sin(np.arange(600) / 40))
    course = course_of(wanted, bound=bound, slope=slope)
    kept = corners_of(course).best(25)
    heights = heights_of(course, kept)
    assert np.abs(heights).max() <= bound + 1e-9
    assert (np.abs(np.diff(heights)) <= slope * np.diff(kept) + 1e-9).all()


def test_where_nothing_counts_there_are_no_corners_and_fixed_ones_stay() -> None:
    wanted = np.sin(np.arange(900) / 20)
    weight = np.ones(900)
    weight[300:600] = 0.0
    corners = corners_of(course_of(wanted, weight, fixed=(299, 600)))
    assert not ((corners.at > 299) & (corners.at < 600)).any()
    assert corners.best(0).tolist() == [0, 299, 600, 899]
    # with more of them, those that were there stay
    for count in range(4, len(corners)):
        assert set(corners.best(count)) < set(corners.best(count + 1))


def test_what_is_fixed_stays_however_few_corners_are_wanted() -> None:
    corners = Corners(np.array([0, 98, 104, 186]), np.array([4, 4, 4, 4]))
    for count in (4, 1, 0, -3):
        assert corners.best(count).tolist() == [0, 98, 104, 186]
