"""The whole street in one go: a file comes in uneven and goes out level. Used where nobody looks: the command line."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from nivelus.core.deliver.render import render
from nivelus.core.drafts.clip_gain import ClipGainRule, draft_clip_gain
from nivelus.core.drafts.dips import ALL_KINDS, DipRule, draft_dips, place_marks
from nivelus.core.drafts.ride import RideDraft, RideRule, draft_ride
from nivelus.core.gain.clips import ClipGain, compile_clip_gains
from nivelus.core.gain.compile import compile_curves
from nivelus.core.gain.curve import GainCurve, add_curves, frame_gain
from nivelus.core.gain.curves import EMPTY, Curve, add
from nivelus.core.gain.dips import compile_dips
from nivelus.core.marks.cells import Cell, cut_into_cells
from nivelus.core.marks.details import RecordingMarks, find_marks
from nivelus.core.marks.pauses import LONGEST_PHRASE
from nivelus.core.measure.evenness import Evenness, evenness
from nivelus.core.measure.grid import frame_borders, measure_file
from nivelus.core.measure.loudness import Figures, figures
from nivelus.core.measure.spans import SpanLevels, levels_of_spans


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

    ``curve`` is what was drawn for the track: the ride and what was brought in, as one.
    """

    phrases: tuple[LevelledPhrase, ...]
    details: tuple[LevelledDetail, ...]
    ride: RideDraft | None
    curve: Curve
    before: Figures
    after: Figures
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
    replace: bool = True,
    longest: float = LONGEST_PHRASE,
) -> Levelled:
    """Find the phrases of a file, even them out by ``rule``, turn its details down, and render the result to ``target``.

    ``dips`` holds a rule for each kind of detail that is turned down; the others stay as they are. With a rule for a
    ``ride`` the inside of the phrases is evened as well. ``drawn`` is gain from elsewhere, which comes on top. ``replace``
    says whether ``target`` may take the place of a file that is there. Phrases are divided where they last more than
    ``longest`` seconds.

    Raises
    ------
    SoundError
        If the file cannot be used; nothing is written then.
    """
    info, grid, _ = measure_file(source, progress=(lambda x: progress(x / 2)) if progress else None)
    found = find_marks(grid, longest)
    cells = cut_into_cells(grid, found.phrases)
    voiced = [cell for cell in cells if cell.levels is not None]
    levels = np.array([_level(cell.levels, unit) for cell in voiced])
    draft = draft_clip_gain(levels, np.array([c.true_peak for c in voiced]), np.array([c.room_tone for c in voiced]), rule)
    gains = iter(draft.gain.tolist())
    clips = [
        ClipGain(c.start, c.end, next(gains) if c.levels is not None else 0.0, c.phrase_start, c.phrase_end) for c in cells
    ]
    clip_curve = compile_clip_gains(clips, info.sample_rate)
    details, dip_curve = _turn_down(found, cells, dips or {}, info.sample_rate, info.frames)
    curve = add_curves([clip_curve, dip_curve])
    rate, borders = info.sample_rate, frame_borders(info.frames, info.sample_rate)
    if len(drawn):
        curve = add_curves([curve, compile_curves([drawn], rate)])
    gain = frame_gain(curve, borders)
    ridden, total = None, drawn
    if ride is not None:
        seconds = [((c.phrase_start or 0) / rate, (c.phrase_end or 0) / rate) for c in voiced]
        ridden = draft_ride(grid, gain, seconds, np.array([c.room_tone for c in voiced]), ride)
        curve = add_curves([curve, compile_curves([ridden.curve], rate)])
        gain = frame_gain(curve, borders)
        total = add(ridden.curve, drawn)
    after = figures(grid, gain)
    spans = [grid.span((c.phrase_start or 0) / rate, (c.phrase_end or 0) / rate) for c in voiced]
    table = np.array([(frames.start, frames.stop) for frames in spans], np.int64).reshape(-1, 2)
    levels_after = levels_of_spans(grid, table, gain, unit)
    render(
        source,
        target,
        curve,
        format=format,
        bits=bits,
        figures=after,
        progress=(lambda x: progress(0.5 + x / 2)) if progress else None,
        replace_file=replace,
    )
    phrases = tuple(
        LevelledPhrase(
            (cell.phrase_start or 0) / info.sample_rate,
            (cell.phrase_end or 0) / info.sample_rate,
            float(before),
            float(gain),
            float(now),
            reason,
        )
        for cell, before, gain, now, reason in zip(voiced, levels, draft.gain, levels_after, draft.reason, strict=True)
    )
    return Levelled(
        phrases,
        details,
        ridden,
        total,
        figures(grid),
        after,
        evenness(levels, rule.target, rule.tolerance),
        evenness(levels_after, rule.target, rule.tolerance),
    )


def _turn_down(
    found: RecordingMarks, cells: list[Cell], rules: Mapping[str, DipRule], rate: int, samples: int
) -> tuple[tuple[LevelledDetail, ...], GainCurve]:
    """The dips of the kinds that have a rule, one for each of their marks, and the curve that they make."""
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
    return details, compile_dips(draft.dips.where(asked), rate)


def _level(levels: SpanLevels | None, unit: str) -> float:
    assert levels is not None
    return levels.by(unit)
