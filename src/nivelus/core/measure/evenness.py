"""How even a set of phrases is: the figures that are always on view, before and after."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt


@dataclass(frozen=True, slots=True)
class Evenness:
    """``level`` of ``count`` phrases are within the tolerance; ``spread`` is the standard deviation of their levels and
    ``width`` the range from the 10th to the 90th percentile, both in LU (or dB)."""

    level: int
    count: int
    spread: float
    width: float


def evenness(levels: npt.ArrayLike, target: float, tolerance: float) -> Evenness:
    """Judge phrase levels (n,) against a target in the same unit; zeros without phrases."""
    values = np.asarray(levels, np.float64)
    if not len(values):
        return Evenness(0, 0, 0.0, 0.0)
    low, high = np.percentile(values, [10, 90])
    return Evenness(
        level=int((np.abs(values - target) <= tolerance + 1e-9).sum()),
        count=len(values),
        spread=float(values.std()),
        width=float(high - low),
    )
