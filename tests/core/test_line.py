"""Lines with few corners: they go where the course goes, keep to what bounds them, and spend corners where they tell most."""

from __future__ import annotations

from dataclasses import replace
from itertools import combinations, pairwise, product
from random import Random

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nivelus.core.drafts import line as lines
from nivelus.core.drafts.line import APART, STEP, Course, Line, line_of, settled

FREE = 1e3


def course_of(wanted: np.ndarray, weight: np.ndarray | None = None, bound: float = 9.0, slope: float = FREE) -> Course:
    count = len(wanted)
    sides = np.full(count, bound)
    at = np.unique(np.append(np.arange(0, count, STEP), count - 1))
    return Course(wanted, np.ones(count) if weight is None else weight, -sides, sides, np.full(count, slope), at)


def drawn(course: Course, line: Line) -> np.ndarray:
    return np.interp(np.arange(len(course.wanted)), line.at, line.db)


def cost(course: Course, line: Line, price: float) -> float:
    """What a line costs by the definition: what it strays by, what its slopes cost, and its corners but the first."""
    strays = (course.weight * (drawn(course, line) - course.wanted) ** 2)[1:].sum()
    stiff = sum(lines.STIFF * (d - c) ** 2 / (b - a) for (a, c), (b, d) in pairwise(zip(line.at, line.db, strict=True)))
    return float(strays + stiff + price * (len(line.at) - 1))


def test_no_other_line_of_its_corners_and_heights_is_nearer(monkeypatch: pytest.MonkeyPatch) -> None:
    """All lines there are with seven places and five heights, with bounds in the middle and a limited slope, one by one."""
    monkeypatch.setattr(lines, "HEIGHTS", 2)
    monkeypatch.setattr(lines, "BACK", np.arange(7))
    random = np.random.default_rng(3)
    for _ in range(6):
        wanted = random.uniform(-4, 4, 31)
        course = course_of(wanted, random.uniform(0, 1, 31), bound=4.0, slope=0.5)
        course.highest[12:17] = 1.0
        # so near together none of them could be corners
        assert set(line_of(course, 2.0).at.tolist()) <= {0, 25, 30}
        monkeypatch.setattr(lines, "APART", 10)
        found = line_of(course, 2.0)
        least = np.inf
        for count in range(4):
            for inner in combinations(course.at[1:-1].tolist(), count):
                at = np.array([0, *inner, 30])
                # the last corner need not be as far from the one before it as the others
                if (np.diff(at)[:-1] < 10).any() or (count and at[-1] - at[-2] < 10):
                    continue
                for db in product(np.linspace(-4, 4, 5), repeat=len(at)):
                    line = Line(at, np.array(db))
                    within = (drawn(course, line) <= course.highest + 1e-9).all()
                    if within and (np.abs(np.diff(line.db)) <= 0.5 * np.diff(at) + 1e-9).all():
                        least = min(least, cost(course, line, 2.0))
        assert cost(course, found, 2.0) == pytest.approx(least, rel=1e-9)
        monkeypatch.setattr(lines, "APART", APART)


@given(st.lists(st.floats(-9, 9), min_size=4, max_size=8), st.randoms(use_true_random=False))
@settings(max_examples=40, deadline=None)
def test_a_course_of_straight_pieces_is_found_again(heights: list[float], random: Random) -> None:
    steps = [random.randrange(6, 12) * STEP for _ in heights[1:]]
    at = np.concatenate([[0], np.cumsum(steps)])
    wanted = np.interp(np.arange(at[-1] + 1), at, heights)
    course = course_of(wanted)
    line = settled(course, line_of(course, 3.0))
    assert np.sqrt(np.mean((drawn(course, line) - wanted) ** 2)) < 0.5


def test_corners_stand_where_they_tell_most() -> None:
    """Half of the course is steady, half sways; and the dearer a corner, the fewer there are."""
    at = np.arange(1600)
    wanted = np.where(at < 800, 0.0, 4 * np.sin((at - 800) / 50))
    course = course_of(wanted)
    line = line_of(course, 9.0)
    assert (line.at < 760).sum() <= 3
    strays = [np.mean((drawn(course, some) - wanted) ** 2) for some in (line, line_of(course, 90.0), line_of(course, 2000.0))]
    assert strays == sorted(strays)
    assert strays[0] < 0.1 * strays[2]
    counts = [len(line_of(course, price).at) for price in (1.0, 9.0, 90.0, 2000.0)]
    assert counts == sorted(counts, reverse=True)


@given(st.floats(0.5, 6), st.floats(0.05, 0.4), st.integers(0, 2**32 - 1))
@settings(max_examples=30, deadline=None)
def test_bounds_slope_and_distance_are_kept(bound: float, slope: float, seed: int) -> None:
    random = np.random.default_rng(seed)
    wanted = 9 * np.sign(np.sin(np.arange(900) / 40)) + random.standard_normal(900)
    course = course_of(wanted, bound=bound, slope=slope)
    a, b = sorted(random.integers(0, 900, 2).tolist())
    course.highest[a:b] = 0.0
    for line in (line_of(course, 1.0), settled(course, line_of(course, 1.0))):
        heights = drawn(course, line)
        assert (heights <= course.highest + 1e-6).all()
        assert (heights >= course.lowest - 1e-6).all()
        assert (np.abs(np.diff(line.db)) <= slope * np.diff(line.at) + 1e-6).all()
        # the two at the ends apart, no second has more than four
        assert (np.diff(line.at)[1:-1] >= APART).all()


@given(st.integers(2, 160), st.integers(0, 2**32 - 1))
@settings(max_examples=200, deadline=None)
def test_however_short_it_is_there_is_a_line(count: int, seed: int) -> None:
    """With corners at the edges of phrases too, which lie wherever they lie."""
    random = np.random.default_rng(seed)
    course = course_of(random.uniform(-6, 6, count), random.uniform(0, 1, count), slope=0.2)
    edges = random.integers(0, count, 4)
    course.highest[edges.min() :] = 0.0
    course = replace(course, at=np.unique([*course.at, *edges]))
    for line in (line_of(course, 9.0), settled(course, line_of(course, 9.0))):
        assert (line.at[0], line.at[-1]) == (0, count - 1)
        assert (drawn(course, line) <= course.highest + 1e-6).all()


def test_heights_that_are_settled_are_nearer_and_corners_stay() -> None:
    random = np.random.default_rng(4)
    for _ in range(10):
        course = course_of(np.cumsum(random.standard_normal(500)) / 3, random.uniform(0.05, 1, 500))
        line = line_of(course, 5.0)
        finer = settled(course, line)
        assert finer.at.tolist() == line.at.tolist()
        assert cost(course, finer, 0.0) < cost(course, line, 0.0)


def test_where_nothing_counts_the_line_is_straight() -> None:
    weight = np.ones(900)
    weight[300:600] = 0.0
    course = course_of(3 * np.sin(np.arange(900) / 60), weight)
    line = line_of(course, 5.0)
    assert np.abs(np.diff(drawn(course, line)[330:570], 2)).max() < 0.02
