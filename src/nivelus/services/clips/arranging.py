"""Laying out tracks that came together: as takes of one track, one after the other, or where their start stamps say.

Each is one step, so whatever was likely and not meant is undone at once.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from itertools import takewhile

from sqlalchemy.orm import Session as DbSession

from nivelus.core.errors import Locked, Refused
from nivelus.services.answers.answers import after_edit, reading_back
from nivelus.services.answers.followers import stands_alone
from nivelus.services.clips.carrying import LONGEST_SECONDS, Row, add_take, homecoming, lay, put
from nivelus.services.track.timeline import timeline_of
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.services.views.view import View
from nivelus.store import history
from nivelus.store.clip_rows import DAY
from nivelus.store.editing import Edit
from nivelus.store.history import require
from nivelus.store.reading import clip_rows
from nivelus.store.tables import Track, takes_of


class ArrangementView(View):
    """Which way of laying out some tracks is likely to be meant, and which of the ways there are."""

    likely: str
    ways: list[str]


WAYS = ("own", "takes", "after", "stamps")
_ALIKE = 1.5
"""How many times as long as the shortest the longest of some takes may be."""


def likely(bench: Workbench, session_id: str, ids: Sequence[str]) -> ArrangementView:
    """Which way of laying out tracks is likely to be meant.

    Files that are called alike but for a number and are about as long are takes; others with start stamps that differ lie
    where those say.
    """
    with bench.database.reading() as db:
        tracks = [track for track in _tracks(db, session_id, ids) if not track.follows]
        timelines = [timeline_of(db, track) for track in tracks]
    if len(tracks) < 2:
        return ArrangementView(likely="own", ways=["own"])
    lengths = [timeline.duration for timeline in timelines]
    stamps = {stamp for timeline in timelines if (stamp := timeline.own.stamp) is not None}
    has_stamps = len(stamps) > 1
    names = {_stem(track.name) for track in tracks}
    if len(names) == 1 and "" not in names and max(lengths) <= _ALIKE * min(lengths):
        best = "takes"
    else:
        best = "stamps" if has_stamps else "own"
    return ArrangementView(likely=best, ways=[way for way in WAYS if way != "stamps" or has_stamps])


def arrange(bench: Workbench, session_id: str, revision: int, ids: Sequence[str], way: str) -> Changed:
    """Lay out tracks, in the order given, in one of WAYS but for "own", which they are already; as one step."""
    with history.edit(bench.database, session_id, "Lay out", revision, read_back=reading_back(bench)) as edit:
        tracks = _tracks(edit.db, session_id, ids)
        if len(tracks) < 2 and way != "stamps":
            raise Refused("Choose two or more tracks to lay them onto one.")
        if way == "stamps":
            # what follows another goes along with it
            tracks = [track for track in tracks if not track.follows]
        for track in tracks:
            stands_alone(edit.db, track)
        if way == "takes":
            _as_takes(bench, edit, tracks)
        elif way == "after":
            _one_after_the_other(bench, edit, tracks)
        else:
            _by_stamps(bench, edit, tracks)
    return after_edit(bench, edit)


def _as_takes(bench: Workbench, edit: Edit, tracks: Sequence[Track]) -> None:
    target = tracks[0]
    name = _common_name([track.name for track in tracks])
    target.takes = [item | {"name": _without(item["name"], name)} for item in takes_of(target)]
    edit.label = f"{len(tracks)} tracks as takes of one"
    for track in tracks[1:]:
        for item in takes_of(track):
            origin = Row(track, item["number"], timeline_of(edit.db, track, item["number"]))
            number = add_take(target, _without(item["name"], name))
            clips = clip_rows(edit.db, track.id, item["number"])
            lay(bench, edit, origin, Row(target, number, timeline_of(edit.db, target)), clips, 0.0)
    target.name = name or target.name


def _one_after_the_other(bench: Workbench, edit: Edit, tracks: Sequence[Track]) -> None:
    target = Row(tracks[0], tracks[0].take, timeline_of(edit.db, tracks[0]))
    end = target.timeline.duration
    edit.label = f"{len(tracks)} tracks one after the other"
    for track in tracks[1:]:
        origin = Row(track, track.take, timeline_of(edit.db, track))
        lay(bench, edit, origin, target, clip_rows(edit.db, track.id), end)
        end += origin.timeline.duration


def _by_stamps(bench: Workbench, edit: Edit, tracks: Sequence[Track]) -> None:
    rows = [
        Row(track, item["number"], timeline_of(edit.db, track, item["number"])) for track in tracks for item in takes_of(track)
    ]
    stamps = {stamp for row in rows for recording in row.timeline.heard if (stamp := recording.stamp) is not None}
    if not stamps:
        raise Refused("None of these recordings has a start stamp.")
    edit.session.origin = _earliest(sorted(stamps), max(row.timeline.duration for row in rows))
    without = 0
    for row in rows:
        clips = clip_rows(edit.db, row.track.id, row.take)
        without += all(recording.stamp is None for recording in row.timeline.heard)
        home = homecoming(edit, row, clips)
        if any(one.clip.locked for one in home):
            raise Locked(f"Something on “{row.track.name}” is locked.")
        if home:
            put(bench, edit, row, row, home)
    edit.label = f"{len(tracks)} tracks where their start stamps say"
    if without:
        edit.told = f"{without} without a start stamp {'stays' if without == 1 else 'stay'} at the beginning."


def _earliest(stamps: Sequence[float], length: float) -> float:
    """The stamp that a session begins with, seconds since midnight; past midnight the day goes on.

    The longest time without a stamp, round the clock, is the one before the beginning.
    """
    gaps = [(after - before) % DAY for before, after in zip([stamps[-1], *stamps[:-1]], stamps, strict=True)]
    first = stamps[gaps.index(max(gaps))] if len(stamps) > 1 else stamps[0]
    apart = max((stamp - first) % DAY for stamp in stamps)
    if apart + length > LONGEST_SECONDS:
        raise Refused(f"The start stamps lie {apart / 3600:.1f} h apart, which is no session. Lay these out by hand.")
    return first


def _tracks(db: DbSession, session_id: str, ids: Sequence[str]) -> list[Track]:
    tracks: list[Track] = [require(db, Track, id, "track") for id in dict.fromkeys(ids)]
    if any(track.session_id != session_id for track in tracks):
        raise Refused("A track belongs to another session.")
    return tracks


def _stem(name: str) -> str:
    """What a name is without the numbers and marks that tell takes from each other."""
    return re.sub(r"[\s_.-]*(take|tk|t|v)?[\s_.#-]*\d*[a-c]?$", "", name.strip(), flags=re.IGNORECASE).casefold()


def _common_name(names: Sequence[str]) -> str:
    """What some names begin with alike, if that is a name."""
    alike = takewhile(lambda letters: len(set(letters)) == 1, zip(*names, strict=False))
    common = "".join(letters[0] for letters in alike)
    return re.sub(r"[\s_.#-]*(take|tk)?[\s_.#-]*\d*$", "", common, flags=re.IGNORECASE) if len(_stem(common)) > 2 else ""


def _without(name: str, common: str) -> str:
    """What is left of a take's name beside that of its track; a bare number is that of a take."""
    rest = name.removeprefix(common).strip(" _.-#")
    return f"take {rest}" if rest.isdigit() else rest or name
