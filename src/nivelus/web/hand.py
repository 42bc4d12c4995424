"""The way from the stand-in to the page: MIDI bytes that come in are handed on to all pages that listen, at once."""

from __future__ import annotations

import json
from typing import Any

from nivelus.web.relay import Relay, Send, say

ADDRESS, SHOWN = "/api/hand", "/api/hand/shown"
MOST_BYTES = 4096
_SENSING_SECONDS = 5.0
_SENSING = b"\xfe"
"""Active sensing, of the MIDI 1.0 specification: that the way is still open."""
_MOST_LISTENERS = 16


class HandRelay(Relay):
    """Who listens, and what the page last showed of its hand."""

    def __init__(self) -> None:
        too_many = "More pages listen to the hand than can be served."
        super().__init__(b"application/octet-stream", _SENSING, _SENSING_SECONDS, _MOST_LISTENERS, too_many)
        self._shown: Any = None

    async def pass_on(self, data: bytes, send: Send) -> None:
        """Hand bytes on; answers with how many listen and what the page shows."""
        if data:
            self.hand_on(data)
        await say(send, {"listeners": len(self._listeners), "shown": self._shown if self._listeners else None})

    async def show(self, data: bytes, send: Send) -> None:
        """Keep what the page shows of its hand, for the stand-in."""
        try:
            self._shown = json.loads(data)
        except (ValueError, RecursionError):
            self._shown = None
        await say(send, {"listeners": len(self._listeners)})
