"""Clips along the axis: whatever is moved, copied or trimmed sounds and measures as it did, and is undone exactly."""

from __future__ import annotations

from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
import soundfile

from nivelus.core.errors import NivelusError
from nivelus.core.measure.grid import measure_samples
from nivelus.core.measure.spans import span_levels
from nivelus.services.clips import arranging, clips, details, moves, takes
from nivelus.services.lanes import drawing
from nivelus.services.sessions import sessions
from nivelus.services.track import sound
from nivelus.services.track.workbench import Workbench
from nivelus.settings import Settings
from tests.conftest import RATE, bring_in, detailed_voice, uneven_voice, write_sound
from tests.helpers.answers import kept_is_stored, known_of, put_in, same
from tests.helpers.edits import content, edits
from tests.helpers.near import near
from tests.helpers.timeline_steps import plain_of, steps
from tests.helpers.timelines import heard, plain, session_of, state_of, voiced


@pytest.fixture
def session(bench: Workbench) -> str:
    return sessions.create(bench, "Timelines")


@pytest.fixture
def detail(bench: Workbench, session: str, tmp_path: Path) -> str:
    """A track with details, esses down, and a lift on its second phrase."""
    track = bring_in(bench, session, write_sound(tmp_path / "details.wav", detailed_voice()))
    state = sessions.state(bench, session)
    state = details.set_rule(bench, track, state.revision, "ess", {"on": True, "depth": -6.0})
    ess = next(mark.id for mark in sessions.state(bench, session).marks if mark.kind == "ess")
    state = details.set_depth(bench, track, state.revision, [ess], to=-9.0)
    drawing.lift_span(bench, track, state.revision, "curve", 2.9, 3.4, 3.0)
    return track


@pytest.fixture
def other(bench: Workbench, session: str, detail: str, tmp_path: Path) -> str:
    """A track of another rate beside it."""
    return bring_in(bench, session, write_sound(tmp_path / "other.wav", uneven_voice((-20.0, -26.0), rate=44_100), 44_100))


# --- moving


@pytest.mark.parametrize("by", [3.0, 0.1234, -0.3])
def test_a_moved_phrase_sounds_and_measures_as_it_did(bench: Workbench, session: str, detail: str, by: float) -> None:
    before = state_of(bench, session)
    phrase = voiced(before, detail)[1]
    was = heard(bench, detail)
    answer = moves.move(bench, detail, before.revision, [phrase.id], by)
    assert answer.undo == f"Move 1 phrase by {by:+.3f} s"
    moved = next(clip for clip in answer.clips if clip.id == phrase.id)
    shift = round(by * RATE)
    assert moved.start == pytest.approx(phrase.start + by, abs=1e-4)
    assert moved.shift == pytest.approx(by, abs=1e-4)
    assert (moved.gain, moved.before) == (phrase.gain, phrase.before)
    assert moved.after == pytest.approx(phrase.after, abs=0.1)
    now = heard(bench, detail)
    # the lift, the dips and the gain came along: inside, it is the same sound to the last bit but for its ramps to others
    inside = slice(round((phrase.start + 0.1) * RATE), round((phrase.end - 0.1) * RATE))
    assert now[inside.start + shift : inside.stop + shift] == near(was[inside], abs=2e-4)
    assert np.abs(was[inside]).max() > 0.01
    # an independent measurement of what is rendered
    level = span_levels(measure_samples(now, RATE), moved.phrase_start or 0, moved.phrase_end or 0).loudness
    assert moved.after == pytest.approx(level, abs=0.1)


def test_marks_and_what_the_hand_made_of_them_come_along(bench: Workbench, session: str, detail: str) -> None:
    before = state_of(bench, session)
    first = voiced(before, detail)[0]
    own = [mark for mark in before.marks if mark.kind == "ess" and first.start <= mark.start < first.end]
    assert any(mark.depth == -9.0 for mark in own)
    moves.move(bench, detail, before.revision, [first.id], 9.0)
    after = state_of(bench, session)
    there = [mark for mark in after.marks if mark.kind == "ess" and first.start + 9 <= mark.start < first.end + 9]
    assert [mark.start - 9 for mark in there] == pytest.approx([mark.start for mark in own], abs=1e-3)
    assert [(mark.depth, mark.on) for mark in there] == [(mark.depth, mark.on) for mark in own]
    # correcting it where it lies now works, and is undone
    answer = details.set_depth(bench, detail, after.revision, [there[0].id], to=-4.0)
    assert next(mark for mark in answer.marks if mark.id == there[0].id).depth == -4.0
    moves.bring_home(bench, detail, answer.revision, [first.id])
    home = state_of(bench, session)
    assert next(mark for mark in home.marks if mark.id == own[0].id).depth == -4.0


