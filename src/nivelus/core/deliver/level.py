"""The whole street in one go: a file comes in uneven and goes out level. Used where nobody looks: the command line."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from nivelus.core.deliver.render import render
from nivelus.core.drafts.clip_gain import ClipGainRule, draft_clip_gain
from nivelus.core.gain.clips import ClipGain, compile_clip_gains
from nivelus.core.gain.curve import frame_gain
from nivelus.core.marks.cells import cut_into_cells
from nivelus.core.marks.phrases import find_phrases
from nivelus.core.measure.evenness import Evenness, evenness
from nivelus.core.measure.grid import frame_borders, measure_file
from nivelus.core.measure.loudness import Figures, figures
from nivelus.core.measure.spans import SpanLevels


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
class Levelled:
    """What became of a file: its phrases, and its figures and evenness before and after."""

    phrases: tuple[LevelledPhrase, ...]
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
) -> Levelled:
    """Find the phrases of a file, even them out by ``rule``, and render the result to ``target``.

    Raises
    ------
    SoundError
        If the file cannot be used; nothing is written then.
    """
    info, grid, _ = measure_file(source, progress=(lambda x: progress(x / 2)) if progress else None)
    cells = cut_into_cells(grid, find_phrases(grid))
    voiced = [cell for cell in cells if cell.levels is not None]
    levels = np.array([_level(cell.levels, unit) for cell in voiced])
    draft = draft_clip_gain(levels, np.array([c.true_peak for c in voiced]), np.array([c.room_tone for c in voiced]), rule)
    gains = iter(draft.gain.tolist())
    clips = [
        ClipGain(c.start, c.end, next(gains) if c.levels is not None else 0.0, c.phrase_start, c.phrase_end) for c in cells
    ]
    curve = compile_clip_gains(clips, info.sample_rate)
    after = figures(grid, frame_gain(curve, frame_borders(info.frames, info.sample_rate)))
    render(
        source,
        target,
        curve,
        format=format,
        bits=bits,
        figures=after,
        progress=(lambda x: progress(0.5 + x / 2)) if progress else None,
    )
    phrases = tuple(
        LevelledPhrase(
            (cell.phrase_start or 0) / info.sample_rate,
            (cell.phrase_end or 0) / info.sample_rate,
            float(before),
            float(gain),
            float(before + gain),
            reason,
        )
        for cell, before, gain, reason in zip(voiced, levels, draft.gain, draft.reason, strict=True)
    )
    return Levelled(
        phrases,
        figures(grid),
        after,
        evenness(levels, rule.target, rule.tolerance),
        evenness(levels + draft.gain, rule.target, rule.tolerance),
    )


def _level(levels: SpanLevels | None, unit: str) -> float:
    assert levels is not None
    return levels.by(unit)
