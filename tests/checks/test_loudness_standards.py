"""Loudness against the published test signals.

Sources: EBU Tech 3341 (minimum requirement signals, here cases 1-5, 9, 12, 15-19), EBU Tech 3342 (loudness range),
ITU-R BS.1770-5. The values were written down from memory and confirmed against two reference libraries; see also
``test_references``. Signals are generated here as the documents describe them.
"""

from __future__ import annotations

import numpy as np
import pytest

from nivelus.core.measure.grid import measure_samples
from nivelus.core.measure.loudness import SHORT_TERM, figures, sliding_power, to_lufs
from tests.conftest import RATE, sine


def stereo(*parts: tuple[float, float]) -> np.ndarray:
    """1 kHz in both channels: (peak level, seconds), one after the other with the phase running on."""
    t = np.arange(round(sum(seconds for _, seconds in parts) * RATE)) / RATE
    level = np.concatenate([np.full(round(seconds * RATE), 10 ** (db / 20)) for db, seconds in parts])[: len(t)]
    tone = level * np.sin(2 * np.pi * 1000 * t[: len(level)])
    return np.stack([tone, tone], axis=1)


@pytest.mark.parametrize(
    ("case", "parts", "expected"),
    [
        (1, [(-23.0, 20.0)], -23.0),
        (2, [(-33.0, 20.0)], -33.0),
        (3, [(-36.0, 10.0), (-23.0, 60.0), (-36.0, 10.0)], -23.0),
        (4, [(-72.0, 10.0), (-36.0, 10.0), (-23.0, 60.0), (-36.0, 10.0), (-72.0, 10.0)], -23.0),
        (5, [(-26.0, 20.0), (-20.0, 20.1), (-26.0, 20.0)], -23.0),
    ],
)
def test_integrated_loudness_of_tech_3341(case: int, parts: list[tuple[float, float]], expected: float) -> None:
    f = figures(measure_samples(stereo(*parts), RATE))
    assert f.integrated == pytest.approx(expected, abs=0.1), f"case {case}"
    if len(parts) == 1:
        assert f.momentary_max == pytest.approx(expected, abs=0.1)
        assert f.short_term_max == pytest.approx(expected, abs=0.1)


def test_short_term_is_constant_in_case_9_of_tech_3341() -> None:
    grid = measure_samples(stereo(*[(-20.0, 1.34), (-30.0, 1.66)] * 5), RATE)
    levels = to_lufs(sliding_power(grid.column("k"), SHORT_TERM))
    assert levels == pytest.approx(-23.0, abs=0.1)


def test_momentary_is_constant_in_case_12_of_tech_3341() -> None:
    grid = measure_samples(stereo(*[(-20.0, 0.18), (-30.0, 0.22)] * 25), RATE)
    levels = to_lufs(sliding_power(grid.column("k"), 40))[60:]
    assert levels == pytest.approx(-23.0, abs=0.1)


@pytest.mark.parametrize(
    ("case", "divisor", "phase", "amplitude", "expected"),
    [
        (15, 4, 0.0, 0.50, -6.0),
        (16, 4, 45.0, 0.50, -6.0),
        (17, 6, 60.0, 0.50, -6.0),
        (18, 8, 67.5, 0.50, -6.0),
        (19, 4, 45.0, 1.41, 3.0),
    ],
)
def test_true_peak_of_tech_3341(case: int, divisor: int, phase: float, amplitude: float, expected: float) -> None:
    t = np.arange(RATE)
    tone = amplitude * np.sin(2 * np.pi * t / divisor + np.deg2rad(phase))
    # faded in and out, as a burst that begins at once has a true peak of its own
    fade = np.minimum(1, np.minimum(t, t[::-1]) / 2000)
    top = figures(measure_samples(tone * fade, RATE)).true_peak
    assert expected - 0.4 <= top <= expected + 0.2, f"case {case}"


@pytest.mark.parametrize(
    ("levels", "expected"),
    [([-20.0, -30.0], 10.0), ([-20.0, -15.0], 5.0), ([-40.0, -20.0], 20.0), ([-50.0, -35.0, -20.0, -35.0, -50.0], 15.0)],
)
def test_loudness_range_of_tech_3342(levels: list[float], expected: float) -> None:
    grid = measure_samples(stereo(*[(level, 20.0) for level in levels]), RATE)
    assert figures(grid).loudness_range == pytest.approx(expected, abs=1.0)


def test_full_scale_997_hz_in_one_channel_reads_minus_3_01() -> None:
    """ITU-R BS.1770-5, Annex 1: the calibration of the algorithm."""
    tone = sine(0.0, 10, frequency=997)
    assert figures(measure_samples(np.stack([tone, 0 * tone], axis=1), RATE)).integrated == pytest.approx(-3.01, abs=0.01)


def test_a_mono_sine_of_minus_20_reads_minus_23() -> None:
    """BS.1770: one channel counts as one loudspeaker."""
    assert figures(measure_samples(sine(-20.0, 10), RATE)).integrated == pytest.approx(-23.0, abs=0.05)


@pytest.mark.parametrize("rate", [8_000, 11_025, 16_000, 22_050, 32_000, 44_100, 88_200, 96_000, 192_000])
def test_a_level_reads_the_same_at_every_rate(rate: int) -> None:
    """The K-weighting is re-derived for each rate; 1 kHz is well inside all of them."""
    assert figures(measure_samples(sine(-20.0, 5, rate), rate)).integrated == pytest.approx(-23.0, abs=0.1)
