"""Nuclei of syllables: as many as there are, wherever they lie low, and none in a decay or a room."""

from __future__ import annotations

import numpy as np
import pytest

from nivelus.core.marks.nuclei import find_nuclei
from nivelus.core.measure.grid import measure_samples
from tests.conftest import RATE, hum, room


def syllables(*levels: float, frames: int = 20, dip: float = 9.0) -> np.ndarray:
    """Power of the vowel band of syllables at these dB, each a hump with dips of ``dip`` dB beside it."""
    hump = -dip * (1 + np.cos(2 * np.pi * np.arange(frames) / frames)) / 2
    return 10 ** (np.concatenate([level + hump for level in levels]) / 10)


def test_every_syllable_has_one_nucleus_in_its_middle() -> None:
    found = find_nuclei(syllables(-20, -24, -18, -30, -22))
    assert found == pytest.approx([10, 30, 50, 70, 90], abs=2)


def test_a_last_word_that_trails_off_keeps_its_nuclei() -> None:
    assert len(find_nuclei(syllables(-20, -21, -20, -31, -33))) == 5
    assert len(find_nuclei(syllables(-20, -21, -20, -45))) == 3


def test_a_decay_a_plateau_and_a_room_have_none_of_their_own() -> None:
    decay = 10 ** ((-20 - np.arange(60) * 0.4) / 10)
    assert find_nuclei(decay).tolist() == [0]
    assert len(find_nuclei(np.full(100, 0.01))) == 1
    assert len(find_nuclei(syllables(-20, -22), room=-24)) == 0
    assert find_nuclei(np.zeros(0)).tolist() == []


def test_ripple_that_is_no_syllable_is_not_counted() -> None:
    assert len(find_nuclei(syllables(*[-20.0] * 6, dip=1.5))) == 1


def test_nuclei_of_a_made_voice_keep_its_rhythm() -> None:
    """The voice of the tests sways 4.2 times a second by its making, between -4 and +3 dB."""
    sound = np.concatenate([room(-70, 0.3), hum(-20, 3.0) + room(-70, 3.0)])
    vowels = measure_samples(sound, RATE).column("voiced")[30:]
    assert len(find_nuclei(vowels)) == pytest.approx(3.0 * 4.2, abs=1.0)
