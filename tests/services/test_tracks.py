"""Tracks of a session: their order, and a copy of one with everything on it."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from nivelus.core.errors import Stale
from nivelus.services.answers.answers import reading_back
from nivelus.services.clips import clips
from nivelus.services.lanes import drawing
from nivelus.services.sessions import tracks
from nivelus.services.track import sound
from nivelus.services.track.workbench import Workbench
from nivelus.store import history
from tests.conftest import bring_in, uneven_voice, write_sound
from tests.helpers.edits import content, edits, points_of, state_of


def names(bench: Workbench, track: str) -> list[str]:
    return [one.name for one in state_of(bench, track).tracks]


@pytest.fixture
def three(bench: Workbench, track: str, tmp_path: Path) -> list[str]:
    """The ids of three tracks of one session."""
    session = state_of(bench, track).id
    others = [bring_in(bench, session, write_sound(tmp_path / f"{name}.wav", uneven_voice())) for name in ("bass", "choir")]
    return [track, *others]


def test_a_track_goes_to_any_place_and_back(bench: Workbench, three: list[str]) -> None:
    first, _, last = three
    before = names(bench, first)
    moved = tracks.put(bench, last, state_of(bench, first).revision, 0)
    assert [one.id for one in moved.tracks] == [last, *three[:2]]
    assert moved.undo == "Put choir first"
    moved = tracks.put(bench, last, moved.revision, 99)
    assert [one.id for one in moved.tracks] == three
    assert moved.undo == "Put choir below bass"
    # put where it is, it is no step
    same = tracks.put(bench, last, moved.revision, 2)
    assert same.revision == moved.revision
    with pytest.raises(Stale):
        tracks.put(bench, last, moved.revision - 1, 0)
    history.undo(bench.database, moved.id, read_back=reading_back(bench))
    history.undo(bench.database, moved.id, read_back=reading_back(bench))
    assert names(bench, first) == before


def test_a_copy_has_all_that_is_on_the_track_and_goes_its_own_way(bench: Workbench, track: str) -> None:
    for edit in edits(bench, track)[:5] + edits(bench, track)[13:17]:
        edit(state_of(bench, track))
    drawing.lift_span(bench, track, state_of(bench, track).revision, "ride", 1.0, 2.0, -3.0)
    drawing.lift_span(bench, track, state_of(bench, track).revision, "curve", 3.0, 4.0, 2.0)
    before = state_of(bench, track)
    done = tracks.duplicate(bench, track, before.revision)
    assert names(bench, track) == ["uneven voice", "uneven voice 2"]
    copy = done.tracks[1].id
    assert done.undo == "Duplicate uneven voice"
    # every layer is the same, and so are the phrases and what the hand made of them
    for layers in (("clip",), ("dips",), ("curve",), ("ride",), ("clip", "curve", "dips", "ride", "trim")):
        np.testing.assert_array_equal(sound.gain_points(bench, copy, layers), sound.gain_points(bench, track, layers))
    whole = state_of(bench, track)
    hidden = {"id", "track"}
    own, copied = (
        [[row.model_dump(exclude=hidden) for row in rows if row.track == one] for rows in (whole.clips, whole.marks)]
        for one in (track, copy)
    )
    assert own == copied
    assert any(clip["label"] for clip in copied[0])
    # an edit of one leaves the other
    first = next(clip for clip in whole.clips if clip.track == copy)
    clips.set_gain(bench, copy, whole.revision, [first.id], by=-2.0)
    after = state_of(bench, track)
    assert [clip for clip in after.clips if clip.track == track] == [clip for clip in whole.clips if clip.track == track]
    assert points_of(bench, track, "ride")
    # a second copy has a name of its own, and undo takes all of it away
    again = tracks.duplicate(bench, track, after.revision)
    assert [one.name for one in again.tracks] == ["uneven voice", "uneven voice 3", "uneven voice 2"]
    for _ in range(3):
        history.undo(bench.database, whole.id, read_back=reading_back(bench))
    assert content(state_of(bench, track)) == content(before)
