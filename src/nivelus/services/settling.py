"""Settling at work: when dips or a drafted ride move phrases that were evened out, their clip gain follows in the same step.

A lift or a line drawn by hand is meant to be heard, so it settles nothing; neither does the trim.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from sqlalchemy import select
from sqlmodel import col

from nivelus.core.drafts.settle import settle
from nivelus.core.gain.curve import GainCurve, frame_gain
from nivelus.core.measure.grid import LevelGrid, all_borders
from nivelus.core.measure.spans import as_table, levels_of_spans
from nivelus.services.lanes import layers_of
from nivelus.services.levels import clip_frames, phrase_frames
from nivelus.services.marks import marks_of
from nivelus.services.rows import clip_rows
from nivelus.services.targets import limits_of
from nivelus.services.workbench import Workbench
from nivelus.store.history import Edit
from nivelus.store.tables import Clip, Recording, Track

_AT_ONCE = 500


def is_free(clip: Clip) -> bool:
    """Whether a clip's gain was drafted and may follow."""
    untouched = not (clip.by_hand or clip.locked or clip.left_out)
    return clip.drafted and untouched and clip.phrase_start is not None


def settling(bench: Workbench, edit: Edit, track: Track, recording: Recording, work: Callable[[], None]) -> None:
    """Run ``work``, an edit of dips, and let the phrases that it moves settle."""
    clips = clip_rows(edit.db, track.id) if edit.session.settle and not recording.missing else []
    if not any(is_free(clip) for clip in clips):
        work()
        return
    before = _dips(edit, track, recording, clips)
    work()
    after = _dips(edit, track, recording, clips)
    if before is not after:
        layers = layers_of(edit.db, track, clips, before, recording.sample_rate)
        now = layers_of(edit.db, track, clips, after, recording.sample_rate)
        settle_phrases(bench, edit, track, recording, clips, layers.beyond, now.beyond)


def settle_phrases(
    bench: Workbench,
    edit: Edit,
    track: Track,
    recording: Recording,
    clips: Sequence[Clip],
    before: GainCurve,
    after: GainCurve,
) -> None:
    """Let drafted phrases follow where all gain beyond that of the clips changes from ``before`` to ``after``."""
    span = _changed(before, after)
    if span is None:
        return
    reached = [clip for clip in clips if (clip.phrase_start or 0) < span[1] and (clip.phrase_end or 0) > span[0]]
    chosen = [clip for clip in reached if is_free(clip)]
    if not chosen:
        return
    grid, rate = bench.vault.grid(recording), recording.sample_rate
    phrases, whole = as_table(phrase_frames(grid, chosen)), as_table(clip_frames(grid, chosen))
    first, last = int(whole[:, 0].min()), int(max(whole[:, 1].max(), phrases[:, 1].max()))
    part = LevelGrid(grid.data[first:last], rate, grid.samples, grid.channels)
    borders = all_borders(recording.frames, rate)[first : last + 1]
    was, now = frame_gain(before, borders), frame_gain(after, borders)
    before_level, after_level = (levels_of_spans(part, phrases - first, gain, edit.session.unit) for gain in (was, now))
    settled = settle(
        np.array([clip.gain for clip in chosen]),
        after_level - before_level,
        levels_of_spans(part, whole - first, now, "peak"),
        np.array([clip.room_tone for clip in chosen]),
        limits_of(bench, edit.db, edit.session, track, recording),
    )
    wanted = {clip.id: gain for clip, gain in zip(chosen, settled.gain.tolist(), strict=True) if clip.gain != gain}
    put_gains(edit, wanted)
    edit.told = settled.words
    if settled.words:
        edit.label += f" · {settled.words}"


def put_gains(edit: Edit, gains: dict[str, float]) -> None:
    """Give clips their gains (dB), by id."""
    ids = list(gains)
    for at in range(0, len(ids), _AT_ONCE):
        for clip in edit.db.scalars(select(Clip).where(col(Clip.id).in_(ids[at : at + _AT_ONCE]))):
            clip.gain = gains[clip.id]


def _dips(edit: Edit, track: Track, recording: Recording, clips: Sequence[Clip]) -> GainCurve:
    return marks_of(edit.db, track, recording, clips).curve()


def _changed(before: GainCurve, after: GainCurve) -> tuple[float, float] | None:
    """From where to where two curves differ, samples; None where they do not. O(points)."""
    count = min(len(before.at), len(after.at))
    same = (before.at[:count] == after.at[:count]) & (before.db[:count] == after.db[:count])
    if len(before.at) == len(after.at) and same.all():
        return None
    first = count if same.all() else int(np.argmin(same))
    same = (before.at[-count:] == after.at[-count:]) & (before.db[-count:] == after.db[-count:])
    rest = count if same.all() else int(np.argmin(same[::-1]))
    rest = min(rest, count - first)
    start = float(before.at[first - 1]) if first else -np.inf
    end = float(before.at[len(before.at) - rest]) if rest else np.inf
    return start, end
