"""The answer to an edit holds what is different: put into what was known it equals everything loaded anew."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from nivelus.services import answers, balance, cards, details, drawing, load, sessions, tracks
from nivelus.services.views import Changed
from nivelus.services.workbench import Workbench
from nivelus.store import reading
from tests.conftest import bring_in, uneven_voice, write_sound
from tests.store.test_history import edits

Known = dict[str, dict[str, Any]]


def known_of(state: Changed) -> Known:
    """Clips and marks, each under its sort, track and id."""
    known = {}
    for sort in ("clips", "marks"):
        for item in getattr(state, sort):
            row = item.model_dump()
            known[f"{sort} {item.track} {item.id}"] = row | {"holds": " ".join(row.get("holds", []))}
    return known


def in_full(ids: str) -> list[str]:
    """Ids with the kinds that were left out."""
    out: list[str] = []
    kind = ""
    for id in ids.split():
        kind = id.split(".")[0] if "." in id and not id.startswith(".") else kind
        out.append(kind + id if id.startswith(".") else id)
    return out


def put_in(known: Known, answer: Changed) -> Known:
    """What the page knows after an answer, as it works it out."""
    tracks = {track.id for track in answer.tracks}
    gone = {
        f"{sort} {track} {id}"
        for sort, removed in (("clips", answer.removed), ("marks", answer.removed_marks))
        for track, ids in removed.items()
        for id in ids
    }
    kept = {
        key: dict(item)
        for key, item in known.items()
        if item["track"] in tracks and item["track"] not in answer.whole and key not in gone
    }
    kept |= known_of(answer)
    for sort, columns in (("clips", answer.clip_values), ("marks", answer.mark_values)):
        for track, values in columns.items():
            table = values.model_dump()
            ids, names, flags = in_full(table.pop("ids")), table.pop("names"), table.pop("flags")
            reasons = table.pop("reasons", None)
            for place, id in enumerate(ids):
                row = {name: column[place] for name, column in table.items()}
                row |= {name: bool(flags[place] >> bit & 1) for bit, name in enumerate(names)}
                if reasons:
                    row["reason"] = reasons[row["reason"]]
                kept[f"{sort} {track} {id}"] |= row
    return kept


def kept_is_stored(bench: Workbench, track: str) -> None:
    """What is kept of a track's rows from edit to edit is what the database has."""
    with bench.database.reading() as db:
        rooms = (reading.clip_rows, reading.hands_of, reading.found_marks, reading.lanes_of)
        kept = [read(db, track) for read in rooms]
        db.info["revisions"].clear()
        reading.forget()
        stored = [read(db, track) for read in rooms]
        assert list(kept[0]) == list(stored[0])
        assert sorted(kept[1].rows) == sorted(stored[1].rows)
        assert {id: marks.ids for id, marks in kept[2].items()} == {id: marks.ids for id, marks in stored[2].items()}
        assert kept[0].places == stored[0].places
        for mine, theirs in zip(kept[3], stored[3], strict=True):
            assert mine[1:] == theirs[1:]
            np.testing.assert_array_equal(mine.points.at, theirs.points.at)
            np.testing.assert_array_equal(mine.points.db, theirs.points.db)
        mine, theirs = kept[0].table, stored[0].table
        for name in ("gain", "loudness", "room_tone", "locked", "by_hand", "drafted"):
            np.testing.assert_array_equal(getattr(mine, name), getattr(theirs, name))
        np.testing.assert_array_equal(mine.phrases, theirs.phrases)
        assert [len(curve) for curve in mine.curves] == [len(curve) for curve in theirs.curves]


def same(known: Known, fresh: Changed) -> None:
    expected = known_of(fresh)
    assert known.keys() == expected.keys()
    for key, item in expected.items():
        different = {name for name, value in item.items() if known[key][name] != pytest.approx(value, abs=6e-3)}
        assert not different, (key, different, known[key], item)


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
    monkeypatch.setattr(answers, "MANY", many)
    session = cards.list_cards(bench)[0].id
    state = sessions.state(bench, session)
    known, steps = known_of(state), 0
    more = [
        lambda s: drawing.lift_span(bench, two_tracks, s.revision, "ride", 1.0, 2.0, 2.0),
        lambda s: drawing.lift_span(bench, two_tracks, s.revision, "curve", 3.0, 4.0, -2.0),
        lambda s: drawing.set_trim(bench, two_tracks, s.revision, 1.5),
        lambda s: drawing.set_range(bench, two_tracks, s.revision, -1.0, 1.0),
        lambda s: details.set_rule(bench, two_tracks, s.revision, "ess", {"on": True, "depth": -6.0}),
        lambda s: details.set_rule(bench, two_tracks, s.revision, "gap", {"silent": True}),
        lambda s: details.set_rule(bench, two_tracks, s.revision, "breath", {"on": True}),
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
        before = sessions.state(bench, session)
        if any(clip.track == two_tracks for clip in before.clips):
            # each edit is made on the first clips of the state: those of the track with details
            before = before.model_copy(update={"clips": [c for c in before.clips if c.track == two_tracks]})
            before = before.model_copy(update={"marks": [m for m in before.marks if m.track == two_tracks]})
        answer = work(before)
        steps += answer.revision != before.revision
        known = put_in(known, answer)
        same(known, sessions.state(bench, session))
        kept_is_stored(bench, two_tracks)
    for step in (sessions.undo, sessions.redo):
        for _ in range(steps):
            answer = step(bench, session, sessions.state(bench, session).revision)
            known = put_in(known, answer)
            kept_is_stored(bench, two_tracks)
            same(known, sessions.state(bench, session))


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
