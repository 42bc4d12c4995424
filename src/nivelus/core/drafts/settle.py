"""Settling: a phrase whose gain was drafted stays level when other gain moves it.

Dips take loudness out of a phrase and a ride shifts it a little; whoever evened the phrases out first did it for nothing in
part. So the clip's gain makes up for the difference, within the limits that its draft kept to. That what was set by hand,
locked or left out is not moved, and what another layer was meant to do - a lift by hand - is not undone, is for the caller.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from nivelus.core.drafts.clip_gain import ClipGainRule
from nivelus.core.measure.filters import FloatArray

LEAST = 0.05
"""dB below which a difference is left alone."""


@dataclass(frozen=True, slots=True)
class Settled:
    """``gain`` (n,) dB of the clips now; how many phrases settled, and by how much at most (dB)."""

    gain: FloatArray
    count: int
    most: float

    @property
    def words(self) -> str:
        """What was done, for the person; empty where nothing was."""
        if not self.count:
            return ""
        phrases = "1 phrase settled" if self.count == 1 else f"{self.count} phrases settled"
        return f"{phrases}, {self.most:.1f} dB at most"


def headroom(gain: FloatArray, true_peaks: FloatArray, room_tones: FloatArray, rule: ClipGainRule) -> FloatArray:
    """How far each clip may still go up within the limits, (n,) dB; parameters as for ``settle``."""
    room = np.minimum(rule.ceiling - np.asarray(true_peaks), rule.noise_limit - np.asarray(room_tones))
    highest = np.minimum(max(rule.base + rule.most_up, 0.0), np.maximum(room, 0.0))
    return np.asarray(np.maximum(highest - np.asarray(gain, np.float64), 0.0))


def settle(
    gain: FloatArray,
    moved: FloatArray,
    true_peaks: FloatArray,
    room_tones: FloatArray,
    rule: ClipGainRule,
) -> Settled:
    """Make up for what other gain did to phrases.

    Parameters
    ----------
    gain : (n,) gain of each clip, dB
    moved : (n,) how far other gain has moved its phrase, dB
    true_peaks, room_tones : (n,) dBTP and RMS dBFS of each clip with all gain but its own
    rule : the limits; none of them takes a gain further than it was

    Returns
    -------
    Settled
    """
    gain, moved = np.asarray(gain, np.float64), np.asarray(moved, np.float64)
    highest = gain + headroom(gain, true_peaks, room_tones, rule)
    lowest = np.minimum(gain, min(rule.base - rule.most_down, 0.0))
    wanted = np.round(np.clip(gain - moved, lowest, highest), 2)
    change = np.where(np.abs(moved) >= LEAST, wanted - gain, 0.0)
    changed = np.abs(change) >= LEAST
    new = np.where(changed, wanted, gain)
    return Settled(new, int(changed.sum()), float(np.abs(change).max(initial=0.0)))
