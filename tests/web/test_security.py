"""Who may talk to the program: only a page of its own, on this machine, unless a token says otherwise."""

from __future__ import annotations

from pathlib import Path

import pytest
from flask.testing import FlaskClient

from nivelus import logs
from nivelus.core.errors import Refused
from nivelus.services.track.workbench import Workbench
from nivelus.settings import Settings
from nivelus.web import security
from nivelus.web.app import create_app
from nivelus.web.pages import STATIC
from nivelus.web.serve import serve


@pytest.mark.parametrize(
    "host", ["evil.example", "localhost.evil.example", "127.0.0.1.evil.example:80", "192.168.1.5", "evil@127.0.0.1"]
)
def test_a_foreign_host_is_refused(client: FlaskClient, host: str) -> None:
    """DNS rebinding: a name of theirs that points here."""
    assert client.get("/api/sessions", headers={"Host": host}).status_code == 403


@pytest.mark.parametrize("host", ["localhost:8130", "127.0.0.1:8130", "[::1]:8130"])
def test_our_own_addresses_are_served(client: FlaskClient, host: str) -> None:
    assert client.get("/api/sessions", headers={"Host": host}).status_code == 200


@pytest.mark.parametrize(
    "headers",
    [
        {"Origin": "https://evil.example"},
        {"Origin": "null"},
        {"Origin": "http://localhost:9999"},
        {"Sec-Fetch-Site": "cross-site"},
        {"Sec-Fetch-Site": "same-site"},
    ],
)
def test_a_page_from_elsewhere_cannot_drive_the_program(client: FlaskClient, headers: dict[str, str]) -> None:
    headers = {"Host": "localhost:8130", **headers}
    assert client.post("/api/sessions", json={"name": "x"}, headers=headers).status_code == 403
    assert client.get("/api/sessions", headers=headers).status_code == 403
    assert client.get("/api/sessions").json["items"] == []


def test_our_own_page_can(client: FlaskClient) -> None:
    headers = {"Host": "localhost:8130", "Origin": "http://localhost:8130", "Sec-Fetch-Site": "same-origin"}
    assert client.post("/api/sessions", json={"name": "x"}, headers=headers).status_code == 201


def test_the_page_asks_for_nothing_elsewhere() -> None:
    """Fonts, styles and scripts ship with the program. Addresses in comments and XML namespaces are not requests."""
    page = (STATIC / "index.html").read_text()
    assert "http" not in page
    for style in STATIC.glob("assets/*.css"):
        assert "url(http" not in style.read_text()
        assert "@import" not in style.read_text()


@pytest.mark.parametrize("path", ["../../pyproject.toml", "..%2f..%2fpyproject.toml", "/etc/passwd", "....//app.py"])
def test_no_path_comes_from_a_client(client: FlaskClient, path: str) -> None:
    answer = client.get(f"/assets/{path}")
    assert answer.status_code in (404, 308) or b"<!doctype html>" in answer.data.lower()
    assert b"hatchling" not in answer.data
    assert b"root:" not in answer.data
    for address in (f"/api/tracks/{path}/wave/0/0?key={path}", f"/api/jobs/{path}/file"):
        assert client.get(address).status_code in (404, 308)


@pytest.fixture
def guarded(tmp_path: Path) -> FlaskClient:
    return create_app(Settings(data=tmp_path / "guarded", host="0.0.0.0", token="a long word")).test_client()


def test_away_from_this_machine_every_request_needs_the_token(guarded: FlaskClient) -> None:
    assert guarded.get("/api/sessions").status_code == 401
    assert guarded.get("/").status_code == 401
    assert guarded.get("/?token=wrong").status_code == 401
    assert guarded.get("/api/sessions", headers={"Authorization": "Bearer a long word"}).status_code == 200


def test_the_token_moves_from_the_address_into_a_cookie(guarded: FlaskClient) -> None:
    answer = guarded.get("/?token=a long word")
    assert answer.status_code == 302
    assert "token" not in answer.headers["Location"]
    cookie = answer.headers["Set-Cookie"]
    assert "HttpOnly" in cookie
    assert "SameSite=Strict" in cookie
    assert guarded.get("/api/sessions").status_code == 200


def test_an_open_address_without_a_token_is_refused(tmp_path: Path) -> None:
    with pytest.raises(Refused, match="token"):
        serve(Settings(data=tmp_path, host="0.0.0.0"), print)


@pytest.mark.parametrize("token", ["x", " " * 20, "only fifteen ch", f"  {'a' * 15}  "])
def test_a_token_that_could_be_guessed_is_refused(tmp_path: Path, token: str) -> None:
    with pytest.raises(Refused, match="at least 16 characters"):
        serve(Settings(data=tmp_path, host="0.0.0.0", token=token), print)
    assert not list(tmp_path.iterdir())


def test_a_token_may_hold_any_letter_wherever_it_is_given(tmp_path: Path) -> None:
    token = "ein-längeres-wört-é"
    own = create_app(Settings(data=tmp_path / "data", host="0.0.0.0", token=token))
    assert own.test_client().get("/api/sessions", headers={"Authorization": f"Bearer {token}"}).status_code == 200
    raw = f"Bearer {token}".encode().decode("latin-1")
    assert own.test_client().get("/api/sessions", headers={"Authorization": raw}).status_code == 200
    browser = own.test_client()
    assert browser.get("/", query_string={"token": token}).status_code == 302
    assert browser.get("/api/sessions").status_code == 200
    assert own.test_client().get("/api/sessions", headers={"Authorization": "Bearer ein-anderes-wört-é"}).status_code == 401


def test_guesses_are_slowed_from_the_fifth_on_and_noted_once_a_minute(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    log, moment = logs.open_log(tmp_path), [100.0]
    monkeypatch.setattr("nivelus.web.security.time.monotonic", lambda: moment[0])
    guesses = security.Guesses()
    waits = []
    for _ in range(20):
        moment[0] += 1
        waits.append(guesses.wait())
    assert waits == [0.0] * 4 + [2.0] * 16
    assert log.read_text().count("wrong tokens") == 1
    moment[0] += 60
    assert guesses.wait() == 0.0


def test_nobody_else_on_the_machine_reads_what_is_recorded(tmp_path: Path) -> None:
    data = tmp_path / "data"
    for _ in range(2):
        Workbench(Settings(data=data)).close()
        assert (data.stat().st_mode & 0o777, (data / "nivelus.sqlite").stat().st_mode & 0o777) == (0o700, 0o600)
        # as an older version left them
        data.chmod(0o755)
        (data / "nivelus.sqlite").chmod(0o644)
