"""What the channels of a file are: the microphones of one voice, or voices of their own; on people, from Debian's packages."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile

from nivelus.core.sound.channels import are_of_one_voice
from tests.helpers.real_voices import RATE, programme

LANGUAGES = ("en", "ru")


def further_away(voice: np.ndarray, seed: int) -> np.ndarray:
    """The voice in a room: later, lower, with an echo of 0.2 s and noise at -60 dBFS."""
    random = np.random.default_rng(seed)
    echo = random.standard_normal(RATE // 5) * np.exp(-np.arange(RATE // 5) / (RATE / 40)) * 0.05
    echo[90] = 0.4
    return np.convolve(voice, echo)[: len(voice)] + random.standard_normal(len(voice)) * 1e-3


@pytest.fixture(scope="module")
def two() -> list[np.ndarray]:
    """Two people, each for as long as the other."""
    voices = [programme(language, 12, number, (0.3, 1.5), -62.0, rate=RATE)[0] for number, language in enumerate(LANGUAGES)]
    length = min(map(len, voices))
    return [voice[:length] for voice in voices]


def written(path: Path, *channels: np.ndarray) -> Path:
    soundfile.write(path, np.column_stack(channels), RATE, subtype="FLOAT")
    return path


def test_one_voice_is_told_from_several(tmp_path: Path, two: list[np.ndarray]) -> None:
    one, other = two
    silent = np.zeros(len(one))
    for voice in two:
        mics = [further_away(voice, seed) for seed in range(3)]
        assert are_of_one_voice(written(tmp_path / "mics.wav", voice, *mics))
        assert are_of_one_voice(written(tmp_path / "spare.wav", silent, 0.1 * voice, mics[0]))
    # people who hear each other a little, as those beside each other in a room do
    for bleed in (0.0, 0.1, 0.18):
        assert not are_of_one_voice(written(tmp_path / "two.wav", one + bleed * other, other + bleed * one, silent))
    # two microphones of one, and another person
    assert not are_of_one_voice(written(tmp_path / "both.wav", one, further_away(one, 1), other))


def test_what_tells_nothing_is_no_voice(tmp_path: Path, two: list[np.ndarray]) -> None:
    silent, hum = np.zeros(RATE), np.full(RATE, 0.25)
    assert not are_of_one_voice(written(tmp_path / "silent.wav", silent, silent, silent))
    assert not are_of_one_voice(written(tmp_path / "one.wav", two[0][:RATE], silent[: len(two[0][:RATE])], silent[:RATE]))
    assert not are_of_one_voice(written(tmp_path / "level.wav", hum, hum, hum))
    assert not are_of_one_voice(written(tmp_path / "short.wav", *[two[0][:20]] * 3))
