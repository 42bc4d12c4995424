"""Takes of a track: listed with their figures, switched, matched, and put together phrase by phrase.

A phrase of another take that is chosen is copied into the one that is heard, in place of the phrase in hand, with what is its
own. The joins come to lie in the pauses, where both recordings go on underneath.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np

from nivelus.core.errors import Locked, NotFound, Refused
from nivelus.core.gain.clips import SHORTEST_CLIP_SECONDS
from nivelus.services.answers.edits import run_edit
from nivelus.services.clips.carrying import Row, arrival, carry, cut_phrase, drop_take, make_room, take_name
from nivelus.services.track.limits import GAIN_RANGE, limited
from nivelus.services.track.names import clean_name
from nivelus.services.track.state import owners_of_track, state_of
from nivelus.services.track.timeline import Timeline, recordings_of_takes, timeline_of
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.levels import levels_by_clip, view_clips
from nivelus.services.views.session import Changed, ClipView, TakeName
from nivelus.services.views.view import View
from nivelus.store.clip_rows import ClipRow
from nivelus.store.editing import Edit
from nivelus.store.history import require
from nivelus.store.reading import clip_rows
from nivelus.store.tables import Clip, Detail, Track, takes_of
from nivelus.store.track_rows import rows_on


class TakeView(TakeName):
    """A take with its clips and figures: mean and spread of its phrase levels, room tone, and how many phrases count.

    ``key`` tells its sound from any other, as that of a timeline does.
    """

    key: str
    duration: float
    missing: bool
    level: float | None
    spread: float | None
    room_tone: float
    count: int
    clips: list[ClipView]
    stands: dict[str, list[str]]
    """By the clips of the take that is heard, those of this one whose phrases stand for theirs."""


class TakesView(View):
    """The takes of a track, in order."""

    items: list[TakeView]


LEAST_SHARED = 0.3
"""Share of a phrase, or of the one in hand, that both have in common where one stands for the other."""


def view(bench: Workbench, track_id: str) -> TakesView:
    """The takes of a track, each with its clips and its figures."""
    with bench.database.reading() as db:
        session, track, _ = owners_of_track(db, track_id)
        heard, recordings = clip_rows(db, track.id), recordings_of_takes(db, track)
        takes = []
        for item in takes_of(track):
            timeline = timeline_of(db, track, item["number"])
            state = state_of(bench, db, session, track, timeline, take=item["number"])
            clips = clip_rows(db, track.id, item["number"])
            stands = standing_for(heard, clips) if item["number"] != track.take else {}
            levels, every = state.levels_after(state.clips.judged), np.arange(len(clips))
            takes.append(
                TakeView(
                    number=item["number"],
                    name=item["name"],
                    recordings=recordings[item["number"]],
                    key=timeline.key,
                    duration=timeline.duration,
                    missing=timeline.missing,
                    level=float(np.mean(levels)) if len(levels) else None,
                    spread=float(np.std(levels)) if len(levels) else None,
                    room_tone=timeline.room_tone,
                    count=len(levels),
                    clips=view_clips(state, clips, every, levels_by_clip(state, every)),
                    stands={id: [other.id for other in found] for id, found in stands.items() if found},
                )
            )
        return TakesView(items=takes)


def switch(bench: Workbench, track_id: str, revision: int, number: int) -> Changed:
    """Hear another take of a track."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        name = take_name(track, number)
        track.take = number
        edit.label = f"Hear {name}"

    return run_edit(bench, track_id, "Hear another take", revision, work)


def rename(bench: Workbench, track_id: str, revision: int, number: int, name: str) -> Changed:
    """Give a take another name."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        take_name(track, number)
        clean = clean_name(name)
        track.takes = [item | ({"name": clean} if item["number"] == number else {}) for item in takes_of(track)]

    return run_edit(bench, track_id, "Rename a take", revision, work)


def remove(bench: Workbench, track_id: str, revision: int, number: int) -> Changed:
    """Take a take out of a track; the last one stays."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        name = take_name(track, number)
        if len(takes_of(track)) == 1:
            raise Refused("This is the only take. Remove the track instead.")
        tables: tuple[type[Detail] | type[Clip], ...] = (Detail, Clip)
        for table in tables:
            for row in rows_on(edit.db, table, track.id, number):
                edit.db.delete(row)
        drop_take(track, number)
        edit.label = f"Remove {name}"

    return run_edit(bench, track_id, "Take out a take", revision, work)


