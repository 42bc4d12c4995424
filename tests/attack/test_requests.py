"""Requests that no page sends, raw ones that are none, and connections that say nothing: answers, never a crash."""

from __future__ import annotations

import contextlib
import http.client
import json
import socket
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import quote

import numpy as np
import pytest

from nivelus.settings import Settings
from nivelus.web.app import create_app
from tests.conftest import uneven_voice, write_sound
from tests.helpers.program import Program

REQUESTS, RAW = 500, 120
IDLE = 300


def _document() -> dict[str, Any]:
    """What the program says that can be asked of it."""
    with tempfile.TemporaryDirectory() as folder:
        document: dict[str, Any] = create_app(Settings(data=Path(folder)), described=True).api_doc
        return document


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Program]:
    folder = tmp_path_factory.mktemp("requests")
    own = Program(folder / "data", "--no-demo")
    own.brought_in(write_sound(folder / "voice.wav", uneven_voice()))
    yield own
    own.stop()


def ask(
    program: Program, method: str, path: str, body: bytes = b"", headers: dict[str, str] | None = None
) -> tuple[int, bytes]:
    connection = http.client.HTTPConnection("127.0.0.1", program.port, timeout=30)
    try:
        connection.putrequest(method, path, skip_accept_encoding=True)
        for name, value in ({"Content-Length": str(len(body))} | (headers or {})).items():
            connection.putheader(name, value)
        connection.endheaders(body)
        answer = connection.getresponse()
        return answer.status, answer.read()
    finally:
        connection.close()


def raw(program: Program, data: bytes, wait: float = 5.0) -> bytes:
    """What comes back for bytes that may be no request."""
    with socket.create_connection(("127.0.0.1", program.port), timeout=wait) as wire:
        wire.sendall(data)
        got = b""
        try:
            while part := wire.recv(65536):
                got += part
                if len(got) > 1 << 20:
                    break
        except (TimeoutError, ConnectionResetError):
            pass
        return got


JSON = {"Content-Type": "application/json"}


@pytest.mark.parametrize(
    ("method", "path", "body", "headers", "status"),
    [
        ("POST", "/api/sessions", b"[" * 200_000, JSON, 400),
        ("POST", "/api/sessions", b'{"name":' * 50_000, JSON, 400),
        ("POST", "/api/sessions", b'{"name": ' + b"9" * 10_000 + b"}", JSON, (400, 422)),
        ("POST", "/api/sessions", b"\xff\xfe\x00", JSON, (400, 422)),
        ("POST", "/api/sessions", b" " * ((2 << 20) + 1), JSON, 413),
        ("GET", "/api/sessions", b"", {"Origin": "http://[::1"}, 400),
        ("GET", "/api/sessions", b"", {"Origin": "http://[evil"}, 400),
        ("GET", "/a%0d%0aSet-Cookie:%20x", b"", {}, 400),
        ("GET", "/%00", b"", {}, 400),
        ("GET", "/api/tracks/x%0ay/samples?key=x&start=0&count=1", b"", {}, 400),
    ],
)
def test_what_cannot_be_meant_is_told_so(
    program: Program, method: str, path: str, body: bytes, headers: dict[str, str], status: int | tuple[int, ...]
) -> None:
    got, answer = ask(program, method, path, body, headers)
    assert got in (status if isinstance(status, tuple) else (status,)), answer
    assert json.loads(answer)["detail"].endswith(".")


def test_nothing_of_a_body_is_read_for_who_may_not_send_it(program: Program) -> None:
    """The head alone is sent, and says that a GB follows: the answer comes all the same, and nothing is written."""
    session = program.post("/api/sessions", {"name": "Guarded"})["id"]
    before = sorted((program.data / "incoming").iterdir())
    for header in ("Origin: http://evil.example", "Host: evil.example"):
        host = "" if header.startswith("Host") else f"Host: 127.0.0.1:{program.port}\r\n"
        head = (
            f"POST /api/sessions/{session}/uploads?name=a.wav HTTP/1.1\r\n{host}{header}\r\nContent-Length: 1000000000\r\n\r\n"
        )
        begun = time.monotonic()
        answer = raw(program, head.encode() + b"RIFF" * 1000, wait=15)
        assert b" 403 " in answer.split(b"\r\n", 1)[0] + b" "
        assert time.monotonic() - begun < 10
    assert sorted((program.data / "incoming").iterdir()) == before