def test_ride_and_trim_stay_where_they_are(bench: Workbench, session: str, detail: str) -> None:
    state = state_of(bench, session)
    state = drawing.lift_span(bench, detail, state.revision, "ride", 5.5, 6.5, 2.0)
    last = voiced(state_of(bench, session), detail)[-1]
    state = moves.move(bench, detail, state.revision, [last.id], -2.0)
    points = sound.gain_points(bench, detail, ["ride"])
    assert points[:, 1].max() == pytest.approx(2.0)
    # another lift does not cut off what lies beyond the end of the track, which is shorter now
    drawing.lift_span(bench, detail, state.revision, "ride", 0.5, 1.0, 1.0)
    points = sound.gain_points(bench, detail, ["ride"])
    assert points[points[:, 0] > 5.5 * RATE, 1].max() == pytest.approx(2.0)


def test_what_is_covered_is_trimmed_and_undo_brings_it_back(bench: Workbench, session: str, detail: str) -> None:
    before = state_of(bench, session)
    first, second, third = voiced(before, detail)
    answer = moves.move(bench, detail, before.revision, [first.id], second.start + 0.6 - first.start)
    after = state_of(bench, session)
    spans = sorted((clip.start, clip.end) for clip in after.clips)
    assert all(a[1] <= b[0] + 1e-9 for a, b in pairwise(spans))
    cut = next(clip for clip in after.clips if clip.id == second.id)
    assert cut.end == pytest.approx(second.start + 0.6, abs=1e-4)
    assert cut.phrase_end is None or cut.phrase_end <= cut.end
    sessions.undo(bench, session, answer.revision)
    assert content(state_of(bench, session)) == content(before)
    assert third.id in {clip.id for clip in after.clips}


def test_a_copy_is_its_own(bench: Workbench, session: str, detail: str) -> None:
    state = state_of(bench, session)
    second = voiced(state, detail)[1]
    state = moves.paste(bench, detail, state.revision, detail, [second.id], 8.0)
    copy = next(clip for clip in state.clips if clip.start == pytest.approx(8.0))
    assert (copy.gain, copy.label) == (second.gain, second.label)
    assert copy.after == pytest.approx(second.after, abs=0.1)
    state = clips.set_gain(bench, detail, state.revision, [copy.id], by=3.0)
    ess = next(mark for mark in state_of(bench, session).marks if mark.kind == "ess" and mark.start > 8)
    state = details.correct(bench, detail, state.revision, [ess.id], gone=True)
    now = state_of(bench, session)
    assert next(clip for clip in now.clips if clip.id == second.id).gain == second.gain
    assert len([m for m in now.marks if m.kind == "ess" and second.start <= m.start < second.end]) == 2
    assert len([m for m in now.marks if m.kind == "ess" and m.start > 8]) == 1


def test_a_clip_goes_to_another_track_of_another_rate_with_all_that_is_its(
    bench: Workbench, session: str, detail: str, other: str
) -> None:
    before = state_of(bench, session)
    first = voiced(before, detail)[0]
    was = heard(bench, detail)
    ess = next(m for m in before.marks if m.kind == "ess" and m.depth == -9.0)
    moves.move(bench, detail, before.revision, [first.id], 10.0, to_track=other)
    after = state_of(bench, session)
    there = next(clip for clip in after.clips if clip.id == first.id)
    assert there.track == other
    assert there.start == pytest.approx(first.start + 10, abs=1e-4)
    moved = next(m for m in after.marks if m.track == other and m.kind == "ess" and m.depth == -9.0)
    assert moved.start == pytest.approx(ess.start + 10, abs=1e-3)
    assert moved.on is False or moved.depth == -9.0
    own = plain(bench, other)
    wanted = plain_of(detailed_voice(), first)
    level = np.sqrt(np.mean(own[round((first.start + 10) * 44_100) : round((first.end + 10) * 44_100)] ** 2))
    assert level == pytest.approx(np.sqrt(np.mean(wanted**2)), rel=0.01)
    assert len(was) > 0


