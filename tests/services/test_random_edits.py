"""Edits of every kind in random order: each answer, put into what the page knew, is the state; all of it can be read again,
undone to the beginning and done again."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from alembic import command

from nivelus.services.clips import takes
from nivelus.services.lanes import passes, rides
from nivelus.services.sessions import cards, sessions
from nivelus.services.track import sound
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.store import database
from nivelus.store.reading import forget
from tests.conftest import bring_in, detailed_voice, uneven_voice, write_sound
from tests.helpers.answers import kept_is_stored, known_of, put_in, same
from tests.helpers.edits import content
from tests.helpers.random_edits import RandomEdits

EDITS = 125
"""Of each seed: 500 in all."""


@pytest.fixture
def session(bench: Workbench, tmp_path: Path, known_ids: None) -> str:
    """Three tracks, one of them with details."""
    id = sessions.create(bench, "All of it")
    bring_in(bench, id, write_sound(tmp_path / "details.wav", detailed_voice()))
    bring_in(bench, id, write_sound(tmp_path / "other.wav", uneven_voice((-20.0, -30.0, -25.0))))
    bring_in(bench, id, write_sound(tmp_path / "third.wav", uneven_voice((-24.0, -18.0), rate=44_100), 44_100))
    return id


def everything_is_read(bench: Workbench, state: Changed) -> None:
    """Whatever the page may ask for is answered."""
    assert not any(card.broken for card in cards.list_cards(bench))
    for track in state.tracks:
        lanes = rides.view(bench, track.id)
        for points in (lanes.curve, lanes.ride, lanes.trim):
            assert len({point.id for point in points}) == len(points)
        takes.view(bench, track.id)
        passes.view(bench, track.id)
        sound.gain_points(bench, track.id)


@pytest.mark.parametrize("seed", range(4))
def test_whatever_is_done_the_page_knows_it_and_it_can_be_undone(bench: Workbench, session: str, seed: int) -> None:
    edits = RandomEdits(bench, session, seed)
    state = sessions.state(bench, session)
    known, steps = known_of(state), 0
    for _ in range(EDITS):
        kind, answer = edits.next(state)
        fresh = sessions.state(bench, session)
        if answer is None:
            assert content(fresh) == content(state), kind
        else:
            known = put_in(known, answer)
            same(known, fresh, kind)
            steps += (answer.revision != state.revision) * (-1 if kind == "undo" else 1)
        everything_is_read(bench, fresh)
        for track in fresh.tracks:
            kept_is_stored(bench, track.id)
        state = fresh
    last = content(state)
    for _ in range(steps):
        known = put_in(known, sessions.undo(bench, session, state.revision))
        state = sessions.state(bench, session)
        same(known, state, f"undo of {state.redo}")
    for _ in range(steps):
        known = put_in(known, sessions.redo(bench, session, state.revision))
        state = sessions.state(bench, session)
        same(known, state, f"redo of {state.undo}")
    assert content(state) == last


def test_what_was_done_before_points_had_ids_can_be_undone_and_done_again(bench: Workbench, session: str) -> None:
    edits = RandomEdits(bench, session, 7)
    for _ in range(EDITS // 2):
        edits.next(sessions.state(bench, session))

    def drawn(track: str) -> list[list[tuple[float, float, str]]]:
        """What is drawn on a track, whatever its points are called; each is called something of its own."""
        view = rides.view(bench, track)
        lanes = [view.curve, view.ride, view.trim]
        assert all(len({point.id for point in points}) == len(points) for points in lanes)
        return [[(point.at, point.db, point.shape) for point in points] for points in lanes]

    def walk() -> list[tuple[list[dict[str, Any]], list[Any]]]:
        """All states from here to the beginning, and from there to the end."""
        seen = []
        for step, way in (("undo", sessions.undo), ("redo", sessions.redo)):
            while getattr(state := sessions.state(bench, session), step):
                now = way(bench, session, state.revision)
                # a key is of the points as they are called
                told = [track.model_dump(exclude={"gain_key"}) for track in now.tracks]
                seen.append((told, [drawn(track.id) for track in now.tracks]))
        return seen

    seen = walk()
    assert any(points for _, tracks in seen for lanes in tracks for points in lanes)
    sessions.undo(bench, session, sessions.state(bench, session).revision)
    config = database._alembic()
    config.attributes["engine"] = bench.database.engine
    command.downgrade(config, "0010")
    forget()
    bench.database.migrate()
    sessions.redo(bench, session, sessions.state(bench, session).revision)
    assert walk() == seen
