"""Sessions: starting and deleting one, the whole state of one, its name and rule, and its history."""

from __future__ import annotations

from typing import Any

import numpy as np
from sqlalchemy.orm import Session as DbSession

from nivelus.core.marks.details import RecordingMarks
from nivelus.core.sound.reader import SoundInfo
from nivelus.services.answers.answers import after_edit, answer, reading_back, tracks_of
from nivelus.services.answers.scopes import Scope
from nivelus.services.sessions.broken import reading_whole
from nivelus.services.sessions.recordings import bury, clear_buried
from nivelus.services.track.names import clean_name
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.services.views.view import View
from nivelus.store import history
from nivelus.store.history import require
from nivelus.store.job_rows import jobs_of
from nivelus.store.reading import clip_rows
from nivelus.store.recording_rows import recordings_called, recordings_used
from nivelus.store.tables import MOVED, Recording, Session

MOST_STAMP = 1 << 63
"""Samples since midnight from which on the database has no room for them; EBU Tech 3285 has 64 bits without a sign."""


class RevisionView(View):
    """How many changes a session has seen."""

    revision: int


def create(bench: Workbench, name: str) -> str:
    """Start a session; its id."""
    with bench.database.writing() as db:
        session = Session(name=clean_name(name))
        db.add(session)
        return session.id


def remove(bench: Workbench, session_id: str) -> None:
    """Delete a session for good, with its uploads and renders, and the recordings that only it uses; also on a full disk."""
    bench.freeing(lambda: _remove(bench, session_id))


def _remove(bench: Workbench, session_id: str) -> None:
    with bench.database.writing() as db:
        session = require(db, Session, session_id, "session")
        jobs = [job.id for job in jobs_of(db, session_id)]
        own = recordings_used(db, session_id)
        db.delete(session)
        db.flush()
        gone = recordings_called(db, own - recordings_used(db))
        for recording in gone:
            bury(db, recording)
    for job_id in jobs:
        bench.vault.clear_job(job_id)
    for recording in gone:
        clear_buried(bench, recording.hash)


AT_FIRST = 1500
"""Clips that are told at once when a session is opened; those of the track that is looked at are told however many they are."""
MOVES_OTHERWISE = (
    "gain glides through long pauses now, and gaps mind the breaths beside them, so pauses may sound a little otherwise; "
    "gains, curves, points and what was done by hand are as they were"
)
"""What a session from before is told once."""


def opened(bench: Workbench, session_id: str, first: str | None = None, only: str | None = None) -> Changed:
    """Everything of a session, see ``state``, with what has to be said of it once."""
    whole = state(bench, session_id, first, only)
    with bench.database.reading() as db:
        if require(db, Session, session_id, "session").moved >= MOVED:
            return whole
    with bench.database.writing() as db:
        require(db, Session, session_id, "session").moved = MOVED
    # of a session without a track nothing is to be heard
    return whole.model_copy(update={"told": MOVES_OTHERWISE}) if whole.tracks else whole


def state(bench: Workbench, session_id: str, first: str | None = None, only: str | None = None) -> Changed:
    """Everything of a session; or, of clips and marks, those of one track ``only``, or of the ``first`` and few enough others.

    ``first`` may be empty, or no track at all: then it is the first in order.
    """
    with bench.database.reading() as db:
        session = require(db, Session, session_id, "session")
        with reading_whole(session):
            return _state(bench, db, session, first, only)


def _state(bench: Workbench, db: DbSession, session: Session, first: str | None, only: str | None) -> Changed:
    ids = [track.id for track, _ in tracks_of(db, session.id)]
    if only is not None:
        ids = [id for id in ids if id == only]
    elif first is not None and ids:
        ids.sort(key=lambda id: id != first)
        count = np.cumsum([len(clip_rows(db, id)) for id in ids])
        ids = [id for id, so_far in zip(ids, count.tolist(), strict=True) if id == ids[0] or so_far <= AT_FIRST]
    return answer(bench, db, session, {id: Scope(whole=True) for id in ids}, {}, "")


def revision(bench: Workbench, session_id: str) -> RevisionView:
    """The newest revision of a session. Raises NotFound."""
    with bench.database.reading() as db:
        return RevisionView(revision=require(db, Session, session_id, "session").revision)


def update(bench: Workbench, session_id: str, revision: int, values: dict[str, Any]) -> Changed:
    """Change the name or the rule of a session."""
    label = "Rename the session" if set(values) == {"name"} else "Set the rule"
    if set(values) <= {"target", "target_kind", "unit"}:
        label = "Set the target"
    with history.edit(bench.database, session_id, label, revision, read_back=reading_back(bench)) as edit:
        for name, value in values.items():
            setattr(edit.session, name, clean_name(value) if name == "name" else value)
    return after_edit(bench, edit)


def undo(bench: Workbench, session_id: str, revision: int) -> Changed:
    """Take back the newest step."""
    return after_edit(bench, history.undo(bench.database, session_id, revision, read_back=reading_back(bench)))


def redo(bench: Workbench, session_id: str, revision: int) -> Changed:
    """Do again what was undone last."""
    return after_edit(bench, history.redo(bench.database, session_id, revision, read_back=reading_back(bench)))


def new_recording(hash: str, suffix: str, info: SoundInfo, marks: RecordingMarks) -> Recording:
    """A row for a recording that was measured."""
    return Recording(
        hash=hash,
        suffix=suffix,
        format=info.format,
        subtype=info.subtype,
        sample_rate=info.sample_rate,
        channels=info.channels,
        frames=info.frames,
        # a stamp that no clock can have made is none
        time_reference=info.bext.time_reference if info.bext and info.bext.time_reference < MOST_STAMP else None,
        room_tone=marks.phrases.room_tone,
        shows_esses=marks.shows_esses,
    )
