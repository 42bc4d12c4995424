"""The program as a person starts it: server, worker and database, in processes of their own."""

from __future__ import annotations

import json
import os
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any
from urllib.parse import quote


class Program:
    """The program as a person starts it."""

    ready: Callable[[], None] = staticmethod(lambda: None)
    """What is waited for before the program is asked anything: a browser may have more to tell it."""

    def __init__(
        self,
        data: Path,
        *options: str,
        before: Callable[[], None] | None = None,
        waits: bool = True,
        python: Path = Path(sys.executable),
    ) -> None:
        """``before`` is run in the process just before the program, to take something away from it.

        One that ``waits`` is up when this returns; any other is once ``wait`` has returned. ``python`` is that of the
        environment which it is installed in.
        """
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        self.data, self.options, self.before, self.python = data, options, before, python
        self.address = f"http://127.0.0.1:{self.port}"
        self.launch()
        if waits:
            self.wait()

    def start(self) -> None:
        self.launch()
        self.wait()

    def launch(self) -> None:
        command = [str(self.python), "-m", "nivelus.cli", "serve", "--port", str(self.port), "--data", str(self.data)]
        self.log = (self.data.parent / f"{self.data.name}.log").open("ab")
        environment = {**os.environ, "PYTHONUNBUFFERED": "1"}
        self.process = subprocess.Popen(
            [*command, *self.options], stdout=self.log, stderr=self.log, env=environment, preexec_fn=self.before
        )

    def wait(self) -> None:
        """Until it answers."""
        for _ in range(3000):
            try:
                self.get("/api/sessions")
                return
            except OSError:
                assert self.process.poll() is None, Path(self.log.name).read_text()
                time.sleep(0.1)
        raise AssertionError("the program did not start: " + Path(self.log.name).read_text())

    def get(self, path: str) -> Any:
        self.ready()
        with urllib.request.urlopen(self.address + path, timeout=60) as answer:
            return json.loads(answer.read())

    def get_bytes(self, path: str) -> bytes:
        self.ready()
        with urllib.request.urlopen(self.address + path, timeout=60) as answer:
            return answer.read()

    def patch(self, path: str, body: Any) -> Any:
        return self.post(path, body, "PATCH")

    def post(self, path: str, body: Any, method: str = "POST") -> Any:
        self.ready()
        data = body if isinstance(body, bytes) else json.dumps(body).encode()
        request = urllib.request.Request(self.address + path, data, {"Content-Type": "application/json"}, method=method)
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

    def is_emptied(self) -> bool:
        """Delete all that is in it; whether it is as it was at its first start."""
        for card in self.get("/api/sessions")["items"]:
            self.delete(f"/api/sessions/{card['id']}")
        for rule in self.get("/api/rules")["items"]:
            if not rule["shipped"]:
                self.delete(f"/api/rules/{rule['id']}")
        for folder in self.data.glob("vault/*"):
            with suppress(OSError):
                folder.rmdir()
        left = [path for name in ("vault", "incoming", "renders") for path in self.data.glob(f"{name}/*")]
        return not left and not self.get("/api/sessions")["items"]

    def said(self) -> str:
        """All that it has printed."""
        return Path(self.log.name).read_text()

    def begin_import(self, path: Path, name: str = "Own") -> str:
        """Upload a file into a session of its own; the id of that."""
        session: str = self.post("/api/sessions", {"name": name})["id"]
        self.post(f"/api/sessions/{session}/uploads?name={quote(path.name)}", path.read_bytes())
        return session

    def finished(self, session: str, job: str) -> dict[str, Any]:
        """A job of a session once it is over."""
        for _ in range(2400):
            now: dict[str, Any] = next(one for one in self.get(f"/api/sessions/{session}/jobs")["items"] if one["id"] == job)
            if now["state"] not in ("waiting", "running"):
                return now
            time.sleep(0.05)
        raise AssertionError(now)

    def all_brought_in(self, paths: list[Path], name: str) -> dict[str, Any]:
        """A session with a track for each of some files, in their order; its state."""
        session: str = self.post("/api/sessions", {"name": name})["id"]
        for path in paths:
            job = self.post(f"/api/sessions/{session}/uploads?name={quote(path.name)}", path.read_bytes())
            assert self.finished(session, job["id"])["state"] == "done"
        return self.get(f"/api/sessions/{session}")

    def brought_in(self, path: Path, name: str = "Own") -> dict[str, Any]:
        """A session with this file in it; its state."""
        session = self.begin_import(path, name)
        for _ in range(2400):
            state: dict[str, Any] = self.get(f"/api/sessions/{session}")
            if state["tracks"]:
                return state
            time.sleep(0.05)
        raise AssertionError(self.get(f"/api/sessions/{session}/jobs"))
