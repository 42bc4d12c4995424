"""A track that follows another: several microphones of one voice, moved and ridden as one.

It is heard where its leader is heard, and has the gain of its leader, sample for sample, which stays as it is at the leader's
end if it is longer; what is its own is its trim. So the phase between the microphones stays what it was.

Conventions
-----------
``lag`` is by how many samples of the follower its recording begins later than that of its leader.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from nivelus.core.chain.placing import Run, Runs
from nivelus.core.chain.state import LAYERS, TrackState
from nivelus.core.gain.compiled import FloatArray, GainCurve, add_curves


@dataclass(frozen=True, eq=False)
class Following(TrackState):
    """The state of a track that follows another, its ``leader``: it has no clips and no marks of its own.

    Of the layers, the ride holds also the trim of its leader; the trim is its own.
    """

    leader: TrackState = field(kw_only=True)

    @cached_property
    def gain(self) -> GainCurve:
        """The pre-fader gain: that of the leader, and the trim."""
        return self._with_trim(self.without_trim)

    @cached_property
    def without_trim(self) -> GainCurve:
        """The gain of the leader."""
        return self._at_rate(self.leader.gain)

    @property
    def spoken(self) -> FloatArray:
        """Start and end of the phrases that count, those of the leader, samples, (n, 2)."""
        return np.asarray(self.leader.spoken * (self.rate / self.leader.rate))

    def of_layers(self, layers: Collection[str]) -> GainCurve:
        """The sum of some of LAYERS."""
        if set(LAYERS) <= set(layers):
            return self.gain
        theirs = set(layers) - {"trim"} | ({"trim"} if "ride" in layers else set())
        lead = self._at_rate(self.leader.of_layers(theirs))
        return self._with_trim(lead) if "trim" in layers else lead

    def _with_trim(self, lead: GainCurve) -> GainCurve:
        own = self.drawn(["trim"])
        return lead if own is None else add_curves([lead, own])

    def _at_rate(self, lead: GainCurve) -> GainCurve:
        share, last = self.rate / self.leader.rate, self.leader.samples - 1.0
        if self.samples > self.leader.samples * share and lead.at[-1] > last:
            # beyond its leader's end it stays as it is there
            inside = lead.at < last
            lead = GainCurve(np.append(lead.at[inside], last), np.append(lead.db[inside], np.interp(last, lead.at, lead.db)))
        return lead if share == 1 else GainCurve(np.asarray(lead.at * share), lead.db)


def follow_runs(runs: Runs, theirs: tuple[int, int], own: tuple[int, int], lag: int) -> Runs:
    """What is heard of the recording of a follower: what lies beside its leader's own recording, wherever that is heard.

    Where the leader is heard from its recording's beginning, and nothing lies before that, the follower is heard from its own;
    likewise at the end. Where the leader lets another recording be heard, the follower is silent. O(runs).

    Parameters
    ----------
    runs : of the leader
    theirs : rate and length of the leader's own recording, Hz and samples
    own : the same of the follower
    lag : samples of the follower, see above
    """
    (rate, length), (own_rate, own_length) = theirs, own
    found: list[Run] = []
    for place, run in enumerate(runs):
        if run.recording is not None:
            continue
        start, end, shift = (round(at * own_rate / rate) for at in (run.start, run.end, run.shift))
        shift += lag
        if place == 0 and run.start == run.shift:
            start = min(start, max(shift, 0))
        if place == len(runs) - 1 and run.end == run.shift + length:
            end = max(end, shift + own_length)
        start, end = max(start, shift), min(end, shift + own_length)
        if start < end:
            found.append(Run(None, shift, start, end))
    return tuple(found)
