"""A session that cannot be read: no edit leads to one, it takes nothing else down, and there are ways out of it."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from flask.testing import FlaskClient
from sqlalchemy import select

from nivelus.core.errors import Broken, Refused
from nivelus.core.gain.drawn import SPACING
from nivelus.services.answers import edits
from nivelus.services.clips import clips, moves, takes
from nivelus.services.lanes import drawing, rides
from nivelus.services.sessions import broken, cards, sessions
from nivelus.services.track import sound, workbench
from nivelus.services.track.workbench import Workbench
from nivelus.services.upkeep import checking
from nivelus.settings import Settings
from nivelus.store import history
from nivelus.store.editing import Edit
from nivelus.store.packing import pack_table
from nivelus.store.reading import forget
from nivelus.store.tables import Change, Clip, Lane, Track
from tests.conftest import bring_in, write_sound
from tests.helpers.edits import content, state_of
from tests.web.conftest import app, client  # noqa: F401


def packed(*points: tuple[float, float]) -> str:
    return pack_table(np.array([(at, db, 0, 0, 1, id) for id, (at, db) in enumerate(points, 1)]))


TWINS = packed((0.5, 0.0), (0.500001, -3.0), (1.0, 0.0))
"""What an older version could write: two points that some moves put into one microsecond."""
NO_GAIN = packed((0.5, 0.0), (0.7, np.nan))


def put_curve(bench: Workbench, track: str, text: str, place: int = 0) -> str:
    """Write a curve into a clip past all checks; the clip's id."""
    with bench.database.writing() as db:
        clip = db.get(Clip, state_of(bench, track).clips[place].id)
        assert clip is not None
        clip.curve = text
        id = clip.id
    forget()
    return id


