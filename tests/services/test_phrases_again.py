"""Phrases found again with another longest phrase: one step, and what was done to them stays with them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from nivelus.core.errors import Refused
from nivelus.services.clips import clips, phrases
from nivelus.services.sessions import sessions
from nivelus.services.track.workbench import Workbench
from nivelus.store.tables import Recording
from tests.conftest import RATE, bring_in, hum, room, write_sound
from tests.helpers.edits import content, state_of


@pytest.fixture
def spoken(bench: Workbench, tmp_path: Path) -> str:
    """7 s of voice with breaks of 0.12 s, then a second of it after a pause."""
    parts = [room(-70, 1.0)]
    for _ in range(5):
        parts += [hum(-20, 1.3), room(-70, 0.12)]
    parts += [room(-70, 1.0), hum(-26, 1.0), room(-70, 1.0)]
    return bring_in(bench, sessions.create(bench, "Long"), write_sound(tmp_path / "long.wav", np.concatenate(parts), RATE))


def lengths(bench: Workbench, track: str) -> list[float]:
    return [c.phrase_end - c.phrase_start for c in state_of(bench, track).clips if c.phrase_end and c.phrase_start is not None]


def test_a_long_phrase_is_divided_and_keeps_what_was_done_to_it(bench: Workbench, spoken: str) -> None:
    before = state_of(bench, spoken)
    assert len(lengths(bench, spoken)) == 2
    long, short = before.clips
    clips.set_gain(bench, spoken, before.revision, [long.id], by=-3.0)
    clips.set_label(bench, spoken, state_of(bench, spoken).revision, short.id, "the end")
    clips.set_flag(bench, spoken, state_of(bench, spoken).revision, [short.id], "locked", True)
    sessions.update(bench, before.id, state_of(bench, spoken).revision, {"longest": 3.0})
    as_it_was = state_of(bench, spoken)
    done = phrases.find_again(bench, spoken, as_it_was.revision)
    now = state_of(bench, spoken)
    assert max(lengths(bench, spoken)) <= 3.0
    assert done.label == f"Find the phrases again: {len(now.clips)} instead of 2"
    assert {clip.gain for clip in now.clips[:-1]} == {-3.0}
    assert all(clip.by_hand for clip in now.clips[:-1])
    # the one that was found as it was is the very same
    assert now.clips[-1].id == short.id
    assert (now.clips[-1].label, now.clips[-1].locked, now.clips[-1].gain) == ("the end", True, 0.0)
    sessions.undo(bench, now.id, now.revision)
    assert content(state_of(bench, spoken)) == content(as_it_was)
    sessions.redo(bench, now.id, state_of(bench, spoken).revision)
    assert content(state_of(bench, spoken)) == content(now)


def test_joined_again_they_take_the_gain_of_the_most_and_all_words(bench: Workbench, spoken: str) -> None:
    state = state_of(bench, spoken)
    sessions.update(bench, state.id, state.revision, {"longest": 3.0})
    phrases.find_again(bench, spoken, state_of(bench, spoken).revision)
    parts = state_of(bench, spoken).clips[:-1]
    for place, clip in enumerate(parts):
        clips.set_gain(bench, spoken, state_of(bench, spoken).revision, [clip.id], to=float(-place))
        clips.set_label(bench, spoken, state_of(bench, spoken).revision, clip.id, f"word{place}")
    sessions.update(bench, state.id, state_of(bench, spoken).revision, {"longest": 20.0})
    phrases.find_again(bench, spoken, state_of(bench, spoken).revision)
    whole = state_of(bench, spoken).clips[0]
    longest = max(parts, key=lambda c: (c.phrase_end or 0) - (c.phrase_start or 0))
    assert whole.gain == -float(parts.index(longest))
    assert whole.label == " ".join(f"word{place}" for place in range(len(parts)))


def test_an_import_keeps_to_the_longest_phrase_of_its_session(bench: Workbench, spoken: str, tmp_path: Path) -> None:
    state = state_of(bench, spoken)
    sessions.update(bench, state.id, state.revision, {"longest": 3.0})
    again = bring_in(bench, state.id, tmp_path / "long.wav")
    mine = [c for c in state_of(bench, spoken).clips if c.track == again]
    assert max((c.phrase_end or 0) - (c.phrase_start or 0) for c in mine) <= 3.0


def test_without_its_sound_nothing_is_found(bench: Workbench, spoken: str) -> None:
    with bench.database.writing() as db:
        for recording in db.query(Recording):
            recording.missing = True
    with pytest.raises(Refused, match="missing"):
        phrases.find_again(bench, spoken, state_of(bench, spoken).revision)