def test_an_upload_goes_straight_to_the_disk_of_the_vault(program: Program, tmp_path: Path) -> None:
    session = program.post("/api/sessions", {"name": "Slow"})["id"]
    data = (tmp_path / "v.wav", uneven_voice((-20.0,)))
    whole = write_sound(*data).read_bytes()
    with socket.create_connection(("127.0.0.1", program.port)) as wire:
        path = f"/api/sessions/{session}/uploads?name={quote('slow voice.wav')}"
        wire.sendall(f"POST {path} HTTP/1.1\r\nHost: 127.0.0.1:{program.port}\r\nContent-Length: {len(whole)}\r\n\r\n".encode())
        wire.sendall(whole[:-1000])
        for _ in range(100):
            arriving = list((program.data / "incoming").glob("*.receiving"))
            if arriving:
                break
            time.sleep(0.05)
        assert len(arriving) == 1
        # nobody waits for the slow one
        assert program.get("/api/sessions")["items"]
        wire.sendall(whole[-1000:])
        assert b" 202 " in wire.recv(4096)
    # one that breaks off leaves nothing
    with socket.create_connection(("127.0.0.1", program.port)) as wire:
        wire.sendall(f"POST {path} HTTP/1.1\r\nHost: 127.0.0.1:{program.port}\r\nContent-Length: 10000000\r\n\r\n".encode())
        wire.sendall(whole[:5000])
    for _ in range(100):
        if not list((program.data / "incoming").glob("*.receiving")):
            break
        time.sleep(0.05)
    assert not list((program.data / "incoming").glob("*.receiving"))


def test_idle_and_half_open_connections_leave_the_page_usable(program: Program) -> None:
    wires = []
    for number in range(IDLE):
        wire = socket.create_connection(("127.0.0.1", program.port))
        if number % 3 == 1:
            wire.sendall(b"GET / HTTP/1.1\r\nHost: 127.")
        if number % 3 == 2:
            # a body that never comes
            head = f"POST /api/sessions HTTP/1.1\r\nHost: 127.0.0.1:{program.port}\r\nContent-Length: 50\r\n\r\n{{"
            wire.sendall(head.encode())
        wires.append(wire)
    for _ in range(5):
        begun = time.monotonic()
        assert ask(program, "GET", "/")[0] == 200
        assert program.get("/api/sessions")["items"]
        assert time.monotonic() - begun < 2.0
    time.sleep(11)
    closed = 0
    for number, wire in enumerate(wires):
        wire.settimeout(0.05)
        with contextlib.suppress(TimeoutError, ConnectionResetError):
            closed += wire.recv(1) == b"" and number % 3 < 2
        wire.close()
    assert closed == IDLE - IDLE // 3


def test_random_requests_never_break_it(program: Program, times: int) -> None:
    state = program.get(f"/api/sessions/{program.get('/api/sessions')['items'][-1]['id']}")
    # the hand and the news are told as long as somebody listens
    endless = {("get", "/api/hand"), ("get", "/api/news")}
    addresses = [(method, path) for path, ways in _document()["paths"].items() for method in ways]
    addresses = [one for one in addresses if one not in endless]
    ids = {"session_id": state["id"], "track_id": state["tracks"][0]["id"], "job_id": "x"}
    random = np.random.default_rng(11)
    values = [None, -1, 0, 1, 1e308, -1e308, 2**70, "", "x" * 50, "ride", [], [[]], {}, True, [0, 1], [None], "\u0000", 20000.5]
    names = [
        *("revision", "clips", "by", "to", "lane", "start", "end", "at", "db", "points", "marks", "kind", "depth", "name"),
        *("rule", "what", "factor", "span", "spans", "low", "high", "format", "bits", "hashes", "clip", "label", "on", "flag"),
    ]
    seen: dict[int, int] = {}
    for _ in range(REQUESTS * times):
        method, path = addresses[int(random.integers(len(addresses)))]
        for name, id in ids.items():
            path = path.replace(
                f"{{{name}}}", id if random.random() < 0.8 else quote(str(random.choice(["..", "%", "é", "a" * 300])))
            )
        chosen = random.choice(names, int(random.integers(0, 8)), replace=False)
        body = {str(name): values[int(random.integers(len(values)))] for name in chosen}
        if random.random() < 0.7:
            body["revision"] = program.get(f"/api/sessions/{ids['session_id']}")["revision"] if random.random() < 0.2 else 0
        status, answer = ask(program, method.upper(), path, json.dumps(body).encode() if method != "get" else b"", JSON)
        seen[status] = seen.get(status, 0) + 1
        assert status < 500, (method, path, body, answer)
        if method == "delete" and status < 300 and "sessions" in path:
            ids["session_id"] = program.post("/api/sessions", {"name": "Next"})["id"]
    print(f"{REQUESTS * times} requests: {seen}")
    assert len(seen) > 2
    assert program.process.poll() is None


