"""News of sessions: who may listen, that many may, that it holds nothing up, and that it ends with the program."""

from __future__ import annotations

import http.client
import json
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.helpers.listener import Listener
from tests.helpers.program import Program

MOST = 64


@pytest.fixture
def program(tmp_path: Path) -> Iterator[Program]:
    own = Program(tmp_path / "data", "--no-demo")
    yield own
    own.stop()


class Window(Listener):
    """A window that listens."""

    ADDRESS = "/api/news"

    def next(self) -> dict[str, int]:
        """What is told next, signs of life left out."""
        while True:
            line = self.answer.readline()
            if not line:
                raise EOFError
            if line.startswith(b"data: ") and (told := json.loads(line[6:])):
                return told


def renamed(program: Program, state: dict[str, Any], name: str) -> dict[str, Any]:
    return program.patch(f"/api/sessions/{state['id']}", {"revision": state["revision"], "name": name})


def test_all_who_listen_hear_of_every_session(program: Program) -> None:
    one, other = (program.post("/api/sessions", {"name": name}) for name in "ab")
    windows = [Window(program) for _ in range(3)]
    assert windows[0].answer.headers["Content-Type"] == "text/event-stream"
    for window in windows:
        assert window.next() == {one["id"]: 0, other["id"]: 0}
    other = renamed(program, other, "c")
    at = time.monotonic()
    for window in windows:
        assert window.next() == {other["id"]: 1}
    # a third of a second, on a machine with little else to do
    assert time.monotonic() - at < 5
    for window in windows:
        window.close()


def test_another_origin_hears_nothing(program: Program) -> None:
    stranger = Window(program, {"Origin": "http://elsewhere.example"})
    assert stranger.answer.status == 403
    stranger.close()
    foreign = Window(program, {"Host": "elsewhere.example"})
    assert foreign.answer.status == 403
    foreign.close()


def test_as_many_as_may_listen_hold_nothing_up_and_who_goes_makes_room(program: Program) -> None:
    state = program.post("/api/sessions", {"name": "busy"})
    windows = [Window(program) for _ in range(MOST)]
    for window in windows:
        assert window.next() == {state["id"]: 0}
    late = Window(program)
    assert late.answer.status == 503
    assert "More windows" in json.loads(late.answer.read())["detail"]
    late.close()
    # who never reads holds up neither the others nor an edit
    for number in range(1, 6):
        state = renamed(program, state, f"name {number}")
        while windows[0].next()[state["id"]] != number:
            pass
    for window in windows[1:]:
        window.close()
    for _ in range(100):
        again = Window(program)
        if again.answer.status == 200:
            assert again.next() == {state["id"]: 5}
            again.close()
            break
        again.close()
        time.sleep(0.1)
    else:
        raise AssertionError("who has gone is still counted")
    windows[0].close()


def test_listeners_do_not_keep_the_program_from_ending(program: Program) -> None:
    windows = [Window(program) for _ in range(8)]
    at = time.monotonic()
    program.stop()
    assert time.monotonic() - at < 10
    for window in windows:
        with pytest.raises((EOFError, OSError, http.client.HTTPException)):
            while True:
                window.next()
        window.close()
    program.start()
