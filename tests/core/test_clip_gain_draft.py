"""Clip gain drafts: each rule of evening out, alone and together, and the reason that is given."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nivelus.core.drafts.clip_gain import REASONS, ClipGainRule, draft_clip_gain, resolve_target
from nivelus.core.errors import LevelError

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
