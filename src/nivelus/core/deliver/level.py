"""The whole street in one go: a file comes in uneven and goes out level. Used where nobody looks: the command line."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from nivelus.core.chain.clips import table_of_cells
from nivelus.core.chain.marks import FoundMarks, Hands, SwitchedRule
from nivelus.core.chain.proposals import (
    GainProposal,
    peak_hands,
    propose_gains,
    propose_ride,
    propose_settling,
    with_gains,
    with_ride,
)
from nivelus.core.chain.state import NO_LANES, Lane, TrackState
from nivelus.core.deliver.render import render
from nivelus.core.drafts.clip_gain import BaseKind, ClipGainRule, freeing_target, resolve_base
from nivelus.core.drafts.dip_rules import ALL_KINDS, DEFAULT_RULES, DipRule
from nivelus.core.drafts.ride import RideDraft
from nivelus.core.drafts.wants import RideRule
from nivelus.core.gain.drawn import EMPTY, Curve
from nivelus.core.gain.together import add
from nivelus.core.marks.cells import cut_into_cells
from nivelus.core.marks.details import find_marks
from nivelus.core.marks.mark import KINDS, mark_table
from nivelus.core.marks.pauses import LONGEST_PHRASE
from nivelus.core.measure.evenness import Evenness, evenness
from nivelus.core.measure.grid import measure_file
from nivelus.core.measure.loudness import Figures, figures

HOLDING = ("most up", "most down", "ceiling", "peaks", "noise limit")
"""What can hold a phrase back from the target."""


@dataclass(frozen=True, slots=True)
class LevelledPhrase:
    """One phrase of a levelled file: seconds, its level before and after in the unit of the rule, gain in dB, and why."""

    start: float
    end: float
    before: float
    gain: float
    after: float
    reason: str


@dataclass(frozen=True, slots=True)
class LevelledDetail:
    """One breath, ess, knock or gap of a levelled file: seconds, how far it was turned down (dB), and why."""

    kind: str
    start: float
    end: float
    depth: float
    reason: str


@dataclass(frozen=True, slots=True)
class Levelled:
    """What became of a file: its phrases, details and ride, and its figures and evenness before and after.

    ``curve`` is what was drawn for the track: the ride and what was brought in, as one. ``base`` is how far the whole voice
    was moved (dB), ``target`` the level that was aimed at. ``held`` counts the phrases that are not level by what holds them
    back, of ``core.drafts.clip_gain.REASONS``; ``freeing`` is the target at which ceiling and noise limit would hold none of
    them back, None where they hold back hardly any. ``state`` is the voice as it was rendered.
    """

    phrases: tuple[LevelledPhrase, ...]
    details: tuple[LevelledDetail, ...]
    ride: RideDraft | None
    curve: Curve
    before: Figures
    after: Figures
    base: float
    target: float
    held: Mapping[str, int]
    freeing: float | None
    evenness_before: Evenness
    evenness_after: Evenness
    state: TrackState


def level_file(
    source: Path,
    target: Path,
    rule: ClipGainRule,
    unit: str = "loudness",
    format: str = "wav",
    bits: int = 24,
    progress: Callable[[float], None] | None = None,
    dips: Mapping[str, DipRule] | None = None,
    ride: RideRule | None = None,
    drawn: Curve = EMPTY,
    replace_file: bool = True,
    longest: float = LONGEST_PHRASE,
    base_kind: BaseKind = "auto",
    peaks: bool = False,
    settled: bool = True,
    lower: bool = False,
) -> Levelled:
    """Find the phrases of a file, even them out by ``rule``, turn its details down, and render the result to ``target``.

    ``dips`` holds a rule for each kind of detail that is turned down; the others stay as they are. With a rule for a
    ``ride`` the inside of the phrases is evened as well. ``drawn`` is gain from elsewhere, which comes on top. ``replace_file``
    says whether ``target`` may take the place of a file that is there. Phrases are divided where they last more than
    ``longest`` seconds. ``base_kind`` says what the base of the rule is, see ``core.drafts.clip_gain.resolve_base``; ``peaks``
    turns short peaks down that keep phrases from the target, ``settled`` keeps phrases level under the ride, and ``lower``
    aims lower where ceiling or noise limit hold phrases back, at the highest target that frees them.

    Raises
    ------
    SoundError
        If the file cannot be used; nothing is written then.
    """
    info, grid, _ = measure_file(source, progress=(lambda x: progress(x / 2)) if progress else None)
    found = find_marks(grid, longest)
    cells = cut_into_cells(grid, found.phrases)
    rules = {kind: (dips or {}).get(kind) for kind in KINDS}
    state = TrackState(
        grid,
        info.sample_rate,
        info.frames,
        table_of_cells(cells, np.zeros(len(cells))),
        FoundMarks(mark_table(found.details, info.sample_rate, info.frames)),
        rules=tuple((kind, SwitchedRule(asked is not None, asked or DEFAULT_RULES[kind])) for kind, asked in rules.items()),
        lanes=NO_LANES._replace(trim=Lane(drawn)),
        unit=unit,
    )
    places = state.clips.voiced
    before = state.levels_before[places]
    rule, proposal, freeing = _proposed(state, rule, base_kind, peaks)
    if lower and freeing is not None:
        rule, proposal, freeing = _proposed(state, replace(rule, target=freeing), base_kind, peaks)
    on_peaks = peak_hands(state, proposal) if peaks else ()
    state = with_gains(replace(state, hands=Hands(on_peaks)), places, proposal.draft.gain)
    ridden = None
    if ride is not None:
        ridden = propose_ride(state, ride, rule if settled else None)
        before_ride, state = state, with_ride(state, ridden.curve)
        if settled:
            # what was brought in is meant to move phrases; what the ride does to their level is not
            moved, gains = propose_settling(before_ride, state, rule)
            state = with_gains(state, moved, gains.gain)
    after, (levels_after, unasked) = figures(grid, state.gain_per_frame), state.levels_asked(places)
    render(
        source,
        target,
        state.gain,
        format=format,
        bits=bits,
        figures=after,
        progress=(lambda x: progress(0.5 + x / 2)) if progress else None,
        replace_file=replace_file,
    )
    columns = state.clips.phrases / state.rate, before, state.clips.gain[places], levels_after
    return Levelled(
        tuple(
            LevelledPhrase(start, end, level, gain, now, why)
            for (start, end), level, gain, now, why in zip(*(c.tolist() for c in columns), proposal.draft.reason, strict=True)
        ),
        _details(state, set(dips or ())),
        ridden,
        add(ridden.curve, drawn) if ridden is not None else drawn,
        figures(grid),
        after,
        rule.base,
        rule.target,
        _held(proposal, rule),
        freeing,
        evenness(before, rule.target, rule.tolerance),
        evenness(unasked, rule.target, rule.tolerance),
        state,
    )


def _proposed(
    state: TrackState, rule: ClipGainRule, base_kind: BaseKind, peaks: bool
) -> tuple[ClipGainRule, GainProposal, float | None]:
    """A rule with its base, what it proposes for every phrase, and the target that would free those that are held back."""
    places = state.clips.voiced
    rule = replace(rule, base=resolve_base(base_kind, rule.base, rule.target, state.levels_before[places]))
    proposal = propose_gains(state, rule, places, peaks=peaks)
    rooms = state.clips.room_tone[places]
    freeing = freeing_target(proposal.levels, proposal.true_peaks, rooms, rule, proposal.draft.reason)
    return rule, proposal, freeing


def _held(proposal: GainProposal, rule: ClipGainRule) -> Mapping[str, int]:
    """How many phrases something keeps from being level, by what it is."""
    away = np.abs(proposal.levels + proposal.draft.gain - rule.target) > rule.tolerance
    reasons = np.array(proposal.draft.reason, object)[away]
    return Counter(why for why in reasons.tolist() if why in HOLDING)


def _details(state: TrackState, kinds: set[str]) -> tuple[LevelledDetail, ...]:
    """The details of some kinds, and those on peaks, with what became of them."""
    marks, rate = state.marks, state.rate
    told = []
    for place, hand in enumerate(marks.by_hand):
        kind = ALL_KINDS[marks.arrays.kind[place]]
        if kind in kinds or hand is not None:
            start, end = marks.arrays.start[place] / rate, marks.arrays.end[place] / rate
            reason = "peak" if hand is not None else marks.draft.reason[place]
            depth = float(marks.draft.dips.depth[place]) if marks.applied[place] else 0.0
            told.append(LevelledDetail(kind, start, end, depth, reason))
    return tuple(told)
