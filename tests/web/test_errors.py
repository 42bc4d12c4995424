"""What nobody foresaw: a sentence and an id for the person, a short and clean trace in a log that does not grow for ever."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from flask.testing import FlaskClient

from nivelus import logs
from nivelus.services.sessions import cards
from nivelus.settings import Settings
from nivelus.web.app import create_app

SECRET = "a-word-that-nobody-may-read"


@pytest.fixture
def broken(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> FlaskClient:
    def list_cards(*_: object) -> None:
        private = "a value of the person"
        raise RuntimeError(f"broken at token={SECRET}&x=1 with {len(private)}")

    monkeypatch.setattr(cards, "list_cards", list_cards)
    logs.open_log(tmp_path, token=SECRET)
    return create_app(Settings(data=tmp_path / "data", token=SECRET)).test_client()


def test_an_unforeseen_error_has_an_id_that_also_stands_in_the_log(
    broken: FlaskClient, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    answer = broken.get("/api/sessions", headers={"Authorization": f"Bearer {SECRET}"})
    assert answer.status_code == 500
    id = answer.json["id"]
    assert id in answer.json["detail"]
    assert id in capsys.readouterr().err
    log = (tmp_path / "logs" / "nivelus.log").read_text()
    assert f"{id} GET /api/sessions" in log
    assert "RuntimeError: broken" in log
    assert re.search(r"test_errors\.py:\d+ list_cards", log)
    assert "a value of the person" not in log
    assert SECRET not in log
    assert len(log.splitlines()) < 20


def test_a_malformed_origin_is_refused_and_writes_nothing(broken: FlaskClient, tmp_path: Path) -> None:
    for origin in ("http://[::1", "http://[", "//[x"):
        assert broken.get(f"/api/sessions?token={SECRET}", headers={"Origin": origin}).status_code == 400
    assert not (tmp_path / "logs" / "nivelus.log").exists()


def test_the_log_does_not_grow_for_ever(tmp_path: Path) -> None:
    path = logs.open_log(tmp_path)
    for _ in range(400):
        logs.note("x" * 20_000)
    files = list(path.parent.iterdir())
    assert len(files) == logs.KEPT + 1
    assert sum(file.stat().st_size for file in files) <= (logs.KEPT + 1) * logs.LARGEST