def test_a_track_that_is_left_empty_goes_and_comes_back(bench: Workbench, session: str, detail: str, other: str) -> None:
    before = state_of(bench, session)
    all_of_it = [clip.id for clip in before.clips if clip.track == other]
    answer = moves.move(bench, other, before.revision, all_of_it, 20.0, to_track=detail)
    assert [track.id for track in answer.tracks] == [detail]
    assert len(state_of(bench, session).clips) == len(before.clips)
    sessions.undo(bench, session, answer.revision)
    assert content(state_of(bench, session)) == content(before)


def test_what_the_hand_made_outlives_the_track_that_its_clips_left(
    bench: Workbench, session: str, detail: str, other: str
) -> None:
    before = state_of(bench, session)
    all_of_it = [clip.id for clip in before.clips if clip.track == detail]
    answer = moves.move(bench, detail, before.revision, all_of_it, 20.0, to_track=other)
    assert [track.id for track in answer.tracks] == [other]
    now = state_of(bench, session)
    assert sum(mark.depth == -9.0 and mark.by_hand for mark in now.marks) == 1
    assert len([mark for mark in now.marks if mark.kind == "ess"]) == len([m for m in before.marks if m.kind == "ess"])
    sessions.undo(bench, session, answer.revision)
    assert content(state_of(bench, session)) == content(before)


def test_taking_out_leaves_silence_and_closing_the_gap_moves_the_rest_up(bench: Workbench, session: str, detail: str) -> None:
    before = state_of(bench, session)
    first, second, third = voiced(before, detail)
    state = moves.take_out(bench, detail, before.revision, [second.id])
    fade = round(0.005 * RATE)
    silent = plain(bench, detail)[round(second.start * RATE) + fade : round(second.end * RATE) - fade]
    assert not silent.any()
    neighbour = [clip for clip in state_of(bench, session).clips if clip.end <= second.start + 1e-6][-1]
    state = moves.close_gap(bench, detail, state.revision, neighbour.id)
    after = state_of(bench, session)
    moved = next(clip for clip in after.clips if clip.id == third.id)
    assert moved.start == pytest.approx(third.start - (second.end - second.start), abs=1e-4)
    with pytest.raises(NivelusError, match="no gap"):
        moves.close_gap(bench, detail, state.revision, neighbour.id)
    assert first.id in {clip.id for clip in after.clips}


def test_ends_are_trimmed_as_far_as_the_recording_goes(bench: Workbench, session: str, detail: str) -> None:
    state = state_of(bench, session)
    second = voiced(state, detail)[1]
    state = moves.move(bench, detail, state.revision, [second.id], 10.0)
    state = moves.trim(bench, detail, state.revision, second.id, "start", 10.0 + second.start - 0.5)
    trimmed = next(clip for clip in state.clips if clip.id == second.id)
    assert trimmed.start == pytest.approx(10.0 + second.start - 0.5, abs=1e-4)
    # the recording goes on underneath
    at = round((trimmed.start + 0.1) * RATE)
    shifted = round(10.0 * RATE)
    raw = soundfile.read(next(bench.vault.root.glob("*/*/source.wav")), dtype="float32")[0]
    assert np.array_equal(plain(bench, detail)[at : at + 9600], raw[at - shifted : at - shifted + 9600])
    state = moves.trim(bench, detail, state.revision, second.id, "start", 0.0)
    assert next(clip for clip in state.clips if clip.id == second.id).start == pytest.approx(10.0, abs=1e-4)
    with pytest.raises(NivelusError, match="begins here"):
        moves.trim(bench, detail, state.revision, second.id, "start", 5.0)


def test_what_cannot_be_meant_is_told_and_changes_nothing(bench: Workbench, session: str, detail: str, other: str) -> None:
    state = state_of(bench, session)
    first, second, _ = voiced(state, detail)
    state = clips.set_flag(bench, detail, state.revision, [second.id], "locked", True)
    revision = state.revision
    whole = [clip.id for clip in state_of(bench, session).clips if clip.track == other]
    for words, work in (
        ("locked phrase is in the way", lambda: moves.move(bench, detail, revision, [first.id], second.start - first.start)),
        ("is locked", lambda: moves.move(bench, detail, revision, [second.id], 1.0)),
        ("hours long", lambda: moves.move(bench, detail, revision, [first.id], 90_000.0)),
        ("only clips", lambda: moves.take_out(bench, other, revision, whole)),
        ("no longer exists", lambda: moves.move(bench, detail, revision, ["nobody"], 1.0)),
        ("no longer exists", lambda: moves.move(bench, detail, revision, [first.id], 1.0, to_track="nowhere")),
        ("no longer exists", lambda: takes.switch(bench, detail, revision, 5)),
        ("already where it was", lambda: moves.bring_home(bench, detail, revision, [first.id])),
        ("only take", lambda: takes.remove(bench, detail, revision, 0)),
        ("start stamp", lambda: arranging.arrange(bench, session, revision, [detail, other], "stamps")),
    ):
        with pytest.raises(NivelusError, match=words):
            work()
        assert state_of(bench, session).revision == revision


