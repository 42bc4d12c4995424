"""The reference compressor: feed-forward, in the log domain, with a smooth decoupled detector.

It is there to show and to hear how hard a compressor has to work, not to sound like anything.

Source
------
D. Giannoulis, M. Massberg, J. D. Reiss, "Digital Dynamic Range Compressor Design: A Tutorial and Analysis", J. Audio Eng. Soc.
60(6), 2012: the static curve with its knee is their equation 4, the smooth decoupled peak detector their equation 17, and it
stands behind the gain computer, as they recommend. A time constant is the time in which 1 - 1/e of a step is done.

Conventions
-----------
Levels are dBFS, reduction is in dB and never negative. Channels are linked: the louder one decides (peak), or their mean power
(RMS).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal, get_args

import numpy as np
import numpy.typing as npt

from nivelus.core.errors import GainError
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.rule import Number

RMS_SECONDS = 0.01
"""Time constant of RMS detection; common practice."""
SETTLE = 20
"""Time constants after which the detector has forgotten how it began: 2e-9 of it is left."""

Detector = Literal["peak", "rms"]
DETECTORS: tuple[Detector, ...] = get_args(Detector)

SETTINGS: Mapping[str, Number] = {
    "threshold": Number(-80, 0, "dBFS", "Level from which it works", -60, 0),
    "ratio": Number(1, 100, "", "How much of what lies over the threshold is held back", 1, 20),
    "knee": Number(0, 40, "dB", "Over which it begins to work", 0, 24),
    "attack": Number(0, 1, "s", "How long it takes to go down", 0, 0.1),
    "release": Number(0, 5, "s", "How long it takes to come back", 0.01, 1),
    "makeup": Number(-24, 40, "dB", "Gain behind it", 0, 24),
}
"""What may be set of it: of the reference compressor of a track, which is no part of a rule."""


@dataclass(frozen=True, slots=True)
class Compressor:
    """Threshold (dBFS), ratio, width of the knee (dB), attack and release (seconds), make-up (dB), and what is detected.

    Raises
    ------
    GainError
        If the ratio is below 1, or a knee or time is negative or no number.
    """

    threshold: float = -24.0
    ratio: float = 4.0
    knee: float = 6.0
    attack: float = 0.005
    release: float = 0.12
    makeup: float = 0.0
    detector: Detector = "peak"

    def __post_init__(self) -> None:
        values = (self.threshold, self.ratio, self.knee, self.attack, self.release, self.makeup)
        if not all(map(math.isfinite, values)) or self.ratio < 1 or min(self.knee, self.attack, self.release) < 0:
            raise GainError("A compressor has a ratio of at least 1, and no negative knee or time.")

    @property
    def memory(self) -> float:
        """Seconds after which it has forgotten how it began."""
        return SETTLE * (self.attack + self.release + (RMS_SECONDS if self.detector == "rms" else 0.0))


def static_reduction(level: npt.ArrayLike, compressor: Compressor) -> FloatArray:
    """Reduction of a steady level (dBFS), dB: the static curve."""
    over = np.asarray(level, np.float64) - compressor.threshold
    slope, knee = 1 - 1 / compressor.ratio, compressor.knee
    bent = slope * (over + knee / 2) ** 2 / (2 * knee) if knee else np.zeros_like(over)
    return np.where(2 * over <= -knee, 0.0, np.where(2 * over < knee, bent, slope * over))
