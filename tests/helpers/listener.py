"""A page that listens to what is handed on, for as long as it is asked to."""

from __future__ import annotations

import http.client

from tests.helpers.program import Program


class Listener:
    """A connection to an address whose answer goes on until it is closed."""

    ADDRESS: str

    def __init__(self, program: Program, headers: dict[str, str] | None = None) -> None:
        self.connection = http.client.HTTPConnection("127.0.0.1", program.port, timeout=20)
        self.connection.request("GET", self.ADDRESS, headers=headers or {})
        self.answer = self.connection.getresponse()

    def close(self) -> None:
        self.connection.close()
        self.answer.close()
