"""The API: the whole street over HTTP, its answers, and its refusals."""

from __future__ import annotations

import io
import json
import re
from pathlib import Path

import numpy as np
import pytest
import soundfile
from flask.testing import FlaskClient

from nivelus.services.track.workbench import Workbench
from nivelus.settings import Settings
from nivelus.web.app import create_app


def gains(state: dict) -> list[float]:
    return [clip["gain"] for clip in state["clips"]]


def test_the_whole_street(client: FlaskClient, uploaded: dict, session: str, voice_file: Path) -> None:
    track = uploaded["tracks"][0]["id"]
    assert len(uploaded["clips"]) == 4
    revision = uploaded["revision"]
    rule = {"target": -24, "most_up": 20, "noise_limit": -20}
    state = client.patch(f"/api/sessions/{session}", json={"revision": revision, "rule": rule}).json
    draft = client.post(f"/api/tracks/{track}/draft", json={}).json
    assert draft["level"] == draft["count"] == 4
    state = client.post(f"/api/tracks/{track}/draft/accept", json={"revision": state["revision"]}).json
    assert [round(item["gain"], 2) for item in draft["items"]] == gains(state)
    figures = client.get(f"/api/tracks/{track}/figures").json
    assert figures["after"]["level"] == 4
    assert figures["after"]["spread"] < figures["before"]["spread"] / 3
    job = client.post(f"/api/tracks/{track}/render", json={"format": "wav", "bits": 24}).json
    file = client.get(f"/api/jobs/{job['id']}/file")
    assert re.search(r'filename="[^"]* - voice levelled [\d. -]+\.wav"', file.headers["Content-Disposition"])
    samples, rate = soundfile.read(io.BytesIO(file.data))
    source, _ = soundfile.read(voice_file)
    assert (rate, len(samples)) == (48_000, len(source))
    clip = state["clips"][0]
    inside = slice(round(clip["phrase_start"] * rate), round(clip["phrase_end"] * rate))
    np.testing.assert_allclose(samples[inside], source[inside] * 10 ** (clip["gain"] / 20), atol=2e-7)


def test_answers_to_edits_hold_what_changed_and_its_neighbours(client: FlaskClient, uploaded: dict) -> None:
    track, clips = uploaded["tracks"][0]["id"], uploaded["clips"]
    body = {"revision": uploaded["revision"], "clips": [clips[0]["id"]], "by": 2}
    changed = client.post(f"/api/tracks/{track}/gain", json=body).json
    assert [c["id"] for c in changed["clips"]] == [c["id"] for c in clips[:2]]
    assert changed["undo"] == "1 phrase by +2.0 dB"
    undone = client.post(f"/api/sessions/{changed['id']}/undo", json={"revision": changed["revision"]}).json
    assert gains(undone) == [0, 0]
    assert undone["redo"] == changed["undo"]


@pytest.mark.parametrize(
    ("method", "path", "body"),
    [
        ("post", "flag", {"clips": ["0"], "flag": "locked", "on": True}),
        ("post", "label", {"clip": "0", "label": "Hello"}),
        ("post", "cut", {"at": 1.2}),
        ("post", "join", {"clips": ["0", "1"]}),
        ("post", "border", {"clip": "0", "at": 1.9}),
        ("patch", "", {"fader": -3.5}),
        ("patch", "", {"name": "Lead"}),
    ],
)
def test_every_edit_over_http(client: FlaskClient, uploaded: dict, method: str, path: str, body: dict) -> None:
    ids = [clip["id"] for clip in uploaded["clips"]]
    body = {k: [ids[int(i)] for i in v] if k == "clips" else ids[int(v)] if k == "clip" else v for k, v in body.items()}
    address = f"/api/tracks/{uploaded['tracks'][0]['id']}" + (f"/{path}" if path else "")
    answer = getattr(client, method)(address, json={"revision": uploaded["revision"], **body})
    assert answer.status_code == 200, answer.json
    assert answer.json["revision"] == uploaded["revision"] + 1


