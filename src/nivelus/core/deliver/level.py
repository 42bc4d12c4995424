"""The whole street in one go: a file comes in uneven and goes out level. Used where nobody looks: the command line."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from nivelus.core.deliver.render import render
from nivelus.core.drafts.clip_gain import BaseKind, ClipGainRule, draft_clip_gain, resolve_base
from nivelus.core.drafts.dips import ALL_KINDS, RAMPS, DipRule, draft_dips, place_marks
from nivelus.core.drafts.peaks import FreedPhrase, free_phrases, with_peaks_down
from nivelus.core.drafts.ride import GIVE_SETTLED, RideDraft, RideRule, draft_ride
from nivelus.core.drafts.settle import headroom, settle
from nivelus.core.gain.clips import ClipGain, compile_clip_gains
from nivelus.core.gain.compile import compile_curves
from nivelus.core.gain.curve import GainCurve, add_curves, frame_gain
from nivelus.core.gain.curves import EMPTY, Curve, add
from nivelus.core.gain.dips import Dips, compile_dips
from nivelus.core.marks.cells import Cell, cut_into_cells
from nivelus.core.marks.details import RecordingMarks, find_marks
from nivelus.core.marks.pauses import LONGEST_PHRASE
from nivelus.core.measure.evenness import Evenness, evenness
from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import frame_borders, measure_file
from nivelus.core.measure.loudness import Figures, figures
from nivelus.core.measure.spans import as_table, levels_of_spans


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
    was moved (dB), ``held_by_peaks`` how many phrases are not level only because of a short peak or two.
    """

    phrases: tuple[LevelledPhrase, ...]
    details: tuple[LevelledDetail, ...]
    ride: RideDraft | None
    curve: Curve
    before: Figures
    after: Figures
    base: float
    held_by_peaks: int
    evenness_before: Evenness
    evenness_after: Evenness


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
) -> Levelled:
    """Find the phrases of a file, even them out by ``rule``, turn its details down, and render the result to ``target``.

    ``dips`` holds a rule for each kind of detail that is turned down; the others stay as they are. With a rule for a
    ``ride`` the inside of the phrases is evened as well. ``drawn`` is gain from elsewhere, which comes on top. ``replace_file``
    says whether ``target`` may take the place of a file that is there. Phrases are divided where they last more than
    ``longest`` seconds. ``base_kind`` says what the base of the rule is, see ``core.drafts.clip_gain.resolve_base``; ``peaks``
    turns short peaks down that keep phrases from the target, ``settled`` keeps phrases level under the ride.

    Raises
    ------
    SoundError
        If the file cannot be used; nothing is written then.
    """
    info, grid, _ = measure_file(source, progress=(lambda x: progress(x / 2)) if progress else None)
    found = find_marks(grid, longest)
    cells = cut_into_cells(grid, found.phrases)
    voiced = [cell for cell in cells if cell.levels is not None]
    rate, borders = info.sample_rate, frame_borders(info.frames, info.sample_rate)
    details, dips_drafted = _turn_down(found, cells, dips or {}, rate, info.frames)
    dip_curve = compile_dips(dips_drafted, rate)
    # phrases are judged as they sound with their details turned down
    turned = frame_gain(dip_curve, borders)
    seconds = [((c.phrase_start or 0) / rate, (c.phrase_end or 0) / rate) for c in voiced]
    phrase_frames = [grid.span(start, end) for start, end in seconds]
    clip_frames = [grid.span(c.start / rate, c.end / rate) for c in voiced]
    spans, whole = as_table(phrase_frames), as_table(clip_frames)
    before = levels_of_spans(grid, spans, np.ones_like(turned), unit)
    levels, tops = levels_of_spans(grid, spans, turned, unit), levels_of_spans(grid, whole, turned, "peak")
    rooms = np.array([c.room_tone for c in voiced])
    rule = replace(rule, base=resolve_base(base_kind, rule.base, rule.target, before))
    draft = draft_clip_gain(levels, tops, rooms, rule)
    freed = free_phrases(grid, clip_frames, phrase_frames, unit, turned, rooms, rule, draft)
    draft = with_peaks_down(draft, freed, peaks)
    if peaks and freed:
        dip_curve = compile_dips(_with_peaks(dips_drafted, freed, rate), rate)
        on_peaks = [dip for phrase in freed.values() for dip in phrase.dips]
        details += tuple(LevelledDetail("knock", dip.start, dip.end, dip.depth, "peak") for dip in on_peaks)
    beyond = [dip_curve, compile_curves([drawn], rate)] if len(drawn) else [dip_curve]
    gains, ridden, total = draft.gain, None, drawn
    gain = frame_gain(add_curves([_clip_curve(cells, gains, rate), *beyond]), borders)
    if ride is not None:
        others = frame_gain(add_curves(beyond), borders)
        room_up = headroom(gains, levels_of_spans(grid, whole, others, "peak"), rooms, rule)
        gives = np.minimum(room_up, GIVE_SETTLED) if settled else None
        ridden = draft_ride(grid, gain, seconds, rooms, ride, gives=gives)
        beyond.append(compile_curves([ridden.curve], rate))
        total = add(ridden.curve, drawn)
        # gain that was drawn elsewhere is meant to move phrases; what the ride does to their level is not
        moved = np.array([phrase.after - phrase.before for phrase in ridden.phrases])
        if settled and len(moved):
            others = frame_gain(add_curves(beyond), borders)
            gains = settle(gains, moved, levels_of_spans(grid, whole, others, "peak"), rooms, rule).gain
    curve = add_curves([_clip_curve(cells, gains, rate), *beyond])
    gain = frame_gain(curve, borders)
    after = figures(grid, gain)
    levels_after = levels_of_spans(grid, spans, gain, unit)
    render(
        source,
        target,
        curve,
        format=format,
        bits=bits,
        figures=after,
        progress=(lambda x: progress(0.5 + x / 2)) if progress else None,
        replace_file=replace_file,
    )
    phrases = tuple(
        LevelledPhrase(
            start,
            end,
            float(level),
            float(gain),
            float(now),
            reason,
        )
        for (start, end), level, gain, now, reason in zip(seconds, before, gains, levels_after, draft.reason, strict=True)
    )
    return Levelled(
        phrases,
        details,
        ridden,
        total,
        figures(grid),
        after,
        rule.base,
        sum(why == "peaks" for why in draft.reason),
        evenness(before, rule.target, rule.tolerance),
        evenness(levels_after, rule.target, rule.tolerance),
    )


