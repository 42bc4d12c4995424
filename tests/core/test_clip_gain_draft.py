"""Clip gain drafts: each rule of evening out, alone and together, and the reason that is given."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nivelus.core.drafts.clip_gain import (
    REASONS,
    ClipGainRule,
    draft_clip_gain,
    freeing_target,
    resolve_base,
    resolve_target,
)
from nivelus.core.drafts.peaks import FreedPhrase, free_of_peaks
from nivelus.core.errors import LevelError
from nivelus.core.measure.grid import LevelGrid

QUIET_ROOM = -80.0
LOW_PEAK = -30.0


def one(level: float, rule: ClipGainRule, peak: float = LOW_PEAK, room: float = QUIET_ROOM) -> tuple[float, str]:
    draft = draft_clip_gain(np.array([level]), np.array([peak]), np.array([room]), rule)
    return float(draft.gain[0]), draft.reason[0]


@pytest.mark.parametrize(
    ("level", "rule", "peak", "room", "expected"),
    [
        (-23.0, ClipGainRule(-18), LOW_PEAK, QUIET_ROOM, (5.0, "to target")),
        (-13.0, ClipGainRule(-18), LOW_PEAK, QUIET_ROOM, (-5.0, "to target")),
        (-19.4, ClipGainRule(-18), LOW_PEAK, QUIET_ROOM, (0.0, "level")),
        (-19.6, ClipGainRule(-18), LOW_PEAK, QUIET_ROOM, (1.6, "to target")),
        (-23.0, ClipGainRule(-18, strength=0.5), LOW_PEAK, QUIET_ROOM, (2.5, "strength")),
        (-40.0, ClipGainRule(-18), LOW_PEAK, QUIET_ROOM, (9.0, "most up")),
        (-2.0, ClipGainRule(-18), LOW_PEAK, QUIET_ROOM, (-12.0, "most down")),
        (-24.0, ClipGainRule(-18), -3.0, QUIET_ROOM, (2.0, "ceiling")),
        (-24.0, ClipGainRule(-18), LOW_PEAK, -43.0, (3.0, "noise limit")),
        (-24.0, ClipGainRule(-18), +1.0, QUIET_ROOM, (0.0, "ceiling")),
        (-12.0, ClipGainRule(-18), +1.0, -10.0, (-6.0, "to target")),
        (-24.0, ClipGainRule(-18), -2.0, -43.0, (1.0, "ceiling")),
        (-24.0, ClipGainRule(-18), -4.0, -42.0, (2.0, "noise limit")),
    ],
)
def test_each_rule_decides_where_it_binds(
    level: float, rule: ClipGainRule, peak: float, room: float, expected: tuple[float, str]
) -> None:
    assert one(level, rule, peak, room) == expected


def test_a_locked_phrase_is_never_moved() -> None:
    keep = ("locked", None, "by hand", "left out", "reference")
    present = np.array([3.3, 4.0, -2.0, 1.0, 0.5])
    draft = draft_clip_gain(
        np.full(5, -30.0), np.full(5, LOW_PEAK), np.full(5, QUIET_ROOM), ClipGainRule(-25), present=present, keep=keep
    )
    assert draft.gain.tolist() == [3.3, 5.0, -2.0, 1.0, 0.5]
    assert draft.reason == ("locked", "to target", "by hand", "left out", "reference")


levels = st.lists(st.floats(-70, 0), min_size=1, max_size=40)
rules = st.builds(
    ClipGainRule,
    target=st.floats(-40, -6),
    tolerance=st.floats(0, 4),
    strength=st.floats(0, 1),
    most_up=st.floats(0, 20),
    most_down=st.floats(0, 20),
    ceiling=st.floats(-10, 0),
    noise_limit=st.floats(-70, -20),
)


@given(levels=levels, rule=rules, seed=st.integers(0, 1000))
def test_a_draft_never_breaks_a_limit_nor_moves_away_from_the_target(
    levels: list[float], rule: ClipGainRule, seed: int
) -> None:
    random = np.random.default_rng(seed)
    values = np.array(levels)
    peaks = values + random.uniform(3, 25, len(values))
    rooms = values - random.uniform(5, 60, len(values))
    draft = draft_clip_gain(values, peaks, rooms, rule)
    rounding = 0.006
    up = draft.gain > 0
    assert (draft.gain <= rule.most_up + rounding).all()
    assert (draft.gain >= -rule.most_down - rounding).all()
    assert (peaks[up] + draft.gain[up] <= rule.ceiling + rounding).all()
    assert (rooms[up] + draft.gain[up] <= rule.noise_limit + rounding).all()
    assert (np.abs(values + draft.gain - rule.target) <= np.abs(values - rule.target) + rounding).all()
    assert set(draft.reason) <= set(REASONS)
    inside = np.abs(values - rule.target) <= rule.tolerance
    assert (draft.gain[inside] == 0).all()


@given(levels=levels, rule=rules)
def test_a_draft_made_twice_is_the_same(levels: list[float], rule: ClipGainRule) -> None:
    """It starts from the phrases before gain, so what was accepted is not moved once more."""
    values, peaks, rooms = np.array(levels), np.array(levels) + 12, np.array(levels) - 40
    first = draft_clip_gain(values, peaks, rooms, rule)
    second = draft_clip_gain(values, peaks, rooms, rule, present=first.gain)
    assert (first.gain == second.gain).all()
    assert first.reason == second.reason


def test_the_target_can_be_the_median_or_named_phrases() -> None:
    values = np.array([-30.0, -20.0, -10.0, -12.0])
    assert resolve_target("absolute", -18.0, values) == -18.0
    assert resolve_target("median", -18.0, values) == -16.0
    assert resolve_target("reference", -18.0, values, np.array([True, False, False, True])) == -21.0
    assert resolve_target("reference", -18.0, values, np.zeros(4, bool)) == -18.0
    assert resolve_target("median", -18.0, np.array([])) == -18.0


def test_a_silent_phrase_has_no_level_to_even_out() -> None:
    with pytest.raises(LevelError, match="without any sound"):
        one(-np.inf, ClipGainRule())


@pytest.mark.parametrize(
    "values", [{"strength": 1.2}, {"strength": -0.1}, {"tolerance": -1.0}, {"most_up": -1.0}, {"target": float("nan")}]
)
def test_a_rule_that_makes_no_sense_is_refused(values: dict[str, float]) -> None:
    with pytest.raises(LevelError):
        ClipGainRule(**values)


def test_most_up_and_down_count_from_the_base() -> None:
    quiet = ClipGainRule(-18, base=18.0)
    assert one(-36.0, quiet) == (18.0, "to target")
    assert one(-44.0, quiet) == (26.0, "to target")
    assert one(-48.0, quiet) == (27.0, "most up")
    # a limit never takes a phrase past its target, nor away from it
    assert one(-22.0, quiet) == (4.0, "to target")
    assert one(-10.0, quiet) == (0.0, "most down")
    loud = ClipGainRule(-24, base=-10.0)
    assert one(-14.0, loud) == (-10.0, "to target")
    assert one(-1.0, loud) == (-22.0, "most down")
    assert one(-30.0, loud) == (0.0, "most up")
    # what is level stays as it is, and ceiling and noise limit hold whatever the base
    assert one(-18.5, quiet) == (0.0, "level")
    assert one(-36.0, quiet, peak=-10.0) == (9.0, "ceiling")
    assert one(-36.0, quiet, room=-50.0) == (10.0, "noise limit")


def test_the_base_is_the_distance_of_the_typical_phrase() -> None:
    levels = np.array([-40.0, -36.0, -35.0])
    assert resolve_base("auto", 0.0, -18.0, levels) == 18.0
    assert resolve_base("hand", 12.5, -18.0, levels) == 12.5
    assert resolve_base("none", 12.5, -18.0, levels) == 0.0
    assert resolve_base("auto", 0.0, -18.0, np.zeros(0)) == 0.0


def test_a_lower_target_is_named_where_it_frees_what_is_held() -> None:
    levels, rooms = np.full(10, -30.0), np.full(10, -80.0)
    peaks = np.array([-9.0] * 6 + [-20.0] * 4)
    rule = ClipGainRule(-18, most_up=20.0)
    reason = draft_clip_gain(levels, peaks, rooms, rule).reason
    assert reason.count("ceiling") == 6
    target = freeing_target(levels, peaks, rooms, rule, reason)
    # they come up by 8 dB to -22, and are level within 1.5 of -20.5
    assert target == -20.5
    freed = draft_clip_gain(levels, peaks, rooms, replace(rule, target=target))
    assert (np.abs(levels + freed.gain - target) <= rule.tolerance).all()
    assert freeing_target(levels[:3], peaks[:3], rooms[:3], rule, reason[:3]) is None


def spiky(over: float, count: int = 1, frames: int = 2) -> LevelGrid:
    """A second of voice at -30 LUFS with ``count`` peaks ``over`` dBTP for some frames."""
    data = np.zeros((100, 9), np.float32)
    data[:, 0] = data[:, 1] = 10 ** ((-30 + 0.691) / 10)
    data[:, 5] = data[:, 6] = 10 ** (-20 / 20)
    for k in range(count):
        at = 20 + 25 * k
        data[at : at + frames, 5] = data[at : at + frames, 6] = 10 ** (over / 20)
    return LevelGrid(data, 48_000, 48_000, 1)


FLAT = np.ones((100, 2))


def free(grid: LevelGrid, most: float = 40.0) -> FreedPhrase | None:
    return free_of_peaks(grid, slice(0, 100), slice(10, 95), "loudness", FLAT, -18.0, -1.0, most)


def test_a_short_peak_that_holds_a_phrase_back_is_turned_down_as_deep_as_needed() -> None:
    freed = free(spiky(-8.0))
    assert freed is not None
    (dip,) = freed.dips
    assert (dip.start, dip.end) == (pytest.approx(0.19), pytest.approx(0.23))
    # 12 dB up bring the peak to +4, the ceiling is -1; the phrase loses a little, and is given it back
    assert -8.0 + freed.gain + dip.depth == pytest.approx(-1.1, abs=0.05)
    assert 12.0 < freed.gain < 12.4
    hardly = free(spiky(-12.9))
    assert hardly is not None
    assert [dip.depth for dip in hardly.dips] == [-0.5]
    two = free(spiky(-8.0, count=2))
    assert two is not None
    assert len(two.dips) == 2


@pytest.mark.parametrize(
    "grid", [spiky(-2.0), spiky(-8.0, count=3), spiky(-8.0, frames=14), spiky(-20.0)], ids=["deep", "many", "long", "none"]
)
def test_other_peaks_are_left_to_the_ceiling(grid: LevelGrid) -> None:
    assert free(grid) is None


def test_peaks_are_left_alone_where_another_limit_holds_the_phrase_anyway() -> None:
    assert free(spiky(-8.0), most=10.0) is None