def test_the_fader_changes_nothing_but_itself(client: FlaskClient, uploaded: dict) -> None:
    track = uploaded["tracks"][0]["id"]
    key = uploaded["tracks"][0]["gain_key"]
    heard = client.get(f"/api/tracks/{track}/heard?key={key}").data
    changed = client.patch(f"/api/tracks/{track}", json={"revision": uploaded["revision"], "fader": -9.0}).json
    assert changed["tracks"][0]["fader"] == -9.0
    assert changed["clips"] == []
    assert changed["tracks"][0]["gain_key"] == key
    assert client.get(f"/api/tracks/{track}/heard?key={key}").data == heard


def test_removing_a_track_and_taking_that_back(client: FlaskClient, uploaded: dict) -> None:
    track = uploaded["tracks"][0]["id"]
    gone = client.delete(f"/api/tracks/{track}?revision={uploaded['revision']}").json
    assert gone["tracks"] == []
    back = client.post(f"/api/sessions/{gone['id']}/undo", json={"revision": gone["revision"]}).json
    assert back["clips"] == uploaded["clips"]


def test_binary_answers(client: FlaskClient, uploaded: dict, voice_file: Path) -> None:
    track, timeline = uploaded["tracks"][0], uploaded["tracks"][0]["timeline"]
    sound = f"/api/tracks/{track['id']}"
    source, _ = soundfile.read(voice_file, dtype="float32")
    answer = client.get(f"{sound}/samples?key={timeline['key']}&start=1000&count=500")
    assert (np.frombuffer(answer.data, "<f4") == source[1000:1500]).all()
    assert "immutable" in answer.headers["Cache-Control"]
    tile = np.frombuffer(client.get(f"{sound}/wave/0/0?key={timeline['key']}").data, "<f4").reshape(-1, 2)
    assert len(tile) == 1024
    assert tile[:, 1].max() == pytest.approx(source[: 1024 * 30].max(), abs=1e-3)
    points = np.frombuffer(client.get(f"/api/tracks/{track['id']}/gain").data, "<f8").reshape(-1, 2)
    assert (points[:, 1] == 0).all()
    assert len(client.get(f"/api/tracks/{track['id']}/trace").data) == pytest.approx(timeline["duration"] * 20 * 4, abs=8)


def parts_of(data: bytes) -> list[np.ndarray]:
    """Five gains, the ways of clips and a meter, as they are packed, with whatever bytes come behind them."""
    *counts, drawn = np.frombuffer(data, "<u4", 8).tolist()
    parts, at = [], 32
    for count, kind in zip(counts, ("<f8",) * 6 + ("<f4",), strict=True):
        parts.append(np.frombuffer(data, kind, count, at).reshape(-1, 2))
        at += parts[-1].nbytes
    assert at + drawn == len(data)
    return parts


def test_all_that_is_heard_comes_in_one_answer_of_one_state(client: FlaskClient, uploaded: dict) -> None:
    track, clip = uploaded["tracks"][0], uploaded["clips"][0]
    address = f"/api/tracks/{track['id']}"
    edit = {"revision": uploaded["revision"], "clips": [clip["id"]], "by": -4.0}
    moved = client.post(f"{address}/gain", json=edit).json
    lift = {"revision": moved["revision"], "lane": "ride", "start": clip["start"] + 0.1, "end": clip["end"] - 0.1, "by": 2.0}
    key = client.post(f"{address}/lanes/lift", json=lift).json["tracks"][0]["gain_key"]
    total, dips, curve, ride, trim, ways, meter = parts_of(client.get(f"{address}/heard?key={key}").data)
    middle = (clip["start"] + clip["end"]) / 2 * track["timeline"]["sample_rate"]
    assert [np.interp(middle, *gain.T) for gain in (total, dips, curve, ride, trim)] == pytest.approx([-2, 0, 0, 2, 0])
    assert len(ways) == len(uploaded["clips"]) - 1
    # from the first clip, which was moved, to the next the sum goes from one gain to the other
    assert np.diff(np.interp(ways[0], *total.T)) == pytest.approx([4.0])
    assert len(meter) == pytest.approx(track["timeline"]["duration"] * 10, abs=2)
    alone = parts_of(client.get(f"{address}/heard?key={key}&layers=clip").data)
    assert np.interp(middle, *alone[0].T) == pytest.approx(-4)
    # in the stage Ride the points come with their line
    whole = client.get(f"{address}/heard?key={key}&drawn").data
    drawn = json.loads(whole[len(client.get(f"{address}/heard?key={key}").data) :])
    assert drawn == {"lanes": client.get(f"{address}/lanes?key={key}").json, "passes": []}
    assert len(drawn["lanes"]["ride"]) == 4
    # of a state that is over there is nothing
    for path in ("heard", "gain"):
        late = client.get(f"{address}/{path}?key={track['gain_key']}")
        assert (late.status_code, late.mimetype) == (409, "application/problem+json")
    assert client.get(f"{address}/heard").status_code == 409
    assert (np.frombuffer(client.get(f"{address}/gain?key={key}").data, "<f8").reshape(-1, 2) == total).all()