def match(bench: Workbench, track_id: str, revision: int) -> Changed:
    """Bring the mean phrase level of every other take to that of the one that is heard, by the gain of all of its clips."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        levels = {}
        for item in takes_of(track):
            number = item["number"]
            state = state_of(bench, edit.db, edit.session, track, timeline_of(edit.db, track, number), take=number)
            found = state.levels_after(state.clips.judged)
            if len(found):
                levels[number] = float(np.mean(found))
        if track.take not in levels or len(levels) < 2:
            raise Refused("No other take has phrases to match.")
        moved = 0
        for number, level in levels.items():
            by = round(levels[track.take] - level, 2)
            if number == track.take or not by:
                continue
            rows = [clip for clip in clip_rows(edit.db, track.id, number) if not clip.locked]
            gains = {clip.id: {"gain": limited(clip.gain + by)} for clip in rows}
            edit.change_many(Clip, rows, gains)
            moved += 1
        edit.label = f"Match {moved} take{'' if moved == 1 else 's'} to {take_name(track, track.take)}"

    return run_edit(bench, track_id, "Match takes", revision, work)


def choose(bench: Workbench, track_id: str, revision: int, clip_id: str, number: int) -> Changed:
    """Put what another take has at the time of a phrase in its place, as loud as that phrase; the joins lie in the pauses."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        here = Row(track, track.take, timeline)
        rows = clip_rows(edit.db, track.id)
        if clip_id not in rows.places:
            raise NotFound("This phrase no longer exists.", id=clip_id)
        place = rows.places[clip_id]
        clip = rows[place]
        if clip.locked:
            raise Locked("This phrase is locked.")
        name = take_name(track, number)
        if number == track.take:
            raise Refused("This is the take that is heard.")
        there = Row(track, number, timeline_of(edit.db, track, number))
        chosen = standing_for([clip], clip_rows(edit.db, track.id, number))[clip.id]
        if not chosen:
            raise Refused(f"{name} has no phrase at this time.")
        louder = _louder(bench, edit, here, there, clip, chosen)
        gains = {one.id: one.gain + louder for one in chosen}
        _exchange(bench, edit, here, there, rows, place, chosen, gains)
        edit.label = f"Choose {name} for a phrase"
        edit.told = _limits_told(max(gains.values()), edit.session.most_up)

    return run_edit(bench, track_id, "Choose a take", revision, work)


def standing_for(clips: Sequence[ClipRow], others: Sequence[ClipRow]) -> dict[str, list[ClipRow]]:
    """By each of some clips, those of another take whose phrases stand for its own: most of one lies in the other.

    ``others`` are in order of time. O(n log m), and what is found.
    """
    voiced = [other for other in others if other.phrase_start is not None]
    starts, ends = ([getattr(other, name) or 0 for other in voiced] for name in ("phrase_start", "phrase_end"))
    found: dict[str, list[ClipRow]] = {clip.id: [] for clip in clips}
    for clip in clips:
        if clip.phrase_start is None or clip.phrase_end is None:
            continue
        near = voiced[bisect_right(ends, clip.phrase_start) : bisect_left(starts, clip.phrase_end)]
        found[clip.id] = [
            other for other in near if _shared(clip, other) >= LEAST_SHARED * max(min(_length(clip), _length(other)), 1)
        ]
    return found


# --- how it is done


class _Way(NamedTuple):
    """Between which samples a join may lie."""

    earliest: int
    latest: int

    @property
    def middle(self) -> int:
        return (self.earliest + self.latest) // 2


def _louder(bench: Workbench, edit: Edit, here: Row, there: Row, clip: ClipRow, chosen: Sequence[ClipRow]) -> float:
    """By how many dB what is chosen of another take is to be moved to be as loud as a phrase: the mean of its levels counts."""

    def level(row: Row, clips: Sequence[ClipRow]) -> float:
        state = state_of(bench, edit.db, edit.session, row.track, row.timeline, take=row.take)
        places = clip_rows(edit.db, row.track.id, row.take).places
        return float(np.nanmean(state.levels_after(np.array([places[one.id] for one in clips]))))

    by = level(here, [clip]) - level(there, chosen)
    return by if np.isfinite(by) else 0.0


def _limits_told(gain: float, most_up: float) -> str:
    """What stands in the way of a gain that makes a phrase as loud as another one, in words; empty for nothing."""
    most = GAIN_RANGE[1]
    if gain > most:
        return f"{most:g} dB of gain is the most there is: it is {gain - most:.1f} dB quieter than it was heard."
    if gain > most_up:
        return f"Its gain of {gain:+.1f} dB is beyond the upper limit of {most_up:+.1f} dB, which drafts keep to."
    return ""