def _turn_down(
    found: RecordingMarks, cells: list[Cell], rules: Mapping[str, DipRule], rate: int, samples: int
) -> tuple[tuple[LevelledDetail, ...], Dips]:
    """The dips of the kinds that have a rule, one for each of their marks, as they are told and as they are."""
    marks = found.details
    spans = [(cell.phrase_start, cell.phrase_end) for cell in cells if cell.phrase_start is not None]
    placed = place_marks(
        np.array([ALL_KINDS.index(mark.kind) for mark in marks], np.int64),
        np.array([round(mark.start * rate) for mark in marks], np.float64),
        np.array([min(round(mark.end * rate), samples) for mark in marks], np.float64),
        np.array([mark.level for mark in marks], np.float64),
        np.array([np.nan if mark.excess is None else mark.excess for mark in marks], np.float64),
        np.array(spans, np.float64).reshape(-1, 2),
        np.array([cell.start for cell in cells], np.float64),
        np.array([cell.room_tone for cell in cells], np.float64),
        rate,
    )
    draft = draft_dips(placed, rules, rate, samples)
    asked = np.array([mark.kind in rules for mark in marks], bool)
    details = tuple(
        LevelledDetail(mark.kind, mark.start, mark.end, depth, reason)
        for mark, depth, reason in zip(marks, draft.dips.depth.tolist(), draft.reason, strict=True)
        if mark.kind in rules
    )
    return details, draft.dips.where(asked)


def _with_peaks(dips: Dips, freed: Mapping[int, FreedPhrase], rate: int) -> Dips:
    """Dips, and those on the peaks that held phrases back, with the ramps of a knock."""
    added = [dip for phrase in freed.values() for dip in phrase.dips]
    ramp_in, ramp_out = RAMPS["knock"]
    return Dips(
        np.concatenate([dips.start, [round(dip.start * rate) for dip in added]]),
        np.concatenate([dips.end, [round(dip.end * rate) for dip in added]]),
        np.concatenate([dips.depth, [dip.depth for dip in added]]),
        np.concatenate([dips.ramp_in, np.full(len(added), ramp_in * rate)]),
        np.concatenate([dips.ramp_out, np.full(len(added), ramp_out * rate)]),
        np.concatenate([dips.notch, np.zeros(len(added), bool)]),
    )


def _clip_curve(cells: list[Cell], gains: FloatArray, rate: int) -> GainCurve:
    """The compiled gain of cells, of which those with a phrase have ``gains``."""
    each = iter(gains.tolist())
    clips = [ClipGain(c.start, c.end, next(each) if c.levels is not None else 0.0, c.phrase_start, c.phrase_end) for c in cells]
    return compile_clip_gains(clips, rate)
