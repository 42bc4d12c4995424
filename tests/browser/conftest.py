"""A real program - server, worker, database - and a real browser that sees nothing but it."""

from __future__ import annotations

import json
import os
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page

FLAGS = [
    "--headless",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--autoplay-policy=no-user-gesture-required",
    "--host-resolver-rules=MAP * ~NOTFOUND , EXCLUDE 127.0.0.1",
]


@pytest.fixture(scope="session")
def browser_type_launch_args() -> dict[str, Any]:
    return {"executable_path": "/usr/bin/chromium", "args": FLAGS}


@pytest.fixture(scope="session")
def browser_context_args() -> dict[str, Any]:
    return {"viewport": {"width": 1280, "height": 800}, "reduced_motion": "reduce", "color_scheme": "light"}


class Program:
    """The program as a person starts it."""

    def __init__(self, data: Path, *options: str) -> None:
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        self.data, self.options = data, options
        self.address = f"http://127.0.0.1:{self.port}"
        self.start()

    def start(self) -> None:
        command = [sys.executable, "-m", "nivelus.cli", "serve", "--port", str(self.port), "--data", str(self.data)]
        self.log = (self.data.parent / f"{self.data.name}.log").open("ab")
        environment = {**os.environ, "PYTHONUNBUFFERED": "1"}
        self.process = subprocess.Popen([*command, *self.options], stdout=self.log, stderr=self.log, env=environment)
        for _ in range(900):
            try:
                self.get("/api/sessions")
                return
            except OSError:
                assert self.process.poll() is None, Path(self.log.name).read_text()
                time.sleep(0.1)
        raise AssertionError("the program did not start: " + Path(self.log.name).read_text())

    def get(self, path: str) -> Any:
        with urllib.request.urlopen(self.address + path, timeout=20) as answer:
            return json.loads(answer.read())

    def post(self, path: str, body: Any) -> Any:
        data = body if isinstance(body, bytes) else json.dumps(body).encode()
        request = urllib.request.Request(self.address + path, data, {"Content-Type": "application/json"})
        with urllib.request.urlopen(request, timeout=60) as answer:
            return json.loads(answer.read())

    def delete(self, path: str) -> None:
        request = urllib.request.Request(self.address + path, method="DELETE")
        urllib.request.urlopen(request, timeout=20).close()

    def session(self, name: str) -> dict[str, Any]:
        """The whole state of the session of this name."""
        card = next(card for card in self.get("/api/sessions")["items"] if card["name"] == name)
        return self.get(f"/api/sessions/{card['id']}")

    def kill(self) -> None:
        """SIGKILL, as when the power goes."""
        self.process.kill()
        self.process.wait()
        self.log.close()

    def stop(self) -> None:
        self.process.terminate()
        self.process.wait(timeout=20)
        self.log.close()


@pytest.fixture(scope="session")
def demo_program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Program]:
    """The demo as it is built at the first start."""
    program = Program(tmp_path_factory.mktemp("demo") / "data")
    yield program
    program.stop()


@pytest.fixture
def own_program(tmp_path: Path) -> Iterator[Program]:
    """An empty program of one's own."""
    program = Program(tmp_path / "data", "--no-demo")
    yield program
    program.stop()


@pytest.fixture
def quiet_page(page: Page) -> Iterator[Page]:
    """A page whose console must stay clean and that asks for nothing elsewhere."""
    faults: list[str] = []
    page.on("pageerror", lambda error: faults.append(str(error)))
    page.on("console", lambda message: faults.append(message.text) if message.type == "error" else None)
    ours = ("http://127.0.0.1", "blob:", "data:")
    page.on("request", lambda request: None if request.url.startswith(ours) else faults.append(request.url))
    yield page
    assert [fault for fault in faults if "409" not in fault and "422" not in fault] == []
