"""What is proposed for a track as it stands: clip gains, a ride, and how phrases settle when other gain has moved them.

The same functions serve the page and the command line, so both draft the same. Levels and limits are those of
``core.drafts``, which knows nothing of tracks.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from nivelus.core.chain.clips import BoolArray, as_slices
from nivelus.core.chain.marks import Hand, Hands
from nivelus.core.chain.state import NO_LANES, TRACK_LANES, WIDEST, Lane, Places, TrackState, changes_spans
from nivelus.core.drafts.clip_gain import ClipGainDraft, ClipGainRule, draft_clip_gain, highest_gain
from nivelus.core.drafts.peaks import FreedPhrase, free_phrases, with_peaks_down
from nivelus.core.drafts.ride import RideDraft, draft_ride
from nivelus.core.drafts.settle import Settled, settle
from nivelus.core.drafts.wants import RideRule
from nivelus.core.gain.compiled import SILENCE, FloatArray, GainCurve, add_curves
from nivelus.core.gain.drawn import EMPTY, Curve
from nivelus.core.gain.together import limit
from nivelus.core.kinds import FREE, GAP, KNOCK, OF_CODE
from nivelus.core.marks.details import measure_mark
from nivelus.core.marks.mark import COLUMNS

_NEAREST = 15
"""Esses that one is compared with."""


@dataclass(frozen=True)
class GainProposal:
    """Clip gains proposed for the clips at some ``places``, (n,).

    ``levels`` and ``true_peaks`` (n,) are those of the clips with all that belongs to them but their gain; ``freed`` are those
    that short peaks hold back, by their place among the n.
    """

    places: Places
    levels: FloatArray
    true_peaks: FloatArray
    draft: ClipGainDraft
    freed: dict[int, FreedPhrase]


def propose_gains(
    state: TrackState, rule: ClipGainRule, places: Places, keep: Sequence[str | None] = (), peaks: bool = False
) -> GainProposal:
    """Propose clip gains for the phrases at some places.

    A phrase is judged with its dips, its clip curve and its ride; what was asked for in the trim comes on top, and is kept
    under the ceiling.

    Parameters
    ----------
    state : the track
    rule : what to aim at, with target and base resolved
    places : (n,) places of clips that have a phrase
    keep : (n,) why a clip is left alone, or None; nothing is left alone if not given
    peaks : whether short peaks are turned down that hold phrases back
    """
    clips, beyond = state.clips, state.unwished.beyond
    levels, tops = state.levels_before[places], clips.true_peak[places]
    if state.grid is not None and not state.beyond.is_flat_zero:
        levels = state.unwished.levels_after(places) - clips.gain[places]
        tops = state.peaks_with(state.beyond, places)
    rooms = clips.room_tone[places]
    draft = draft_clip_gain(levels, tops, rooms, rule, clips.gain[places], tuple(keep))
    freed: dict[int, FreedPhrase] = {}
    if state.grid is not None and "ceiling" in draft.reason:
        # what is heard from two loudspeakers is louder by an offset that the grid knows nothing of
        judged = replace(rule, target=rule.target - state.offset)
        spans = as_slices(clips.clip_frames(state.grid, places)), as_slices(clips.phrase_frames(state.grid, places))
        freed = free_phrases(state.grid, *spans, state.unit, state.per_frame(beyond), rooms, judged, draft)
        draft = with_peaks_down(draft, freed, peaks)
    return GainProposal(places, levels, tops, draft, freed)


def propose_ride(
    state: TrackState,
    rule: RideRule,
    limits: ClipGainRule | None = None,
    chosen: BoolArray | None = None,
    only: tuple[float, float] | None = None,
) -> RideDraft:
    """Propose a ride over a track's dips, clip curves and clip gains.

    Parameters
    ----------
    state : the track; its grid is there
    rule : how the ride moves
    limits : those of clip gain, where phrases settle after the ride; None where they do not
    chosen : (phrases,) which phrases are ridden; all if not given
    only : seconds within which it is ridden; everywhere if not given. Elsewhere the present ride stays
    """
    clips, grid = state.clips, state.grid
    assert grid is not None
    rises = None
    if limits is not None:
        # as far as its clip gain may give it back
        tops = state.peaks_with(state.before_ride, clips.voiced)
        room_up = highest_gain(tops, clips.room_tone[clips.voiced], limits) - clips.gain[clips.voiced]
        rises = np.where(clips.free[clips.voiced], np.maximum(room_up, 0.0), 0.0)
    whole = (chosen is None or bool(chosen.all())) and only is None
    before = replace(state, lanes=NO_LANES)
    return draft_ride(
        grid,
        before.gain_per_frame,
        [(start / state.rate, end / state.rate) for start, end in clips.phrases.tolist()],
        clips.room_tone[clips.voiced],
        rule,
        chosen=None if whole else chosen,
        present=EMPTY if whole else as_heard(state).lanes.ride.curve(),
        only=only,
        rises=rises,
        breaths=state.breaths / state.rate,
    )


def as_heard(state: TrackState) -> TrackState:
    """A track on which no more is drawn than is heard of it, so that a wider working range changes nothing.

    The same one where nothing lies beyond its range. O(points).
    """
    low, high = state.within
    curves = tuple(limit(curve, low, high) for curve in state.clips.curves)
    lanes = state.lanes._replace(**{name: _heard(getattr(state.lanes, name), low, high) for name in TRACK_LANES})
    if all(a is b for a, b in zip((*curves, *lanes), (*state.clips.curves, *state.lanes), strict=True)):
        return state
    return replace(state, clips=replace(state.clips, curves=curves), lanes=lanes)


def with_ride(state: TrackState, ride: Curve) -> TrackState:
    """A track with another ride, which is on: its working range takes it in, and nothing else is heard by that."""
    now = as_heard(state)
    return replace(now, lanes=now.lanes._replace(ride=Lane(ride)), within=WIDEST)


def _heard(lane: Lane, low: float, high: float) -> Lane:
    points = limit(lane.points, low if low <= SILENCE else low - lane.offset, high - lane.offset)
    return lane if points is lane.points else lane._replace(points=points)


def with_gains(state: TrackState, places: Places, gain: FloatArray) -> TrackState:
    """A track with other gains (n,) dB of the clips at some places (n,)."""
    gains = state.clips.gain.copy()
    gains[places] = gain
    return replace(state, clips=replace(state.clips, gain=gains))


def with_proposal(state: TrackState, proposal: GainProposal, hands: Sequence[Hand] = ()) -> TrackState:
    """A track with the gains that are proposed, and with what turns its short peaks down."""
    done = {hand.found or hand.id for hand in hands}
    rows = tuple(hand for hand in state.hands.rows if (hand.found or hand.id) not in done)
    return with_gains(replace(state, hands=Hands((*rows, *hands))), proposal.places, proposal.draft.gain)


def peak_hands(state: TrackState, proposal: GainProposal, shows_esses: bool = True) -> tuple[Hand, ...]:
    """What turns down the short peaks that hold phrases back: knocks, each as deep as its peak needs.

    A knock that lies there already is the one. Others have the id of none that is there.
    """
    rule = dict(state.rules)[KNOCK.name].rule
    base = min(max(rule.depth, rule.deepest), rule.shallowest)
    knocks = state.marks.arrays.kind == KNOCK.code
    hands = []
    for dip in (dip for phrase in proposal.freed.values() for dip in phrase.dips):
        start, end = max(round(dip.start * state.rate), 0), min(round(dip.end * state.rate), state.samples)
        near = np.flatnonzero(knocks & state.marks.overlapping(start, end))
        if len(near):
            hand = touched(state, int(near[0]))
        else:
            hand = measured(state, Hand(f"peak.{start}", None, None, KNOCK.name, start, end, level=0.0), shows_esses)
        offset = round(dip.depth - base, 2)
        hands.append(hand._replace(keep="in", offset=offset, gone=False, dip_start=start, dip_end=end))
    return tuple(hands)


def touched(state: TrackState, place: int) -> Hand:
    """A mark as a hand that has not changed anything yet; what it already did where it did."""
    known, found = state.marks.by_hand[place], state.marks.found[place]
    if known is not None:
        return known
    kind, start, end = (int(found[COLUMNS.index(name)]) for name in ("kind", "start", "end"))
    excess = float(state.marks.arrays.excess[place])
    level = float(state.marks.arrays.level[place])
    name = state.marks.ids[place]
    return Hand(name, name, end, OF_CODE[kind].name, start, end, level=level, excess=excess if np.isfinite(excess) else None)


def measured(state: TrackState, hand: Hand, shows_esses: bool) -> Hand:
    """A mark that was moved or made, with its level and excess measured.

    ``shows_esses`` says whether anything lies high enough in the recording for an ess to be measured.
    """
    assert state.grid is not None
    rate, arrays = state.rate, state.marks.arrays
    middle = (hand.start + hand.end) / 2 / rate
    phrase = next(((start, end) for start, end in (state.clips.phrases / rate).tolist() if start <= middle < end), None)
    stands = state.marks.found[:, COLUMNS.index("stands")]
    esses = np.flatnonzero(np.isfinite(stands))
    nearest = esses[np.argsort(np.abs(arrays.start[esses] - hand.start), kind="stable")[:_NEAREST]]
    # a free dip is measured like what it lies over
    kind = GAP.name if hand.kind == FREE.name else hand.kind
    mark = measure_mark(state.grid, kind, hand.start / rate, hand.end / rate, phrase, stands[nearest], shows_esses)
    return hand._replace(level=mark.level, excess=mark.excess)


def propose_settling(before: TrackState, after: TrackState, limits: ClipGainRule) -> tuple[Places, Settled]:
    """How drafted phrases follow where gain beyond that of the clips is another ``after`` than ``before``, and which they are.

    What was set by hand, locked or left out stays. O(points, and the frames of what is moved).
    """
    clips = after.clips
    spans = clips.phrases
    moved = differs_in(before.beyond, after.beyond, spans[:, 0], spans[:, 1])
    places = clips.voiced[moved & clips.free[clips.voiced]]
    if not len(places) or after.grid is None:
        return places[:0], Settled(np.zeros(0), 0, 0.0)
    return places, settle(
        clips.gain[places],
        after.levels_with(before.unwished.beyond, places),
        after.levels_with(after.unwished.beyond, places),
        after.peaks_with(after.beyond, places),
        clips.room_tone[places],
        limits,
    )


def differs_in(a: GainCurve, b: GainCurve, start: FloatArray, end: FloatArray) -> npt.NDArray[np.bool_]:
    """In which of the spans ``start`` ... ``end`` samples (n,) two gains differ. O((points + n) log points).

    Parameters
    ----------
    a, b : two gains
    start, end : (n,) first and one-past-last sample of each span
    """
    if a is b:
        return np.zeros(len(start), bool)
    return changes_spans(add_curves([a, GainCurve(b.at, -b.db)]), start, end)
