"""Dips: their arithmetic for any dips at all, what their rules do, and how they sound in a render."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from nivelus.core.drafts.dip_rules import DEFAULT_RULES, REASONS, DipRule, MarkArrays
from nivelus.core.drafts.dips import SHORTEST_GAP, draft_dips, place_marks
from nivelus.core.errors import GainError, LevelError
from nivelus.core.gain.clips import DECLICK_SECONDS
from nivelus.core.gain.compiled import SILENCE, GainCurve, add_curves, apply_gain, frame_gain
from nivelus.core.gain.dips import SILENT_DIP, Dips, compile_dips
from nivelus.core.kinds import OF_NAME
from nivelus.core.measure.grid import frame_borders
from tests.conftest import RATE, hum
from tests.helpers.clips import ClipGain, compiled
from tests.helpers.near import near

LEAST_RAMP = DECLICK_SECONDS * RATE


def dips_of(*rows: tuple[float, float, float, float, float, bool]) -> Dips:
    start, end, depth, ramp_in, ramp_out = np.array([row[:5] for row in rows], np.float64).reshape(-1, 5).T
    return Dips(start, end, depth, ramp_in, ramp_out, np.array([row[5] for row in rows], bool))


@st.composite
def some_dips(draw: st.DrawFn) -> Dips:
    """Dips that overlap as they like."""
    row = st.tuples(
        st.floats(0, 200_000), st.floats(0, 40_000), st.floats(-40, 0), st.floats(0, 8000), st.floats(0, 8000), st.booleans()
    )
    rows = draw(st.lists(row, min_size=1, max_size=12))
    return dips_of(*((start, start + length, *rest) for start, length, *rest in rows))


def alone(dips: Dips, index: int, at: np.ndarray) -> np.ndarray:
    """The gain of one dip at some positions, written down from its meaning."""
    first = dips.start[index] - max(dips.ramp_in[index], LEAST_RAMP)
    last = dips.end[index] + max(dips.ramp_out[index], LEAST_RAMP)
    depth = dips.depth[index]
    if dips.notch[index]:
        share = np.clip((at - first) / (last - first), 0, 1)
        return depth * (0.5 - 0.5 * np.cos(2 * np.pi * share))
    return np.interp(at, [first, dips.start[index], dips.end[index], last], [0, depth, depth, 0])


@given(dips=some_dips())
@example(dips=dips_of((0.0, 0.0, -1.0, 0.0, 0.0, False), (0.00390625, 0.00390625, -5.0, 0.0, 0.0, False)))
@settings(max_examples=150, deadline=None)
def test_where_dips_overlap_the_deepest_wins(dips: Dips) -> None:
    curve = compile_dips(dips, RATE)
    at = np.linspace(-20_000, 260_000, 4001)
    expected = np.min([alone(dips, i, at) for i in range(len(dips))], axis=0)
    # a notch is drawn with eight straight pieces on each side: never further off than 2 % of its depth
    slack = 1e-6 + 0.02 * np.abs(dips.depth[dips.notch]).max(initial=0.0)
    assert np.interp(at, curve.at, curve.db) == near(expected, abs=slack)


@given(dips=some_dips())
@settings(max_examples=150, deadline=None)
def test_dips_only_go_down_change_nothing_outside_and_never_click(dips: Dips) -> None:
    curve = compile_dips(dips, RATE)
    assert (curve.db <= 0).all()
    first = (dips.start - np.maximum(dips.ramp_in, LEAST_RAMP)).min()
    last = (dips.end + np.maximum(dips.ramp_out, LEAST_RAMP)).max()
    outside = np.array([first - 1e5, first - 1e-3, last + 1e-3, last + 1e5])
    assert (np.interp(outside, curve.at, curve.db) == 0).all()
    # no steeper than the steepest of the ramps: pi / 2 of the mean slope for a notch
    ramps = np.minimum(np.maximum(dips.ramp_in, LEAST_RAMP), np.maximum(dips.ramp_out, LEAST_RAMP))
    steepest = (np.abs(dips.depth) / ramps).max() * np.pi / 2
    assert (np.abs(np.diff(curve.db) / np.diff(curve.at)) <= steepest + 1e-6).all()


@given(dips=some_dips(), gains=st.lists(st.floats(-20, 12), min_size=2, max_size=5))
@settings(max_examples=60, deadline=None)
def test_layers_add_in_db_at_every_sample(dips: Dips, gains: list[float]) -> None:
    clips = [
        ClipGain(i * 50_000, (i + 1) * 50_000, gain, i * 50_000 + 9000, i * 50_000 + 40_000) for i, gain in enumerate(gains)
    ]
    layers = [compiled(clips, RATE), compile_dips(dips, RATE)]
    both = add_curves(layers)
    at = np.random.default_rng(0).uniform(-1e4, 3e5, 2000)
    assert np.interp(at, both.at, both.db) == near(sum(np.interp(at, c.at, c.db) for c in layers), abs=1e-6)
    assert add_curves(layers[:1]) is layers[0]


def test_a_dip_that_moves_with_nothing_else_leaves_the_rest_to_the_bit() -> None:
    samples = hum(-20, 1.0)[:, None].astype(np.float32)
    curve = compile_dips(dips_of((20_000, 24_000, -8.0, 1440, 1440, False)), RATE)
    out = apply_gain(samples, curve, 0)
    assert (out[: 20_000 - 1440] == samples[: 20_000 - 1440]).all()
    assert (out[24_000 + 1440 :] == samples[24_000 + 1440 :]).all()
    assert out[20_000:24_000] == near(samples[20_000:24_000] * 10 ** (-8 / 20), rel=1e-5)


def test_a_silent_dip_leaves_nothing_at_all_however_far_the_clip_is_up() -> None:
    samples = hum(-20, 1.0)[:, None]
    silent = compile_dips(dips_of((20_000, 24_000, SILENT_DIP, 1440, 1440, False)), RATE)
    curve = add_curves([GainCurve(np.zeros(1), np.full(1, 24.0)), silent])
    assert SILENT_DIP + 24.0 <= SILENCE
    assert (apply_gain(samples, curve, 0)[20_000:24_000] == 0.0).all()
    assert np.isfinite(frame_gain(curve, frame_borders(RATE, RATE))).all()


def test_what_is_no_dip_is_refused() -> None:
    for bad in ((0, -1, -3, 0, 0), (0, 10, 1, 0, 0), (0, 10, -3, -1, 0), (0, 10, np.nan, 0, 0)):
        with pytest.raises(GainError):
            dips_of((*bad, False))
    with pytest.raises(LevelError):
        DipRule(-6.0, shallowest=-9.0, deepest=-3.0)
    with pytest.raises(LevelError):
        DipRule(3.0)
    assert compile_dips(dips_of(), RATE).is_flat_zero


# --- rules


def marks(kind: str, *rows: tuple[float, float, float, float], room: float = -60.0) -> MarkArrays:
    """Marks of one kind (start, end in seconds, level, excess) around a phrase from 2 to 4 s."""
    table = np.array(rows, np.float64).reshape(-1, 4)
    return place_marks(
        np.full(len(table), OF_NAME[kind].code),
        table[:, 0] * RATE,
        table[:, 1] * RATE,
        table[:, 2],
        table[:, 3],
        np.array([[2.0 * RATE, 4.0 * RATE]]),
        np.array([0.0]),
        np.array([room]),
        RATE,
    )


def depths(arrays: MarkArrays, **rules: DipRule) -> tuple[list[float], tuple[str, ...]]:
    draft = draft_dips(arrays, rules, RATE, 10 * RATE)
    assert set(draft.reason) <= set(REASONS)
    return draft.dips.depth.tolist(), draft.reason


NO = float("nan")


def test_a_breath_goes_down_by_its_rule_but_never_under_room_tone() -> None:
    found = marks("breath", (1.0, 1.5, -40, NO), (1.6, 1.9, -55, NO), (5.0, 5.3, -59.8, NO))
    assert depths(found) == ([-8.0, -5.0, 0.0], ("rule", "room tone", "nothing"))


def test_room_tone_is_that_of_the_gaps_near_a_mark_however_much_of_its_cell_the_breath_is() -> None:
    rows = [("gap", 0.0, 1.0, -66.0), ("breath", 1.0, 1.9, -46.0), ("gap", 1.9, 2.0, -60.0), ("breath", 9.0, 9.5, -46.0)]
    found = place_marks(
        np.array([OF_NAME[kind].code for kind, *_ in rows]),
        np.array([start * RATE for _, start, _, _ in rows]),
        np.array([end * RATE for _, _, end, _ in rows]),
        np.array([level for *_, level in rows]),
        np.full(4, NO),
        np.array([[2.0 * RATE, 4.0 * RATE]]),
        np.array([0.0]),
        np.array([-46.0]),
        RATE,
    )
    assert found.room.tolist()[1] == -66.0
    assert found.room.tolist()[3] == -46.0
    assert depths(found)[0][1] == -8.0


def test_an_ess_loses_only_its_excess_and_six_db_at_most() -> None:
    found = marks("ess", (2.1, 2.2, -30, 4.0), (2.5, 2.6, -30, 9.0), (3.0, 3.1, -30, -5.0), (3.5, 3.6, -30, 0.3))
    assert depths(found) == ([-4.0, -6.0, 0.0, 0.0], ("excess", "at most", "nothing", "nothing"))


def test_knocks_keep_to_their_range_and_gaps_go_to_their_floor_or_to_silence() -> None:
    knock, gap = marks("knock", (2.5, 2.55, -20, 9.0)), marks("gap", (0.0, 1.0, -60, NO), (4.0, 4.2, -60, NO))
    assert depths(knock)[0] == [-6.0]
    assert depths(knock, knock=replace(DEFAULT_RULES["knock"], depth=-12.0)) == ([-9.0], ("deepest",))
    assert depths(knock, knock=replace(DEFAULT_RULES["knock"], depth=-1.0)) == ([-3.0], ("shallowest",))
    assert depths(gap) == ([-20.0, 0.0], ("rule", "too short"))
    assert depths(gap, gap=replace(DEFAULT_RULES["gap"], silent=True)) == ([SILENT_DIP, 0.0], ("silence", "too short"))


@given(first=st.floats(-20, -3), second=st.floats(-20, -3), offset=st.floats(-3, 2))
def test_one_slider_moves_all_of_a_kind_and_differences_made_by_hand_stay(first: float, second: float, offset: float) -> None:
    found = replace(marks("breath", (1.0, 1.5, -20, NO), (5.0, 5.5, -20, NO)), offset=np.array([0.0, offset]))
    for depth in (first, second):
        plain, moved = depths(found, breath=DipRule(depth, 0.0, -40.0))[0]
        assert plain == pytest.approx(depth)
        assert moved - plain == pytest.approx(offset) or moved == 0.0


def test_a_breath_keeps_its_ramps_out_of_the_phrases() -> None:
    dips = draft_dips(marks("breath", (1.5, 1.99, -40, NO), (4.003, 4.3, -40, NO)), {}, RATE, 10 * RATE).dips
    assert (dips.end + dips.ramp_out)[0] <= 2.0 * RATE
    assert (dips.start - dips.ramp_in)[1] >= 4.0 * RATE


@given(start=st.floats(4.0, 5.0), length=st.floats(SHORTEST_GAP, 3.0))
def test_a_gap_opens_before_what_comes_next_and_closes_after_the_tail(start: float, length: float) -> None:
    found = marks("gap", (start, start + length, -60, NO))
    dips = draft_dips(found, {}, RATE, 10 * RATE).dips
    first, last = float((dips.start - dips.ramp_in)[0]), float((dips.end + dips.ramp_out)[0])
    assert found.start[0] < first < dips.start[0] <= dips.end[0] < last <= found.end[0] + 1e-6
    assert dips.ramp_out[0] < dips.ramp_in[0]


def test_a_gap_at_the_ends_of_a_recording_waits_for_nothing() -> None:
    dips = draft_dips(marks("gap", (0.0, 1.0, -60, NO), (9.0, 10.0, -60, NO)), {}, RATE, 10 * RATE).dips
    assert dips.start[0] == 0.0
    assert dips.end[1] == 10 * RATE


def pause(gap: tuple[float, float], breath: tuple[float, float], level: float = -45.0) -> MarkArrays:
    """A gap and a breath, seconds, between phrases that end at 1 s and begin at 6 s; the room is at -60 dBFS."""
    rows = sorted([("gap", *gap, -60.0), ("breath", *breath, level)], key=lambda row: row[1])
    return place_marks(
        np.array([OF_NAME[kind].code for kind, *_ in rows]),
        np.array([start for _, start, _, _ in rows]) * RATE,
        np.array([end for _, _, end, _ in rows]) * RATE,
        np.array([level for *_, level in rows]),
        np.full(2, NO),
        np.array([[0.0, 1.0], [6.0, 8.0]]) * RATE,
        np.array([0.0]),
        np.array([-60.0]),
        RATE,
    )


@pytest.mark.parametrize("rules", [{}, {"breath": DipRule(0.0)}, {"breath": DipRule(-24.0)}, {"gap": DipRule(-40.0)}])
@pytest.mark.parametrize(("gap", "breath"), [((1.0, 5.5), (5.5, 5.95)), ((1.0, 1.6), (1.6, 2.2)), ((2.0, 3.0), (1.3, 2.0))])
def test_beside_a_breath_a_gap_is_a_long_slope(gap: tuple, breath: tuple, rules: dict[str, DipRule]) -> None:
    """It goes on into the breath no further than that, and no steeper than 18 dB a second wherever it is heard."""
    found = pause(gap, breath)
    draft = draft_dips(found, rules, RATE, 10 * RATE)
    curve = compile_dips(draft.dips, RATE)
    place = int(np.flatnonzero(found.kind == OF_NAME["gap"].code)[0])
    depth = draft.dips.depth[place]
    at = np.arange(0, 10, 0.01)
    db = np.interp(at * RATE, curve.at, curve.db)
    inside = (at >= gap[0] + 0.05) & (at <= gap[1] - 0.05)
    beside = inside & ((at > gap[1] - 0.45 * np.ptp(gap)) if breath[0] >= gap[1] else (at < gap[0] + 0.45 * np.ptp(gap)))
    assert np.abs(np.diff(db)[beside[1:] & beside[:-1]]).max() <= 0.18 + 1e-6
    assert depth < -1.0
    assert draft.reason[place] == ("beside a breath" if depth > rules.get("gap", DEFAULT_RULES["gap"]).depth else "rule")
    # neither phrase is touched
    assert (db[(at <= 1.0) | (at >= 6.0)] == 0).all()
    # what is set by hand is as deep as the hand says
    by_hand = draft_dips(replace(found, offset=np.where(np.arange(2) == place, -1.0, 0.0)), rules, RATE, 10 * RATE)
    wanted = rules.get("gap", DEFAULT_RULES["gap"]).depth - 1.0
    assert by_hand.dips.depth[place] == max(wanted, -40.0)


def test_a_breath_and_its_room_mind_each_other_only_where_both_go_down() -> None:
    found = pause((1.0, 3.0), (3.0, 3.5), level=-57.0)
    gap, breath = 0, 1
    both = draft_dips(found, {}, RATE, 10 * RATE)
    # alone a breath stops at room tone; with its room it goes down as far as its rule says
    assert both.dips.depth[breath] == -8.0
    alone = draft_dips(found, {}, RATE, 10 * RATE, on=np.array([False, True]))
    assert alone.dips.depth[breath] == -3.0
    # the way of a gap reaches into a breath that goes down, and ends before one that does not
    reach = [
        (d.dips.end + d.dips.ramp_out)[gap] for d in (both, draft_dips(found, {}, RATE, 10 * RATE, on=np.array([True, False])))
    ]
    assert reach[0] > 3.3 * RATE
    assert reach[1] == pytest.approx(3.0 * RATE)


def test_gaps_to_one_level_are_as_loud_as_the_quietest_of_them_with_the_gain_of_their_clips() -> None:
    rows = [(float(k), k + 0.9, level, NO) for k, level in enumerate((-70.0, -60.0, -66.0, -50.0, -69.0, -63.0))]
    found = marks("gap", *rows)
    gain = np.array([3.0, -2.0, 0.0, 9.0, 0.0, 4.0])
    rule = DipRule(-20.0, even=True)
    draft = draft_dips(found, {"gap": rule}, RATE, 10 * RATE, gain=gain)
    level = found.level + gain + draft.dips.depth
    quietest = float(np.percentile(found.level + gain, 10))
    # the loudest would have to go down by more than 20 dB
    assert level[[0, 1, 2, 4, 5]] == pytest.approx(
        [max(min(x, quietest), -69.0) for x in (found.level + gain)[[0, 1, 2, 4, 5]]], abs=0.5
    )
    assert draft.dips.depth[3] == -20.0
    assert [draft.reason[k] for k in (1, 3)] == ["one level", "rule"]
    assert draft_dips(found, {"gap": replace(rule, even=False)}, RATE, 10 * RATE, gain=gain).dips.depth.tolist() == [-20.0] * 6


@given(length=st.floats(SHORTEST_GAP, 4.0), closes=st.floats(0, 0.4), opens=st.floats(0, 0.3))
def test_short_gaps_close_quickly_and_long_ones_slowly(length: float, closes: float, opens: float) -> None:
    found = marks("gap", (5.0, 5.0 + length, -60, NO))
    dips = draft_dips(found, {"gap": DipRule(-20.0, closes=closes, opens=opens)}, RATE, 10 * RATE).dips
    assert dips.ramp_in[0] == pytest.approx(min(np.clip(closes * length, 0.06, 0.4), 0.4 * length) * RATE)
    assert dips.ramp_out[0] == pytest.approx(min(np.clip(opens * length, 0.02, 0.2), 0.3 * length) * RATE)
    assert dips.end[0] >= dips.start[0]
    with pytest.raises(LevelError):
        DipRule(-20.0, closes=0.5)


def test_a_single_gap_can_be_silent() -> None:
    found = replace(marks("gap", (0.5, 1.5, -60, NO), (5.0, 6.0, -60, NO)), offset=np.array([0.0, SILENT_DIP]))
    assert depths(found) == ([-20.0, SILENT_DIP], ("rule", "silence"))


# --- listening