def test_what_is_heard_is_asked_for_by_its_key(client: FlaskClient, uploaded: dict) -> None:
    """An answer for a key never changes: once a clip lies elsewhere, there is another key."""
    track, clip = uploaded["tracks"][0], uploaded["clips"][1]
    address = f"/api/tracks/{track['id']}"
    move = {"revision": uploaded["revision"], "clips": [clip["id"]], "by": 30.0}
    moved = client.post(f"{address}/move", json=move).json
    now = moved["tracks"][0]["timeline"]
    assert now["key"] != track["timeline"]["key"]
    assert now["duration"] == pytest.approx(clip["end"] + 30, abs=1e-3)
    for path in ("samples?start=0&count=10&", "wave/0/0?", "onsets?"):
        assert client.get(f"{address}/{path}key={track['timeline']['key']}").status_code == 409
        assert client.get(f"{address}/{path}key={now['key']}").status_code == 200
        assert client.get(f"{address}/{path}key={now['key']}&take=7").status_code == (200 if "onsets" in path else 404)
    assert client.get(f"{address}/gain?take=7").status_code == 404
    assert client.get(f"{address}/samples?key={now['key']}&take=x&start=0&count=1").status_code == 422
    likely = client.get(f"/api/sessions/{uploaded['id']}/arrangement?tracks={track['id']}").json
    assert likely == {"likely": "own", "ways": ["own"]}


@pytest.mark.parametrize(
    ("query", "words"),
    [
        ("start=0", "count"),
        ("start=x&count=5", "start"),
        ("start=0&count=0", "1 to"),
        ("start=-1&count=5", "1 to"),
        ("start=0&count=99999999", "1 to"),
    ],
)
def test_samples_are_asked_for_within_reason(client: FlaskClient, uploaded: dict, query: str, words: str) -> None:
    track = uploaded["tracks"][0]
    answer = client.get(f"/api/tracks/{track['id']}/samples?key={track['timeline']['key']}&{query}")
    assert answer.status_code == 422
    assert words in answer.json["detail"]


def test_a_bad_upload_does_not_hold_up_the_others(client: FlaskClient, session: str, voice_file: Path) -> None:
    for name, data in (("notes.txt", b"not sound"), ("voice.wav", voice_file.read_bytes()), ("empty.wav", b"")):
        assert client.post(f"/api/sessions/{session}/uploads?name={name}", data=data).status_code == 202
    jobs = {job["name"]: job for job in client.get(f"/api/sessions/{session}/jobs").json["items"]}
    states = {name: job["state"] for name, job in jobs.items()}
    assert states == {"notes.txt": "failed", "voice.wav": "done", "empty.wav": "failed"}
    assert "notes.txt" in jobs["notes.txt"]["message"]
    assert len(client.get(f"/api/sessions/{session}").json["tracks"]) == 1
    assert client.delete(f"/api/jobs/{jobs['notes.txt']['id']}").status_code == 204
    assert client.post(f"/api/sessions/{session}/uploads", data=b"x").status_code == 422


def test_figures_of_a_whole_session_are_of_the_revision_that_is_named(client: FlaskClient, uploaded: dict) -> None:
    session, track = uploaded["id"], uploaded["tracks"][0]["id"]
    edit = {"revision": uploaded["revision"], "clips": [uploaded["clips"][0]["id"]], "by": -1.0}
    now = client.post(f"/api/tracks/{track}/gain", json=edit).json["revision"]
    for address in (f"sessions/{session}/distance", f"tracks/{track}/load"):
        for path in (address, f"{address}/course"):
            late = client.get(f"/api/{path}?revision={uploaded['revision']}")
            assert (late.status_code, late.mimetype) == (409, "application/problem+json")
            assert client.get(f"/api/{path}?revision={now}").data == client.get(f"/api/{path}").data


