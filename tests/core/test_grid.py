"""The level grid: frames tile the recording at any rate, and stretches and threads make no difference."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nivelus.core.errors import BrokenSamples, Cancelled, SilentSound
from nivelus.core.measure.evenness import evenness
from nivelus.core.measure.grid import frame_borders, measure_file, measure_samples
from nivelus.core.measure.loudness import figures, gated_loudness
from nivelus.core.measure.spans import UNITS, levels_of_spans, span_levels
from nivelus.core.measure.waveform import JOINED, LEVELS, TILE, pyramid, tile
from tests.conftest import RATE, hum, room, sine, uneven_voice, write_sound


@given(samples=st.integers(1, 2_000_000), rate=st.sampled_from([8000, 11025, 22050, 44100, 48000, 96000, 192000]))
def test_frames_tile_the_recording(samples: int, rate: int) -> None:
    borders = frame_borders(samples, rate)
    assert borders[0] == 0
    assert borders[-1] == samples
    lengths = np.diff(borders)
    assert (lengths > 0).all()
    assert (lengths[:-1] <= -(-rate // 100)).all()
    # borders are rounded from the exact time, never accumulated
    exact = np.arange(len(borders) - 1) * rate / 100
    assert np.abs(borders[:-1] - exact).max(initial=0) <= 0.5


def test_threads_and_stretches_make_no_difference(tmp_path: Path) -> None:
    samples = uneven_voice((-30, -12, -24) * 12)
    path = write_sound(tmp_path / "long.wav", samples, subtype="DOUBLE")
    one, two = measure_file(path, threads=1)[1], measure_file(path, threads=2)[1]
    assert (one.data == two.data).all()
    whole = measure_samples(samples, RATE)
    np.testing.assert_allclose(one.data[:, :-1], whole.data[:, :-1], rtol=2e-6, atol=1e-16)
    # how clearly a frame repeats itself is a sum of products of both signs
    np.testing.assert_allclose(one.column("pitch"), whole.column("pitch"), atol=1e-5)


def test_the_last_partial_frame_counts(tmp_path: Path) -> None:
    samples = np.zeros(RATE + 100)
    samples[-50] = 0.5
    grid = measure_file(write_sound(tmp_path / "tail.wav", samples))[1]
    assert grid.column("peak")[-1] == pytest.approx(0.5, abs=1e-4)
    assert len(grid.data) == 101


def test_a_click_at_a_frame_border_is_in_one_of_its_frames(tmp_path: Path) -> None:
    for at in (479, 480, 481, 44099):
        samples = np.zeros(RATE)
        samples[at] = 0.9
        peak = measure_samples(samples, RATE).column("peak")
        assert peak.max() == pytest.approx(0.9, abs=1e-6)
        assert np.flatnonzero(peak > 0.5).tolist() == [at // 480]


def test_waveform_bins_lose_no_sample() -> None:
    """441 samples are not divisible by 16: a dropped sample would cost a peak."""
    rate = 44_100
    random = np.random.default_rng(3)
    for _ in range(20):
        samples = np.zeros(rate)
        at = int(random.integers(rate))
        samples[at] = -0.8
        borders = frame_borders(rate, rate)
        from nivelus.core.measure.grid import COLUMNS, _measure_block

        data, wave = np.zeros((len(borders) - 1, len(COLUMNS)), np.float32), np.zeros(((len(borders) - 1) * 16, 2), np.float32)
        padded = np.concatenate([np.zeros(24), samples, np.zeros(24)])[:, None]
        _measure_block(padded, -24, borders + 24, rate, data, wave)
        assert wave[:, 0].min() == pytest.approx(-0.8, abs=1e-6)


def test_progress_runs_to_the_end_and_can_stop_the_work(tmp_path: Path) -> None:
    path = write_sound(tmp_path / "a.wav", np.tile(hum(-20, 10), 10))
    seen: list[float] = []
    measure_file(path, seen.append)
    assert seen == sorted(seen)
    assert seen[-1] == 1.0

    def stop(share: float) -> None:
        raise Cancelled("Stopped.")

    with pytest.raises(Cancelled):
        measure_file(path, stop)


def test_silence_and_broken_samples_are_named(tmp_path: Path) -> None:
    with pytest.raises(SilentSound, match=r"quiet\.wav.*silent"):
        measure_file(write_sound(tmp_path / "quiet.wav", np.zeros(RATE)))
    for bad in (np.nan, np.inf):
        samples = hum(-20, 30)
        samples[RATE * 25] = bad
        with pytest.raises(BrokenSamples, match=r"broken\.wav.*not numbers"):
            measure_file(write_sound(tmp_path / "broken.wav", samples, subtype="FLOAT"))


def test_a_pause_inside_a_phrase_does_not_pull_it_down() -> None:
    steady = measure_samples(hum(-20, 2), RATE)
    paused = measure_samples(np.concatenate([hum(-20, 1), np.zeros(RATE // 2), hum(-20, 1)]), RATE)
    a, b = span_levels(steady, 0, 2).loudness, span_levels(paused, 0, 2.5).loudness
    assert b == pytest.approx(a, abs=0.3)
    assert span_levels(paused, 0, 2.5).rms < span_levels(steady, 0, 2).rms - 0.8


def test_pauses_of_a_phrase_do_not_count_however_short_it_is() -> None:
    for count in (10, 100):
        assert gated_loudness(np.array([1.0, 0.001] * count)) == pytest.approx(-0.691, abs=1e-6)
        soft = np.array([1.0, 0.02] * count)
        assert gated_loudness(soft) == pytest.approx(-0.691 + 10 * np.log10(0.51), abs=1e-6)


def test_levels_of_a_span_in_all_units() -> None:
    levels = span_levels(measure_samples(sine(-12.0, 3), RATE), 0.5, 2.5)
    assert levels.by("rms") == pytest.approx(-15.01, abs=0.02)
    assert levels.by("peak") == pytest.approx(-12.0, abs=0.05)
    assert levels.by("loudness") == pytest.approx(-15.0, abs=0.05)


def test_evenness_counts_spread_and_width() -> None:
    even = evenness([-20.0, -18.0, -18.5, -10.0], -18.0, 1.5)
    assert (even.level, even.count) == (2, 4)
    assert even.spread == pytest.approx(np.std([-20, -18, -18.5, -10]))
    assert even.width == pytest.approx(np.percentile([-20, -18, -18.5, -10], 90) - np.percentile([-20, -18, -18.5, -10], 10))
    assert evenness([], -18.0, 1.5).count == 0


@given(bins=st.integers(1, 9000), seed=st.integers(0, 100))
def test_every_level_of_the_pyramid_holds_the_extremes(bins: int, seed: int) -> None:
    random = np.random.default_rng(seed)
    edges = random.uniform(-1, 1, (bins, 2)).astype(np.float32)
    wave = np.stack([edges.min(axis=1), edges.max(axis=1)], axis=1)
    data = pyramid(wave)
    for level in range(LEVELS):
        length = -(-bins // JOINED**level) if level else bins
        tiles = [tile(data, bins, level, index) for index in range(-(-length // TILE) + 1)]
        joined = np.concatenate(tiles)
        assert len(joined) == length
        assert joined[:, 0].min() == pytest.approx(wave[:, 0].min(), abs=1e-3)
        assert joined[:, 1].max() == pytest.approx(wave[:, 1].max(), abs=1e-3)


def test_mono_counted_as_two_loudspeakers_is_3_lu_louder() -> None:
    grid = measure_samples(room(-30, 5), RATE)
    assert figures(grid, offset=10 * np.log10(2)).integrated - figures(grid).integrated == pytest.approx(3.01, abs=0.01)


@given(seed=st.integers(0, 1000), count=st.integers(1, 12))
@settings(max_examples=25, deadline=None)
def test_many_spans_at_once_have_the_levels_of_each(seed: int, count: int) -> None:
    random = np.random.default_rng(seed)
    grid = measure_samples(hum(-20, 3.0) * np.repeat(10 ** (random.uniform(-30, 0, 30) / 20), RATE // 10), RATE)
    first = random.integers(0, len(grid.data) - 1, count)
    spans = np.stack([first, np.minimum(first + random.integers(1, 150, count), len(grid.data))], axis=1)
    gain = random.uniform(0.1, 2.0, (len(grid.data), 2))
    for unit in UNITS:
        together = levels_of_spans(grid, spans, np.concatenate([gain[a:b] for a, b in spans.tolist()]), unit)
        alone = [span_levels(grid, a / 100, b / 100, gain[a:b]).by(unit) for a, b in spans.tolist()]
        assert together == pytest.approx(alone, abs=1e-9)