def test_raw_bytes_never_break_it(program: Program, times: int) -> None:
    random = np.random.default_rng(12)
    good = f'POST /api/sessions HTTP/1.1\r\nHost: 127.0.0.1:{program.port}\r\nContent-Length: 12\r\n\r\n{{"name":"x"}}'.encode()
    special = [
        b"GET / HTTP/9.9\r\n\r\n",
        b"GET http://evil.example/ HTTP/1.1\r\nHost: evil.example\r\n\r\n",
        b"GET / HTTP/1.1\r\n\r\n",
        b"GET / HTTP/1.1\r\nHost: a\r\nHost: b\r\n\r\n",
        b"POST / HTTP/1.1\r\nHost: 127.0.0.1\r\nTransfer-Encoding: chunked\r\n\r\nZZ\r\n",
        b"POST / HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: -5\r\n\r\n",
        b"POST / HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 5\r\nContent-Length: 6\r\n\r\n12345",
        b"A" * 100_000,
        b"GET /" + b"a" * 100_000 + b" HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n",
        b"GET / HTTP/1.1\r\nX: " + b"b" * 200_000 + b"\r\n\r\n",
        b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03",
        b"\r\n" * 1000,
        b"CONNECT evil.example:443 HTTP/1.1\r\nHost: evil.example:443\r\n\r\n",
        b"OPTIONS * HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n",
    ]
    for number in range(RAW * times):
        data = bytearray(special[number] if number < len(special) else good)
        if number >= len(special):
            for _ in range(int(random.integers(1, 6))):
                at = int(random.integers(len(data)))
                data[at : at + int(random.integers(0, 4))] = random.bytes(int(random.integers(0, 5)))
        answer = raw(program, bytes(data), wait=0.3)
        assert b" 500 " not in answer.split(b"\r\n", 1)[0], bytes(data)
        assert b"Traceback" not in answer
    assert program.get("/api/sessions")["items"]
    assert "Traceback" not in program.said()
    # none of it is an error of ours
    log = program.data / "logs" / "nivelus.log"
    assert " ERROR " not in (log.read_text() if log.exists() else "")


def test_it_ends_within_five_seconds_whatever_is_asked_of_it(tmp_path: Path) -> None:
    own = Program(tmp_path / "data", "--no-demo")
    try:
        state = own.brought_in(write_sound(tmp_path / "long.wav", np.tile(uneven_voice(), 60)))
        track = state["tracks"][0]["id"]
        wires = []
        for number in range(12):
            wire = socket.create_connection(("127.0.0.1", own.port))
            path = f"/api/tracks/{track}/load?wanted={number + 1}"
            wire.sendall(f"GET {path} HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n".encode())
            wires.append(wire)
        time.sleep(0.3)
        begun = time.monotonic()
        own.process.terminate()
        own.process.wait(timeout=20)
        assert time.monotonic() - begun < 5
        for wire in wires:
            wire.close()
        own.start()
        assert own.get(f"/api/sessions/{state['id']}")["revision"] == state["revision"]
    finally:
        own.stop()


def test_an_upload_into_a_folder_that_was_moved_is_told_of_with_a_number(tmp_path: Path) -> None:
    own = Program(tmp_path / "data", "--no-demo")
    try:
        session = own.post("/api/sessions", {"name": "Moved"})["id"]
        own.data.rename(tmp_path / "elsewhere")
        status, answer = ask(own, "POST", f"/api/sessions/{session}/uploads?name=a.wav", b"RIFF", JSON)
        told = json.loads(answer)
        assert (status, told["title"]) == (500, "Unexpected")
        assert told["detail"].startswith(f"The data folder {own.data} no longer exists.")
        assert told["id"] in told["detail"]
    finally:
        (tmp_path / "elsewhere").rename(own.data)
        own.stop()
