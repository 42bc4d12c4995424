"""Clips by hand: gain, flags, words, cutting, joining, and moving the border between two of them.

A clip without a phrase (a piece of a pause) has a gain like any other. A locked clip is never touched.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import replace
from typing import Any

import numpy as np

from nivelus.core.chain.placing import runs_of
from nivelus.core.errors import Locked, NotFound, Refused
from nivelus.core.gain.clips import SHORTEST_CLIP_SECONDS
from nivelus.core.gain.drawn import numbered, spaced
from nivelus.core.marks.cells import measure_cell
from nivelus.core.measure.grid import LevelGrid
from nivelus.services.answers.edits import count_of, run_edit
from nivelus.services.clips.detail_rows import pin
from nivelus.services.lanes.rows import joined_curves
from nivelus.services.track.limits import GAIN_RANGE, limited
from nivelus.services.track.names import NAME_LENGTH
from nivelus.services.track.state import state_of
from nivelus.services.track.timeline import Timeline, measurable
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.levels import clips_of
from nivelus.services.views.session import Changed
from nivelus.store.clip_rows import ClipRow
from nivelus.store.editing import Edit
from nivelus.store.packing import pack_curve, unpack_curve
from nivelus.store.reading import clip_rows
from nivelus.store.tables import Clip, Track

FLAGS = {
    "locked": ("Lock", "Unlock"),
    "left_out": ("Leave out", "Take in"),
    "reference": ("Make a reference of", "No reference any more:"),
}


def set_gain(
    bench: Workbench, track_id: str, revision: int, ids: list[str], by: float | None = None, to: float | None = None
) -> Changed:
    """Move clips by ``by`` dB, keeping their differences, or set them to ``to`` dB.

    Moved clips count as set by hand from then on, but for one that is brought back to exactly 0 dB by ``to``. All phrases of a
    track moved by the same is its overall gain and not their levelling: they stay what they are to drafts, and an overall gain
    that is set by hand goes along. Locked clips stay; if all are locked, Refused says so.
    """
    if (by is None) == (to is None):
        raise Refused("Give either a change in dB or a target gain.")

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        free = free_rows(edit, track, ids)
        wanted = {clip.id: clip.gain + by if by is not None else to or 0.0 for clip in free}
        gains = {id: limited(gain) for id, gain in wanted.items()}
        movable = [clip.id for clip in clip_rows(edit.db, track.id) if clip.phrase_start is not None and not clip.locked]
        is_whole = by is not None and len(movable) > 1 and gains.keys() >= set(movable)
        if is_whole:
            values: dict[str, dict[str, Any]] = {id: {"gain": gain} for id, gain in gains.items()}
            if edit.session.base_kind == "hand":
                edit.session.base = round(edit.session.base + (by or 0.0), 2)
        else:
            values = {
                id: {"gain": gain, "by_hand": not (to is not None and gain == 0.0), "drafted": False}
                for id, gain in gains.items()
            }
        edit.change_many(Clip, free, values)
        what = ("all " if is_whole else "") + count_of(len(free), "phrase")
        if by is not None:
            edit.moves(by, lambda sum: f"{what} by {sum:+.1f} dB")
        else:
            edit.label = f"{what} to {limited(to or 0.0):+.1f} dB"
        edit.told = _limits_told(wanted.values())

    return run_edit(bench, track_id, "Clip gain", revision, work)


def set_flag(bench: Workbench, track_id: str, revision: int, ids: list[str], flag: str, on: bool) -> Changed:
    """Lock, leave out, or make a reference of clips; or the opposite."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        chosen = chosen_rows(edit, track, ids)
        if flag == "locked":
            changing = [clip for clip in chosen if clip.locked != on]
            pin(edit, track, timeline, state_of(bench, edit.db, edit.session, track, timeline), changing, on)
        edit.change_many(Clip, chosen, {clip.id: {flag: on} for clip in chosen})
        edit.label = f"{FLAGS[flag][0 if on else 1]} {count_of(len(chosen), 'phrase')}"

    return run_edit(bench, track_id, "Flag", revision, work)


def set_label(bench: Workbench, track_id: str, revision: int, clip_id: str, label: str) -> Changed:
    """Write down the words of a phrase; empty takes them away."""
    clean = "".join(c for c in label if c.isprintable()).strip()[: NAME_LENGTH * 4]

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        _chosen(edit, track, [clip_id])[0].label = clean

    return run_edit(bench, track_id, "Words of a phrase", revision, work)


