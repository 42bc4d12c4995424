"""Marks of a track, for tests of details."""

from __future__ import annotations

from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed, MarkView
from tests.helpers.edits import state_of


def marks_of(state: Changed, kind: str) -> list[MarkView]:
    return [mark for mark in state.marks if mark.kind == kind]


def mark_with(bench: Workbench, track: str, id: str) -> MarkView:
    return next(m for m in state_of(bench, track).marks if m.id == id)


def revision(bench: Workbench, track: str) -> int:
    return state_of(bench, track).revision
