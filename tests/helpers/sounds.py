"""Made-up voices for one purpose each."""

from __future__ import annotations

import numpy as np

from tests.conftest import RATE, hiss, hum, room, uneven_voice


def wavering(depth: float = 4.0, period: float = 2.0) -> np.ndarray:
    """Three phrases of four seconds whose level sways by so many dB up and down, with a word that vanishes."""
    out = room(-70.0, 16.0)
    t = np.arange(4 * RATE) / RATE
    for k, start in enumerate((0.8, 5.8, 10.8)):
        sway = 10 ** (depth * np.sin(2 * np.pi * t / period) / 20)
        out[round(start * RATE) : round(start * RATE) + len(t)] += hum(-24.0, 4.0, seed=k) * sway
    return out


def with_a_click(level: float) -> np.ndarray:
    """Three phrases of which the last has a click far over its voice."""
    voice = uneven_voice((-22.0, -24.0, -30.0), tone=-80.0)
    at = round((0.7 + 2 * 1.7 + 0.5) * RATE)
    voice[at : at + 200] += level * np.hanning(200) * np.sign(np.sin(np.arange(200)))
    return voice


def air(level: float, seconds: float, seed: int = 11) -> np.ndarray:
    """A breath: air that swells and ebbs."""
    n = round(seconds * RATE)
    noise = hiss(level, seconds, 900, 5000, seed=seed)[:n] * np.sin(np.linspace(0.15, np.pi - 0.15, n))
    return np.asarray(noise * 10 ** (level / 20) / np.sqrt(np.mean(noise**2)))


SURE, DOUBTFUL = (2.5, 2.95), (4.75, 5.27)
"""Seconds of the two in ``with_a_doubtful_breath``."""


def with_a_doubtful_breath() -> np.ndarray:
    """Three phrases, a breath before the second, and before the third what has no pitch either but two syllables."""
    pauses = [np.zeros(round(seconds * RATE)) for seconds in (1.0, 0.5, 0.3, 0.5, 0.04, 0.3, 1.0)]
    voice = [hum(-20.0, 1.0, seed=k) for k in range(3)]
    parts = [
        *(pauses[0], voice[0], pauses[1], air(-40.0, 0.45), pauses[2], voice[1], pauses[3]),
        *(air(-38.0, 0.22), pauses[4], air(-38.0, 0.26), pauses[5], voice[2], pauses[6]),
    ]
    sound = np.concatenate(parts)
    return sound + room(-66.0, len(sound) / RATE + 1)[: len(sound)]
