"""Clips along the axis: moved, copied, trimmed, taken out. What is theirs goes with them; ride and trim stay where they are.

A clip's gain, words and curve are its own row's. What the hand made of marks belongs to where a recording lies, so it is moved
or copied along. What a clip is laid over is trimmed, which is told; a locked clip is never touched.
"""

from __future__ import annotations

from collections.abc import Sequence

from nivelus.core.errors import Locked, NotFound, Refused
from nivelus.core.gain.clips import SHORTEST_CLIP_SECONDS
from nivelus.services.answers.edits import count_of, run_edit
from nivelus.services.clips.carrying import Row, cut_phrase, homecoming, lay, make_room, put, row_of, take_name
from nivelus.services.clips.clips import chosen_rows, free_rows
from nivelus.services.track.timeline import Timeline
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.store.editing import Edit
from nivelus.store.history import require
from nivelus.store.reading import clip_rows
from nivelus.store.tables import Clip, Track, takes_of


def move(
    bench: Workbench,
    track_id: str,
    revision: int,
    ids: Sequence[str],
    by: float = 0.0,
    to_track: str | None = None,
    to_take: int | None = None,
) -> Changed:
    """Move clips by seconds, and maybe to another track or take. They stop at the beginning of the session."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        origin = Row(track, track.take, timeline)
        clips = free_rows(edit, track, ids)
        target = row_of(edit, origin, to_track, to_take)
        lay(bench, edit, origin, target, clips, by)
        what = count_of(len(clips), "phrase")
        if target is origin:
            edit.moves(by, lambda sum: f"Move {what} by {_seconds(sum)}")
        else:
            edit.label = f"Move {what} to {_name(target)}"

    return run_edit(bench, track_id, "Move", revision, work)


def paste(
    bench: Workbench,
    track_id: str,
    revision: int,
    source: str,
    ids: Sequence[str],
    at: float,
    to_take: int | None = None,
) -> Changed:
    """Copy clips of a track, ``source``, into one, so that the first begins at ``at`` seconds. The copies are their own."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        here = Row(track, track.take, timeline)
        origin = here if source == track.id else row_of(edit, here, source, None)
        clips = chosen_rows(edit, origin.track, ids)
        first = min(clip.start for clip in clips) / origin.rate
        target = row_of(edit, here, None, to_take)
        lay(bench, edit, origin, target, clips, at - first, copy=True)
        edit.label = f"Copy {count_of(len(clips), 'phrase')}" + ("" if target is origin else f" to {_name(target)}")

    return run_edit(bench, track_id, "Copy", revision, work)


def take_out(bench: Workbench, track_id: str, revision: int, ids: Sequence[str]) -> Changed:
    """Take clips out; silence is left where they were."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        clips = free_rows(edit, track, ids)
        if len(clips) == len(clip_rows(edit.db, track.id)):
            raise Refused("These are the track's only clips. Remove the track instead, or leave at least one clip.")
        for clip in clips:
            edit.db.delete(require(edit.db, Clip, clip.id, "phrase"))
        edit.label = f"Remove {count_of(len(clips), 'phrase')}"

    return run_edit(bench, track_id, "Take out", revision, work)


def close_gap(bench: Workbench, track_id: str, revision: int, clip_id: str) -> Changed:
    """Close the silence behind a clip: all that follows moves up. Ride and trim stay where they are."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        rows = clip_rows(edit.db, track.id)
        place = rows.places.get(clip_id)
        if place is None:
            raise NotFound("This phrase no longer exists.", id=clip_id)
        following = rows[place + 1 :]
        gap = following[0].start - rows[place].end if following else 0
        if not gap:
            raise Refused("There is no gap after this phrase to close.")
        if any(clip.locked for clip in following):
            raise Locked("A later phrase is locked.")
        here = Row(track, track.take, timeline)
        lay(bench, edit, here, here, following, -gap / here.rate)
        edit.label = f"Close a gap of {gap / here.rate:.2f} s"

    return run_edit(bench, track_id, "Close a gap", revision, work)


def bring_home(bench: Workbench, track_id: str, revision: int, ids: Sequence[str]) -> Changed:
    """Move clips back to where they were recorded: where start stamps say it, in a session laid out by those."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        here = Row(track, track.take, timeline)
        clips = free_rows(edit, track, ids)
        home = homecoming(edit, here, clips)
        if not home:
            raise Refused("This is already where it was recorded.")
        put(bench, edit, here, here, home)
        edit.label = f"{count_of(len(home), 'phrase')} back to where recorded"

    return run_edit(bench, track_id, "Back to where it was recorded", revision, work)


def trim(bench: Workbench, track_id: str, revision: int, clip_id: str, edge: str, at: float) -> Changed:
    """Move the start or the end of a clip to ``at`` seconds, as far as its recording goes. What it covers is trimmed."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        here = Row(track, track.take, timeline)
        (clip,) = free_rows(edit, track, [clip_id])
        least = round(SHORTEST_CLIP_SECONDS * here.rate)
        begins, ends = clip.shift, clip.shift + timeline.span_of(clip.recording_id)
        position = round(at * here.rate)
        start, end = clip.start, clip.end
        if edge == "start":
            start = min(max(position, begins, 0), end - least)
        else:
            end = max(min(position, ends), start + least)
        if (start, end) == (clip.start, clip.end):
            raise Refused(f"The recording {'begins' if edge == 'start' else 'ends'} here.")
        row = require(edit.db, Clip, clip.id, "phrase")
        make_room(bench, edit, here, [(start, end)], {clip.id})
        row.start, row.end = start, end
        cut_phrase(bench, row, timeline)
        edit.label = f"Trim the {edge} of a phrase by {abs(start - clip.start + end - clip.end) / here.rate:.2f} s"

    return run_edit(bench, track_id, "Trim", revision, work)


def _name(row: Row) -> str:
    name = row.track.name
    return name if len(takes_of(row.track)) == 1 else f"{take_name(row.track, row.take)} of {name}"


def _seconds(by: float) -> str:
    return f"{by:+.3f} s" if abs(by) < 10 else f"{by:+.1f} s"
