"""Details and ride over HTTP: what is refused gets a sentence, what is stale a 409, and layers are given one by one."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from flask.testing import FlaskClient

from nivelus.core.kinds import NAMES
from tests.conftest import detailed_voice, write_sound


@pytest.fixture
def state(client: FlaskClient, session: str, tmp_path: Path) -> dict:
    """A session with a voice that has breaths, esses and a knock."""
    path = write_sound(tmp_path / "details.wav", detailed_voice())
    client.post(f"/api/sessions/{session}/uploads?name=details.wav", data=path.read_bytes())
    return dict(client.get(f"/api/sessions/{session}").json)


def address(state: dict, rest: str) -> str:
    return f"/api/tracks/{state['tracks'][0]['id']}/{rest}"


def gain(client: FlaskClient, state: dict, layers: str) -> np.ndarray:
    """The compiled gain of some layers as (n, 2) points."""
    return np.frombuffer(client.get(address(state, f"gain?layers={layers}")).data, np.float64).reshape(-1, 2)


def test_marks_and_rules_come_with_the_session(client: FlaskClient, state: dict) -> None:
    kinds = [mark["kind"] for mark in state["marks"]]
    assert [kinds.count(kind) for kind in ("breath", "ess", "knock")] == [3, 4, 1]
    (track,) = state["tracks"]
    assert tuple(track["rules"]) == NAMES
    assert track["shows_esses"]
    assert track["lanes"] == []


def test_layers_are_given_one_by_one(client: FlaskClient, state: dict) -> None:
    rule = {"revision": state["revision"], "kind": "gap", "rule": {"on": True}}
    changed = client.post(address(state, "details/rule"), json=rule).json
    lift = {"revision": changed["revision"], "lane": "ride", "start": 1.0, "end": 2.0, "by": 3.0}
    changed = client.post(address(state, "lanes/lift"), json=lift).json
    assert changed["tracks"][0]["lanes"] == ["ride"]
    assert gain(client, state, "dips")[:, 1].min() == -20.0
    assert gain(client, state, "ride")[:, 1].tolist() == [0.0, 3.0, 3.0, 0.0]
    assert not gain(client, state, "trim")[:, 1].any()
    both = gain(client, state, "clip,curve,dips,ride,trim")
    assert both[:, 1].max() == 3.0
    assert both[:, 1].min() == -20.0
    refused = client.get(address(state, "gain?layers=clip,ride,fader"))
    assert refused.status_code == 422
    assert "clip, curve, dips, ride, trim" in refused.json["detail"]


@pytest.mark.parametrize(
    ("rest", "body"),
    [
        ("details/rule", {"kind": "breath", "rule": {"depth": -4}}),
        ("details/make", {"kind": "dip", "start": 1.0, "end": 1.5}),
        ("lanes/lift", {"lane": "ride", "start": 1.0, "end": 2.0, "by": 3.0}),
        ("lanes/point", {"lane": "trim", "at": 1.0}),
        ("lanes/trim", {"db": -1.0}),
        ("lanes/trim", {"off": True}),
        ("lanes/lift", {"lane": "curve", "start": 1.0, "end": 2.0, "by": 3.0}),
        ("lanes/borders", {"lane": "ride", "spans": [[1.0, 2.0]], "four": True}),
        ("lanes/working-range", {"low": -40.0, "high": 12.0}),
        ("ride/draft/accept", {}),
    ],
)
def test_a_write_on_an_older_state_is_refused(client: FlaskClient, state: dict, rest: str, body: dict) -> None:
    done = client.post(address(state, rest), json={"revision": state["revision"], **body})
    # the made-up voice is steady inside: its draft changes nothing and is a step all the same
    assert done.status_code == 200
    stale = client.post(address(state, rest), json={"revision": state["revision"], **body})
    assert stale.status_code == 409
    assert stale.json["revision"] == done.json["revision"]


@pytest.mark.parametrize(
    ("rest", "body", "status"),
    [
        ("details/rule", {"kind": "sneeze", "rule": {}}, 422),
        ("details/rule", {"kind": "breath", "rule": {"depth": 3}}, 422),
        ("details/depth", {"marks": ["breath.1"], "by": -1}, 404),
        ("details/change", {"marks": ["breath.1"]}, 422),
        ("details/make", {"kind": "dip", "start": 3.0, "end": 2.0}, 422),
        ("lanes/lift", {"lane": "fader", "start": 1, "end": 2, "by": 1}, 422),
        ("lanes/lift", {"lane": "ride", "start": 1, "end": 1, "by": 1}, 400),
        ("lanes/points", {"lane": "ride", "points": ["a1"], "by": 1}, 404),
        ("lanes/points", {"lane": "ride", "points": ["a1", "a2"], "at": 1}, 422),
        ("lanes/points", {"lane": "ride", "points": ["a1"]}, 422),
        ("lanes/points", {"lane": "ride", "points": [0], "by": 1}, 422),
        ("lanes/points", {"lane": "ride", "points": ["../a1"], "by": 1}, 422),
        ("lanes/points", {"lane": "ride", "points": []}, 422),
        ("lanes/range", {"lane": "ride", "start": 1, "end": 2, "what": "delete"}, 422),
        ("lanes/range", {"lane": "curve", "start": 1, "end": 2, "what": "thin"}, 422),
        ("lanes/scale", {"lane": "ride", "start": 1, "end": 2, "factor": 0.5}, 422),
        ("lanes/borders", {"lane": "curve", "spans": [[9000, 9001]]}, 422),
        ("lanes/point", {"lane": "curve", "at": 9000, "db": 1}, 422),
        ("lanes/move", {"lane": "trim", "to": "ride"}, 422),
        ("lanes/move", {"lane": "ride", "to": "ride"}, 422),
        ("lanes/trim", {}, 422),
        ("lanes/working-range", {"low": 1, "high": 6}, 422),
        ("lanes/draw", {"lane": "ride", "points": [[1, 0], [1, 0]]}, 422),
        ("lanes/paste", {"lane": "ride", "at": 1, "start": 1, "end": 2, "from_track": "gone", "from_lane": "ride"}, 404),
    ],
)
def test_what_makes_no_sense_gets_a_sentence_and_changes_nothing(
    client: FlaskClient, state: dict, rest: str, body: dict, status: int
) -> None:
    answer = client.post(address(state, rest), json={"revision": state["revision"], **body})
    assert answer.status_code == status
    assert answer.json["detail"]
    assert "Traceback" not in answer.text
    assert client.get(f"/api/sessions/{state['id']}").json == state


def test_curve_files_are_taken_and_given(client: FlaskClient, state: dict) -> None:
    query = f"revision={state['revision']}&lane=ride&name=..%2F..%2Ffader.csv"
    taken = client.post(address(state, f"lanes/file?{query}"), data=b"seconds,dB\n0,-3\n4,1.5\n")
    assert taken.status_code == 200
    points = client.get(address(state, "lanes")).json["ride"]
    assert len({point.pop("id") for point in points}) == 2
    assert points == [
        {"at": 0.0, "db": -3.0, "shape": "linear", "clip": None},
        {"at": 4.0, "db": 1.5, "shape": "linear", "clip": None},
    ]
    given = client.get(address(state, "lanes/ride.csv"))
    assert given.data.decode().splitlines()[1] == "0.000000,-3.0000,linear"
    assert "details ride.csv" in given.headers["Content-Disposition"]
    assert client.get(address(state, "lanes/ride.mid")).data[:4] == b"MThd"
    for rest in ("lanes/trim.csv", "lanes/ride.doc", "lanes/dips.csv"):
        assert client.get(address(state, rest)).status_code == 422
    query = f"revision={taken.json['revision']}&lane=ride&name=fader.csv"
    for data in (b"", b"no curve"):
        bad = client.post(address(state, f"lanes/file?{query}"), data=data)
        assert bad.status_code == 422
        assert bad.json["detail"].endswith(".")
    onsets = client.get(f"/api/tracks/{state['tracks'][0]['id']}/onsets?key={state['tracks'][0]['timeline']['key']}")
    assert (np.diff(np.frombuffer(onsets.data, "<f8")) > 0).all()
    assert client.get("/api/tracks/gone/onsets?key=x").status_code == 404
    assert len(client.get(address(state, "lanes")).json["ride"]) == 2
