"""The reference compressor against its paper, and against a straight-line implementation of it.

Source: D. Giannoulis, M. Massberg, J. D. Reiss, "Digital Dynamic Range Compressor Design: A Tutorial and Analysis", J. Audio
Eng. Soc. 60(6), 2012, equations 4 (knee) and 17 (smooth decoupled peak detector).
"""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nivelus.core.dynamics.compressor import RMS_SECONDS, Compressor, Detector, static_reduction
from nivelus.core.dynamics.detector import STEP, Side, reduction_of, whole_reduction, work_on_all
from nivelus.core.dynamics.load import by_phrase, load_figures, threshold_for
from nivelus.core.errors import GainError
from nivelus.core.gain.compiled import GainCurve
from nivelus.core.sound.timeline import open_sound
from tests.conftest import write_sound

RATE = 48_000


def straight_line(samples: np.ndarray, compressor: Compressor, rate: int = RATE) -> np.ndarray:
    """The equations of the paper, sample by sample in plain Python: reduction in dB, one channel."""
    t, r, w = compressor.threshold, compressor.ratio, compressor.knee
    a_attack = math.exp(-1 / (compressor.attack * rate)) if compressor.attack else 0.0
    a_release = math.exp(-1 / (compressor.release * rate)) if compressor.release else 0.0
    a_rms = math.exp(-1 / (RMS_SECONDS * rate))
    y1 = yl = power = 0.0
    out = []
    for x in samples:
        if compressor.detector == "rms":
            power = a_rms * power + (1 - a_rms) * x * x
            level = 10 * math.log10(power) if power > 0 else -1000.0
        else:
            level = 20 * math.log10(abs(x)) if x else -1000.0
        if 2 * (level - t) < -w:
            y = level
        elif 2 * abs(level - t) <= w and w:
            y = level + (1 / r - 1) * (level - t + w / 2) ** 2 / (2 * w)
        else:
            y = t + (level - t) / r
        xl = level - y
        y1 = max(xl, a_release * y1 + (1 - a_release) * xl)
        yl = a_attack * yl + (1 - a_attack) * y1
        out.append(yl)
    return np.array(out)


def reduction(
    path: Path, compressor: Compressor, gain: GainCurve | None = None, start: int = 0, stop: int | None = None
) -> np.ndarray:
    with open_sound(path) as source:
        return reduction_of(source, gain, compressor, start, stop)


