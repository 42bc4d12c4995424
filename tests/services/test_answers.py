"""The answer to an edit holds what is different: put into what was known it equals everything loaded anew."""

from __future__ import annotations

from pathlib import Path

import pytest

from nivelus.services.answers import answers
from nivelus.services.clips import clips, details
from nivelus.services.lanes import drawing, whole
from nivelus.services.mix import balance, load
from nivelus.services.sessions import cards, sessions, tracks
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from tests.conftest import bring_in, uneven_voice, write_sound
from tests.helpers.answers import Known, kept_is_stored, known_of, put_in, same
from tests.helpers.edits import edits


@pytest.fixture
def two_tracks(bench: Workbench, detailed: str, tmp_path: Path) -> str:
    """The track with details, with another one beside it in the same session."""
    with bench.database.reading() as db:
        session = answers.tracks_of(db, cards.list_cards(bench)[0].id)[0][0].session_id
    bring_in(bench, session, write_sound(tmp_path / "other.wav", uneven_voice((-20.0, -30.0, -25.0))))
    return detailed


@pytest.mark.parametrize("many", [1, 200], ids=["by values", "one by one"])
def test_merged_answers_equal_a_fresh_load(
    bench: Workbench, two_tracks: str, many: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    session = cards.list_cards(bench)[0].id

    def fresh() -> Changed:
        monkeypatch.setattr(answers, "MANY", 10**6)
        state = sessions.state(bench, session)
        monkeypatch.setattr(answers, "MANY", many)
        return state

    monkeypatch.setattr(answers, "MANY", many)
    known, steps = known_of(sessions.state(bench, session)), 0
    same(known, fresh())
    more = [
        lambda s: drawing.lift_span(bench, two_tracks, s.revision, "ride", 1.0, 2.0, 2.0),
        lambda s: drawing.lift_span(bench, two_tracks, s.revision, "curve", 3.0, 4.0, -2.0),
        lambda s: whole.set_trim(bench, two_tracks, s.revision, 1.5),
        lambda s: whole.set_range(bench, two_tracks, s.revision, -1.0, 1.0),
        lambda s: details.set_rule(bench, two_tracks, s.revision, "ess", {"on": True, "depth": -6.0}),
        lambda s: details.set_rule(bench, two_tracks, s.revision, "gap", {"silent": True}),
        lambda s: details.set_rule(bench, two_tracks, s.revision, "breath", {"on": True}),
        lambda s: details.set_rule(bench, two_tracks, s.revision, "gap", {"on": True, "silent": False}),
        lambda s: details.set_rule(bench, two_tracks, s.revision, "breath", {"depth": -3.0}),
        lambda s: details.set_rule(bench, two_tracks, s.revision, "gap", {"even": True, "closes": 0.1}),
        lambda s: clips.set_gain(bench, two_tracks, s.revision, [c.id for c in s.clips[:2]], by=-3.0),
        lambda s: details.set_depth(bench, two_tracks, s.revision, [m.id for m in s.marks if m.kind == "gap"][:1], silent=True),
        lambda s: details.set_keep(bench, two_tracks, s.revision, [m.id for m in s.marks if m.kind == "breath"][:1], "out"),
        lambda s: details.find_again(bench, two_tracks, s.revision),
        lambda s: sessions.update(bench, session, s.revision, {"unit": "rms"}),
        lambda s: sessions.update(bench, session, s.revision, {"target_kind": "median"}),
        lambda s: tracks.set_heard(bench, two_tracks, s.revision, "mute", True),
        lambda s: load.change(bench, two_tracks, s.revision, {"ratio": 2.0, "threshold_after": -20.0}),
        lambda s: tracks.set_kind(bench, two_tracks, s.revision, "bed"),
        lambda s: balance.accept(bench, two_tracks, s.revision, {"depth": -4.0}),
        lambda s: balance.lock(bench, two_tracks, s.revision, 1.0, 2.0, True),
        lambda s: balance.accept_slowly(bench, two_tracks, s.revision, {}),
        lambda s: tracks.set_kind(bench, two_tracks, s.revision, "voice"),
    ]
    for work in [*edits(bench, two_tracks), *more]:
        before = fresh()
        if any(clip.track == two_tracks for clip in before.clips):
            # each edit is made on the first clips of the state: those of the track with details
            before = before.model_copy(update={"clips": [c for c in before.clips if c.track == two_tracks]})
            before = before.model_copy(update={"marks": [m for m in before.marks if m.track == two_tracks]})
        answer = work(before)
        steps += answer.revision != before.revision
        known = put_in(known, answer)
        same(known, fresh())
        kept_is_stored(bench, two_tracks)
    for step in (sessions.undo, sessions.redo):
        for _ in range(steps):
            answer = step(bench, session, sessions.state(bench, session).revision)
            known = put_in(known, answer)
            kept_is_stored(bench, two_tracks)
            same(known, fresh())


def test_a_session_is_told_track_by_track_where_it_is_large(
    bench: Workbench, two_tracks: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    session = cards.list_cards(bench)[0].id
    whole = sessions.state(bench, session)
    first, second = (track.id for track in whole.tracks)
    # a small one is told at once
    assert sessions.state(bench, session, first="").whole == [first, second]
    monkeypatch.setattr(sessions, "AT_FIRST", 1)
    known: Known = {}
    for answer in (sessions.state(bench, session, first=second), sessions.state(bench, session, only=first)):
        assert len(answer.tracks) == 2
        known = put_in(known, answer)
    same(known, whole)
    assert sessions.state(bench, session, first=second).whole == [second]
    assert sessions.state(bench, session, first="nothing").whole == [first]
    assert sessions.state(bench, session, only="nothing").whole == []