def test_cards_tell_what_is_in_a_session(client: FlaskClient, uploaded: dict) -> None:
    card = client.get("/api/sessions").json["items"][0]
    assert (card["name"], card["count"], card["tracks"]) == ("Guide", 4, ["voice"])
    assert card["touched"].endswith("Z")
    assert len(card["phrases"]) == 4
    assert abs(card["worst"]) == max(abs(p["deviation"]) for p in card["phrases"])
    assert client.delete(f"/api/sessions/{uploaded['id']}").status_code == 204
    assert client.get("/api/sessions").json["items"] == []


def test_a_stale_write_gets_409_with_the_present_revision(client: FlaskClient, uploaded: dict) -> None:
    address, ids = f"/api/tracks/{uploaded['tracks'][0]['id']}/gain", [uploaded["clips"][0]["id"]]
    body = {"revision": uploaded["revision"], "clips": ids, "by": 1}
    assert client.post(address, json=body).status_code == 200
    stale = client.post(address, json=body)
    assert stale.status_code == 409
    assert stale.mimetype == "application/problem+json"
    assert stale.json["revision"] == uploaded["revision"] + 1
    assert "another window" in stale.json["detail"]


@pytest.mark.parametrize(
    "body",
    [
        {},
        {"revision": -1, "clips": ["a"], "by": 1},
        {"revision": 1, "clips": [], "by": 1},
        {"revision": 1, "clips": ["a"], "by": "loud"},
        {"revision": 1, "clips": ["a"], "by": 1e9},
        {"revision": 1, "clips": ["a"], "by": 1, "extra": True},
        {"revision": 1, "clips": ["x" * 100], "by": 1},
        {"revision": 1, "clips": ["a"]},
        {"revision": 1, "clips": ["a"], "by": 1, "to": 2},
    ],
)
def test_a_body_that_makes_no_sense_is_a_problem_with_a_sentence(client: FlaskClient, uploaded: dict, body: dict) -> None:
    answer = client.post(f"/api/tracks/{uploaded['tracks'][0]['id']}/gain", json=body)
    assert answer.status_code == 422
    assert answer.mimetype == "application/problem+json"
    assert answer.json["detail"].endswith(".")
    assert gains(client.get(f"/api/sessions/{uploaded['id']}").json) == [0, 0, 0, 0]


def test_nan_does_not_get_in(client: FlaskClient, uploaded: dict) -> None:
    body = '{"revision": %d, "clips": ["%s"], "by": NaN}' % (uploaded["revision"], uploaded["clips"][0]["id"])  # noqa: UP031
    answer = client.post(f"/api/tracks/{uploaded['tracks'][0]['id']}/gain", data=body, content_type="application/json")
    assert answer.status_code == 422


def test_what_is_not_there_is_a_404_problem(client: FlaskClient) -> None:
    for address in ("/api/sessions/none", "/api/nothing", "/api/tracks/none/figures", "/api/jobs/none/file", "/openapi/x"):
        answer = client.get(address)
        assert answer.status_code == 404
        assert answer.mimetype == "application/problem+json"


def test_an_unexpected_error_shows_no_trace(client: FlaskClient, bench: Workbench, monkeypatch: pytest.MonkeyPatch) -> None:
    from nivelus.services.sessions import cards

    monkeypatch.setattr(cards, "list_cards", lambda bench: 1 / 0)
    answer = client.get("/api/sessions")
    assert answer.status_code == 500
    assert "Traceback" not in answer.text
    assert "ZeroDivision" not in answer.text


def test_the_document_describes_every_route(client: FlaskClient, settings: Settings) -> None:
    document = create_app(settings, described=True).api_doc
    assert len(document["paths"]) >= 16
    for path, methods in document["paths"].items():
        for method, operation in methods.items():
            assert operation["responses"], f"{method} {path}"


def test_the_former_address_of_the_last_stage_leads_to_it(client: FlaskClient) -> None:
    moved = client.get("/s/abc/deliver?track=x&phrase=y")
    assert (moved.status_code, moved.headers["Location"]) == (308, "/s/abc/signoff?track=x&phrase=y")
