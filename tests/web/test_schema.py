"""The API held to its own document by schemathesis: odd input of every kind gets a declared answer, never a 500."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import NamedTuple

import pytest
import schemathesis
from hypothesis import HealthCheck, given, settings
from schemathesis.core.result import Ok
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_schema_conformance,
    status_code_conformance,
)

from nivelus.jobs.queue import JobQueue
from nivelus.services.clips import following
from nivelus.services.sessions import sessions
from nivelus.services.track.workbench import Workbench
from nivelus.settings import Settings
from nivelus.web.app import create_app
from nivelus.web.pages import STATIC
from tests.conftest import bring_in, detailed_voice, write_sound
from tests.helpers.riding import moves, ride
from tests.web.interface import interface
from tests.web.served import Served

ROOT = Path(__file__).parents[2]
OPERATIONS = [
    "GET /api/sessions",
    "POST /api/sessions",
    "GET /api/sessions/{session_id}",
    "PATCH /api/sessions/{session_id}",
    "DELETE /api/sessions/{session_id}",
    "POST /api/sessions/{session_id}/undo",
    "POST /api/sessions/{session_id}/redo",
    "POST /api/sessions/{session_id}/undo-to-whole",
    "GET /api/sessions/{session_id}/revision",
    "GET /api/sessions/{session_id}/jobs",
    "PATCH /api/tracks/{track_id}",
    "POST /api/tracks/{track_id}/copies",
    "POST /api/tracks/{track_id}/follow",
    "DELETE /api/tracks/{track_id}",
    "POST /api/tracks/{track_id}/gain",
    "POST /api/tracks/{track_id}/flag",
    "POST /api/tracks/{track_id}/label",
    "POST /api/tracks/{track_id}/cut",
    "POST /api/tracks/{track_id}/join",
    "POST /api/tracks/{track_id}/border",
    "POST /api/tracks/{track_id}/move",
    "POST /api/tracks/{track_id}/paste",
    "POST /api/tracks/{track_id}/take-out",
    "POST /api/tracks/{track_id}/close-gap",
    "POST /api/tracks/{track_id}/home",
    "POST /api/tracks/{track_id}/trim-ends",
    "GET /api/tracks/{track_id}/takes",
    "POST /api/tracks/{track_id}/takes/hear",
    "POST /api/tracks/{track_id}/takes/match",
    "POST /api/tracks/{track_id}/takes/choose",
    "PATCH /api/tracks/{track_id}/takes/{take}",
    "DELETE /api/tracks/{track_id}/takes/{take}",
    "GET /api/sessions/{session_id}/arrangement",
    "POST /api/sessions/{session_id}/arrange",
    "POST /api/tracks/{track_id}/draft",
    "POST /api/tracks/{track_id}/draft/accept",
    "POST /api/tracks/{track_id}/details/rule",
    "POST /api/tracks/{track_id}/details/trial",
    "POST /api/tracks/{track_id}/details/depth",
    "POST /api/tracks/{track_id}/details/change",
    "POST /api/tracks/{track_id}/details/edges",
    "POST /api/tracks/{track_id}/details/correct",
    "POST /api/tracks/{track_id}/details/make",
    "POST /api/tracks/{track_id}/details/reset",
    "POST /api/tracks/{track_id}/details/find",
    "POST /api/tracks/{track_id}/phrases/find",
    "GET /api/tracks/{track_id}/lanes",
    "GET /api/tracks/{track_id}/ride/inside",
    "POST /api/tracks/{track_id}/ride/draft",
    "POST /api/tracks/{track_id}/ride/draft/accept",
    "POST /api/tracks/{track_id}/lanes/lift",
    "POST /api/tracks/{track_id}/lanes/point",
    "POST /api/tracks/{track_id}/lanes/points",
    "POST /api/tracks/{track_id}/lanes/range",
    "POST /api/tracks/{track_id}/lanes/clear",
    "POST /api/tracks/{track_id}/lanes/draw",
    "POST /api/tracks/{track_id}/lanes/paste",
    "POST /api/tracks/{track_id}/lanes/trim",
    "POST /api/tracks/{track_id}/lanes/scale",
    "POST /api/tracks/{track_id}/lanes/borders",
    "POST /api/tracks/{track_id}/lanes/move",
    "POST /api/tracks/{track_id}/lanes/working-range",
    "POST /api/tracks/{track_id}/lanes/file",
    "GET /api/tracks/{track_id}/passes",
    "POST /api/tracks/{track_id}/passes",
    "POST /api/passes/{pass_id}/end",
    "POST /api/passes/{pass_id}/draft",
    "POST /api/passes/{pass_id}/keep",
    "POST /api/passes/{pass_id}/drop",
    "GET /api/sessions/{session_id}/distance",
    "POST /api/sessions/{session_id}/mix",
    "POST /api/tracks/{track_id}/duck/draft",
    "POST /api/tracks/{track_id}/duck/draft/accept",
    "POST /api/tracks/{track_id}/duck/lock",
    "POST /api/tracks/{track_id}/slow/draft",
    "POST /api/tracks/{track_id}/slow/draft/accept",
    "GET /api/tracks/{track_id}/load",
    "POST /api/tracks/{track_id}/load",
    "GET /api/tracks/{track_id}/figures",
    "POST /api/tracks/{track_id}/render",
    "POST /api/jobs/{job_id}/cancel",
    "POST /api/jobs/{job_id}/choice",
    "DELETE /api/jobs/{job_id}",
    "POST /api/sessions/{session_id}/uploads",
    "GET /api/sessions/{session_id}/rows",
    "GET /api/tracks/{track_id}/samples",
    "GET /api/tracks/{track_id}/wave/{level}/{index}",
    "GET /api/tracks/{track_id}/onsets",
    "GET /api/tracks/{track_id}/trace",
    "GET /api/tracks/{track_id}/heard",
    "GET /api/tracks/{track_id}/gain",
    "GET /api/tracks/{track_id}/lanes/{lane}.{ending}",
    "GET /api/rules/{rule_id}/file",
    "POST /api/passes/{pass_id}/pieces",
    "GET /api/sessions/{session_id}/distance/course",
    "GET /api/tracks/{track_id}/load/course",
    "GET /api/tracks/{track_id}/reduction",
    "GET /api/jobs/{job_id}/file",
    "GET /api/formats/sound",
    "GET /api/rules",
    "POST /api/rules",
    "POST /api/rules/bring-in",
    "DELETE /api/rules/{rule_id}",
    "POST /api/sessions/{session_id}/rule",
    "GET /api/loose",
    "POST /api/loose/bring-back",
    "POST /api/loose/delete",
]


EDGE = ["POST /api/hand", "POST /api/hand/shown"]
ENDLESS = ["GET /api/hand", "GET /api/news"]
"""Answers that go on until one of both ends goes: ``test_edge`` and the browser's tests hear them."""