def voice_like(seconds: float = 3.0, seed: int = 4) -> np.ndarray:
    """Syllables of a voice: a tone that swells and ebbs, at levels that differ, with silence between."""
    t = np.arange(round(seconds * RATE)) / RATE
    random = np.random.default_rng(seed)
    level = np.repeat(random.choice([0.0, 0.03, 0.2, 0.7], round(seconds * 4)), RATE // 4)
    return np.sin(2 * np.pi * 180 * t) * level * np.abs(np.sin(2 * np.pi * 4 * t))


@pytest.mark.parametrize(
    ("level", "ratio", "knee", "wanted"),
    [(-16, 4, 0, 6.0), (-24, 4, 0, 0.0), (-30, 4, 6, 0.0), (-24, 4, 6, 0.5625), (-4, 10, 6, 18.0)],
)
def test_the_static_curve(level: float, ratio: float, knee: float, wanted: float) -> None:
    # 8 dB over, 4:1: a quarter of it is left, so 6 dB are taken; in the middle of a knee of 6 dB it is (3/4) * 3^2 / 12
    assert static_reduction(level, Compressor(threshold=-24, ratio=ratio, knee=knee)) == pytest.approx(wanted, abs=0.01)


def test_a_steady_tone_is_reduced_by_the_static_curve(tmp_path: Path) -> None:
    square = np.where(np.arange(2 * RATE) % 96 < 48, 1.0, -1.0) * 10 ** (-16 / 20)
    path = write_sound(tmp_path / "tone.wav", square, subtype="DOUBLE")
    for detector in ("peak", "rms"):
        told = reduction(path, Compressor(threshold=-24, knee=0, detector=detector))
        assert told[-1] == pytest.approx(6.0, abs=0.01)


def test_attack_and_release_are_those_of_the_paper(tmp_path: Path) -> None:
    """A time constant is when 1 - 1/e of the way is done."""
    on = np.where(np.arange(2 * RATE) % 96 < 48, 1.0, -1.0) * 10 ** (-4 / 20)
    on[RATE:] = 0.0
    path = write_sound(tmp_path / "step.wav", on, subtype="DOUBLE")
    # 20 dB over at 4:1 are 15 dB
    slow = reduction(path, Compressor(threshold=-24, knee=0, attack=0.1, release=0.0))
    at = np.interp(15 * (1 - 1 / math.e), slow[: RATE // STEP], np.arange(RATE // STEP)) * STEP / RATE
    assert at == pytest.approx(0.1, rel=0.01)
    let_go = reduction(path, Compressor(threshold=-24, knee=0, attack=0.0, release=0.2))[RATE // STEP :]
    at = np.interp(-15 / math.e, -let_go, np.arange(len(let_go))) * STEP / RATE
    assert at == pytest.approx(0.2, rel=0.01)


@given(
    threshold=st.floats(-50, -6), ratio=st.floats(1, 20), knee=st.floats(0, 18), attack=st.floats(0, 0.05),
    release=st.floats(0, 0.3), detector=st.sampled_from(["peak", "rms"]), seed=st.integers(0, 50),
)  # fmt: skip
@settings(max_examples=12, deadline=None)
def test_it_equals_the_straight_line(
    tmp_path_factory: pytest.TempPathFactory, threshold: float, ratio: float, knee: float, attack: float, release: float,
    detector: Detector, seed: int,
) -> None:  # fmt: skip
    compressor = Compressor(threshold, ratio, knee, attack, release, 0.0, detector)
    sound = voice_like(0.75, seed)
    path = write_sound(tmp_path_factory.mktemp("line") / "voice.wav", sound, subtype="DOUBLE")
    expected = straight_line(sound, compressor)[::STEP]
    # it is told in float32, of which the last bit of 40 dB is 4e-6
    np.testing.assert_allclose(reduction(path, compressor), expected, atol=1e-6, rtol=1e-7)


def test_a_stretch_is_what_it_is_in_the_whole_wherever_it_begins(tmp_path: Path) -> None:
    path = write_sound(tmp_path / "voice.wav", voice_like(8), subtype="DOUBLE")
    compressor, gain = Compressor(release=0.05), GainCurve(np.array([0.0, 3.0 * RATE]), np.array([-6.0, 9.0]))
    whole = whole_reduction(lambda: open_sound(path), gain, compressor)
    np.testing.assert_array_equal(whole, reduction(path, compressor, gain))
    for start, stop in ((0, 1), (1, 640), (5 * RATE + 17, 6 * RATE), (8 * RATE - 100, 8 * RATE)):
        first = -(-start // STEP)
        expected = whole[first : -(-stop // STEP)]
        np.testing.assert_allclose(reduction(path, compressor, gain, start, stop), expected, atol=1e-6)


@pytest.mark.parametrize("detector", ["peak", "rms"])
def test_several_sides_and_thresholds_at_once_are_what_each_is_alone(tmp_path: Path, detector: Detector) -> None:
    both = np.stack([voice_like(6), voice_like(6, seed=9)], axis=1)
    path = write_sound(tmp_path / "voice.wav", both, subtype="DOUBLE")
    # with points that lie between two samples, closer than a step, and in silence
    at = np.array([0.0, 100.5, 120.0, 121.25, 2.0 * RATE, 2.1 * RATE, 5.9 * RATE])
    gain = GainCurve(at, np.array([0.0, 12.0, -40.0, 3.0, 9.0, -20.0, 6.0]))
    compressor, thresholds = Compressor(detector=detector), (-60.0, -24.0, -6.0)
    sides = work_on_all(lambda: open_sound(path), [Side(None, thresholds), Side(gain, thresholds)], compressor)
    for own, worked in zip((None, gain), sides, strict=True):
        for threshold, told in zip(thresholds, worked, strict=True):
            alone = reduction(path, replace(compressor, threshold=threshold), own)
            np.testing.assert_allclose(told.reduction, alone, atol=1e-6)
    if detector == "peak":
        assert sides[0][0].peaks.max() == pytest.approx(20 * math.log10(np.abs(both).max()), abs=0.02)


def test_silence_is_not_reduced(tmp_path: Path) -> None:
    path = write_sound(tmp_path / "silence.wav", np.zeros(RATE))
    assert not reduction(path, Compressor()).any()


def test_stereo_is_reduced_by_its_louder_channel(tmp_path: Path) -> None:
    sound = voice_like(1)
    both = write_sound(tmp_path / "stereo.wav", np.stack([sound * 0.1, sound], axis=1), subtype="DOUBLE")
    one = write_sound(tmp_path / "mono.wav", sound, subtype="DOUBLE")
    np.testing.assert_array_equal(reduction(both, Compressor()), reduction(one, Compressor()))


def test_what_makes_no_compressor_is_refused() -> None:
    wrong: tuple[dict[str, Any], ...] = ({"ratio": 0.5}, {"attack": -1.0}, {"threshold": math.nan}, {"knee": -1.0})
    for value in wrong:
        with pytest.raises(GainError, match="ratio of at least 1"):
            Compressor(**value)


def test_figures_are_of_the_time_in_which_the_voice_speaks() -> None:
    told = np.zeros(1000, np.float32)
    told[100:200], told[500:600], told[900:] = 4.0, 8.0, 30.0
    spans = np.array([[100, 200], [500, 600]]) * float(STEP)
    figures = load_figures(told, spans)
    assert (figures.average, figures.spread, figures.highest) == (6.0, 2.0, 8.0)
    assert figures.beyond == (1.0, 0.5, 0.0)
    assert by_phrase(told, spans).tolist() == [4.0, 8.0]
    assert load_figures(told, np.zeros((0, 2))).average == 0.0


def test_the_threshold_that_gives_an_average_gives_it(tmp_path: Path) -> None:
    path = write_sound(tmp_path / "voice.wav", voice_like(8), subtype="DOUBLE")
    spans, compressor = np.array([[0.0, 8 * RATE]]), Compressor()
    opener = lambda: open_sound(path)  # noqa: E731
    louder = GainCurve(np.array([0.0]), np.array([7.5]))
    sides = [Side(own, (compressor.threshold,)) for own in (None, louder)]
    (plain,), (worked,) = work_on_all(opener, sides, compressor)
    before = load_figures(plain.reduction, spans).average
    found, there = threshold_for(opener, louder, compressor, spans, before, worked)
    # all of it is 7.5 dB louder, so the threshold is
    assert found == pytest.approx(compressor.threshold + 7.5, abs=0.05)
    again = load_figures(whole_reduction(opener, louder, replace(compressor, threshold=found)), spans).average
    assert again == pytest.approx(before, abs=0.05)
    assert load_figures(there, spans).average == again
