"""Handing on what comes to all who listen, at once. It lives at the edge, where waiting costs no thread.

Nothing is kept: who listens too slowly misses the oldest.
"""

from __future__ import annotations

import asyncio
import json
from collections.abc import Awaitable, Callable
from typing import Any

_MOST_WAITING = 512

Receive = Callable[[], Awaitable[dict[str, Any]]]
Send = Callable[[dict[str, Any]], Awaitable[None]]
_FRESH = (b"cache-control", b"no-store")


class Relay:
    """Who listens to one thing.

    ``kind`` is the media type of what is handed on, ``sign`` a sign of life that is sent after so many ``seconds`` without
    anything, and ``most`` how many may listen.
    """

    def __init__(self, kind: bytes, sign: bytes, seconds: float, most: int, too_many: str) -> None:
        self._kind, self._sign, self._seconds, self._most, self._too_many = kind, sign, seconds, most, too_many
        self._listeners: set[asyncio.Queue[bytes]] = set()
        self._end: asyncio.Event | None = None
        self._loop: asyncio.AbstractEventLoop | None = None

    async def listen(self, receive: Receive, send: Send, first: bytes = b"") -> None:
        """Hand on what comes in until the listener goes, or all are let go."""
        if len(self._listeners) >= self._most:
            await say(send, {"detail": self._too_many}, 503)
            return
        if self._end is None:
            self._end, self._loop = asyncio.Event(), asyncio.get_running_loop()
        queue: asyncio.Queue[bytes] = asyncio.Queue(_MOST_WAITING)
        self._listeners.add(queue)
        gone = asyncio.ensure_future(_first_of(_until_gone(receive), self._end.wait()))
        try:
            headers = [(b"content-type", self._kind), _FRESH]
            await send({"type": "http.response.start", "status": 200, "headers": headers})
            data = first or self._sign
            while not gone.done():
                await send({"type": "http.response.body", "body": data, "more_body": True})
                data = await self._next(queue, gone)
            await send({"type": "http.response.body", "body": b"", "more_body": False})
        finally:
            self._listeners.discard(queue)
            gone.cancel()

    def hand_on(self, data: bytes) -> None:
        """Give something to all who listen."""
        for queue in self._listeners:
            if queue.full():
                queue.get_nowait()
            queue.put_nowait(data)

    def let_go(self) -> None:
        """Let all who listen go. May be called by a signal, wherever it comes."""
        if self._loop is not None and self._end is not None and not self._loop.is_closed():
            self._loop.call_soon_threadsafe(self._end.set)

    async def _next(self, queue: asyncio.Queue[bytes], gone: asyncio.Future[None]) -> bytes:
        """What is waiting, all of it; a sign of life where nothing comes for a while."""
        wanted = asyncio.ensure_future(queue.get())
        either: set[asyncio.Future[Any]] = {wanted, gone}
        await asyncio.wait(either, timeout=self._seconds, return_when=asyncio.FIRST_COMPLETED)
        if not wanted.done():
            wanted.cancel()
            return self._sign
        data = [wanted.result()]
        while not queue.empty():
            data.append(queue.get_nowait())
        return b"".join(data)


async def say(send: Send, value: Any, status: int = 200) -> None:
    """Answer with a JSON value."""
    body = json.dumps(value).encode()
    headers = [(b"content-type", b"application/json"), (b"content-length", str(len(body)).encode()), _FRESH]
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": body})


async def _until_gone(receive: Receive) -> None:
    while (await receive())["type"] != "http.disconnect":
        pass


async def _first_of(*waiting: Any) -> None:
    tasks = [asyncio.ensure_future(one) for one in waiting]
    try:
        await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
    finally:
        for task in tasks:
            task.cancel()