def cut(bench: Workbench, track_id: str, revision: int, at: float) -> Changed:
    """Cut the clip at ``at`` seconds in two; both keep its gain and its curve. A phrase that is cut becomes two phrases."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        measurable(timeline)
        position = round(at * timeline.sample_rate)
        least = round(SHORTEST_CLIP_SECONDS * timeline.sample_rate)
        for clip in clips_of(edit.db, track):
            if clip.start + least <= position <= clip.end - least:
                break
        else:
            raise Refused("There is a border here already, or no clip. Cut somewhere else.")
        a, b = clip.phrase_start, clip.phrase_end
        right = Clip(**{**clip.model_dump(exclude={"id"}), "start": position})
        clip.end = position
        take_phrase(bench, clip, timeline, *_part(a, b, clip.start, position, least))
        take_phrase(bench, right, timeline, *_part(a, b, position, right.end, least))
        if clip.loudness is None:
            clip.label = ""
        elif clip.label and right.loudness is not None:
            clip.label, right.label = _split_words(clip.label, clip, right)
        elif right.loudness is None:
            right.label = ""
        edit.db.add(right)

    return run_edit(bench, track_id, "Cut", revision, work)


def join(bench: Workbench, track_id: str, revision: int, ids: list[str]) -> Changed:
    """Join neighbouring clips to one with one phrase; it takes the gain of the one with the longest phrase."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        clips = clips_of(edit.db, track)
        chosen = sorted(_chosen(edit, track, ids), key=lambda clip: clip.start)
        if len(chosen) < 2:
            raise Refused("Select two or more neighbouring phrases to join them.")
        first = next(i for i, clip in enumerate(clips) if clip.id == chosen[0].id)
        if [clip.id for clip in clips[first : first + len(chosen)]] != [clip.id for clip in chosen]:
            raise Refused("Only neighbours can be joined. Select the ones in between as well.")
        if any(clip.locked for clip in chosen):
            raise Locked("One of them is locked.")
        if len(runs_of([(clip.recording_id, clip.shift, clip.start, clip.end) for clip in chosen])) > 1:
            raise Refused("What was moved or cut apart cannot be joined: it would not sound as it does now.")
        measurable(timeline)
        longest = max(chosen, key=_phrase_length)
        starts = [clip.phrase_start for clip in chosen if clip.phrase_start is not None]
        ends = [clip.phrase_end for clip in chosen if clip.phrase_end is not None]
        kept = chosen[0]
        kept.curve = _joined_curve(edit, chosen, timeline)
        kept.end, kept.gain = chosen[-1].end, longest.gain
        kept.by_hand, kept.drafted = longest.by_hand, longest.drafted
        kept.label = " ".join(clip.label for clip in chosen if clip.label)
        kept.confidence = longest.confidence
        kept.left_out = longest.left_out
        kept.reference = longest.reference
        for clip in chosen[1:]:
            edit.db.delete(clip)
        take_phrase(bench, kept, timeline, min(starts, default=None), max(ends, default=None))
        edit.label = f"Join {len(chosen)} phrases"

    return run_edit(bench, track_id, "Join", revision, work)


def move_border(bench: Workbench, track_id: str, revision: int, clip_id: str, at: float) -> Changed:
    """Move the border between a clip and the next to ``at`` seconds.

    A phrase that touches the border, or that the border runs into, ends there; both clips keep at least 20 ms.
    """

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        clips = clips_of(edit.db, track)
        index = next((i for i, clip in enumerate(clips) if clip.id == clip_id), -1)
        if index < 0:
            raise NotFound("This phrase no longer exists.", id=clip_id)
        if index + 1 >= len(clips):
            raise Refused("The end of the recording cannot be moved.")
        left, right = clips[index], clips[index + 1]
        if left.end < right.start:
            raise Refused("A gap follows this phrase. Move its end on its own.")
        measurable(timeline)
        if left.locked or right.locked:
            raise Locked("A phrase beside this border is locked.")
        least = round(SHORTEST_CLIP_SECONDS * timeline.sample_rate)
        # neither of them reaches further than its recording does
        earliest = max(left.start + least, right.shift)
        latest = min(right.end - least, left.shift + timeline.span_of(left.recording_id))
        border, old = min(max(round(at * timeline.sample_rate), earliest), latest), left.end
        left_end, right_start = left.phrase_end, right.phrase_start
        if left_end is not None and (left_end == old or left_end > border):
            left_end = border
        if right_start is not None and (right_start == old or right_start < border):
            right_start = border
        for a, b in ((left.phrase_start, left_end), (right_start, right.phrase_end)):
            if a is not None and b is not None and b - a < least:
                raise Refused("The border cannot swallow a phrase. Join the two phrases instead.", command="join")
        left.end = right.start = border
        take_phrase(bench, left, timeline, left.phrase_start, left_end)
        take_phrase(bench, right, timeline, right_start, right.phrase_end)

    return run_edit(bench, track_id, "Move a border", revision, work)


