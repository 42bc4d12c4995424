"""What is proposed for a bed: room for the voices over it, or a slow ride. Page and command line draft by this alone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from nivelus.core.chain.state import Lane, TrackState
from nivelus.core.drafts.duck import DuckDraft, DuckRule, draft_duck
from nivelus.core.drafts.slow import SlowDraft, SlowRule, draft_slow
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import EMPTY
from nivelus.core.measure.distance import heard_power, phrase_levels
from nivelus.core.measure.grid import LevelGrid


@dataclass
class Sounding:
    """A track that sounds, with its ``fader`` (dB), and whether it does beside stereo; its sound is there.

    ``followers`` are other microphones of its voice that sound as well: the voice is as strong as all of them.
    """

    state: TrackState
    beside_stereo: bool
    fader: float = 0.0
    followers: Sequence[Sounding] = ()

    @property
    def grid(self) -> LevelGrid:
        """Its level grid."""
        assert self.state.grid is not None
        return self.state.grid

    @cached_property
    def power(self) -> FloatArray:
        """K-weighted power per frame with all gain and the fader, (frames,); that of microphones adds up (common practice)."""
        gain = self.state.gain_per_frame[:, 0] * 10 ** (self.fader / 10)
        power = heard_power(self.grid, gain, self.beside_stereo)
        for other in self.followers:
            length = min(len(power), len(other.power))
            power[:length] += other.power[:length]
        return power

    @property
    def ids(self) -> list[str]:
        """The clips of the phrases that count."""
        return [self.state.clips.ids[place] for place in self.state.clips.judged.tolist()]

    @property
    def phrases(self) -> FloatArray:
        """From when to when these phrases last, seconds, (n, 2)."""
        return self.state.clips.phrases_of(self.state.clips.judged) / self.state.rate

    @property
    def spans(self) -> list[slice]:
        """The frames of these phrases."""
        return self.state.clips.phrase_slices(self.grid, self.state.clips.judged)


def propose_duck(
    bed: Sounding, voices: Sequence[Sounding], rule: DuckRule, locked: Sequence[tuple[float, float]] = ()
) -> DuckDraft:
    """Propose how a bed makes room for voices, in place of what its trim does now.

    Parameters
    ----------
    bed : the bed
    voices : those that it makes room for, in the order in which their phrases are told
    rule : by how much, and how
    locked : spans, seconds, in which its trim stays

    Raises
    ------
    LevelError
        If there is nothing to make room for, or nothing to turn down.
    """
    own = bed.state.lanes.trim
    without = replace(bed, state=replace(bed.state, lanes=bed.state.lanes._replace(trim=own._replace(points=EMPTY))))
    phrases = np.concatenate([np.zeros((0, 2)), *(voice.phrases for voice in voices)])
    levels = np.concatenate([np.zeros(0), *(phrase_levels(voice.power, voice.spans) for voice in voices)])
    return draft_duck(phrases, levels, without.power, rule, own.points, locked)


def propose_slow(state: TrackState, rule: SlowRule) -> SlowDraft:
    """Propose a slow ride for a track whose sound is there, in place of its ride.

    Raises
    ------
    LevelError
        If nothing in it is loud enough to be evened out.
    """
    grid = state.grid
    assert grid is not None
    plain = replace(state, lanes=state.lanes._replace(ride=Lane()))
    return draft_slow(np.asarray(grid.column("k"), np.float64) * plain.gain_per_frame[:, 0], rule)
