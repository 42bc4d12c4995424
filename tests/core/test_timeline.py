"""Tracks of several recordings: what is read, measured and found of them equals what the sound itself says."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st

from nivelus.core.chain.marks import FoundMarks, Hand, Hands
from nivelus.core.chain.placing import Run, moved_hand, place_found, place_hands, runs_of
from nivelus.core.marks.mark import COLUMNS
from nivelus.core.measure.compose import Part, compose, compose_wave
from nivelus.core.measure.grid import measure_file, measure_samples
from nivelus.core.measure.spans import span_levels
from nivelus.core.sound.timeline import FADE_SECONDS, Composed, Piece, TimelineReader
from tests.conftest import Sound
from tests.helpers.near import near

RATE = 48_000


def voice(seconds: float = 3.0, seed: int = 3) -> Sound:
    """Noise in syllables, so that every span has a level of its own."""
    rng = np.random.default_rng(seed)
    count = round(seconds * RATE)
    shape = np.repeat(rng.uniform(0.02, 0.3, count // 2400 + 1), 2400)[:count]
    return (rng.normal(size=count) * np.convolve(shape, np.hanning(480) / 240, "same")).astype(np.float32)


VOICE = voice()
GRID = measure_samples(VOICE, RATE)


def file_of(folder: Path, name: str, samples: Sound, rate: int = RATE) -> Path:
    soundfile.write(folder / name, samples, rate, subtype="FLOAT")
    return folder / name


# --- levels


@given(shift=st.integers(-100_000, 200_000), cut=st.tuples(st.integers(0, 40_000), st.integers(100_000, 144_000)))
@settings(max_examples=60, deadline=None)
def test_a_moved_phrase_measures_as_the_sound_that_is_heard(shift: int, cut: tuple[int, int]) -> None:
    """Within 0.1 LU, wherever a recording is put and however much of it is heard."""
    start, end = max(cut[0] + shift, 0), cut[1] + shift
    if end - start < RATE:
        return
    samples = end + 12_345
    heard = np.zeros(samples, np.float32)
    heard[start:end] = VOICE[start - shift : end - shift]
    composed = compose([Part(start, end, shift)], [GRID], RATE, samples, 1)
    measured = measure_samples(heard, RATE)
    assert composed.data.shape == measured.data.shape
    at = (start + 0.1 * RATE) / RATE, (end - 0.1 * RATE) / RATE
    one, other = span_levels(composed, *at), span_levels(measured, *at)
    assert one.loudness == pytest.approx(other.loudness, abs=0.1)
    assert one.rms == pytest.approx(other.rms, abs=0.1)
    assert one.true_peak >= other.true_peak - 1e-3
    silent = np.r_[0 : start * 100 // RATE, -(-end * 100 // RATE) + 1 : len(composed.data)]
    assert not composed.data[silent].any()


def test_a_recording_that_is_cut_and_lies_where_it_was_is_the_grid_that_was_measured() -> None:
    for samples in (len(VOICE), len(VOICE) - 123):
        own = measure_samples(VOICE[:samples], RATE)
        whole = compose([Part(0, samples, 0)], [own], RATE, samples, 1)
        assert np.array_equal(whole.data, own.data)
        halves = compose([Part(0, 55_555, 0), Part(55_555, samples, 0)], [own, own], RATE, samples, 1)
        assert halves.data == near(own.data, abs=1e-6)


def test_a_mono_voice_in_a_stereo_track_is_as_loud_as_it_was() -> None:
    composed = compose([Part(0, len(VOICE), 0)], [GRID], RATE, len(VOICE), 2)
    heard = measure_samples(np.repeat(VOICE[:, None] * np.float32(0.5**0.5), 2, 1), RATE)
    one, other = span_levels(composed, 0.1, 2.9), span_levels(heard, 0.1, 2.9)
    assert one.loudness == pytest.approx(other.loudness, abs=0.01)
    assert one.loudness == pytest.approx(span_levels(GRID, 0.1, 2.9).loudness, abs=0.01)
    assert (one.rms, one.true_peak) == pytest.approx((other.rms, other.true_peak), abs=0.05)


def test_the_waveform_lies_where_the_sound_is(tmp_path: Path) -> None:
    _, _, wave = measure_file(file_of(tmp_path, "a.wav", VOICE))
    shift = 30_000
    composed = compose_wave([Part(shift, shift + len(VOICE), shift)], [wave], RATE, shift + len(VOICE))
    lead = shift * 1600 // RATE
    assert not composed[:lead].any()
    assert np.array_equal(composed[lead : lead + len(wave)], wave)


# --- samples


def test_what_is_moved_sounds_as_before_and_silence_is_silent(tmp_path: Path) -> None:
    path = file_of(tmp_path, "a.wav", VOICE)
    shift, start, end = 20_001, 30_000, 120_000
    fade = round(FADE_SECONDS * RATE)
    with TimelineReader(Composed((Piece(path, start, end, shift),), RATE, 1, 150_000)) as reader:
        sound = np.concatenate(list(reader.blocks(7777)))[:, 0]
    inside = slice(start + fade, end - fade)
    assert np.array_equal(sound[inside], VOICE[inside.start - shift : inside.stop - shift])
    assert not sound[:start].any()
    assert not sound[end:].any()
    assert len(sound) == 150_000


def test_a_recording_that_is_cut_and_stays_is_itself_bit_for_bit(tmp_path: Path) -> None:
    path = file_of(tmp_path, "a.wav", VOICE)
    pieces = Piece(path, 0, 50_000, 0), Piece(path, 50_000, len(VOICE), 0)
    with TimelineReader(Composed(pieces, RATE, 1, len(VOICE))) as reader:
        assert np.array_equal(reader.read(0, len(VOICE))[:, 0], VOICE)


@pytest.mark.parametrize("beyond", [0, 5_000])
def test_joins_do_not_click(tmp_path: Path, beyond: int) -> None:
    """No step is larger than the largest of a 5 ms raised cosine between two levels; with and without material beneath."""
    a = file_of(tmp_path, "a.wav", np.full(50_000 + beyond, 0.5, np.float32))
    b = file_of(tmp_path, "b.wav", np.full(60_000, -0.5, np.float32))
    pieces = Piece(a, 0, 50_000, 0), Piece(b, 50_000, 50_000 + 60_000 - beyond, 50_000 - beyond)
    with TimelineReader(Composed(pieces, RATE, 1, 120_000)) as reader:
        sound = reader.read(0, 120_000)[:, 0]
    largest = np.pi / 2 / (FADE_SECONDS * RATE) * 1.02
    assert np.abs(np.diff(sound)).max() <= largest
    assert sound[49_000] == 0.5
    assert sound[51_000] == -0.5


@pytest.mark.parametrize("rate", [44_100, 96_000])
def test_a_recording_of_another_rate_is_the_same_wherever_reading_begins(tmp_path: Path, rate: int) -> None:
    at = np.arange(2 * rate) / rate
    path = file_of(tmp_path, "a.wav", (0.5 * np.sin(2 * np.pi * 997 * at)).astype(np.float32), rate)
    piece = Piece(path, 1000, 1000 + 2 * RATE, 1000)
    with TimelineReader(Composed((piece,), RATE, 1, 120_000)) as reader:
        whole = reader.read(0, 120_000)[:, 0]
        parts = np.concatenate([block[:, 0] for block in reader.blocks(4321)])
    assert parts == near(whole, abs=1e-5)
    inside = slice(3000, 2 * RATE - 3000)
    wanted = 0.5 * np.sin(2 * np.pi * 997 * np.arange(2 * RATE) / RATE)
    assert whole[1000:][inside] == near(wanted[inside], abs=1e-4)


# --- marks


def marks_at(*starts: int) -> FoundMarks:
    table = np.zeros((len(starts), len(COLUMNS)))
    table[:, COLUMNS.index("start")] = starts
    table[:, COLUMNS.index("end")] = np.array(starts) + 1000
    return FoundMarks(table)


def test_marks_go_with_their_recording_and_end_where_it_does() -> None:
    found = {None: marks_at(1000, 5000, 9000), "b": marks_at(500)}
    kind = found[None].ids[0].split(".")[0]
    assert place_found(found, (Run(None, 0, 0, 20_000),), 20_000) is found[None]
    runs = Run(None, 0, 0, 5_700), Run("b", 6_000, 6_000, 8_000), Run(None, 4_000, 8_000, 30_000)
    placed = place_found(found, runs, 20_000)
    assert placed.ids == [f"{kind}.{at}" for at in (1000, 5000, 6500, 9000, 13_000)]
    start, end = placed.table[:, COLUMNS.index("start")], placed.table[:, COLUMNS.index("end")]
    assert start.tolist() == [1000, 5000, 6500, 9000, 13_000]
    assert end.tolist() == [2000, 5700, 7500, 10_000, 14_000]


def test_what_the_hand_made_is_heard_where_its_recording_lies() -> None:
    hand = Hand("h", "ess.500", 900, "ess", 500, 900, dip_start=520, recording_id="b", shift=6_000)
    hands = Hands((hand,))
    assert place_hands(hands, (Run("b", 6_000, 6_000, 8_000),)).rows == (moved_hand(hand, 6_000),)
    assert moved_hand(moved_hand(hand, 6_000), -6_000) == hand
    for elsewhere in (Run("b", 7_000, 6_000, 9_000), Run(None, 6_000, 6_000, 9_000), Run("b", 6_000, 6_800, 9_000)):
        assert place_hands(hands, (elsewhere,)).rows == ()


def test_runs_are_clips_that_go_on() -> None:
    clips = [(None, 0, 0, 10), (None, 0, 10, 20), (None, 5, 20, 30), ("b", 5, 30, 40), ("b", 5, 50, 60)]
    assert runs_of(clips) == (Run(None, 0, 0, 20), Run(None, 5, 20, 30), Run("b", 5, 30, 40), Run("b", 5, 50, 60))
