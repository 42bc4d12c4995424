"""The real application on a real database, its jobs run at once."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from flask.testing import FlaskClient
from flask_openapi3 import OpenAPI

from nivelus.jobs.queue import JobQueue
from nivelus.services.track.workbench import Workbench
from nivelus.settings import Settings
from nivelus.web.app import create_app
from tests.web.served import Served, at_its_edge


@pytest.fixture
def app(settings: Settings, bench: Workbench) -> OpenAPI:
    return create_app(settings, bench, JobQueue(settings, immediate=True))


@pytest.fixture
def whole(app: OpenAPI, bench: Workbench, settings: Settings) -> Iterator[Served]:
    """The program itself, at its edge."""
    with at_its_edge(app, bench, settings) as own:
        yield own


@pytest.fixture
def client(app: OpenAPI) -> FlaskClient:
    return app.test_client()


@pytest.fixture
def session(client: FlaskClient) -> str:
    answer = client.post("/api/sessions", json={"name": "Guide"})
    assert answer.status_code == 201
    return str(answer.json["id"])


@pytest.fixture
def uploaded(client: FlaskClient, session: str, voice_file: Path) -> dict:
    """The state of a session after one upload."""
    answer = client.post(f"/api/sessions/{session}/uploads?name=voice.wav", data=voice_file.read_bytes())
    assert answer.status_code == 202
    state = client.get(f"/api/sessions/{session}").json
    assert len(state["tracks"]) == 1
    return state
