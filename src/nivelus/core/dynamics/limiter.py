"""The monitor limiter, as the ear gets it: for a mix in which it is asked for.

Gain falls ahead of a peak by 64 samples and comes back slowly (a one-pole of 150 ms). The lowest need of the look-ahead is
held, and averaged over as long, so that it arrives in time and without a step.
"""

from __future__ import annotations

import numba
import numpy as np
import numpy.typing as npt

LOOK_AHEAD = 64
CEILING = 10 ** (-1 / 20)
"""-1 dBFS."""
RELEASE = 0.15


class Limiter:
    """Holds blocks that follow each other under CEILING. What comes out lies LOOK_AHEAD - 1 samples behind what goes in."""

    def __init__(self, channels: int, rate: int) -> None:
        self._delay = np.zeros((2 * LOOK_AHEAD, channels))
        self._need, self._window = np.ones(2 * LOOK_AHEAD), np.ones(LOOK_AHEAD)
        self._state = np.array([0.0, 1.0])
        self._back = 1 - np.exp(-1 / (RELEASE * rate))

    def run(self, block: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
        """Limit a block, (n, channels)."""
        out = np.empty_like(block)
        _limit(block, self._delay, self._need, self._window, self._state, self._back, out)
        return out


@numba.njit(cache=True)
def _limit(
    x: npt.NDArray[np.float64],
    delay: npt.NDArray[np.float64],
    need: npt.NDArray[np.float64],
    window: npt.NDArray[np.float64],
    state: npt.NDArray[np.float64],
    back: float,
    out: npt.NDArray[np.float64],
) -> None:
    size = 2 * LOOK_AHEAD
    at, held = int(state[0]), state[1]
    for i in range(len(x)):
        peak = 0.0
        for c in range(x.shape[1]):
            peak = max(peak, abs(x[i, c]))
        now = at % size
        need[now] = CEILING / peak if peak > CEILING else 1.0
        lowest = 1.0
        for k in range(LOOK_AHEAD + 1):
            lowest = min(lowest, need[(now - k) % size])
        held = min(lowest, held + (1 - held) * back)
        window[at % LOOK_AHEAD] = held
        gain = window.sum() / LOOK_AHEAD
        old = (now - LOOK_AHEAD + 1) % size
        for c in range(x.shape[1]):
            delay[now, c] = x[i, c]
            out[i, c] = delay[old, c] * gain
        at += 1
    state[0], state[1] = at, held
