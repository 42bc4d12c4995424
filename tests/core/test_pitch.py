"""How clearly a frame repeats itself: what a voice has and air has not."""

from __future__ import annotations

import numpy as np
import pytest

from nivelus.core.measure.compose import Part, compose
from nivelus.core.measure.grid import measure_samples
from nivelus.core.measure.pitch import measure_pitch
from tests.conftest import RATE, Sound, hiss, hum, room, sine

RATES = [8_000, 11_025, 16_000, 22_050, 44_100, 48_000, 96_000, 192_000]


def pitch(samples: Sound, rate: int = RATE) -> Sound:
    return measure_samples(samples, rate).column("pitch").astype(np.float64)


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize("frequency", [90.0, 150.0, 440.0, 950.0])
def test_a_tone_has_pitch_and_noise_has_none_at_every_rate(rate: int, frequency: float) -> None:
    t = np.arange(rate) / rate
    voice = sum(np.sin(2 * np.pi * frequency * k * t) / k for k in range(1, 6) if k * frequency < 0.4 * rate)
    assert pitch(0.1 * np.asarray(voice), rate)[5:-5].min() > 0.95
    noise = pitch(0.1 * np.random.default_rng(2).standard_normal(rate), rate)[5:-5]
    assert np.mean(noise > 0.6) < 0.02
    assert np.median(noise) < 0.4


def test_noise_under_a_tone_takes_as_much_of_it_as_its_share_of_the_power() -> None:
    """The correlation of a sum of a periodic sound and noise is the share of the periodic one in the power."""
    noise = hiss(-20.0, 4.0, 100, 1500)
    for level in (-20.0, -14.0, -8.0):
        tone = sine(level, 4.0, frequency=200.0)[: len(noise)]
        share = 10 ** (level / 10) / (10 ** (level / 10) + 10 ** (-20.0 / 10))
        assert np.median(pitch(tone + noise[: len(tone)])[5:-5]) == pytest.approx(share, abs=0.06)


def test_neither_loudness_nor_what_lies_below_80_hz_nor_silence_is_pitch() -> None:
    voice = hum(-20, 1.0)
    np.testing.assert_allclose(pitch(voice * 0.001), pitch(voice), atol=1e-3)
    assert np.median(pitch(room(-50, 2.0) + sine(-50, 2.0, frequency=25.0)[: 2 * RATE])) < 0.5
    assert not pitch(np.zeros(RATE)).any()
    # of a loud word that has just ended nothing is left where there is silence
    cut = pitch(np.concatenate([hum(-3, 0.5), np.zeros(RATE // 2)]))
    assert (cut[56:] == 0).all()


def test_it_is_the_same_wherever_the_samples_begin_and_in_whatever_channel() -> None:
    samples = np.concatenate([hum(-20, 1.0), room(-50, 1.0), hum(-30, 1.0)])
    whole = measure_pitch(samples, 0, 0, 300, RATE)
    part = measure_pitch(samples[12_345:], 12_345, 120, 80, RATE)
    np.testing.assert_allclose(part, whole[120:200], atol=1e-4)
    beside = np.stack([0.5 * samples, room(-50, 3.1)[: len(samples)]], axis=1)
    assert (pitch(beside)[5:95] >= whole[5:95] - 1e-4).all()


def test_it_is_laid_with_the_recording_and_no_level() -> None:
    grid = measure_samples(hum(-20, 2.0), RATE)
    stereo = compose([Part(RATE, 2 * RATE, 0)], [grid], RATE, 3 * RATE, 2)
    np.testing.assert_allclose(stereo.column("pitch")[100:200], grid.column("pitch")[100:200], atol=1e-6)
    assert not stereo.column("pitch")[:100].any()
