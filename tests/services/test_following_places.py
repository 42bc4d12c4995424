"""Several microphones of one voice: what follows a track lies as it lies, whatever is done to that."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from nivelus.core.errors import Refused
from nivelus.core.sound.timeline import open_sound
from nivelus.services.clips import arranging, following, moves, takes
from nivelus.services.sessions import sessions
from nivelus.services.sessions.cards import list_cards
from nivelus.services.track import sound
from nivelus.services.track.workbench import Workbench
from nivelus.services.upkeep.checking import check
from nivelus.services.upkeep.mending import mend
from nivelus.settings import Settings
from nivelus.store.reading import recorded_by_id
from tests.conftest import RATE, bring_in, detailed_voice, uneven_voice, write_sound
from tests.helpers.edits import content
from tests.helpers.microphones import bring, gains, second_microphone, work_on
from tests.helpers.near import near
from tests.helpers.timeline_steps import steps
from tests.helpers.timelines import own_of, plain, session_of, state_of, voiced


def test_it_is_heard_where_its_leader_is_whatever_is_done_to_that(bench: Workbench, pair: tuple[str, str]) -> None:
    """Every edit of a timeline, and back again: what is heard of both microphones is the same places of both recordings."""
    lead, other = pair
    session = session_of(bench, lead)
    third = bring_in(bench, session, write_sound(bench.settings.data / "other.wav", uneven_voice()))
    work_on(bench, lead)
    told = []
    for step in steps(bench, session, lead, third):
        step(state_of(bench, session))
        told.append(_lies_alike(bench, lead, other))
    assert len(set(told)) > 8
    while state_of(bench, session).undo:
        sessions.undo(bench, session, state_of(bench, session).revision)
        if any(track.follows for track in state_of(bench, session).tracks):
            _lies_alike(bench, lead, other)
    while state_of(bench, session).redo:
        sessions.redo(bench, session, state_of(bench, session).revision)
    assert _lies_alike(bench, lead, other) == told[-1]


def _lies_alike(bench: Workbench, lead: str, other: str) -> str:
    """Whether the follower lets be heard what lies beside its leader's own recording, with its gain; the leader's place."""
    session = state_of(bench, session_of(bench, lead))
    source, _, state, _ = sound.render_source(bench, other)
    _, _, leader, _ = sound.render_source(bench, lead)
    assert state.gain is leader.gain
    with open_sound(source) as reader:
        heard = reader.read(0, state.samples)[:, 0]
    whole_of = second_microphone(detailed_voice())
    wanted = np.zeros(max(state.samples, leader.samples))
    for clip in session.clips:
        if clip.track == lead and clip.recording == "":
            first, last, by = (round(at * RATE) for at in (clip.start, clip.end, clip.shift))
            piece = whole_of[max(first - by, 0) : last - by]
            wanted[first : first + len(piece)] = piece
    wanted = wanted[: len(heard)]
    # beside joins of what is not one recording both fade, see core.sound.timeline
    differs = np.abs(heard - wanted) > 1e-6
    assert differs.sum() <= 12 * 0.01 * RATE
    return next(track.timeline.key for track in session.tracks if track.id == lead)


@pytest.mark.parametrize("rate", [44_100, 96_000])
@pytest.mark.parametrize("length", [5.0, 9.0])
def test_another_length_and_rate(bench: Workbench, tmp_path: Path, rate: int, length: float) -> None:
    """It is as long as its own file where its leader is heard from beginning to end, and silent where it has nothing."""
    session = sessions.create(bench, "Two microphones")
    lead = bring(bench, session, tmp_path / "boom.wav", detailed_voice())
    voice = np.resize(detailed_voice(rate), round(length * rate))
    other = bring(bench, session, tmp_path / "lapel.wav", voice, rate)
    following.follow(bench, other, state_of(bench, session).revision, lead)
    work_on(bench, lead)
    _, _, state, _ = sound.render_source(bench, other)
    assert (state.rate, state.samples) == (rate, len(voice))
    theirs, own = gains(bench, lead)[0], gains(bench, other)[0]
    seconds = np.arange(len(own)) / rate
    wanted = np.interp(seconds, np.arange(len(theirs)) / RATE, theirs)
    # between two samples of a ramp of 5 ms
    assert np.abs(own - wanted).max() < 0.2
    assert np.abs(own - wanted).mean() < 1e-3
    (clip, *_) = voiced(state_of(bench, session), lead)
    moves.move(bench, lead, state_of(bench, session).revision, [clip.id], 8.0)
    heard = plain(bench, other)
    first, last = (round(at * rate) for at in (clip.start + 0.01, clip.end - 0.01))
    assert not heard[first:last].any()
    assert heard[first + 8 * rate : last + 8 * rate] == near(voice[first:last], abs=1e-6)


def test_what_began_together_can_be_said(bench: Workbench, pair: tuple[str, str]) -> None:
    """A track that was moved before it followed stays as much later; that it began with the other one is a step."""
    lead, other = pair
    session = session_of(bench, lead)
    state = following.stand_alone(bench, other, state_of(bench, session).revision)
    own = [clip.id for clip in state_of(bench, session).clips if clip.track == other]
    state = moves.move(bench, other, state.revision, own, 0.25)
    state = following.follow(bench, other, state.revision, lead)
    assert [track.lag for track in state.tracks] == [0.0, 0.25]
    heard, voice = plain(bench, other), second_microphone(detailed_voice())
    assert heard[RATE // 4 + 1000 : 5 * RATE] == near(voice[1000 : 5 * RATE - RATE // 4], abs=1e-6)
    state = following.begin_together(bench, other, state.revision)
    assert [track.lag for track in state.tracks] == [0.0, 0.0]
    assert plain(bench, other) == near(voice, abs=1e-6)
    sessions.undo(bench, session, state.revision)
    assert [track.lag for track in state_of(bench, session).tracks] == [0.0, 0.25]


def test_takes_of_the_leader(bench: Workbench, pair: tuple[str, str], tmp_path: Path) -> None:
    """Where another take is heard its recording is another one: the follower is silent there, and comes back with its own."""
    lead, other = pair
    session = session_of(bench, lead)
    again = bring(bench, session, tmp_path / "boom 2.wav", 0.9 * detailed_voice())
    state = arranging.arrange(bench, session, state_of(bench, session).revision, [lead, again], "takes")
    assert plain(bench, other).any()
    state = takes.switch(bench, lead, state.revision, 1)
    assert not plain(bench, other).any()
    state = takes.switch(bench, lead, state.revision, 0)
    mine = voiced(state_of(bench, session), lead)
    takes.choose(bench, lead, state.revision, mine[1].id, 1)
    heard, voice = plain(bench, other), second_microphone(detailed_voice())
    first, last = (round(at * RATE) for at in (mine[1].phrase_start or 0, mine[1].phrase_end or 0))
    assert not heard[first:last].any()
    assert heard[: first - RATE // 2] == near(voice[: first - RATE // 2], abs=1e-6)
    # one that is silent all the way comes back as it was recorded when it is let go
    state = takes.switch(bench, lead, state_of(bench, session).revision, 1)
    state = following.remove(bench, lead, state.revision)
    assert [track.follows for track in state.tracks] == [None]
    assert plain(bench, other) == near(voice, abs=1e-6)


def test_a_start_leaves_it_as_it_is_and_a_leader_without_its_file_still_leads(
    bench: Workbench, pair: tuple[str, str], settings: Settings
) -> None:
    lead, other = pair
    work_on(bench, lead)
    session = session_of(bench, lead)
    before, (gain,) = content(state_of(bench, session)), gains(bench, other)
    assert mend(bench) == []
    assert content(state_of(bench, session)) == before
    (card,) = list_cards(bench)
    assert (card.tracks, card.count) == (["boom", "lapel"], 3)
    bench.close()
    assert all(finding.good for finding in check(settings))
    with bench.database.reading() as db:
        (recording,) = recorded_by_id(db, [own_of(bench, lead)]).values()
    bench.vault.source(recording).unlink()
    mend(bench)
    (one, two) = state_of(bench, session).tracks
    assert (one.timeline.missing, two.timeline.missing) == (True, False)
    assert np.array_equal(gains(bench, other)[0], gain)
    following.stand_alone(bench, other, state_of(bench, session).revision)
    assert np.abs(gains(bench, other)[0] - gain).max() < 0.05


def test_one_whose_own_file_is_missing_cannot_keep_its_gain_but_follow_another(
    bench: Workbench, pair: tuple[str, str], tmp_path: Path
) -> None:
    lead, other = pair
    session = session_of(bench, lead)
    third = bring(bench, session, tmp_path / "third.wav", 0.5 * detailed_voice())
    with bench.database.reading() as db:
        (recording,) = recorded_by_id(db, [own_of(bench, other)]).values()
    bench.vault.source(recording).unlink()
    mend(bench)
    revision = state_of(bench, session).revision
    for work in (following.stand_alone, following.remove):
        with pytest.raises(Refused, match="“lapel” is missing, so it cannot keep its gain"):
            work(bench, other if work is following.stand_alone else lead, revision)
    state = following.remove(bench, lead, revision, instead=third)
    assert [track.follows for track in state.tracks] == [third, None]
    sessions.undo(bench, session, state.revision)
    following.remove(bench, other, state_of(bench, session).revision)
