"""The runner of edits: each is one step of the history, and is answered with what it changed."""

from __future__ import annotations

from collections.abc import Callable

from nivelus.services.answers.answers import after_edit, reading_back
from nivelus.services.answers.settling import settling
from nivelus.services.track.timeline import Timeline, timeline_of
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.store import history
from nivelus.store.editing import Edit
from nivelus.store.history import require
from nivelus.store.tables import Track


def count_of(count: int, what: str) -> str:
    """So many of something, in the words of a label."""
    return f"1 {what}" if count == 1 else f"{count} {what}s"


def run_edit(
    bench: Workbench,
    track_id: str,
    label: str,
    revision: int,
    work: Callable[[Edit, Track, Timeline], None],
    settles: bool = False,
) -> Changed:
    """Run an edit of a track as one step of its session's history.

    ``work`` may set ``edit.label`` once it knows what it did. If it ``settles``, drafted phrases follow its dips.
    """
    with bench.database.reading() as db:
        session_id = require(db, Track, track_id, "track").session_id
    with history.edit(bench.database, session_id, label, revision, read_back=reading_back(bench)) as edit:
        track = require(edit.db, Track, track_id, "track")
        timeline = timeline_of(edit.db, track)
        if settles:
            settling(bench, edit, track, timeline, lambda: work(edit, track, timeline))
        else:
            work(edit, track, timeline)
    return after_edit(bench, edit)
