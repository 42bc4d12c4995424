"""The way from the stand-in to the page: who may use it, what it takes, and that it holds nothing up."""

from __future__ import annotations

import http.client
import json
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.helpers.listener import Listener
from tests.helpers.program import Program

FOREIGN = {"Origin": "http://elsewhere.example"}


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Program]:
    own = Program(tmp_path_factory.mktemp("hand") / "data", "--no-demo")
    yield own
    own.stop()


class Hearer(Listener):
    """A page that listens to the hand."""

    ADDRESS = "/api/hand"

    def read(self, count: int) -> bytes:
        """So many bytes, signs of life left out."""
        got = b""
        while len(got) < count:
            got += self.answer.read1(64).replace(b"\xfe", b"")
        return got


def say(program: Program, data: bytes, path: str = "/api/hand", headers: dict[str, str] | None = None) -> tuple[int, dict]:
    connection = http.client.HTTPConnection("127.0.0.1", program.port, timeout=20)
    connection.request("POST", path, data, headers or {})
    answer = connection.getresponse()
    body = answer.read()
    connection.close()
    return answer.status, json.loads(body) if body.startswith(b"{") else {}


def test_what_is_said_arrives_in_order_at_all_who_listen(program: Program) -> None:
    first, second = Hearer(program), Hearer(program)
    for i in range(50):
        assert say(program, bytes([0xB0, 7, i]))[0] == 200
    expected = b"".join(bytes([0xB0, 7, i]) for i in range(50))
    assert first.read(150) == expected
    assert second.read(150) == expected
    first.close()
    second.close()
    for _ in range(100):
        if say(program, b"")[1]["listeners"] == 0:
            return
        time.sleep(0.1)
    raise AssertionError("who has gone is still counted")


def test_another_origin_neither_listens_nor_speaks(program: Program) -> None:
    assert say(program, b"\xb0\x07\x01", headers=FOREIGN)[0] == 403
    assert say(program, b"{}", "/api/hand/shown", FOREIGN)[0] == 403
    stranger = Hearer(program, FOREIGN)
    assert stranger.answer.status == 403
    stranger.close()


def test_without_the_token_nobody_listens_or_speaks(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("NIVELUS_TOKEN", "a-long-random-word")
    own = Program(tmp_path / "data", "--no-demo", waits=False)
    try:
        for _ in range(100):
            try:
                status = say(own, b"\xb0\x07\x01")[0]
                break
            except OSError:
                time.sleep(0.1)
        assert status == 401
        assert say(own, b"\xb0\x07\x01", headers={"Authorization": "Bearer a-long-random-word"})[0] == 200
    finally:
        own.stop()


def test_too_much_and_junk(program: Program) -> None:
    status, told = say(program, bytes(5000))
    assert (status, told["detail"]) == (413, "That is too large: at most 4 kB are taken here.")
    listener = Hearer(program)
    assert say(program, b"[" * 4000, "/api/hand/shown")[0] == 200
    assert say(program, b"\xff\xfe", "/api/hand/shown")[0] == 200
    assert say(program, b"")[1]["shown"] is None
    assert say(program, b'{"db": -3}', "/api/hand/shown")[0] == 200
    assert say(program, b"")[1]["shown"] == {"db": -3}
    listener.close()


def test_who_listens_and_does_not_read_holds_nobody_up(program: Program) -> None:
    """Sixteen listen and never read, more are told that there is no room, a flood goes on, and the page answers."""
    idle = [Hearer(program) for _ in range(16)]
    more = Hearer(program)
    assert more.answer.status == 503
    more.close()
    began = time.monotonic()

    def flood() -> None:
        for _ in range(400):
            say(program, bytes([0xB0, 7, 1]) * 500)

    floods = [threading.Thread(target=flood) for _ in range(2)]
    for thread in floods:
        thread.start()
    slowest = 0.0
    while any(thread.is_alive() for thread in floods):
        asked = time.monotonic()
        program.get("/api/sessions")
        slowest = max(slowest, time.monotonic() - asked)
    assert slowest < 2
    assert time.monotonic() - began < 60
    for one in idle:
        one.close()
