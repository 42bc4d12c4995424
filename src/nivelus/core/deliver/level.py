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
from nivelus.core.drafts.clip_gain import ClipGainRule, freeing_target, resolve_base, resolve_target
from nivelus.core.drafts.dip_rules import DEFAULT_RULES
from nivelus.core.drafts.from_rule import dip_rules, gain_rule, ride_rule
from nivelus.core.drafts.ride import RideDraft
from nivelus.core.errors import RuleError
from nivelus.core.gain.drawn import EMPTY, Curve
from nivelus.core.gain.together import add
from nivelus.core.kinds import NAMES, OF_CODE
from nivelus.core.marks.cells import cut_into_cells
from nivelus.core.marks.details import find_marks
from nivelus.core.marks.mark import mark_table
from nivelus.core.measure.evenness import Evenness, evenness
from nivelus.core.measure.grid import measure_file
from nivelus.core.measure.loudness import Figures, figures, judged_offset
from nivelus.core.rule import DEFAULT, Rule

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
    rule: Rule = DEFAULT,
    progress: Callable[[float], None] | None = None,
    drawn: Curve = EMPTY,
    replace_file: bool = True,
) -> Levelled:
    """Find the phrases of a file, even them out by a rule, turn its details down, ride it, and render the result.

    Parameters
    ----------
    source : the file
    target : where the result is written
    rule : all that is set; what it says of beds is not of a file
    progress : told of every share of the work that is done, 0 ... 1
    drawn : gain from elsewhere, which comes on top
    replace_file : whether ``target`` may take the place of a file that is there

    Raises
    ------
    SoundError
        If the file cannot be used; nothing is written then.
    RuleError
        If the rule aims at phrases that are references, which a file has none of.
    """
    if rule.target.kind == "reference":
        raise RuleError("A file has no phrases that are references: aim at a level, or at the median.", setting="target.kind")
    dips = dip_rules(rule)
    info, grid, _ = measure_file(source, progress=(lambda x: progress(x / 2)) if progress else None)
    found = find_marks(grid, rule.phrases.longest)
    cells = cut_into_cells(grid, found.phrases)
    state = TrackState(
        grid,
        info.sample_rate,
        info.frames,
        table_of_cells(cells, np.zeros(len(cells))),
        FoundMarks(mark_table(found.details, info.sample_rate, info.frames)),
        rules=tuple((kind, SwitchedRule(kind in dips, dips.get(kind, DEFAULT_RULES[kind]))) for kind in NAMES),
        lanes=NO_LANES._replace(trim=Lane(drawn)),
        unit=rule.target.unit,
        offset=judged_offset(rule.target.mono_as_two, info.channels, rule.target.unit),
    )
    places = state.clips.voiced
    before = state.levels_before[places]
    gains, proposal, freeing = _proposed(state, rule, resolve_target(rule.target.kind, rule.target.level, before))
    if rule.target.lower and freeing is not None:
        gains, proposal, freeing = _proposed(state, rule, freeing)
    on_peaks = peak_hands(state, proposal) if rule.phrases.peaks else ()
    state = with_gains(replace(state, hands=Hands(on_peaks)), places, proposal.draft.gain)
    ridden = None
    if rule.ride.on:
        ridden = propose_ride(state, ride_rule(rule), gains if rule.phrases.settle else None)
        before_ride, state = state, with_ride(state, ridden.curve)
        if rule.phrases.settle:
            # what was brought in is meant to move phrases; what the ride does to their level is not
            moved, settled = propose_settling(before_ride, state, gains)
            state = with_gains(state, moved, settled.gain)
    after, (levels_after, unasked) = figures(grid, state.gain_per_frame), state.levels_asked(places)
    render(
        source,
        target,
        state.gain,
        format=rule.out.format,
        bits=rule.out.bits,
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
        _details(state, set(dips)),
        ridden,
        add(ridden.curve, drawn) if ridden is not None else drawn,
        figures(grid),
        after,
        gains.base,
        gains.target,
        _held(proposal, gains),
        freeing,
        evenness(before, gains.target, gains.tolerance),
        evenness(unasked, gains.target, gains.tolerance),
        state,
    )


def _proposed(state: TrackState, rule: Rule, target: float) -> tuple[ClipGainRule, GainProposal, float | None]:
    """A rule with target and base, what it proposes for every phrase, and the target that would free those held back."""
    places = state.clips.voiced
    base = resolve_base(rule.phrases.base_kind, rule.phrases.base, target, state.levels_before[places])
    gains = replace(gain_rule(rule), target=target, base=base)
    proposal = propose_gains(state, gains, places, peaks=rule.phrases.peaks)
    rooms = state.clips.room_tone[places]
    freeing = freeing_target(proposal.levels, proposal.true_peaks, rooms, gains, proposal.draft.reason)
    return gains, proposal, freeing


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
        kind = OF_CODE[int(marks.arrays.kind[place])].name
        if kind in kinds or hand is not None:
            start, end = marks.arrays.start[place] / rate, marks.arrays.end[place] / rate
            reason = "peak" if hand is not None else marks.draft.reason[place]
            depth = float(marks.draft.dips.depth[place]) if marks.applied[place] else 0.0
            told.append(LevelledDetail(kind, start, end, depth, reason))
    return tuple(told)
