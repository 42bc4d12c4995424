"""Tracks: their name, order and kind, their fader, whether they are heard, and copying one."""

from __future__ import annotations

from typing import Any, Literal, TypeVar

from sqlmodel import SQLModel

from nivelus.core.errors import Refused
from nivelus.services.answers.edits import run_edit
from nivelus.services.clips.phrases import find_in
from nivelus.services.track.names import clean_name
from nivelus.services.track.timeline import Timeline
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.store.editing import Edit
from nivelus.store.reading import clip_rows
from nivelus.store.tables import Clip, Detail, Lane, MarkSet, Track, new_id
from nivelus.store.track_rows import rows_on, tracks_in_order

FADER_RANGE = (-60.0, 12.0)
Row = TypeVar("Row", bound=SQLModel)


def rename(bench: Workbench, track_id: str, revision: int, name: str) -> Changed:
    """Give a track another name."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        track.name = clean_name(name)

    return run_edit(bench, track_id, "Rename the track", revision, work)


def put(bench: Workbench, track_id: str, revision: int, place: int) -> Changed:
    """Put a track at another place in the order, counted from 0; one beyond the last is the last."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        order = [one for one in tracks_in_order(edit.db, track.session_id) if one is not track]
        at = min(max(place, 0), len(order))
        _number([*order[:at], track, *order[at:]])
        edit.label = f"Put {track.name} " + (f"below {order[at - 1].name}" if at else "first")

    return run_edit(bench, track_id, "Put a track elsewhere", revision, work)


def duplicate(bench: Workbench, track_id: str, revision: int) -> Changed:
    """Put a copy of a track, with everything on it, right below it. Takes O(n) for n clips and corrections."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        order = tracks_in_order(edit.db, track.session_id)
        copy = _copy_of(track, id=new_id(), name=_free_name(track.name, {one.name for one in order}))
        edit.db.add(copy)
        for table in (Clip, MarkSet, Detail, Lane):
            for row in rows_on(edit.db, table, track.id):
                edit.db.add(_copy_of(row, id=new_id(), track_id=copy.id))
        at = order.index(track) + 1
        _number([*order[:at], copy, *order[at:]])
        edit.label = f"Duplicate {track.name}"

    return run_edit(bench, track_id, "Duplicate a track", revision, work)


def set_fader(bench: Workbench, track_id: str, revision: int, fader: float) -> Changed:
    """Set the fader, in dB; nothing else changes."""
    if not FADER_RANGE[0] <= fader <= FADER_RANGE[1]:
        raise Refused(f"The fader goes from {FADER_RANGE[0]:.0f} to +{FADER_RANGE[1]:.0f} dB.")

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        track.fader = round(fader, 2)
        edit.label = f"Fader of {track.name} to {track.fader:+.1f} dB"

    return run_edit(bench, track_id, "Fader", revision, work)


def set_heard(bench: Workbench, track_id: str, revision: int, which: Literal["mute", "solo"], on: bool) -> Changed:
    """Mute a track or let it be heard alone; that is no part of its gain."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        setattr(track, which, on)
        words = {"mute": ("Mute", "Unmute"), "solo": ("Solo", "No solo of")}[which]
        edit.label = f"{words[0] if on else words[1]} {track.name}"

    return run_edit(bench, track_id, which.title(), revision, work)


def set_kind(bench: Workbench, track_id: str, revision: int, kind: Literal["voice", "bed"]) -> Changed:
    """Make a track a voice or a bed. What was done to its phrases stays, and is heard as before.

    A bed that becomes a voice has its phrases found, if it never had any.
    """

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        track.kind = kind
        edit.label = f"{track.name} is a {kind}"
        has_phrases = any(clip.phrase_start is not None for clip in clip_rows(edit.db, track.id))
        if kind == "voice" and not has_phrases and not timeline.missing:
            _, count = find_in(bench, edit, track, timeline)
            edit.told = f"{count} phrases found" if count else "no phrase was found in it"

    return run_edit(bench, track_id, f"Make it a {kind}", revision, work)


def _number(order: list[Track]) -> None:
    for position, track in enumerate(order):
        track.position = position


def _copy_of(row: Row, **other: Any) -> Row:
    return type(row)(**row.model_dump() | other)


def _free_name(name: str, taken: set[str]) -> str:
    """A name with the first number from 2 on that no track has yet."""
    return next(free for number in range(2, len(taken) + 3) if (free := f"{name} {number}") not in taken)
