"""Duck and slow ride drafts, and the distance of a voice to its bed."""

from __future__ import annotations

from itertools import pairwise
from typing import Literal

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nivelus.core.drafts.duck import KEPT, DuckRule, draft_duck, duck_gain
from nivelus.core.drafts.slow import SlowRule, draft_slow
from nivelus.core.errors import LevelError
from nivelus.core.gain.drawn import EMPTY, Curve, curve_of
from nivelus.core.measure.distance import SILENT, bed_levels, course, phrase_levels
from nivelus.core.measure.loudness import loudness_range, to_lufs

FRAMES = 6000


def power_of(lufs: np.ndarray | float, frames: int = FRAMES) -> np.ndarray:
    return np.broadcast_to(10 ** ((np.asarray(lufs, np.float64) + 0.691) / 10), (frames,)).copy()


def phrases_of(*spans: tuple[float, float]) -> np.ndarray:
    return np.array(spans, np.float64)


def value(curve: Curve, at: float) -> float:
    return float(curve.finite_at(np.array([at]))[0]) if len(curve) else 0.0


def test_it_goes_down_by_as_much_as_it_is_told_to() -> None:
    rule = DuckRule(way="depth", depth=-9.0)
    draft = draft_duck(phrases_of((2, 4), (8, 10)), np.array([-20.0, -20.0]), power_of(-25), rule)
    for at in (2.0, 3.0, 4.0, 8.0, 9.9):
        assert value(draft.curve, at) == pytest.approx(-9.0)
    assert value(draft.curve, 6.0) == 0.0
    assert draft.before == pytest.approx([5, 5], abs=0.01)
    assert draft.after == pytest.approx([14, 14], abs=0.01)


def test_to_a_distance_it_goes_down_as_far_as_each_phrase_needs_and_no_further() -> None:
    rule = DuckRule(way="distance", distance=12.0)
    spans = phrases_of((2, 5), (8, 11), (14, 17))
    draft = draft_duck(spans, np.array([-20.0, -16.0, -12.0]), power_of(-25), rule)
    assert [value(draft.curve, at) for at in (3, 9, 15)] == pytest.approx([-7.0, -3.0, 0.0])
    assert draft.reason == ("made room", "made room", "far enough")
    assert draft.after == pytest.approx([12, 12, 13], abs=0.01)


def test_the_bed_begins_to_go_down_ahead_of_the_phrase_and_is_down_when_it_begins() -> None:
    draft = draft_duck(phrases_of((2, 4)), np.array([-20.0]), power_of(-25), DuckRule(lead=0.2))
    assert value(draft.curve, 1.79) == 0.0
    assert -9 < value(draft.curve, 1.9) < 0
    assert value(draft.curve, 2.0) == pytest.approx(-9.0)


def test_it_stays_down_through_a_short_pause_and_comes_back_in_a_long_one() -> None:
    rule = DuckRule(hold=0.8, lead=0.1, release=0.2)
    draft = draft_duck(phrases_of((2, 4), (4.7, 6), (8, 9)), np.full(3, -20.0), power_of(-25), rule)
    assert value(draft.curve, 4.35) == pytest.approx(-9.0)
    assert value(draft.curve, 7.0) == 0.0


def test_what_most_down_does_not_allow_is_told() -> None:
    draft = draft_duck(phrases_of((2, 4)), np.array([-30.0]), power_of(-25), DuckRule(way="distance", most_down=10.0))
    assert draft.reason == ("most down",)
    assert value(draft.curve, 3.0) == pytest.approx(-10.0)


def test_of_phrases_that_overlap_the_one_that_needs_most_is_heeded() -> None:
    rule = DuckRule(way="distance", distance=12.0)
    draft = draft_duck(phrases_of((2, 6), (4, 9)), np.array([-16.0, -24.0]), power_of(-25), rule)
    assert (draft.after >= 12 - KEPT).all()
    assert value(draft.curve, 5.0) == pytest.approx(-11.0)


def test_without_a_phrase_or_a_bed_there_is_nothing_to_draft() -> None:
    with pytest.raises(LevelError, match="no phrase to make room for"):
        draft_duck(np.zeros((0, 2)), np.zeros(0), power_of(-25), DuckRule())
    with pytest.raises(LevelError, match="silent, or over"):
        draft_duck(phrases_of((70, 72)), np.array([-20.0]), power_of(-25), DuckRule())


def test_a_phrase_behind_the_end_of_the_bed_is_told_of_and_changes_nothing() -> None:
    draft = draft_duck(phrases_of((2, 4), (70, 72)), np.full(2, -20.0), power_of(-25), DuckRule())
    assert draft.reason == ("made room", "no bed")
    assert draft.curve.at[-1] < 10