def _exchange(
    bench: Workbench,
    edit: Edit,
    here: Row,
    there: Row,
    rows: Sequence[ClipRow],
    place: int,
    chosen: Sequence[ClipRow],
    gains: Mapping[str, float],
) -> None:
    """Copy clips of another take into one, in place of a clip and from border to border of the phrases beside it.

    ``gains`` are those that they have from then on, dB, by clip.
    """
    clip = rows[place]
    start, end = _joins(here, there, rows, place, chosen, clip_rows(edit.db, there.track.id, there.take))
    arrivals = [arrival(there, here, other, 0) for other in chosen]
    arrivals[0].values["start"], arrivals[-1].values["end"] = start, end
    for one in arrivals:
        one.values["gain"] = limited(gains[one.clip.id])
    edit.db.delete(require(edit.db, Clip, clip.id, "phrase"))
    for neighbour, name, at in ((place - 1, "end", start), (place + 1, "start", end)):
        if not 0 <= neighbour < len(rows) or rows[neighbour].locked:
            continue
        other = rows[neighbour]
        touches = other.end == clip.start if name == "end" else other.start == clip.end
        overlaps = other.end > start if name == "end" else other.start < end
        if (touches or overlaps) and getattr(other, name) != at:
            # its recording goes on underneath, so the pause has no hole
            stored = require(edit.db, Clip, other.id, "phrase")
            begins, ends = other.shift, other.shift + here.timeline.span_of(other.recording_id)
            setattr(stored, name, min(max(at, begins), ends))
            if stored.end - stored.start < SHORTEST_CLIP_SECONDS * here.rate:
                edit.db.delete(stored)
            else:
                cut_phrase(bench, stored, here.timeline)
    beside = {rows[at].id for at in (place - 1, place, place + 1) if 0 <= at < len(rows)}
    make_room(bench, edit, here, [(start, end)], beside)
    for one in arrivals:
        copied = one.copied()
        if (copied.start, copied.end) != (one.clip.start, one.clip.end):
            cut_phrase(bench, copied, there.timeline)
        edit.db.add(copied)
    carry(edit, there, here, arrivals, copy=True)


def _joins(
    here: Row, there: Row, rows: Sequence[ClipRow], place: int, chosen: Sequence[ClipRow], others: Sequence[ClipRow]
) -> tuple[int, int]:
    """Where what is chosen begins and ends: in the middle of the pause that both takes have there, as far as it is recorded."""
    clip, first, last = rows[place], chosen[0], chosen[-1]
    before = rows[place - 1] if place else None
    after = rows[place + 1] if place + 1 < len(rows) else None
    ids = [other.id for other in others]
    before_there = others[ids.index(first.id) - 1] if ids.index(first.id) else None
    after_there = others[ids.index(last.id) + 1] if ids.index(last.id) + 1 < len(others) else None
    begins = first.shift
    ends = last.shift + there.timeline.span_of(last.recording_id)
    opening = _Way(
        max([begins, 0, *(one.phrase_end for one in (before, before_there) if one is not None and one.phrase_end is not None)]),
        min(first.phrase_start or first.start, clip.phrase_start or clip.start),
    )
    closing = _Way(
        max(last.phrase_end or last.end, clip.phrase_end or clip.end),
        min([ends, *(one.phrase_start for one in (after, after_there) if one is not None and one.phrase_start is not None)]),
    )
    start = opening.middle if before is not None else max(begins, 0)
    end = closing.middle if after is not None else min(ends, max(clip.end, last.end))
    # a locked neighbour keeps its border
    if before is not None and before.locked:
        start = max(start, before.end)
    if after is not None and after.locked:
        end = min(end, after.start)
    # whatever overlaps, the phrases that are chosen are heard from their beginning to their end, or nearly so
    start = min(max(start, begins), (first.phrase_end or first.end) - 1)
    end = max(min(end, ends), (last.phrase_start or last.start) + 1)
    return start, end


def _length(clip: ClipRow) -> int:
    return (clip.phrase_end or 0) - (clip.phrase_start or 0)


def _shared(a: ClipRow, b: ClipRow) -> int:
    return min(a.phrase_end or 0, b.phrase_end or 0) - max(a.phrase_start or 0, b.phrase_start or 0)
