"""What falls within a phrase: the tune of reading is kept, and only what falls further comes back."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from nivelus.core.drafts.ride import RideDraft
from nivelus.core.drafts.wants import RideRule, is_sung
from nivelus.core.measure.grid import FRAME, measure_samples
from nivelus.core.measure.loudness import gated_loudness
from tests.conftest import RATE, hiss, hum, room
from tests.helpers.ridden import FULL, Voice, falling, ridden, spans_of, voice_of


def sinking(by: float, extra: float = 0.0) -> np.ndarray:
    """Two phrases of three seconds that sink by so many dB from beginning to end, and by some more over the last second."""
    out = room(-72.0, 9.0)
    t = np.arange(3 * RATE) / RATE
    gain = 10 ** ((-by * t / 3 - np.where(t > 2.0, extra, 0.0)) / 20)
    for k, start in enumerate((0.8, 4.8)):
        # four syllables a second, with a consonant between them
        voice = np.where(t % 0.25 < 0.19, hum(-20.0, 3.0, seed=k), hiss(-36.0, 3.0, 900, 5000, seed=k)[: len(t)])
        out[round(start * RATE) : round(start * RATE) + len(t)] += voice * gain
    return out


def falls(draft: RideDraft, voice: Voice, power: np.ndarray) -> list[float]:
    """How far each phrase falls from its first to its last third with a ride, LU."""
    ridden_power = power * 10 ** (draft.curve((np.arange(len(power)) + 0.5) * FRAME) / 10)
    out = []
    for start, end in spans_of(voice):
        span = voice[0].span(start, end)
        third = (span.stop - span.start) // 3
        first, last = ridden_power[span.start : span.start + third], ridden_power[span.stop - third : span.stop]
        out.append(gated_loudness(first) - gated_loudness(last))
    return out


def test_an_even_reading_keeps_its_tune_and_only_what_falls_further_comes_back() -> None:
    """Natural is a fall of 2 LU from beginning to end: between the middles of the outer thirds, two thirds of it."""
    rule = RideRule(strength=1.0, dead_band=0.5)
    for sound, left in ((sinking(2.0), 4 / 3), (sinking(6.0), 4 / 3), (sinking(2.0, 5.0), 4 / 3), (sinking(-4.0), 0.0)):
        found = voice_of(measure_samples(sound, RATE))
        power = np.asarray(found[0].column("k"), np.float64)
        assert falls(ridden(found, rule), found, power) == pytest.approx([left] * 2, abs=0.6)
        assert falls(ridden(found, replace(rule, natural_fall=0.0)), found, power) == pytest.approx([0.0] * 2, abs=0.6)


def test_a_voice_that_sings_has_no_natural_fall() -> None:
    held = np.concatenate([np.ones(90), np.zeros(10)] * 6)
    spoken = np.concatenate([np.ones(30), np.zeros(10)] * 15)
    assert is_sung(held, [slice(0, 600)])
    assert not is_sung(spoken, [slice(0, 600)])
    assert not is_sung(np.zeros(100), [slice(0, 100)])
    assert not is_sung(held, [])
    # one note that fades by 2.7 dB over three seconds comes back as a whole
    out = room(-72.0, 5.0)
    t = np.arange(3 * RATE) / RATE
    out[RATE : 4 * RATE] += 0.2 * np.sin(2 * np.pi * 220 * t) * 10 ** (-0.9 * t / 20)
    found = voice_of(measure_samples(out, RATE))
    power = np.asarray(found[0].column("k"), np.float64)
    assert falls(ridden(found, RideRule(strength=1.0, dead_band=0.5)), found, power)[0] < 0.6


def test_a_last_word_that_falls_is_brought_back() -> None:
    """At least 85 % of a fall of 8 LU over the last third, at the usual limits; the phrase itself settles afterwards."""
    found = voice_of(measure_samples(falling(), RATE))
    draft = ridden(found, FULL, rises=np.full(2, np.inf))
    for start, end in spans_of(found):
        third = (end - start) / 3
        early, late = (
            draft.curve(np.linspace(a, b, 50)).mean() for a, b in ((start, end - third - 0.2), (end - third + 0.2, end))
        )
        assert late - early >= 0.85 * 8
        assert late <= 6.0 + 1e-6
    alone = ridden(found, FULL)
    assert all(abs(p.after - p.before) < 0.4 for p in alone.phrases)


def test_the_decay_of_the_last_syllable_is_kept() -> None:
    out = room(-72.0, 5.0)
    t = np.arange(2 * RATE) / RATE
    out[RATE : 3 * RATE] += hum(-24.0, 2.0) * 10 ** (np.minimum(0.0, -(t - 1.2) * 40) / 20)
    found = voice_of(measure_samples(out, RATE))
    draft = ridden(found, RideRule(dead_band=0.2))
    end = spans_of(found)[0][1]
    held = draft.curve(np.linspace(2.45, end, 20))
    assert np.ptp(held) < 0.5
