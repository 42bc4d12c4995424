"""Phrases and marks on what recordings of people are like: one made signal for each cause of a fault that was seen."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.signal

from nivelus.core.marks.details import find_marks
from nivelus.core.marks.phrases import find_phrases
from nivelus.core.measure.grid import measure_samples
from nivelus.core.measure.loudness import gated_loudness
from tests.conftest import BREATHS, RATE, Sound, detailed_voice, hiss, hum, room

Span = tuple[float, float]


def silence(seconds: float, rate: int = RATE) -> Sound:
    return np.zeros(round(seconds * rate))


def in_room(*parts: Sound, tone: float = -66.0, rate: int = RATE) -> Sound:
    voice = np.concatenate(parts)
    return voice + room(tone, len(voice) / rate + 1, rate)[: len(voice)]


def phrases(samples: Sound, rate: int = RATE, longest: float = 8.0) -> list[Span]:
    return [(p.start, p.end) for p in find_phrases(measure_samples(samples, rate), longest=longest).phrases]


def breaths(samples: Sound, rate: int = RATE) -> list[Span]:
    return [(m.start, m.end) for m in find_marks(measure_samples(samples, rate)).of("breath")]


def open_vowel(level: float, seconds: float, rate: int = RATE) -> Sound:
    """A vowel like the one of “hat”: as much above 1 kHz as below it, and nothing where an ess stands. Resonances at 950 and
    1550 Hz (of the order of G. E. Peterson, H. L. Barney, J. Acoust. Soc. Am. 24, 1952; from memory)."""
    t = np.arange(round(seconds * rate)) / rate
    sound = np.zeros(len(t))
    for k in range(1, 25):
        f = 140.0 * k
        height = 1 / (1 + ((f - 950) / 130) ** 2) + 1.2 / (1 + ((f - 1550) / 160) ** 2)
        sound += height * np.sin(2 * np.pi * f * t + k)
    edge = np.minimum(1, np.minimum(t, t[::-1]) / 0.02)
    return np.asarray(sound * edge * 10 ** (level / 20) / np.sqrt(np.mean(sound**2)))


def release(level: float, seconds: float = 0.09) -> Sound:
    """What follows the closure of a t: noise that is there at once and dies away."""
    n = round(seconds * RATE)
    noise = hiss(level, seconds, 300, 6000)
    return np.asarray(noise * np.exp(-np.arange(n) / (0.025 * RATE)) * 3)


@pytest.mark.parametrize("quiet", [-32.0, -30.0])
@pytest.mark.parametrize("tone", [-70.0, -60.0])
def test_phrases_of_different_level_cut_tight_are_two(quiet: float, tone: float) -> None:
    found = phrases(in_room(silence(1), hum(-20, 1), silence(0.2), hum(quiet, 1), silence(1), tone=tone))
    assert len(found) == 2
    assert found[0] == pytest.approx((1.0, 2.0), abs=0.03)
    assert found[1] == pytest.approx((2.2, 3.2), abs=0.03)


@pytest.mark.parametrize("closure", [0.06, 0.1, 0.14])
def test_a_closure_inside_a_word_stays_in_it(closure: float) -> None:
    found = phrases(in_room(silence(1), hum(-20, 0.4), silence(closure), hum(-25, 0.3), silence(1)))
    assert found == [pytest.approx((1.0, 1.7 + closure), abs=0.03)]


def test_a_shallow_pause_must_be_longer_than_a_deep_one() -> None:
    def parts(pause: float, tone: float) -> int:
        return len(phrases(in_room(silence(1), hum(-22, 1), silence(pause), hum(-22, 1), silence(1), tone=tone)))

    assert parts(0.24, -70) == 2
    assert parts(0.24, -34) == 1


def test_a_long_phrase_is_divided_at_its_pauses() -> None:
    word = [part for k in range(24) for part in (hum(-22, 0.8, seed=k), silence(0.14 if k % 4 != 3 else 0.15))]
    edited = in_room(silence(1), *word, silence(1))
    found = phrases(edited)
    assert max(b - a for a, b in found) <= 8.0
    assert len(found) >= 3
    whole = phrases(edited, longest=600.0)
    assert len(whole) == 1
    assert (found[0][0], found[-1][1]) == pytest.approx(whole[0], abs=0.011)
    # no word is lost or cut: each lies in one phrase
    for k in range(24):
        start = 1.0 + sum(0.8 + (0.14 if j % 4 != 3 else 0.15) for j in range(k))
        assert any(a <= start + 0.03 and b >= start + 0.77 for a, b in found)


def test_a_note_that_is_held_long_stays_one_phrase() -> None:
    assert len(phrases(in_room(silence(1), hum(-22, 20), silence(1)))) == 1


@pytest.mark.parametrize("rate", [8_000, 16_000, 48_000])
def test_loud_breaths_close_to_the_words_are_found_at_every_rate(rate: int) -> None:
    def talk() -> tuple[Sound, list[Span]]:
        parts, spans, at = [silence(0.5, rate)], [], 0.5
        for k in range(6):
            parts += [hum(-22, 1.1, rate, seed=k), silence(0.1, rate)]
            at += 1.2
            parts += [hiss(-36.0, 0.45, 900, 3400, rate, seed=k), silence(0.08, rate)]
            spans.append((at, at + 0.45))
            at += 0.53
        return in_room(*parts, hum(-22, 1.0, rate), silence(0.5, rate), tone=-52.0, rate=rate), spans

    sound, expected = talk()
    found = breaths(sound, rate)
    assert len(found) == len(expected)
    for (a, b), (c, d) in zip(found, expected, strict=True):
        assert min(b, d) - max(a, c) > 0.6 * (max(b, d) - min(a, c))


def test_a_released_t_belongs_to_its_word_and_is_no_breath() -> None:
    word = np.concatenate([silence(1), hum(-22, 0.5), silence(0.08), release(-42), silence(1)])
    sound = word + room(-68, 4)[: len(word)]
    assert phrases(sound) == [pytest.approx((1.0, 1.65), abs=0.035)]
    assert breaths(sound) == []


def test_a_tail_is_no_breath() -> None:
    """What only dies away from the end of a word on, as in a reverberant room."""
    n = round(0.6 * RATE)
    tail = np.random.default_rng(3).standard_normal(n) * np.exp(-np.arange(n) / (0.09 * RATE)) * 10 ** (-34 / 20)
    assert breaths(in_room(silence(1), hum(-20, 1), tail, silence(1), hum(-20, 1), silence(1))) == []


@pytest.mark.parametrize("rate", [8_000, 48_000])
def test_a_word_on_an_open_vowel_is_voice(rate: int) -> None:
    sound = in_room(
        *(silence(1, rate), hum(-22, 1, rate), silence(0.8, rate), open_vowel(-22, 0.4, rate), silence(0.8, rate)),
        *(hum(-22, 1, rate), silence(1, rate)),
        rate=rate,
    )
    assert len(phrases(sound, rate)) == 3
    assert breaths(sound, rate) == []


def test_clips_with_rooms_of_their_own_in_digital_silence() -> None:
    def clip(level: float, tone: float, seed: int) -> Sound:
        return in_room(silence(0.25), hum(level, 0.7, seed=seed), silence(0.25), tone=tone)

    clips = [(-18, -52), (-30, -78), (-20, -60), (-27, -46)]
    parts, expected, at = [silence(0.6)], [], 0.6
    for seed, (level, tone) in enumerate(clips):
        parts += [clip(level, tone, seed), silence(0.3)]
        expected.append((at + 0.25, at + 0.95))
        at += 1.5
    found = phrases(np.concatenate([*parts, silence(0.5)]))
    assert len(found) == 4
    for span, there in zip(found, expected, strict=True):
        assert span == pytest.approx(there, abs=0.04)


def test_voice_cut_off_in_digital_silence_keeps_its_edges_and_levels_apart() -> None:
    sound = np.concatenate([silence(1), hum(-20, 0.8), silence(0.2), hum(-29, 0.8), silence(0.2), hum(-21, 0.8), silence(1)])
    found = phrases(sound)
    assert len(found) == 3
    for span, start in zip(found, (1.0, 2.0, 3.0), strict=True):
        assert span == pytest.approx((start, start + 0.8), abs=0.03)


def test_a_room_so_quiet_that_parts_of_it_are_silence() -> None:
    assert (
        len(phrases(in_room(*(part for k in range(4) for part in (silence(0.7), hum(-34 - k, 1))), silence(1), tone=-92))) == 4
    )


@pytest.mark.parametrize("louder", [-54.0, -48.0])
def test_a_room_that_steps_up_begins_no_phrase(louder: float) -> None:
    first = in_room(silence(1), hum(-22, 1.5), silence(0.7), tone=-66.0)
    second = in_room(silence(0.45), hum(-22, 1.5, seed=2), silence(1.0), tone=louder)
    found = phrases(np.concatenate([first, second]))
    assert len(found) == 2
    assert found[1][0] == pytest.approx(3.2 + 0.45, abs=0.04)
    assert breaths(np.concatenate([first, second])) == []


@pytest.mark.parametrize("seconds", [0.25, 0.35, 0.39, 0.41, 0.6])
def test_a_short_word_is_as_loud_by_itself_as_in_a_long_phrase(seconds: float) -> None:
    word = hum(-22, seconds)
    sound = in_room(word, silence(0.2), word, silence(0.2), word, silence(0.2), word, tone=-70)
    k = measure_samples(sound, RATE).column("k")
    alone = gated_loudness(k[: round(seconds * 100)])
    assert gated_loudness(k) == pytest.approx(alone, abs=0.3)


def test_what_was_8_khz_once_says_that_it_cannot_show_esses() -> None:
    narrow = np.concatenate([detailed_voice(8_000)] * 2)
    wide = scipy.signal.resample_poly(narrow, 6, 1)
    found = find_marks(measure_samples(wide, RATE))
    assert not found.shows_esses
    assert found.of("ess") == []
    assert len(found.of("breath")) == 2 * len(BREATHS)
    assert find_marks(measure_samples(detailed_voice(), RATE)).shows_esses
