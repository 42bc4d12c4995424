"""The room around a phrase: what stays near the lowest levels of its pauses, whatever else lies in them."""

from __future__ import annotations

import json
from itertools import pairwise

import numpy as np
import pytest

from nivelus.core.marks.cells import cut_into_cells, measure_cell
from nivelus.core.marks.phrases import find_phrases, room_frames, room_tone
from nivelus.core.marks.room import LOWEST, is_room, room_of
from nivelus.core.measure.grid import LevelGrid, measure_file, measure_samples
from tests.conftest import CORPUS, RATE, Sound, hiss, hum, room


def power(samples: Sound) -> np.ndarray:
    """Mean squares of frames of 10 ms."""
    return np.asarray(measure_samples(samples, RATE).column("plain"))


@pytest.mark.parametrize("share", [0.0, 0.3, 0.6, 0.85])
def test_a_breath_that_fills_most_of_a_pause_is_not_its_room(share: float) -> None:
    pause = room(-60.0, 2.0)
    breath = hiss(-30.0, 2.0 * share, 500.0, 6000.0) if share else np.zeros(0)
    pause[len(pause) // 10 : len(pause) // 10 + len(breath)] += breath
    assert room_of(power(pause)) == pytest.approx(-60.0, abs=0.7)


def test_a_steady_room_is_room_in_almost_every_frame() -> None:
    assert is_room(power(room(-50.0, 5.0))).mean() > 0.98


def test_digital_silence_counts_where_it_is_most_of_a_pause() -> None:
    tone, silence = power(room(-60.0, 1.0)), np.zeros(80)
    assert room_of(np.concatenate([silence, tone])) == pytest.approx(-60.0, abs=0.7)
    assert room_of(np.concatenate([silence, tone[:60]])) == LOWEST
    assert room_of(silence) == LOWEST


@pytest.mark.parametrize("name", ["dev_01", "dev_04"])
def test_the_room_of_every_phrase_is_as_its_label_says(name: str) -> None:
    """dev_01 and dev_04 are programmes with breaths in their pauses, and the level of their room written down."""
    _, grid, _ = measure_file(CORPUS / f"{name}.flac")
    found = find_phrases(grid)
    label = json.loads((CORPUS / f"{name}.json").read_text())["room_tone_db"]
    tones = np.array([cell.room_tone for cell in cut_into_cells(grid, found)])
    assert np.abs(tones - label).max() < 3.0
    assert abs(np.median(tones) - label) < 0.5
    assert found.room_tone == pytest.approx(label, abs=0.5)


WORD, PAUSE = 1.2, 0.5


def with_breaths() -> tuple[LevelGrid, list[tuple[int, int]]]:
    """Words with a loud breath in every pause between them, and their frames."""
    length = 6 * (WORD + PAUSE)
    samples = room(-58.0, length, seed=9)
    frames = []
    for index in range(6):
        start = index * (WORD + PAUSE)
        for at, part in ((start, hum(-24.0, WORD, seed=index)), (start + WORD + 0.1, hiss(-36.0, 0.3, 500.0, 6000.0))):
            samples[round(at * RATE) : round(at * RATE) + len(part)] += part
        frames.append((round(start * 100), round((start + WORD) * 100)))
    return measure_samples(samples, RATE), frames


def test_the_room_of_a_recording_is_not_its_breaths() -> None:
    grid, words = with_breaths()
    assert room_tone(grid, room_frames(grid, words)) == pytest.approx(-58.0, abs=0.7)
    for start, end in pairwise(words):
        cell = measure_cell(grid, (start[0] - 10) * 480, (end[0] - 10) * 480, start[0] * 480, start[1] * 480, 1.0, -20.0)
        assert cell.room_tone == pytest.approx(-58.0, abs=1.5)


def test_the_room_with_gain_is_of_the_same_frames() -> None:
    """Gain that turns the breaths down does not make the room another one."""
    grid, words = with_breaths()
    gain = np.ones((len(grid.data), 2))
    gain[np.asarray(grid.column("plain")) > 10 ** (-50 / 10)] = 10 ** (-40 / 10)
    rooms = room_frames(grid, words)
    assert room_tone(grid, rooms, gain) == room_tone(grid, rooms)
    assert room_tone(grid, rooms, 4.0 * np.ones_like(gain)) == pytest.approx(room_tone(grid, rooms) + 6.02, abs=0.01)