def _chosen(edit: Edit, track: Track, ids: Iterable[str]) -> list[Clip]:
    chosen = []
    for id in dict.fromkeys(ids):
        clip = edit.db.get(Clip, id)
        if clip is None or clip.track_id != track.id:
            raise NotFound("This phrase no longer exists.", id=id)
        chosen.append(clip)
    if not chosen:
        raise Refused("Nothing is selected.")
    return chosen


def chosen_rows(edit: Edit, track: Track, ids: Iterable[str]) -> list[ClipRow]:
    """Some clips of a track as plain rows, by which many at once are changed. Raises NotFound, and Refused for none."""
    clips = clip_rows(edit.db, track.id)
    wanted = list(dict.fromkeys(ids))
    gone = next((id for id in wanted if id not in clips.places), None)
    if gone is not None:
        raise NotFound("This phrase no longer exists.", id=gone)
    if not wanted:
        raise Refused("Nothing is selected.")
    return [clips[clips.places[id]] for id in wanted]


def free_rows(edit: Edit, track: Track, ids: Iterable[str]) -> list[ClipRow]:
    """Those of some clips that are not locked. Raises Refused where all of them are."""
    free = [clip for clip in chosen_rows(edit, track, ids) if not clip.locked]
    if not free:
        raise Locked("What is selected is locked.")
    return free


def _limits_told(wanted: Collection[float]) -> str:
    """What keeps some clip gains from being what is wanted, in words; empty for nothing."""
    low, high = GAIN_RANGE
    if any(gain > high for gain in wanted):
        return f"{high:g} dB: that is the most"
    return f"−{-low:g} dB: that is the least" if any(gain < low for gain in wanted) else ""


def _joined_curve(edit: Edit, clips: list[Clip], timeline: Timeline) -> str:
    """The curve of clips that become one: each heard as before, within its old borders."""
    if len({clip.curve for clip in clips}) == 1:
        return clips[0].curve
    joined = spaced(joined_curves(clips, timeline.sample_rate))
    by = clips[0].shift / timeline.sample_rate
    own = replace(joined, at=np.round(joined.at - by, 9)) if by else joined
    return pack_curve(numbered(own, unpack_curve(clips[0].curve), edit.fresh_ids))


def _phrase_length(clip: Clip) -> int:
    return (clip.phrase_end or 0) - (clip.phrase_start or 0)


def phrase_within(clip: Clip, rate: int) -> tuple[int | None, int | None]:
    """What of a clip's phrase lies within it; none if that is shorter than a clip may be."""
    return _part(clip.phrase_start, clip.phrase_end, clip.start, clip.end, round(SHORTEST_CLIP_SECONDS * rate))


def _part(a: int | None, b: int | None, start: int, end: int, least: int) -> tuple[int | None, int | None]:
    """The part of phrase a ... b that lies in start ... end; none if it is shorter than a clip may be."""
    if a is None or b is None or min(b, end) - max(a, start) < least:
        return None, None
    return max(a, start), min(b, end)


def take_phrase(bench: Workbench, clip: Clip, timeline: Timeline, a: int | None, b: int | None) -> None:
    """Give a clip its phrase, in samples of the track, and measure both in its recording."""
    recorded = timeline.recorded(clip.recording_id)
    measure_clip(clip, bench.vault.grid(recorded), recorded.room_tone, timeline.sample_rate, a, b)


def measure_clip(clip: Clip, grid: LevelGrid, room_tone: float, rate: int, a: int | None, b: int | None) -> None:
    """Give a clip of a track of some ``rate`` its phrase, and measure both in the grid of its recording."""
    scale = grid.sample_rate / rate
    start, end = (round((at - clip.shift) * scale) for at in (clip.start, clip.end))
    first, last = (None if at is None else round((at - clip.shift) * scale) for at in (a, b))
    cell = measure_cell(grid, start, end, first, last, clip.confidence, room_tone)
    levels = cell.levels
    clip.phrase_start, clip.phrase_end = a, b
    clip.true_peak, clip.room_tone = cell.true_peak, cell.room_tone
    clip.loudness = levels.loudness if levels else None
    clip.rms = levels.rms if levels else None
    clip.peak = levels.true_peak if levels else None


def _split_words(label: str, left: Clip, right: Clip) -> tuple[str, str]:
    """Divide words between the two halves of a phrase, by their lengths."""
    words = label.split()
    share = _phrase_length(left) / max(1, _phrase_length(left) + _phrase_length(right))
    at = min(max(round(share * len(words)), 1), max(1, len(words) - 1))
    return " ".join(words[:at]), " ".join(words[at:])
