"""A bed for the audio guide, synthesised from a fixed seed: the sea, a harbour, and a tune that nobody has written before."""

from __future__ import annotations

from functools import cache

import numpy as np

from nivelus.demo.voices import RATE, Sound

# steps of a scale of five, in half tones from D3; a rest is None
_TUNE = (0, 7, 12, None, 10, 7, 3, None, 0, 5, 10, 12, None, 7, 5, None, 3, 10, 15, None, 12, 10, 7, None)
_BEAT = 0.62
_LEVEL = -31.0
"""RMS of all of it, dBFS."""


def make_bed(seconds: float, seed: int = 31) -> Sound:
    """A bed of so many seconds, (n, 2): under the first words the sea alone, the tune from there on, swelling and ebbing."""
    random = np.random.default_rng(seed)
    length = round(seconds * RATE)
    sea = np.stack([_sea(length, random), _sea(length, random)], axis=1)
    harbour, tune = _harbour(length, random), _tune(length, random)
    t = np.arange(length) / RATE
    # the tune comes forward and steps back, so that there is something to make room for
    swell = 10 ** ((-3.0 + 5.0 * np.sin(2 * np.pi * t / 37.0 - 1.2)) / 20) * np.clip((t - 3.0) / 4.0, 0, 1)
    bed = 0.5 * sea + harbour + 1.1 * tune * swell[:, None]
    fade = np.minimum(np.clip(t / 0.8, 0, 1), np.clip((seconds - t) / 2.5, 0, 1))
    bed *= fade[:, None]
    return np.asarray(bed * 10 ** (_LEVEL / 20) / np.sqrt(np.mean(bed**2)))


def _sea(length: int, random: np.random.Generator) -> Sound:
    """Waves that come in every seven to eleven seconds: noise that brightens as it breaks."""
    deep, bright = _noise(length, 250.0, random), _noise(length, 2200.0, random)
    # waves are slow: they are worked out a hundred times a second
    moments = np.arange(length // (RATE // 100) + 2) / 100
    waves = np.full(len(moments), 0.25)
    at = -3.0
    while at < moments[-1]:
        t = np.maximum(moments - at, 0)
        waves += (t / 2.6) ** 2 * np.exp(-t / 1.3) * random.uniform(0.6, 1.1)
        at += random.uniform(7.0, 11.0)
    swell = np.interp(np.arange(length) / RATE, moments, waves)
    return np.asarray(deep * (0.4 + swell) + 0.5 * bright * swell**1.5)


def _harbour(length: int, random: np.random.Generator) -> Sound:
    """A rope against a mast now and then, here and there, and a bell far off."""
    out = np.zeros((length, 2))
    t = np.arange(RATE) / RATE
    clink = np.sin(2 * np.pi * 2130 * t) * np.exp(-t / 0.05) + 0.6 * np.sin(2 * np.pi * 3370 * t) * np.exp(-t / 0.03)
    bell = sum(np.sin(2 * np.pi * 440 * k * t) * np.exp(-t * k / 0.5) / k for k in (1.0, 2.02, 2.98))
    for sound, every, level in ((clink, 2.3, 0.05), (bell, 17.0, 0.22)):
        at = random.uniform(1, every)
        while at < length / RATE - 1.1:
            first, side = round(at * RATE), random.uniform(0.2, 0.8)
            out[first : first + RATE] += level * np.asarray(sound)[:, None] * np.sqrt([1 - side, side])
            at += random.uniform(0.5, 1.5) * every
    return out


def _tune(length: int, random: np.random.Generator) -> Sound:
    """Plucked notes over held ones."""
    out = np.zeros((length, 2))
    t = np.arange(round(2.4 * RATE)) / RATE

    @cache
    def plucked(frequency: float, decay: float) -> Sound:
        partials = (np.sin(2 * np.pi * frequency * k * t) * np.exp(-t * k**0.7 / decay) / k**1.3 for k in range(1, 7))
        return np.asarray(sum(partials)) * np.minimum(t / 0.006, 1)

    for beat in range(int(length / RATE / _BEAT) - 4):
        step = _TUNE[beat % len(_TUNE)]
        notes = [] if step is None else [(146.83 * 2 ** (step / 12), 0.5, 0.55)]
        if beat % 8 == 0:
            notes += [(73.42 * 2 ** ((0, 3, 5, -2)[beat // 8 % 4] / 12), 1.6, 0.8)]
        for frequency, decay, level in notes:
            pluck = plucked(frequency, decay) * level * random.uniform(0.75, 1.0)
            first, side = round(beat * _BEAT * RATE), random.uniform(0.35, 0.65)
            part = out[first : first + len(t)]
            part += (pluck[:, None] * np.sqrt([1 - side, side]))[: len(part)]
    return out


def _noise(length: int, corner: float, random: np.random.Generator) -> Sound:
    """Noise that falls above ``corner`` Hz, RMS 1."""
    # what comes out of the transform goes round without a seam
    once = 1 << 20
    frequency = np.fft.rfftfreq(once, 1 / RATE)
    noise = np.fft.irfft(np.fft.rfft(random.standard_normal(once)) / (1 + (frequency / corner) ** 1.5), once)
    return np.resize(noise / np.sqrt(np.mean(noise**2)), length)