class Described(NamedTuple):
    """What the program says of its interface, and ids that are really there."""

    schema: schemathesis.BaseSchema
    ids: dict[str, str]
    follower: str


@pytest.fixture(scope="module")
def described(tmp_path_factory: pytest.TempPathFactory) -> Described:
    folder: Path = tmp_path_factory.mktemp("schema")
    own = Settings(data=folder / "data")
    bench = Workbench(own)
    session = sessions.create(bench, "One")
    track = bring_in(bench, session, write_sound(folder / "voice.wav", detailed_voice()))
    follower = bring_in(bench, session, write_sound(folder / "other.wav", 0.5 * detailed_voice()))
    following.follow(bench, follower, sessions.state(bench, session).revision, track)
    app = create_app(own, bench, JobQueue(own, immediate=True), described=True)
    loaded = schemathesis.openapi.from_dict(app.api_doc)
    loaded.app = app
    ids = {"session_id": session, "track_id": track, "rule_id": "choir"}
    return Described(loaded, {**ids, "pass_id": ride(bench, track, moves((1, 0), (3, 2)))}, follower)


@pytest.mark.parametrize("operation", OPERATIONS)
def test_every_answer_is_a_declared_one(described: Described, operation: str) -> None:
    method, path = operation.split()
    checks = [content_type_conformance, response_schema_conformance, status_code_conformance]

    @settings(max_examples=20, deadline=None, suppress_health_check=list(HealthCheck))
    @given(case=described.schema[path][method].as_strategy())
    def check(case: schemathesis.Case) -> None:
        if method != "DELETE":
            # half of the cases meet a session that is really there
            lengths = {name: len(str(value)) for name, value in case.path_parameters.items()}
            case.path_parameters |= {k: v for k, v in described.ids.items() if k in path and lengths[k] % 2}
            if lengths.get("track_id", 0) % 4 == 1:
                # and some a track that follows another
                case.path_parameters["track_id"] = described.follower
        response = case.call(headers={"Host": "localhost"})
        assert response.status_code < 500
        if response.status_code < 400:
            case.validate_response(response, checks=checks)
        else:
            assert response.json()["detail"].endswith((".", "!", "?", ")"))

    check()


@pytest.mark.parametrize("operation", EDGE)
def test_every_answer_of_the_edge_is_a_declared_one(whole: Served, described: Described, operation: str) -> None:
    """Over a real connection, for the edge is no part of the application."""
    method, path = operation.split()

    @settings(max_examples=20, deadline=None, suppress_health_check=list(HealthCheck))
    @given(case=described.schema[path][method].as_strategy())
    def check(case: schemathesis.Case) -> None:
        response = case.call(base_url=f"http://127.0.0.1:{whole.port}")
        assert response.status_code < 500
        if response.status_code < 400:
            case.validate_response(response, checks=[content_type_conformance, response_schema_conformance])

    check()


def test_the_list_above_is_all_there_is(described: Described) -> None:
    said = [result.ok() for result in described.schema.get_all_operations() if isinstance(result, Ok)]
    assert {operation.label for operation in said} == {*OPERATIONS, *EDGE, *ENDLESS}


def test_the_interface_is_the_one_that_was_looked_at() -> None:
    """A change is seen in a diff: ``python -m tests.web.interface > tests/web/interface.txt`` takes the present one."""
    assert interface() == (Path(__file__).parent / "interface.txt").read_text(encoding="utf-8")


def test_notices_name_whatever_the_page_is_made_of() -> None:
    """The licences of fonts and packages ask for it; the build writes them from what is really in it."""
    notices = (STATIC / "notices.md").read_text(encoding="utf-8")
    packages = json.loads((ROOT / "frontend" / "package.json").read_text(encoding="utf-8"))["dependencies"]
    assert [name for name in packages if f"## {name} - " not in notices] == []
    assert "SIL OPEN FONT LICENSE" in notices.upper()


def test_every_component_of_the_page_has_its_styles() -> None:
    """The library's styles are brought in one by one, see frontend/src/parts/styles.ts."""
    classes = re.compile(r"\bm_[0-9a-f]{6,8}\b")
    library = (ROOT / "frontend" / "node_modules" / "@mantine" / "core" / "styles.css").read_text(encoding="utf-8")
    used = {name for script in STATIC.glob("assets/*.js") for name in classes.findall(script.read_text(encoding="utf-8"))}
    styled = {name for sheet in STATIC.glob("assets/*.css") for name in classes.findall(sheet.read_text(encoding="utf-8"))}
    wanted = used & set(classes.findall(library))
    assert len(wanted) > 100
    assert sorted(wanted - styled) == []
