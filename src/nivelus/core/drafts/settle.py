"""Settling: a phrase whose gain was drafted stays level when other gain moves it.

Dips take loudness out of a phrase and a ride shifts it a little; whoever evened the phrases out first did it for nothing in
part. So the clip's gain makes up for the difference, under the ceiling and the noise limit. Most up and most down are not
asked: they are about how far phrases are moved against each other, and this gives back what was taken. That what was set by
hand, locked or left out is not moved, and what another layer was meant to do - a lift by hand - is not undone, is for the
caller.

Two things keep a limit from costing a phrase that was level:

- Its room may come up past the noise limit as far as it takes to stay within the tolerance, and by OVER at most.
- What a limit kept from coming up does not go down when the same loudness is given back, as long as it is under the target.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from nivelus.core.drafts.clip_gain import ClipGainRule, highest_gain
from nivelus.core.measure.filters import FloatArray

LEAST = 0.05
"""dB below which a difference is left alone, unless it takes a phrase out of the tolerance."""
OVER = 3.0
"""dB that the room of a phrase may come up past the noise limit, for the phrase to stay level."""
_HAIR = 1e-6


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
        phrases = "1 phrase re-levelled" if self.count == 1 else f"{self.count} phrases re-levelled"
        return f"{phrases}, by up to {max(self.most, 0.1):.1f} dB"


def settle(
    gain: FloatArray,
    before: FloatArray,
    after: FloatArray,
    true_peaks: FloatArray,
    room_tones: FloatArray,
    rule: ClipGainRule,
) -> Settled:
    """Make up for what other gain did to phrases.

    Parameters
    ----------
    gain : (n,) gain of each clip, dB
    before, after : (n,) level of each phrase with all gain but its clip's, before and after other gain moved it
    true_peaks, room_tones : (n,) dBTP and RMS dBFS of each clip with all gain but its own, after
    rule : the target with its tolerance, and the limits; none of them takes a gain further than it was

    Returns
    -------
    Settled
    """
    gain, before, after = (np.asarray(values, np.float64) for values in (gain, before, after))
    moved, off = after - before, after + gain - rule.target
    was_level = np.abs(before + gain - rule.target) <= rule.tolerance + _HAIR
    # what was level by a hair stays so by a little more
    within = max(rule.tolerance - LEAST, 0.0)
    lowest = np.where(was_level, gain - off - within, -np.inf)
    highest = np.where(was_level, gain - off + within, np.inf)
    wanted = np.minimum(np.maximum(gain - moved, lowest), highest)
    # what stands at its limit has not been given all that was taken from it
    limit = highest_gain(true_peaks, room_tones, rule)
    kept = np.where(gain >= limit, np.minimum(limit, gain - np.maximum(off, 0.0)), -np.inf)
    past = highest_gain(true_peaks, room_tones, replace(rule, noise_limit=rule.noise_limit + OVER))
    most = np.maximum(np.maximum(limit, gain), np.minimum(lowest, past))
    wanted = np.round(np.minimum(np.maximum(wanted, kept), most), 2)
    falls = was_level & (np.abs(off) > rule.tolerance + _HAIR)
    change = np.where((np.abs(moved) >= LEAST) | falls, wanted - gain, 0.0)
    changed = (np.abs(change) >= LEAST) | (falls & (change != 0))
    new = np.where(changed, wanted, gain)
    return Settled(new, int(changed.sum()), float(np.abs(change).max(initial=0.0)))
