"""The arithmetic of pre-fader gain: curves, clips, frames and samples agree, and nothing clicks."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nivelus.core.errors import GainError
from nivelus.core.gain.clips import DECLICK_SECONDS, WIDEST_RAMP_SECONDS, compile_clip_gains, ways
from nivelus.core.gain.compiled import GainCurve, apply_gain, frame_gain
from nivelus.core.measure.grid import frame_borders, measure_samples
from nivelus.core.measure.loudness import figures
from tests.conftest import RATE, hum, sine, uneven_voice
from tests.helpers.clips import ClipGain, compiled, spans_of

dbs = st.floats(-40, 20, allow_nan=False)


@st.composite
def tilings(draw: st.DrawFn) -> list[ClipGain]:
    """Clips that tile a recording, some with a phrase inside, some with one that touches a border."""
    lengths = draw(st.lists(st.integers(960, 90_000) | st.integers(90_000, 600_000), min_size=1, max_size=12))
    clips, at = [], 0
    for length in lengths:
        kind = draw(st.sampled_from(["none", "inside", "touching"]))
        start, end = at, at + length
        phrase: tuple[int | None, int | None] = (None, None)
        if kind == "inside":
            phrase = (start + length // 4, end - length // 4)
        elif kind == "touching":
            phrase = (start, end)
        clips.append(ClipGain(start, end, draw(dbs), *phrase))
        at = end
    return clips


def test_6_02_db_doubles_the_amplitude() -> None:
    out = apply_gain(np.ones((10, 1)), GainCurve(np.array([0.0]), np.array([20 * np.log10(2)])), 0)
    assert out == pytest.approx(2.0)


def test_where_all_gain_is_0_db_the_samples_are_the_very_same() -> None:
    samples = hum(-20, 1)[:, None]
    assert apply_gain(samples, compiled([ClipGain(0, len(samples), 0.0)], RATE), 0) is samples
    # and outside the ramps of a curve that moves elsewhere
    clips = [ClipGain(0, 20_000, 0.0, 2000, 15_000), ClipGain(20_000, len(samples), -7.0, 30_000, 40_000)]
    out = apply_gain(samples, compiled(clips, RATE), 0)
    assert (out[:15_000] == samples[:15_000]).all()
    assert out[35_000] == pytest.approx(samples[35_000] * 10 ** (-7 / 20))


@given(a=dbs, b=dbs)
def test_gains_in_db_add(a: float, b: float) -> None:
    samples = sine(-20, 0.05)[:, None]
    both = apply_gain(samples, GainCurve(np.array([0.0]), np.array([a + b])), 0)
    one_by_one = apply_gain(
        apply_gain(samples, GainCurve(np.array([0.0]), np.array([a])), 0), GainCurve(np.array([0.0]), np.array([b])), 0
    )
    np.testing.assert_allclose(both, one_by_one, rtol=1e-9)


@given(clips=tilings())
def test_a_compiled_gain_holds_in_every_phrase_and_never_clicks(clips: list[ClipGain]) -> None:
    curve = compiled(clips, RATE)
    steepest = np.abs(np.diff(curve.db)) / np.diff(curve.at) if len(curve.at) > 1 else np.zeros(1)
    for clip in clips:
        middle = (clip.start + clip.end) // 2
        if clip.phrase_start is not None and clip.phrase_start > clip.start:
            at = np.linspace(clip.phrase_start, clip.phrase_end, 50)
            assert np.interp(at, curve.at, curve.db) == pytest.approx(clip.gain, abs=1e-9)
        if clip.end - clip.start > 2 * WIDEST_RAMP_SECONDS * RATE:
            assert np.interp(middle, curve.at, curve.db) == pytest.approx(clip.gain, abs=1e-9)
    # a step is spread over the de-click time; only where two clips are shorter than that do ramps have less room
    shortest = min(clip.end - clip.start for clip in clips)
    room = min(DECLICK_SECONDS * RATE, 0.98 * shortest)
    allowed = max((abs(a.gain - b.gain) for a, b in itertools.pairwise(clips)), default=0.0) / room
    assert steepest.max(initial=0.0) <= allowed + 1e-9


@given(clips=tilings(), data=st.data())
def test_the_ways_of_clips_follow_each_other_whatever_breathes_between_them(clips: list[ClipGain], data: st.DataObject) -> None:
    """None reaches into a phrase by more than the de-click slope, none that glides into a breath, and no two cross."""
    total = clips[-1].end
    starts = data.draw(st.lists(st.integers(0, total - 1), max_size=8))
    breaths = np.array([(start, start + 12_000) for start in sorted(starts)], np.float64).reshape(-1, 2)
    start, end = ways(spans_of(clips), RATE, breaths)
    assert (end >= start).all()
    assert (start[1:] >= end[:-1] - 1e-6).all()
    for i, (first, last) in enumerate(zip(start.tolist(), end.tolist(), strict=True)):
        glides = last - first > WIDEST_RAMP_SECONDS * RATE * 1.001
        for clip in clips[i : i + 2]:
            if clip.phrase_start is not None and glides:
                assert last <= clip.phrase_start or first >= clip.phrase_end
        if glides:
            assert not ((breaths[:, 0] < last) & (breaths[:, 1] > first)).any()


def test_a_long_pause_is_glided_through_away_from_the_voice() -> None:
    """15 s between phrases 19 dB apart: within 100 ms never more than 3 dB, none of it within 0.2 s of a phrase or breath."""
    rate = RATE
    clips = [ClipGain(0, 16 * rate, 9.5, rate, 3 * rate), ClipGain(16 * rate, 22 * rate, -9.5, 18 * rate, 20 * rate)]
    for border, breath in ((16.0, None), (10.0, None), (17.2, (17.4, 17.8)), (3.1, None), (17.9, None)):
        moved = [clips[0]._replace(end=round(border * rate)), clips[1]._replace(start=round(border * rate))]
        breaths = np.array([breath] if breath else []).reshape(-1, 2) * rate
        curve = compile_clip_gains(spans_of(moved), np.array([9.5, -9.5]), rate, breaths)
        first, last = curve.at[1] / rate, curve.at[2] / rate
        assert last - first == pytest.approx(2.0)
        assert first >= 3.2 - 1e-6
        assert last <= (breath or (18.0,))[0] - 0.2 + 1e-6
        # the border is the middle of the glide where that leaves it room
        if 4.3 < border < 16.7:
            assert (first + last) / 2 == pytest.approx(border, abs=1e-3)
        at = np.arange(0, 22, 0.01)
        db = np.interp(at * rate, curve.at, curve.db)
        assert np.abs(db[10:] - db[:-10]).max() < 3.0
    # a border that lies in a breath leaves no room
    inside = compile_clip_gains(spans_of(moved), np.array([1.0, 2.0]), rate, np.array([[17.5, 17.95]]) * rate)
    assert inside.at[2] - inside.at[1] <= WIDEST_RAMP_SECONDS * rate


def test_a_short_pause_has_its_step_at_the_border_as_ever() -> None:
    clips = [ClipGain(0, 48_000, 3.0, 4_800, 40_000), ClipGain(48_000, 96_000, -3.0, 62_400, 90_000)]
    curve = compiled(clips, RATE)
    assert (curve.at[1] + curve.at[2]) / 2 == 48_000
    assert curve.at[2] - curve.at[1] == WIDEST_RAMP_SECONDS * RATE


@given(clips=tilings(), data=st.data())
def test_a_window_of_a_curve_is_the_curve(clips: list[ClipGain], data: st.DataObject) -> None:
    curve = compiled(clips, RATE)
    end = clips[-1].end
    start = data.draw(st.integers(0, end - 1))
    count = data.draw(st.integers(1, 300))
    step = data.draw(st.sampled_from([1.0, 7.5, 480.0]))
    got = curve.sample(start, step, count)
    np.testing.assert_allclose(got, np.interp(start + step * np.arange(count), curve.at, curve.db), atol=1e-4)


@settings(max_examples=30, deadline=None)
@given(clips=tilings(), data=st.data())
def test_gain_applied_in_blocks_is_gain_applied_at_once(clips: list[ClipGain], data: st.DataObject) -> None:
    curve = compiled(clips, RATE)
    end = clips[-1].end
    samples = np.random.default_rng(0).uniform(-0.5, 0.5, (end, 2))
    whole = apply_gain(samples, curve, 0)
    dense = 10 ** (np.interp(np.arange(end), curve.at, curve.db) / 20)
    np.testing.assert_allclose(whole, samples * dense[:, None], rtol=1e-7)
    cut = data.draw(st.integers(1, end))
    np.testing.assert_allclose(
        np.concatenate([apply_gain(samples[:cut], curve, 0), apply_gain(samples[cut:], curve, cut)]), whole, rtol=1e-9
    )


@given(db=st.floats(-30, 12))
def test_a_constant_gain_moves_every_figure_by_itself(db: float) -> None:
    """BS.1770: loudness follows the gain while gates keep the same blocks; peaks follow it always."""
    voice = uneven_voice((-24, -20, -22), tone=-90)
    grid = measure_samples(voice, RATE)
    borders = frame_borders(len(voice), RATE)
    before = figures(grid)
    after = figures(grid, frame_gain(GainCurve(np.array([0.0]), np.array([db])), borders))
    assert after.integrated - before.integrated == pytest.approx(db, abs=1e-6)
    assert after.true_peak - before.true_peak == pytest.approx(db, abs=1e-6)
    assert after.rms - before.rms == pytest.approx(db, abs=1e-6)
    assert after.loudness_range == pytest.approx(before.loudness_range, abs=1e-6)


@settings(max_examples=20, deadline=None)
@given(gains=st.lists(st.floats(-12, 12), min_size=4, max_size=4))
def test_the_grid_knows_what_the_rendered_audio_measures(gains: list[float]) -> None:
    """Every later question is answered from the grid: to 0.1 LU of a re-measurement of the samples."""
    voice = uneven_voice()
    edge = [0, *(round((0.35 + 1.7 * k) * RATE) for k in range(1, 4)), len(voice)]
    clips = [
        ClipGain(a, b, g, round((0.7 + 1.7 * k) * RATE), round((1.7 + 1.7 * k) * RATE))
        for k, (a, b, g) in enumerate(zip(edge, edge[1:], gains, strict=False))
    ]
    curve = compiled(clips, RATE)
    told = figures(measure_samples(voice, RATE), frame_gain(curve, frame_borders(len(voice), RATE)))
    heard = figures(measure_samples(apply_gain(voice[:, None], curve, 0), RATE))
    for name in ("integrated", "loudness_range", "momentary_max", "short_term_max", "true_peak", "sample_peak", "rms"):
        assert getattr(told, name) == pytest.approx(getattr(heard, name), abs=0.1), name


def test_a_frame_that_the_gain_moves_through_is_averaged() -> None:
    curve = GainCurve(np.array([0.0, 480.0]), np.array([0.0, -24.0]))
    power, top = frame_gain(curve, np.array([0, 480]))[0]
    exact = np.mean(10 ** (np.linspace(0, -24, 48_001) / 10))
    assert 10 * np.log10(power) == pytest.approx(10 * np.log10(exact), abs=0.02)
    assert top == pytest.approx(1.0)


@pytest.mark.parametrize(
    "clips",
    [
        [],
        [ClipGain(0, 100, 0.0), ClipGain(99, 200, 0.0)],
        [ClipGain(0, 100, 0.0), ClipGain(90, 200, 0.0)],
        [ClipGain(0, 0, 0.0)],
        [ClipGain(0, 100, float("nan"))],
        [ClipGain(0, 100, float("inf"))],
    ],
)
def test_clips_that_make_no_curve_are_refused(clips: list[ClipGain]) -> None:
    with pytest.raises(GainError):
        compiled(clips, RATE)


@pytest.mark.parametrize(("at", "db"), [([0.0, 0.0], [0.0, 1.0]), ([1.0, 0.0], [0.0, 1.0]), ([], []), ([0.0], [0.0, 1.0])])
def test_points_that_make_no_curve_are_refused(at: list[float], db: list[float]) -> None:
    with pytest.raises(GainError):
        GainCurve(np.array(at), np.array(db))


@given(
    st.lists(st.tuples(st.integers(100, 5000), st.integers(0, 3000), st.floats(-20, 12)), min_size=2, max_size=6),
)
def test_across_silence_the_gain_changes_in_its_middle(rows: list[tuple[int, int, float]]) -> None:
    """Each clip holds its gain up to its ends; the ramp lies in the silence, or at the border where there is none."""
    clips, at = [], 0
    for length, gap, gain in rows:
        clips.append(ClipGain(at + gap, at + gap + length, round(gain, 1)))
        at += gap + length
    curve = compiled(clips, 48_000)
    for left, right in itertools.pairwise(clips):
        gap = right.start - left.end
        if gap >= 2880:
            assert np.interp([left.end, right.start], curve.at, curve.db) == pytest.approx([left.gain, right.gain])
        middle = (left.end + right.start) / 2
        if left.gain != right.gain:
            assert np.interp(middle, curve.at, curve.db) == pytest.approx((left.gain + right.gain) / 2, abs=1e-6)
