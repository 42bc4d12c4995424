"""Levels of clips as the session judges them: unit, target, and what the present gain makes of them."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session as DbSession
from sqlmodel import col

from nivelus.core.gain.clips import DECLICK_SECONDS, ClipGain, compile_clip_gains
from nivelus.core.gain.curve import FloatArray, GainCurve, add_curves, frame_gain
from nivelus.core.measure.grid import LevelGrid, all_borders
from nivelus.core.measure.loudness import AS_TWO_LOUDSPEAKERS
from nivelus.core.measure.spans import as_table, levels_of_spans, span_levels
from nivelus.services.views import ClipValues, ClipView
from nivelus.store.tables import Clip, Recording, Session

_ONE_BY_ONE = 25
"""Phrases up to which the gain around each is worked out by itself."""
ALWAYS_WHOLE = 200
"""From so many spans on, the gain of the whole recording is worked out once rather than around each of them."""


def clips_of(db: DbSession, track_id: str) -> list[Clip]:
    """The clips of a track in order of time."""
    return list(db.scalars(select(Clip).where(col(Clip.track_id) == track_id).order_by(col(Clip.start))))


def phrases_of(clips: Iterable[Clip], recording: Recording) -> list[tuple[float, float]]:
    """The phrases of clips, (start, end) in seconds."""
    rate = recording.sample_rate
    return [(c.phrase_start / rate, (c.phrase_end or 0) / rate) for c in clips if c.phrase_start is not None]


def clip_frames(grid: LevelGrid, clips: Iterable[Clip]) -> list[slice]:
    """The frames of the grid that each clip covers."""
    return [grid.span(clip.start / grid.sample_rate, clip.end / grid.sample_rate) for clip in clips]


def phrase_frames(grid: LevelGrid, clips: Iterable[Clip]) -> list[slice]:
    """The frames of the grid that the phrase of each clip covers; each of the clips has one."""
    rate = grid.sample_rate
    return [grid.span((clip.phrase_start or 0) / rate, (clip.phrase_end or 0) / rate) for clip in clips]


def level_before(session: Session, recording: Recording, clip: Clip) -> float | None:
    """The level of a clip's phrase before gain in the session's unit; None without a phrase."""
    level = {"loudness": clip.loudness, "rms": clip.rms, "peak": clip.peak}[session.unit]
    return None if level is None else level + loudness_offset(session, recording)


def mono_offset(session: Session, recording: Recording) -> float:
    """LU added to loudness where the session counts a mono voice as two loudspeakers."""
    return float(AS_TWO_LOUDSPEAKERS) if session.mono_as_two and recording.channels == 1 else 0.0


def loudness_offset(session: Session, recording: Recording) -> float:
    """``mono_offset`` if the session judges by loudness; RMS and peak know no loudspeakers."""
    return mono_offset(session, recording) if session.unit == "loudness" else 0.0


def is_judged(clip: Clip) -> bool:
    """Whether a clip counts: it has a phrase and is not left out."""
    return clip.loudness is not None and not clip.left_out


def gain_curve(clips: Sequence[Clip], recording: Recording, beyond: GainCurve | None = None) -> GainCurve:
    """The compiled pre-fader gain of clips that follow each other, with what lies ``beyond`` it."""
    clip_curve = compile_clip_gains(
        [ClipGain(c.start, c.end, c.gain, c.phrase_start, c.phrase_end) for c in clips], recording.sample_rate
    )
    return clip_curve if beyond is None else add_curves([clip_curve, beyond])


def gain_per_frame(curve: GainCurve, recording: Recording) -> FloatArray:
    """A compiled gain in each frame of the grid of its recording; see ``core.gain.curve.frame_gain``."""
    return frame_gain(curve, all_borders(recording.frames, recording.sample_rate))


def levels_after(
    grid: LevelGrid,
    session: Session,
    recording: Recording,
    clips: Sequence[Clip],
    beyond: GainCurve,
    curve: GainCurve,
    gain: FloatArray | None = None,
    only: Collection[str] | None = None,
) -> dict[str, float]:
    """Level of every phrase with the present gain, or of those of some clips ``only``, by clip id.

    The ramps between clips lie in the pauses, so a phrase moves by exactly its gain; where a border was set so near to a
    phrase that the ramp reaches into it, and where there is gain ``beyond`` that of the clips, it is measured from the grid
    with ``curve``, the gain of all layers, or with its ``gain`` per frame where that is known already.
    """
    offset = loudness_offset(session, recording)
    reach = DECLICK_SECONDS * recording.sample_rate / 2
    moved = _reached(beyond, clips)
    after, touched = {}, []
    for index, clip in enumerate(clips):
        before = level_before(session, recording, clip)
        if before is None or clip.phrase_start is None or clip.phrase_end is None or (only is not None and clip.id not in only):
            continue
        after[clip.id] = before + clip.gain
        first = index > 0 and clip.phrase_start - clip.start < reach and clips[index - 1].gain != clip.gain
        last = index + 1 < len(clips) and clip.end - clip.phrase_end < reach and clips[index + 1].gain != clip.gain
        if first or last or moved[index]:
            touched.append(clip)
    rate = grid.sample_rate
    spans = phrase_frames(grid, touched)
    if gain is None and len(touched) >= _ONE_BY_ONE:
        gain = gain_per_frame(curve, recording)
    if gain is not None:
        levels = levels_of_spans(grid, as_table(spans), gain, session.unit).tolist()
        return after | {clip.id: level + offset for clip, level in zip(touched, levels, strict=True)}
    borders = all_borders(recording.frames, rate)
    for clip, frames in zip(touched, spans, strict=True):
        part = frame_gain(curve, borders[frames.start : frames.stop + 1])
        start, end = (clip.phrase_start or 0) / rate, (clip.phrase_end or 0) / rate
        after[clip.id] = span_levels(grid, start, end, part).by(session.unit) + offset
    return after


def clip_values(clips: Sequence[Clip], after: dict[str, float]) -> ClipValues:
    """What of clips changes without them being other clips, as the interface takes it."""
    return ClipValues(
        ids=" ".join(c.id for c in clips),
        gain=[c.gain for c in clips],
        after=[None if (level := after.get(c.id)) is None else round(level, 3) for c in clips],
        flags=[c.locked | c.left_out << 1 | c.by_hand << 2 | c.reference << 3 for c in clips],
        names=["locked", "left_out", "by_hand", "reference"],
    )


def view_clips(session: Session, recording: Recording, clips: Iterable[Clip], after: dict[str, float]) -> list[ClipView]:
    """Clips as the interface shows them."""
    rate = recording.sample_rate
    return [
        ClipView(
            id=c.id,
            track=c.track_id,
            start=c.start / rate,
            end=c.end / rate,
            gain=c.gain,
            phrase_start=None if c.phrase_start is None else c.phrase_start / rate,
            phrase_end=None if c.phrase_end is None else c.phrase_end / rate,
            before=level_before(session, recording, c),
            after=after.get(c.id),
            peak=c.true_peak,
            room_tone=c.room_tone,
            confidence=c.confidence,
            locked=c.locked,
            left_out=c.left_out,
            by_hand=c.by_hand,
            reference=c.reference,
            label=c.label,
        )
        for c in clips
    ]


def _reached(beyond: GainCurve, clips: Sequence[Clip]) -> np.ndarray:
    """In the phrases of which clips gain that is not theirs changes anything, (n,) bool."""
    start = np.array([c.start if c.phrase_start is None else c.phrase_start for c in clips], np.float64)
    end = np.array([c.start if c.phrase_end is None else c.phrase_end for c in clips], np.float64)
    before = np.concatenate([[0], np.cumsum(beyond.db != 0)])
    inside = before[np.searchsorted(beyond.at, end, "right")] > before[np.searchsorted(beyond.at, start, "left")]
    at_edges = (np.interp(start, beyond.at, beyond.db) != 0) | (np.interp(end, beyond.at, beyond.db) != 0)
    return np.asarray(inside | at_edges)
