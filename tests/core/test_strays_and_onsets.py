"""Where a phrase strays from its own loudness, and where sound sets in."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from nivelus.core.drafts.strays import Stray, deviations_of, find_strays
from nivelus.core.marks.onsets import find_onsets
from nivelus.core.measure.grid import measure_file
from tests.conftest import CORPUS, RATE, hum, room, write_sound

PHRASE = slice(100, 500)


def level(*parts: tuple[float, int]) -> np.ndarray:
    """Power per frame of parts of so many dB and so many frames, in a quiet room; syllables of 200 ms with dips between."""
    inside = np.concatenate([np.full(count, 10 ** (db / 10)) for db, count in parts])
    syllables = 10 ** (-4 * (1 + np.cos(2 * np.pi * np.arange(len(inside)) / 20)) / 10)
    return np.concatenate([np.full(100, 1e-9), inside * syllables, np.full(100, 1e-9)])


def strays(power: np.ndarray, phrases: list[slice], tolerance: float) -> list[Stray]:
    return find_strays(power, power, phrases, tolerance)


def test_a_word_that_pokes_out_and_one_that_vanishes_are_strays() -> None:
    power = level((-20, 100), (-14, 60), (-20, 100), (-26, 60), (-20, 80))
    loud, quiet = strays(power, [PHRASE], 1.25)
    for stray, (start, end), sign in ((loud, (200, 260), 1), (quiet, (360, 420), -1)):
        # found by the 400 ms around its nuclei, so edges lie within a syllable
        assert abs(stray.frames.start - start) <= 20
        assert abs(stray.frames.stop - end) <= 20
        assert stray.phrase == 0
        assert 1.5 < sign * stray.deviation < 7
    assert deviations_of(power, [PHRASE], [loud, quiet]) == pytest.approx([loud.deviation, quiet.deviation])
    assert deviations_of(level((-20, 400)), [PHRASE], [loud, quiet]) == pytest.approx([0.0, 0.0], abs=0.3)


def test_the_last_word_is_a_stray_and_the_decay_of_a_syllable_is_none() -> None:
    fallen = level((-20, 280), (-28, 120))
    (stray,) = [s for s in strays(fallen, [PHRASE], 1.5) if s.deviation < 0]
    assert stray.frames.stop >= 480
    assert stray.deviation < -4
    tail = np.concatenate([level((-20, 300))[:400], 10 ** ((-20 - np.arange(100) * 0.3) / 10), np.full(100, 1e-9)])
    assert strays(tail, [PHRASE], 1.5) == []


def test_what_is_even_does_not_stray_and_neither_does_a_pause() -> None:
    assert strays(level((-20, 400)), [PHRASE], 1.5) == []
    assert strays(level((-20, 150), (-60, 60), (-20, 190)), [PHRASE], 1.5) == []
    assert strays(level((-20, 200), (-18, 200)), [PHRASE], 1.5) == []


def test_a_stray_is_told_in_its_own_phrase() -> None:
    power = np.concatenate([level((-20, 400)), level((-20, 300), (-14, 40), (-20, 60))])
    (stray,) = strays(power, [PHRASE, slice(700, 1100)], 1.5)
    assert stray.phrase == 1
    assert 700 <= stray.frames.start < stray.frames.stop <= 1100


def test_onsets_are_found_to_the_bin_and_not_in_the_room(tmp_path: Path) -> None:
    def waveform(sound: np.ndarray) -> np.ndarray:
        return measure_file(write_sound(tmp_path / "sound.wav", sound))[2]

    starts = [0.5, 1.3, 2.2]
    sound = room(-70.0, 3.5)
    for start in starts:
        first = round(start * RATE)
        tone = hum(-20.0, 0.4)
        sound[first : first + len(tone)] += tone
    wave = waveform(sound)
    found = find_onsets(wave, -70.0)
    assert found == pytest.approx(starts, abs=0.002)
    assert find_onsets(waveform(room(-70.0, 3.0)), -70.0).tolist() == []
    assert find_onsets(wave[:10], -70.0).tolist() == []


@pytest.mark.parametrize("name", ["dev_01"])
def test_a_recorded_phrase_begins_with_an_onset(name: str) -> None:
    truth = json.loads((CORPUS / f"{name}.json").read_text())
    _, _, wave = measure_file(CORPUS / f"{name}.flac")
    found = find_onsets(wave, truth["room_tone_db"])
    away = [np.abs(found - phrase["audible_start"]).min() for phrase in truth["phrases"]]
    assert np.mean(np.array(away) < 0.015) > 0.9
