"""Made-up voices for one purpose each."""

from __future__ import annotations

import numpy as np

from tests.conftest import RATE, hum, room, uneven_voice


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
