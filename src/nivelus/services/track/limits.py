"""How far a clip gain may go."""

from __future__ import annotations

GAIN_RANGE = (-60.0, 24.0)
"""dB, down and up."""


def limited(gain: float) -> float:
    """A clip gain within its range, to a hundredth of a dB."""
    return round(min(max(gain, GAIN_RANGE[0]), GAIN_RANGE[1]), 2) + 0.0
