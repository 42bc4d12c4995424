"""An application at an edge of its own, on a real socket."""

from __future__ import annotations

import http.client
import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

import uvicorn

from nivelus.services.track.workbench import Workbench
from nivelus.settings import Settings
from nivelus.web.edge import Edge, config_of

SLOW_PATH = "/api/tracks/abcdefghijkl/load"
"""An address whose answers may take long."""


def until_true(what: Callable[[], bool], seconds: float = 10.0) -> bool:
    end = time.monotonic() + seconds
    while not what() and time.monotonic() < end:
        time.sleep(0.01)
    return what()


class Served:
    """An application at an edge of its own."""

    def __init__(self, app: Any, bench: Workbench, settings: Settings) -> None:
        self.app, self.edge = app, Edge(app, settings, bench)
        self.socket = socket.create_server(("127.0.0.1", 0))
        self.port = self.socket.getsockname()[1]
        self.server = uvicorn.Server(config_of(self.edge))
        self.thread = threading.Thread(target=self.server.run, args=([self.socket],), daemon=True)
        self.thread.start()
        assert until_true(lambda: self.server.started)

    def begin(self, method: str = "GET", path: str = SLOW_PATH) -> socket.socket:
        """Ask for something and do not wait for it."""
        wire = socket.create_connection(("127.0.0.1", self.port))
        wire.sendall(f"{method} {path} HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 0\r\n\r\n".encode())
        return wire

    def say(self, data: bytes) -> bytes:
        """What is answered to some bytes, headers included, until the connection ends or nothing comes for a moment."""
        said = b""
        with socket.create_connection(("127.0.0.1", self.port), timeout=1.0) as wire:
            wire.sendall(data)
            with suppress(TimeoutError):
                while block := wire.recv(1 << 16):
                    said += block
        return said

    def ask(self, path: str) -> tuple[bytes, float]:
        """What is answered, and after how long."""
        began = time.monotonic()
        connection = http.client.HTTPConnection("127.0.0.1", self.port, timeout=20)
        connection.request("GET", path)
        said = connection.getresponse().read()
        connection.close()
        return said, time.monotonic() - began


@contextmanager
def at_its_edge(app: Any, bench: Workbench, settings: Settings) -> Iterator[Served]:
    own = Served(app, bench, settings)
    yield own
    own.edge.close()
    own.server.should_exit = own.server.force_exit = True
    own.thread.join(timeout=5)
