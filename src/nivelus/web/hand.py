"""The way from the stand-in to the page: MIDI bytes that come in are handed on to all pages that listen, at once.

It lives at the edge, where waiting costs no thread. Nothing is kept: who listens too slowly misses the oldest.
"""

from __future__ import annotations

import asyncio
import json
from collections.abc import Awaitable, Callable
from typing import Any

ADDRESS, SHOWN = "/api/hand", "/api/hand/shown"
MOST_BYTES = 4096
_SENSING_SECONDS = 5.0
_SENSING = b"\xfe"
"""Active sensing, of the MIDI 1.0 specification: that the way is still open."""
_MOST_WAITING = 512
_MOST_LISTENERS = 16

Receive = Callable[[], Awaitable[dict[str, Any]]]
Send = Callable[[dict[str, Any]], Awaitable[None]]
_HEADERS = [(b"cache-control", b"no-store"), (b"x-content-type-options", b"nosniff")]


class HandRelay:
    """Who listens, and what the page last showed of its hand."""

    def __init__(self) -> None:
        self._listeners: set[asyncio.Queue[bytes]] = set()
        self._shown: Any = None

    async def listen(self, receive: Receive, send: Send) -> None:
        """Hand on what comes in until the listener goes."""
        if len(self._listeners) >= _MOST_LISTENERS:
            await _json(send, {"detail": "More pages listen to the hand than can be served."}, 503)
            return
        queue: asyncio.Queue[bytes] = asyncio.Queue(_MOST_WAITING)
        self._listeners.add(queue)
        gone = asyncio.ensure_future(_until_gone(receive))
        try:
            headers = [(b"content-type", b"application/octet-stream"), *_HEADERS]
            await send({"type": "http.response.start", "status": 200, "headers": headers})
            data = _SENSING
            while not gone.done():
                await send({"type": "http.response.body", "body": data, "more_body": True})
                data = await _next(queue, gone)
        finally:
            self._listeners.discard(queue)
            gone.cancel()

    async def pass_on(self, data: bytes, send: Send) -> None:
        """Hand bytes on; answers with how many listen and what the page shows."""
        for queue in self._listeners if data else ():
            if queue.full():
                queue.get_nowait()
            queue.put_nowait(data)
        await _json(send, {"listeners": len(self._listeners), "shown": self._shown if self._listeners else None})

    async def show(self, data: bytes, send: Send) -> None:
        """Keep what the page shows of its hand, for the stand-in."""
        try:
            self._shown = json.loads(data)
        except (ValueError, RecursionError):
            self._shown = None
        await _json(send, {"listeners": len(self._listeners)})


async def _next(queue: asyncio.Queue[bytes], gone: asyncio.Future[None]) -> bytes:
    """What is waiting, all of it; a sign of life where nothing comes for a while."""
    wanted = asyncio.ensure_future(queue.get())
    either: set[asyncio.Future[Any]] = {wanted, gone}
    await asyncio.wait(either, timeout=_SENSING_SECONDS, return_when=asyncio.FIRST_COMPLETED)
    if not wanted.done():
        wanted.cancel()
        return _SENSING
    data = [wanted.result()]
    while not queue.empty():
        data.append(queue.get_nowait())
    return b"".join(data)


async def _until_gone(receive: Receive) -> None:
    while (await receive())["type"] != "http.disconnect":
        pass


async def _json(send: Send, value: Any, status: int = 200) -> None:
    body = json.dumps(value).encode()
    headers = [(b"content-type", b"application/json"), (b"content-length", str(len(body)).encode()), *_HEADERS]
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": body})
