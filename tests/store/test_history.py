"""The history: every edit is one step that can be undone and redone, also after a restart, and stale writes are refused."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from nivelus.core.errors import NotFound, Refused, Stale
from nivelus.services.answers.answers import reading_back
from nivelus.services.clips import clips, details
from nivelus.services.sessions import sessions, tracks
from nivelus.services.track.workbench import Workbench
from nivelus.settings import Settings
from nivelus.store import history
from nivelus.store.tables import Clip, Session, Track
from tests.conftest import bring_in
from tests.helpers.edits import content, edits, state_of


@pytest.mark.parametrize("index", range(21))
def test_every_edit_can_be_undone_and_redone(bench: Workbench, track: str, index: int) -> None:
    before = state_of(bench, track)
    changed = edits(bench, track)[index](before)
    after = state_of(bench, track)
    assert content(after) != content(before)
    assert changed.revision == after.revision == before.revision + 1
    assert after.undo
    sessions.undo(bench, before.id, after.revision)
    undone = state_of(bench, track)
    assert content(undone) == content(before)
    assert undone.redo == after.undo
    sessions.redo(bench, before.id, undone.revision)
    assert content(state_of(bench, track)) == content(after)


def test_the_whole_history_can_be_walked_back_and_forth_after_a_restart(
    bench: Workbench, track: str, settings: Settings
) -> None:
    states = [state_of(bench, track)]
    for work in edits(bench, track):
        work(states[-1])
        states.append(state_of(bench, track))
    bench.close()
    again = Workbench(settings)
    try:
        for expected in reversed(states[:-1]):
            sessions.undo(again, expected.id, state_of(again, track).revision)
            assert content(state_of(again, track)) == content(expected)
        for expected in states[1:]:
            sessions.redo(again, expected.id, state_of(again, track).revision)
            assert content(state_of(again, track)) == content(expected)
    finally:
        again.close()


@settings(max_examples=15, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(choices=st.lists(st.integers(0, 8), min_size=1, max_size=6))
def test_clips_tile_the_recording_whatever_is_done_and_undone(bench: Workbench, track: str, choices: list[int]) -> None:
    work = edits(bench, track)
    for choice in choices:
        before = state_of(bench, track)
        if len(before.clips) < 2:
            break
        try:
            work[choice](before)
        except Refused:
            assert content(state_of(bench, track)) == content(before)
        state = state_of(bench, track)
        assert state.clips[0].start == 0.0
        assert state.clips[-1].end == pytest.approx(state.tracks[0].timeline.duration)
        for left, right in zip(state.clips, state.clips[1:], strict=False):
            assert left.end == right.start
        for clip in state.clips:
            if clip.phrase_start is not None:
                assert clip.phrase_end is not None
                assert clip.start <= clip.phrase_start < clip.phrase_end <= clip.end
    while state_of(bench, track).undo and state_of(bench, track).undo != "Import uneven voice.wav":
        state = state_of(bench, track)
        sessions.undo(bench, state.id, state.revision)


def test_a_new_edit_after_undo_forgets_what_could_be_redone(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    ids = [clip.id for clip in state.clips]
    state = clips.set_gain(bench, track, state.revision, ids[:1], by=1.0)
    state = sessions.undo(bench, state.id, state.revision)
    assert state.redo
    state = clips.set_gain(bench, track, state.revision, ids[:1], by=-1.0)
    assert state.redo is None
    with pytest.raises(Refused, match="nothing to redo"):
        sessions.redo(bench, state.id, state.revision)


def test_a_stale_write_is_refused_and_changes_nothing(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    clips.set_gain(bench, track, state.revision, [state.clips[0].id], by=1.0)
    with pytest.raises(Stale) as caught:
        clips.set_gain(bench, track, state.revision, [state.clips[0].id], by=1.0)
    assert caught.value.fields == {"revision": state.revision + 1}
    assert state_of(bench, track).clips[0].gain == 1.0


def test_an_edit_of_an_older_state_is_done_where_it_touches_nothing_that_changed(bench: Workbench, track: str) -> None:
    old = state_of(bench, track)
    first, second, third = (clip.id for clip in old.clips[:3])
    clips.set_gain(bench, track, old.revision, [first], by=1.0)
    clips.set_flag(bench, track, old.revision, [third], "left_out", True)
    # another column of the same row, and another table
    clips.set_label(bench, track, old.revision, first, "Good morning")
    tracks.rename(bench, track, old.revision, "Lead")
    done = tracks.set_fader(bench, track, old.revision, -3.0)
    assert done.revision == old.revision + 5
    now = state_of(bench, track)
    assert [(clip.gain, clip.label, clip.left_out) for clip in now.clips[:3]] == [
        (1.0, "Good morning", False),
        (0.0, "", False),
        (0.0, "", True),
    ]
    assert (now.tracks[0].name, now.tracks[0].fader) == ("Lead", -3.0)
    # any of it that touches what changed is refused whole, and changes nothing
    before = content(now)
    for stale in (
        lambda: clips.set_gain(bench, track, old.revision, [first, second], by=1.0),
        lambda: tracks.set_fader(bench, track, old.revision, 0.0),
        lambda: sessions.undo(bench, old.id, old.revision),
        lambda: tracks.set_fader(bench, track, now.revision + 1, 0.0),
    ):
        with pytest.raises(Stale):
            stale()
    assert content(state_of(bench, track)) == before
    # each is a step of its own: undone one by one, all of it is as it was
    for _ in range(5):
        sessions.undo(bench, old.id, state_of(bench, track).revision)
    assert content(state_of(bench, track)) == content(old)


def test_what_is_new_on_both_sides_clashes_and_so_does_what_is_not_known(bench: Workbench, track: str) -> None:
    old = state_of(bench, track)
    details.make(bench, track, old.revision, "dip", 1.0, 1.5)
    with pytest.raises(Stale):
        details.make(bench, track, old.revision, "dip", 1.0, 1.5)
    # an undo is known as well
    sessions.undo(bench, old.id, old.revision + 1)
    clips.set_gain(bench, track, old.revision, [old.clips[0].id], by=1.0)
    # after a restart nothing is known of what led here, and too long ago is forgotten
    fresh = Workbench(bench.settings)
    with pytest.raises(Stale):
        clips.set_gain(fresh, track, old.revision, [old.clips[1].id], by=1.0)
    fresh.close()
    for _ in range(40):
        clips.set_gain(bench, track, state_of(bench, track).revision, [old.clips[0].id], by=0.1)
    with pytest.raises(Stale):
        clips.set_gain(bench, track, old.revision, [old.clips[1].id], by=1.0)


def test_an_edit_that_changes_nothing_is_no_step(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    same = clips.set_gain(bench, track, state.revision, [state.clips[0].id], to=0.0)
    assert same.revision == state.revision
    assert same.undo == state.undo


def test_an_edit_that_fails_half_way_leaves_nothing_behind(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    running = history.edit(bench.database, state.id, "Broken", state.revision, read_back=reading_back(bench))
    with pytest.raises(ZeroDivisionError), running as edit:
        clip = edit.db.get(Clip, state.clips[0].id)
        assert clip is not None
        clip.gain = 9.0
        edit.db.flush()
        1 / 0  # noqa: B018
    after = state_of(bench, track)
    assert content(after) == content(state)
    assert after.revision == state.revision


def test_bringing_a_recording_in_can_be_undone(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    gone = sessions.undo(bench, state.id, state.revision)
    assert gone.tracks == []
    assert len(gone.removed[state.tracks[0].id]) == len(state.clips)
    back = sessions.redo(bench, state.id, gone.revision)
    assert content(sessions.state(bench, state.id)) == content(state)
    assert len(back.clips) == len(state.clips)


def test_undo_reaches_only_its_own_session(bench: Workbench, track: str, voice_file: Path) -> None:
    other = sessions.create(bench, "Other")
    bring_in(bench, other, voice_file)
    state = state_of(bench, track)
    clips.set_gain(bench, track, state.revision, [state.clips[0].id], by=3.0)
    sessions.undo(bench, other, sessions.state(bench, other).revision)
    assert state_of(bench, track).clips[0].gain == 3.0


def test_what_is_not_there_is_named(bench: Workbench) -> None:
    with pytest.raises(NotFound, match="session no longer exists"):
        sessions.state(bench, "nothing")
    with bench.database.reading() as db, pytest.raises(NotFound, match="track"):
        history.require(db, Track, "nothing", "track")


def test_two_writers_take_turns(bench: Workbench) -> None:
    """BEGIN IMMEDIATE: the revision that an edit reads is the revision that it replaces."""
    from concurrent.futures import ThreadPoolExecutor

    session_id = sessions.create(bench, "Busy")

    def rename(number: int) -> bool:
        try:
            sessions.update(bench, session_id, number % 4, {"name": f"Name {number}"})
        except Stale:
            return False
        return True

    with ThreadPoolExecutor(4) as pool:
        done = sum(pool.map(rename, range(16)))
    with bench.database.reading() as db:
        session = db.get(Session, session_id)
        assert session is not None
        assert session.revision == done


def test_what_only_reads_never_writes(bench: Workbench, track: str) -> None:
    with bench.database.reading() as db:
        row = db.get(Track, track)
        assert row is not None
        row.name = "Changed in passing"
        assert db.query(Clip).count() > 0
        # another writes meanwhile, and does not wait for it
        state = state_of(bench, track)
        tracks.rename(bench, track, state.revision, "Lead")
    assert state_of(bench, track).tracks[0].name == "Lead"