def test_what_is_locked_stays_as_it_is() -> None:
    asked = phrases_of((2, 4), (20, 24)), np.full(2, -20.0), power_of(-25), DuckRule()
    present = curve_of([(0.0, -1.0), (21.0, -3.0), (23.0, -5.0), (60.0, -1.0)])
    draft, kept = draft_duck(*asked), draft_duck(*asked, present, [(20.5, 23.5)])
    inside, outside = np.linspace(20.51, 23.49, 60), np.concatenate([np.linspace(0, 20.4, 60), np.linspace(23.6, 60, 60)])
    np.testing.assert_allclose(kept.curve.finite_at(inside), present.finite_at(inside), atol=1e-9)
    np.testing.assert_allclose(kept.curve.finite_at(outside), draft.curve.finite_at(outside), atol=1e-9)
    # what it is left at is what the distance is told with
    assert kept.after[0] == pytest.approx(draft.after[0], abs=1e-3)
    assert kept.after[1] < draft.after[1] - 2
    # of a bed on which nothing is drawn, what is locked stays at 0 dB
    assert draft_duck(*asked, EMPTY, [(2.5, 3.5)]).curve.finite_at(np.array([3.0])) == pytest.approx(0.0)


@given(
    pauses=st.lists(st.sampled_from([0.05, 0.2, 0.5, 0.9, 1.4, 3.0]), min_size=1, max_size=25),
    lengths=st.lists(st.floats(0.4, 5.0), min_size=25, max_size=25),
    levels=st.lists(st.floats(-30, -14), min_size=25, max_size=25),
    way=st.sampled_from(["depth", "distance"]),
)
@settings(max_examples=80, deadline=None)
def test_whatever_is_said_the_promises_hold(
    pauses: list[float], lengths: list[float], levels: list[float], way: Literal["depth", "distance"]
) -> None:
    spans, at = [], 1.0
    for pause, length in zip(pauses, lengths, strict=False):
        at += pause
        spans.append((round(at, 2), round(at + length, 2)))
        at = spans[-1][1]
    bed = power_of(-24 + 3 * np.sin(np.arange(round(at * 100) + 500) / 300), round(at * 100) + 500)
    rule = DuckRule(way=way, most_down=60.0)
    draft = draft_duck(np.array(spans), np.array(levels[: len(spans)]), bed, rule)
    if way == "distance":
        assert (draft.after >= 12 - KEPT).all()
    curve = draft.curve
    assert len(curve) <= 8 + 1.2 * (curve.at[-1] - curve.at[0] if len(curve) else 0)
    for (_, end), (start, _) in pairwise(spans):
        if start - end < rule.hold and way == "depth":
            # no short pause lets it up
            assert value(curve, (start + end) / 2) == pytest.approx(-9.0)
    for start, _ in spans:
        if way == "depth" and start > rule.lead:
            assert value(curve, start) == pytest.approx(-9.0)


def test_distance_is_of_phrase_loudness_to_the_mean_of_what_lies_under_it() -> None:
    voice = power_of(np.where(np.arange(FRAMES) % 100 < 50, -20.0, -90.0))
    bed = power_of(-32.0)
    spans = [slice(0, 400), slice(1000, 1400)]
    assert phrase_levels(voice, spans) - bed_levels(bed, spans) == pytest.approx([12.0, 12.0], abs=1e-6)
    # behind the end of the bed there is nothing
    assert bed_levels(bed, [slice(7000, 7100)]) == SILENT
    assert course(bed) == pytest.approx(np.full(600, -32.0), abs=1e-4)


# --- slow rides


def levels_of(*parts: tuple[float, float]) -> np.ndarray:
    return power_of(
        np.concatenate([np.full(round(seconds * 100), lufs) for seconds, lufs in parts]), round(sum(p[0] for p in parts) * 100)
    )


def test_a_part_that_is_far_louder_is_brought_down_before_it_begins() -> None:
    power = levels_of((30, -30), (30, -18), (30, -30))
    draft = draft_slow(power, SlowRule(target=-30.0, most_up=6, most_down=18))
    after = power * duck_gain(draft.curve, len(power))
    # settled: the middle of each part
    for at in (1500, 4500, 7500):
        assert to_lufs(after[at]) == pytest.approx(-30.0, abs=0.7)
    # never louder than what it goes for, by more than a short-term window lets it
    assert to_lufs(after.max()) < -18 + 0.5
    assert draft.before > 10
    assert draft.after < 2
    assert len(draft.curve) < 20


def test_it_never_moves_faster_than_it_is_told() -> None:
    power = levels_of((20, -40), (20, -15), (20, -40))
    for fastest in (1.0, 3.0):
        draft = draft_slow(power, SlowRule(most_up=20, most_down=20, fastest=fastest, error=0.05))
        slopes = np.abs(np.diff(draft.curve.db) / np.diff(draft.curve.at))
        assert slopes.max() <= fastest * 1.05


def test_silence_asks_for_nothing() -> None:
    power = np.concatenate([levels_of((20, -20)), np.zeros(2000), levels_of((20, -20))])
    draft = draft_slow(power, SlowRule())
    assert np.abs(draft.curve.db).max() < 0.5
    with pytest.raises(LevelError, match="too quiet"):
        draft_slow(np.zeros(6000), SlowRule())


def test_its_own_median_is_the_target_if_none_is_given() -> None:
    draft = draft_slow(levels_of((40, -26), (20, -20)), SlowRule())
    assert draft.target == pytest.approx(-26.0, abs=0.1)
    assert draft.before == pytest.approx(loudness_range(levels_of((40, -26), (20, -20))))