def test_points_beside_each_other_go_along_wherever_their_clip_is_moved(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    state = drawing.put_point(bench, track, state.revision, "curve", 0.5, -3.0)
    state = drawing.put_point(bench, track, state.revision, "curve", 0.500001, -6.0)
    assert [(point.at, point.db) for point in rides.view(bench, track).curve] == [(0.5, -6.0)]
    clip = put_curve(bench, track, TWINS)
    for samples in range(1, 60):
        state = moves.move(bench, track, state.revision, [clip], samples / 48_000)
        assert len(rides.view(bench, track).curve) in (2, 3)
        assert len(takes.view(bench, track).items) == 1
    state = moves.paste(bench, track, state.revision, track, [clip], 9.0)
    sound.gain_points(bench, track)
    while state.undo != "Move 1 phrase by +0.000 s":
        state = sessions.undo(bench, state.id, state.revision)
    assert cards.list_cards(bench)[0].broken == ""


def test_whatever_is_written_has_its_points_a_sample_apart(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    state = drawing.lift_span(bench, track, state.revision, "ride", 1.0, 2.0, 3.0)
    for lane in ("ride", "curve", "trim"):
        spans = [(1.000001, 1.000003), (1.00001, 1.9999999), (0.999999, 1.5)]
        state = drawing.make_borders(bench, track, state.revision, lane, spans, True)
        points = getattr(rides.view(bench, track), lane)
        for clip in {point.clip for point in points}:
            assert np.diff([point.at for point in points if point.clip == clip]).min() >= SPACING - 2e-6


def test_an_edit_that_leads_to_what_cannot_be_read_is_refused(bench: Workbench, track: str) -> None:
    before = state_of(bench, track)
    whole = sound.gain_points(bench, track)

    def spoil(edit: Edit, track: Track, _: object) -> None:
        edit.db.add(Lane(track_id=track.id, name="ride", points=NO_GAIN))

    for _ in range(2):
        with pytest.raises(Refused, match=r"Nothing was changed: .* no gain"):
            edits.run_edit(bench, track, "Spoil", before.revision, spoil)
        assert state_of(bench, track) == before
        assert (sound.gain_points(bench, track) == whole).all()
    # what was refused is not taken for what the next edit makes of the same revision
    after = clips.set_gain(bench, track, before.revision, [before.clips[0].id], by=3.0)
    assert after.revision == before.revision + 1
    assert len(rides.view(bench, track).ride) == 0


def test_an_undo_that_leads_to_what_cannot_be_read_is_refused(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    clip = put_curve(bench, track, NO_GAIN)

    def take_away(edit: Edit, _: Track, __: object) -> None:
        row = edit.db.get(Clip, clip)
        assert row is not None
        row.curve = ""

    mended = edits.run_edit(bench, track, "Away", state.revision, take_away)
    for _ in range(2):
        with pytest.raises(Refused, match="Nothing was changed"):
            sessions.undo(bench, state.id, mended.revision)
        assert content(state_of(bench, track)) == content(state)


@pytest.fixture
def spoilt(bench: Workbench, track: str, tmp_path: Path) -> str:
    """A session with three good steps and one after which it cannot be read, beside a whole one; its id."""
    state = state_of(bench, track)
    for _ in range(3):
        state = clips.set_gain(bench, track, state.revision, [state.clips[0].id], by=1.0)
    # as a version that did not read back could
    with history.edit(bench.database, state.id, "Spoil", state.revision, read_back=lambda _: None) as edit:
        edit.db.add(Lane(track_id=track, name="ride", points=NO_GAIN))
    other = sessions.create(bench, "Whole")
    bring_in(bench, other, write_sound(tmp_path / "whole.wav", np.sin(np.arange(96_000) / 20) / 9))
    return state.id


def test_a_broken_session_takes_no_other_down(bench: Workbench, spoilt: str) -> None:
    shown = {card.name: card for card in cards.list_cards(bench)}
    assert "“Uneven” cannot be read." in shown["Uneven"].broken
    assert shown["Whole"].broken == ""
    assert len(shown["Whole"].tracks) == 1
    with pytest.raises(Broken, match="“Uneven” cannot be read"):
        sessions.state(bench, spoilt)


def test_undo_takes_it_back_to_where_it_was_whole_and_no_further(bench: Workbench, track: str, spoilt: str) -> None:
    state = broken.undo_to_whole(bench, spoilt)
    assert state.undo == "1 phrase by +1.0 dB"
    assert state.clips[0].gain == 3.0
    assert state.redo == "Spoil"
    assert cards.list_cards(bench)[0].broken == ""
    # one that is whole stays as it is
    assert content(broken.undo_to_whole(bench, spoilt)) == content(state)


def test_where_nothing_can_be_undone_it_says_so_and_changes_nothing(bench: Workbench, track: str, spoilt: str) -> None:
    with bench.database.writing() as db:
        for change in db.scalars(select(Change)):
            change.data = b"garbage"
    with pytest.raises(Refused, match="Save it as a file"):
        broken.undo_to_whole(bench, spoilt)
    assert json.loads(broken.give_out(bench, spoilt)[1])["rows"]["lane"][0]["points"] == NO_GAIN


def test_a_broken_session_is_given_out_whole(client: FlaskClient, bench: Workbench, track: str, spoilt: str) -> None:  # noqa: F811
    answer = client.get(f"/api/sessions/{spoilt}/rows")
    assert "Uneven.nivelus.json" in answer.headers["Content-Disposition"]
    rows = json.loads(answer.data)["rows"]
    assert [row["id"] for row in rows["session"]] == [spoilt]
    assert len(rows["clip"]) == 4
    assert rows["lane"][0]["points"] == NO_GAIN
    assert len(rows["change"]) == 5
    assert len(rows["recording"]) == 1
    problem = client.get(f"/api/sessions/{spoilt}")
    assert (problem.status_code, problem.json["title"]) == (422, "Broken")
    assert client.get("/api/sessions").status_code == 200
    assert client.post(f"/api/sessions/{spoilt}/undo-to-whole").json["clips"][0]["gain"] == 3.0
    assert client.get("/api/sessions/none/rows").status_code == 404


@pytest.mark.parametrize("text", [TWINS, NO_GAIN], ids=["twins", "no gain"])
def test_check_finds_it_and_repair_mends_it_in_a_step(bench: Workbench, track: str, settings: Settings, text: str) -> None:
    clip = put_curve(bench, track, text)
    findings = [finding.sentence for finding in checking.check(settings) if not finding.good]
    assert any("Uneven" in sentence for sentence in findings)
    bench.close()
    assert any("“Uneven” were mended" in sentence for sentence in checking.repair(settings))
    assert not [finding for finding in checking.check(settings) if "Uneven" in finding.sentence]
    again = workbench.Workbench(settings)
    state = state_of(again, track)
    assert state.undo == "Mend curves"
    assert state.clips[0].id == clip
    assert len(rides.view(again, track).curve) == (3 if text == TWINS else 1)
    again.close()
