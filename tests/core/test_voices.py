"""Voices as people have them, one made signal for each cause of a fault that was seen: calls, laughs, whispers, breaths in the
voice itself, endings, and music that goes on under a voice that comes and goes."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.signal

from nivelus.core.marks.details import RecordingMarks, find_marks
from nivelus.core.measure.grid import measure_samples
from tests.conftest import RATE, Sound, hiss, hum, room
from tests.core.test_what_people_bring import Span, in_room, silence
from tests.helpers.sounds import DOUBTFUL, SURE, air, with_a_doubtful_breath


def found(samples: Sound) -> RecordingMarks:
    return find_marks(measure_samples(samples, RATE))


def spans(marks: RecordingMarks) -> list[Span]:
    return [(p.start, p.end) for p in marks.phrases.phrases]


def call(level: float, seconds: float, fundamental: float = 320.0) -> Sound:
    """A shout: as much above 1 kHz as below it and more, with air in it up to where an ess stands."""
    t = np.arange(round(seconds * RATE)) / RATE
    bent = fundamental * (t + 0.02 * np.sin(2 * np.pi * 5 * t) / (2 * np.pi * 5))
    voice = np.sum([np.sin(2 * np.pi * k * bent + k) for k in range(1, 20)], axis=0)
    sound = voice + 0.5 * hiss(0.0, seconds, 1000, 9000)[: len(t)]
    edge = np.minimum(1, np.minimum(t, t[::-1]) / 0.03)
    return np.asarray(sound * edge * 10 ** (level / 20) / np.sqrt(np.mean(sound**2)))


@pytest.mark.parametrize("level", [-20.0, -34.0])
def test_a_call_without_consonants_is_voice_and_no_breath(level: float) -> None:
    marks = found(in_room(silence(1), hum(-22, 1.0), silence(0.8), call(level, 0.5), silence(0.8), hum(-22, 1.0), silence(1)))
    assert len(marks.phrases.phrases) == 3
    assert spans(marks)[1] == pytest.approx((2.8, 3.3), abs=0.06)
    assert marks.of("breath") == []


def test_a_laugh_is_voice() -> None:
    laugh = np.concatenate([np.concatenate([call(-26.0, 0.11), air(-44.0, 0.09)]) for _ in range(6)])
    marks = found(in_room(silence(1), hum(-22, 1.0), silence(0.9), laugh, silence(1)))
    assert len(marks.phrases.phrases) == 2
    assert spans(marks)[1][0] == pytest.approx(2.9, abs=0.05)
    assert spans(marks)[1][1] > 3.9
    assert marks.of("breath") == []


@pytest.mark.parametrize("where", ["end", "start", "between"])
def test_a_breath_that_touches_the_voice_is_no_part_of_its_phrase(where: str) -> None:
    breath = air(-38.0, 0.45)
    parts = {
        "end": (hum(-20, 1.2), breath),
        "start": (breath, hum(-20, 1.2)),
        "between": (hum(-20, 1.2), breath, hum(-20, 1.2)),
    }[where]
    marks = found(in_room(silence(1), *parts, silence(1.2)))
    expected = {"end": [(1.0, 2.2)], "start": [(1.45, 2.65)], "between": [(1.0, 2.2), (2.65, 3.85)]}[where]
    assert len(marks.phrases.phrases) == len(expected)
    for span, label in zip(spans(marks), expected, strict=True):
        assert span == pytest.approx(label, abs=0.1)
    (mark,) = marks.of("breath")
    start = 1.0 if where == "start" else 2.2
    assert (mark.start, mark.end) == pytest.approx((start, start + 0.45), abs=0.12)


def test_an_ess_at_the_end_of_a_word_stays_with_it() -> None:
    ess = hiss(-34.0, 0.3, 5000, 9000)
    marks = found(in_room(silence(1), hum(-20, 1.0), ess, silence(1)))
    assert spans(marks)[0] == pytest.approx((1.0, 2.3), abs=0.04)
    assert marks.of("breath") == []


def test_a_gap_begins_after_the_ending_that_the_room_hides() -> None:
    """The last word dies away behind its mark; a gap that closes at the mark cuts it off."""
    n = round(1.2 * RATE)
    dying = hum(-22, 1.2)[:n] * 10 ** (-np.linspace(0, 60, n) / 20)
    marks = found(in_room(silence(1.5), hum(-22, 1.0), dying, silence(2), tone=-50.0))
    end = marks.phrases.phrases[0].end
    gap = next(mark for mark in marks.of("gap") if mark.start >= end - 0.02)
    # it falls by 50 dB a second, and is 28 dB over the room at 2.5 s
    assert end == pytest.approx(2.5 + 28 / 50, abs=0.08)
    assert gap.start > end + 0.2
    assert gap.end == pytest.approx(5.7, abs=0.02)


def test_in_a_loud_room_a_phrase_ends_where_its_ending_does() -> None:
    n = round(0.6 * RATE)
    dying = hum(-26, 0.6)[:n] * 10 ** (-np.linspace(0, 40, n) / 20)
    words = [part for _ in range(3) for part in (hum(-26, 1.0), dying, silence(1.2))]
    marks = found(in_room(silence(1.2), *words, tone=-45.0))
    assert len(marks.phrases.phrases) == 3
    for index, (start, end) in enumerate(spans(marks)):
        assert start == pytest.approx(1.2 + 2.8 * index, abs=0.05)
        # after half of its way down it is under the room, and after all of it 40 dB under its phrase
        assert end == pytest.approx(2.8 + 2.8 * index, abs=0.2)


def test_a_whispered_word_is_a_phrase() -> None:
    """Noise through the resonances of vowels, in two syllables with an ess between."""

    def vowel(centre: float, seconds: float) -> Sound:
        b, a = scipy.signal.iirpeak(centre, 4.0, fs=RATE)
        noise = scipy.signal.lfilter(b, a, np.random.default_rng(int(centre)).standard_normal(round(seconds * RATE)))
        t = np.linspace(0, 1, len(noise))
        return np.asarray(noise * np.minimum(1, np.minimum(t, 1 - t) * 8) * 10 ** (-32 / 20) / np.sqrt(np.mean(noise**2)))

    word = np.concatenate([vowel(700, 0.25), hiss(-36, 0.12, 4800, 9000), vowel(500, 0.3)])
    marks = found(in_room(silence(1), hum(-20, 1.0), silence(0.8), word, silence(0.8), hum(-20, 1.0), silence(1)))
    assert len(marks.phrases.phrases) == 3
    assert marks.of("breath") == []


def test_a_short_syllable_goes_with_the_word_beside_it() -> None:
    marks = found(in_room(silence(1), call(-24, 0.12), silence(0.3), hum(-20, 0.8), silence(1)))
    assert len(marks.phrases.phrases) == 1
    assert spans(marks)[0] == pytest.approx((1.0, 2.22), abs=0.05)


def music(seconds: float, level: float) -> Sound:
    """Chords that change twice a second, each struck and dying away."""
    random, t = np.random.default_rng(8), np.arange(round(0.5 * RATE)) / RATE
    chords = []
    for _ in range(round(seconds / 0.5) + 1):
        tones = random.choice([220, 262, 294, 330, 392, 440, 523], 3, replace=False)
        chord = np.sum([np.sin(2 * np.pi * f * k * t) / k for f in tones for k in (1, 2, 3)], axis=0)
        chords.append(chord * np.exp(-t / 0.5) * 10 ** (random.uniform(-4, 4) / 20))
    sound = np.concatenate(chords)[: round(seconds * RATE)]
    return np.asarray(sound * 10 ** (level / 20) / np.sqrt(np.mean(sound**2)))


def test_a_voice_over_music_comes_and_goes_and_the_music_goes_on() -> None:
    levels = (-18.0, -30.0, -20.0, -32.0, -19.0, -28.0)
    voice = np.concatenate([part for k, level in enumerate(levels) for part in (hum(level, 1.0, seed=k), silence(0.9))])
    voice = np.concatenate([silence(1), voice])
    marks = found(voice + music(len(voice) / RATE, -46.0)[: len(voice)] + room(-75, len(voice) / RATE + 1)[: len(voice)])
    assert len(marks.phrases.phrases) == len(levels)
    for index, span in enumerate(spans(marks)):
        assert span == pytest.approx((1.0 + 1.9 * index, 2.0 + 1.9 * index), abs=0.12)
    assert marks.of("breath") == []


def test_what_may_be_a_word_without_pitch_is_in_doubt_and_a_breath_is_not() -> None:
    sure, doubtful = found(with_a_doubtful_breath()).of("breath")
    assert (sure.start, sure.end) == pytest.approx(SURE, abs=0.05)
    assert (doubtful.start, doubtful.end) == pytest.approx(DOUBTFUL, abs=0.05)
    assert sure.confidence > 0.5
    assert [sure.is_doubtful, doubtful.is_doubtful] == [False, True]
