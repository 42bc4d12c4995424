"""Phrases: the figures reached on two labelled programmes, and what must hold of any recording."""

from __future__ import annotations

from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from bench.marks import score_phrases, score_programme
from hypothesis import given, settings
from hypothesis import strategies as st

from nivelus.core.marks.cells import cut_into_cells
from nivelus.core.marks.phrases import find_phrases
from nivelus.core.measure.grid import LevelGrid, measure_samples
from tests.conftest import CORPUS, RATE, hum, room, uneven_voice


def marks(samples: np.ndarray, rate: int = RATE) -> tuple[LevelGrid, list[tuple[float, float]]]:
    grid = measure_samples(samples, rate)
    return grid, [(p.start, p.end) for p in find_phrases(grid).phrases]


@pytest.mark.parametrize("name", ["dev_01", "dev_04"])
def test_every_labelled_phrase_is_found_with_both_edges(name: str) -> None:
    """dev_01 is a clean room, dev_04 two voices in a noisy one; both were found whole when this was written."""
    score = score_programme(CORPUS / f"{name}.flac").phrases
    assert score.recall == 1.0
    assert score.precision == 1.0
    assert np.median(score.edge_errors) <= 0.011
    assert np.percentile(score.edge_errors, 90) <= 0.016


def test_the_score_knows_a_miss_from_a_hit() -> None:
    labels = [(1.0, 2.0), (3.0, 4.0), (5.0, 6.0)]
    score = score_phrases(labels, [(1.05, 2.05), (3.2, 4.0), (8.0, 9.0)])
    assert (score.labels, score.marks, score.found) == (3, 3, 1)
    assert score.f1 == pytest.approx(1 / 3)


@pytest.mark.parametrize("rate", [8_000, 16_000, 22_050, 44_100, 96_000])
def test_phrases_are_found_at_every_rate(rate: int) -> None:
    _, found = marks(uneven_voice(rate=rate), rate)
    expected = [(0.7 + 1.7 * k, 1.7 + 1.7 * k) for k in range(4)]
    assert len(found) == 4
    for (a, b), (c, d) in zip(found, expected, strict=True):
        assert a == pytest.approx(c, abs=0.1)
        assert b == pytest.approx(d, abs=0.1)


def test_a_short_pause_does_not_split_a_phrase_and_a_long_one_does() -> None:
    def two(pause: float) -> int:
        quiet = np.zeros(round(pause * RATE))
        voice = np.concatenate([np.zeros(RATE), hum(-20, 1), quiet, hum(-20, 1), np.zeros(RATE)])
        return len(marks(voice + room(-66, len(voice) / RATE)[: len(voice)])[1])

    assert two(0.12) == 1
    assert two(0.7) == 2


def test_a_soft_beginning_and_ending_belong_to_the_phrase() -> None:
    swell = hum(-20, 2.0) * np.minimum(1, np.minimum(np.linspace(0, 8, 2 * RATE), np.linspace(8, 0, 2 * RATE)))
    voice = np.concatenate([np.zeros(RATE), swell, np.zeros(RATE)])
    _, found = marks(voice + room(-66, 4.0))
    assert len(found) == 1
    assert found[0][0] == pytest.approx(1.0, abs=0.04)
    assert found[0][1] == pytest.approx(3.0, abs=0.04)


def breath(seconds: float = 0.35, level: float = -44.0) -> np.ndarray:
    """Noise around 1-4 kHz that swells and breaks off: air, without a vowel in it."""
    n = round(seconds * RATE)
    spectrum = np.fft.rfft(np.random.default_rng(4).standard_normal(n))
    frequency = np.fft.rfftfreq(n, 1 / RATE)
    noise = np.fft.irfft(spectrum * np.exp(-(((frequency - 2300) / 1500) ** 2)), n) * np.sin(np.linspace(0, np.pi, n))
    return np.asarray(noise * 10 ** (level / 20) / np.sqrt(np.mean(noise**2)))


def test_the_breath_before_a_phrase_is_in_its_cell_but_not_in_the_phrase() -> None:
    voice = np.concatenate(
        [np.zeros(RATE), hum(-20, 1), np.zeros(round(0.6 * RATE)), breath(), np.zeros(2400), hum(-20, 1), np.zeros(RATE)]
    )
    grid = measure_samples(voice + room(-70, len(voice) / RATE)[: len(voice)], RATE)
    found = find_phrases(grid)
    breath_start, phrase_start = 2.6, 2.6 + 0.35 + 0.05
    assert len(found.phrases) == 2
    assert found.phrases[1].start == pytest.approx(phrase_start, abs=0.05)
    assert found.cuts[0] <= breath_start + 0.03
    assert found.cuts[0] >= 2.0


@settings(max_examples=25, deadline=None)
@given(seed=st.integers(0, 10_000), count=st.integers(0, 6))
def test_cells_tile_any_recording_without_holes(seed: int, count: int) -> None:
    random = np.random.default_rng(seed)
    parts = [np.zeros(int(random.integers(1000, 40_000)))]
    for _ in range(count):
        parts += [
            hum(random.uniform(-40, -12), random.uniform(0.2, 1.5), seed=seed),
            np.zeros(int(random.integers(500, 60_000))),
        ]
    voice = np.concatenate(parts)
    grid = measure_samples(voice + room(random.uniform(-80, -50), len(voice) / RATE + 1, seed=seed)[: len(voice)], RATE)
    found = find_phrases(grid)
    cells = cut_into_cells(grid, found)
    assert cells[0].start == 0
    assert cells[-1].end == grid.samples
    assert all(a.end == b.start for a, b in pairwise(cells))
    for cell in cells:
        assert cell.end > cell.start
        if cell.phrase_start is not None:
            assert cell.start <= cell.phrase_start < cell.phrase_end <= cell.end
            assert cell.levels is not None
    assert all(0.0 <= p.confidence <= 1.0 for p in found.phrases)
    assert [p.start for p in found.phrases] == sorted(p.start for p in found.phrases)


def test_a_recording_without_a_voice_is_one_cell_without_a_phrase() -> None:
    grid = measure_samples(room(-50, 5), RATE)
    cells = cut_into_cells(grid, find_phrases(grid))
    assert [(c.start, c.end, c.phrase_start) for c in cells] == [(0, 5 * RATE, None)]


def test_room_tone_is_that_of_the_pauses() -> None:
    assert find_phrases(measure_samples(uneven_voice(tone=-58.0), RATE)).room_tone == pytest.approx(-58.0, abs=1.0)


def test_the_voice_lines_of_the_demo_are_found_where_they_were_laid(tmp_path: Path) -> None:
    """The demo's song has its lines written down; their edges are found to a fifth of a second (they are sung softly), and a
    line is divided only where the singer pauses."""
    from nivelus.demo.voices import sing

    song, words = sing()
    _, found = marks(song)
    assert len(found) <= len(words) + 2
    for said in words:
        parts = [span for span in found if span[0] >= said.start - 0.1 and span[1] <= said.end + 0.1]
        assert parts[0][0] <= said.start + 0.6
        assert parts[-1][1] >= said.end - 0.6
        assert sum(end - start for start, end in parts) > 0.85 * (said.end - said.start)