def test_before_the_beginning_there_is_nothing(bench: Workbench, session: str, detail: str) -> None:
    state = state_of(bench, session)
    second = voiced(state, detail)[1]
    state = moves.move(bench, detail, state.revision, [second.id], -100.0)
    assert next(clip for clip in state.clips if clip.id == second.id).start == 0
    with pytest.raises(NivelusError, match="already at the beginning"):
        moves.move(bench, detail, state.revision, [second.id], -1.0)


# --- all of it, there and back


def test_every_edit_is_answered_undone_and_redone_exactly(
    bench: Workbench, session: str, detail: str, other: str, settings: Settings
) -> None:
    """Merged answers equal a fresh load, there and back, also after a restart."""
    known = known_of(state_of(bench, session))
    states = [content(state_of(bench, session))]
    for work in steps(bench, session, detail, other):
        before = state_of(bench, session)
        answer = work(before)
        assert answer.revision == before.revision + 1
        known = put_in(known, answer)
        same(known, state_of(bench, session))
        for track in answer.tracks:
            kept_is_stored(bench, track.id)
        same(known, state_of(bench, session))
        states.append(content(state_of(bench, session)))
        for track in answer.tracks:
            spans = sorted((clip.start, clip.end) for clip in state_of(bench, session).clips if clip.track == track.id)
            assert all(a[1] <= b[0] + 1e-9 for a, b in pairwise(spans))
    for expected in reversed(states[:-1]):
        answer = sessions.undo(bench, session, state_of(bench, session).revision)
        known = put_in(known, answer)
        same(known, state_of(bench, session))
        assert content(state_of(bench, session)) == expected
        for track in answer.tracks:
            kept_is_stored(bench, track.id)
    bench.close()
    again = Workbench(settings)
    try:
        for expected in states[1:]:
            sessions.redo(again, session, state_of(again, session).revision)
            assert content(state_of(again, session)) == expected
    finally:
        again.close()


def test_a_history_from_before_there_were_timelines_is_walked_to_its_ends(
    bench: Workbench, track: str, settings: Settings
) -> None:
    """Its steps know nothing of takes, recordings and shifts, and neither do its tables."""
    from alembic import command

    from nivelus.store import database
    from nivelus.store.steps import pack_again, unpack_step
    from nivelus.store.tables import Change

    own = session_of(bench, track)
    states = [content(state_of(bench, own))]
    for work in edits(bench, track):
        work(state_of(bench, own))
        states.append(content(state_of(bench, own)))
    newer = {"clip": ("take", "recording_id", "shift"), "detail": ("take", "recording_id", "shift"), "session": ("origin",)}
    newer |= {"track": ("take", "takes"), "mark_set": ("recording_id",)}
    with bench.database.writing() as db:
        for change in db.query(Change):
            rows = unpack_step(change.data)
            for row in rows:
                for side in filter(None, (row["before"], row["after"])):
                    for name in newer.get(row["table"], ()):
                        side.pop(name, None)
            change.data = pack_again(rows)
    config = database._alembic()
    config.attributes["engine"] = bench.database.engine
    command.downgrade(config, "0007")
    bench.close()
    again = Workbench(settings)
    try:
        assert content(state_of(again, own)) == states[-1]
        for expected in reversed(states[:-1]):
            sessions.undo(again, own, state_of(again, own).revision)
            assert content(state_of(again, own)) == expected
        for expected in states[1:]:
            sessions.redo(again, own, state_of(again, own).revision)
            assert content(state_of(again, own)) == expected
        # and what was brought up goes on
        state = state_of(again, own)
        moves.move(again, track, state.revision, [voiced(state, track)[0].id], 5.0)
    finally:
        again.close()
