"""The edge of the server: connections and bodies are waited for without a thread; the application gets requests that are whole.

A thread of the application is taken only when all of a request is here, so idle, half-open and slow connections cost nothing
but their socket. Before a byte of a body is read, Host, Origin and token are checked, and what it may be: an upload goes
straight to the disk of the vault, in blocks; every other body is small and stays in memory. An answer goes out block by block,
however slowly it is taken.
"""

from __future__ import annotations

import asyncio
import io
import json
import re
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any, TypeVar

import h11
import uvicorn
from uvicorn.protocols.http.h11_impl import H11Protocol

from nivelus.core.errors import Cancelled, NivelusError
from nivelus.logs import write_down
from nivelus.services.files import imports
from nivelus.services.track.workbench import Workbench
from nivelus.settings import Settings
from nivelus.store.hashes import ContentHash
from nivelus.web import news
from nivelus.web.bodies import (
    SILENT_SECONDS,
    Answer,
    Gone,
    Receive,
    Scope,
    Send,
    TooLarge,
    Wsgi,
    argument_of,
    blocks,
    drain,
    environ_of,
    has_body,
    length_of,
    small_body,
    take_block,
)
from nivelus.web.errors import status_of, unexpected
from nivelus.web.hand import ADDRESS, MOST_BYTES, SHOWN, HandRelay
from nivelus.web.pools import Pools, Request
from nivelus.web.security import CONTENT, HEADERS, RECEIVED, REFUSED, Guesses, judge, most_bytes

HEAD_SECONDS = 10.0
"""Time that a connection has for a complete request head."""
DISK_THREADS = 2
_UPLOAD = re.compile(r"/api/sessions/([^/]+)/uploads")

Value = TypeVar("Value")


class Protocol(H11Protocol):
    """HTTP/1.1 where a connection that does not say what it wants is closed."""

    _deadline: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self._expect_head()

    def data_received(self, data: bytes) -> None:
        super().data_received(data)
        if self.cycle is None or self.cycle.response_complete:
            self._expect_head()
        else:
            self._stop_waiting()

    def connection_lost(self, exc: Exception | None) -> None:
        self._stop_waiting()
        super().connection_lost(exc)

    def send_400_response(self, msg: str) -> None:
        """What is no request is answered before there is an application; it has the headers of every other answer."""
        headers = [("content-type", "text/plain; charset=utf-8"), ("connection", "close"), *HEADERS.items()]
        for event in (h11.Response(status_code=400, headers=headers), h11.Data(msg.encode("ascii")), h11.EndOfMessage()):
            self.transport.write(self.conn.send(event))
        self.transport.close()

    def _expect_head(self) -> None:
        if self._deadline is None:
            self._deadline = self.loop.call_later(HEAD_SECONDS, self._too_late)

    def _stop_waiting(self) -> None:
        if self._deadline is not None:
            self._deadline.cancel()
            self._deadline = None

    def _too_late(self) -> None:
        self._deadline = None
        if not self.transport.is_closing():
            self.transport.close()


def config_of(edge: Edge) -> uvicorn.Config:
    """How an edge is served."""
    return uvicorn.Config(
        edge,
        http=Protocol,
        ws="none",
        lifespan="off",
        log_config=None,
        access_log=False,
        server_header=False,
        headers=list(HEADERS.items()),
        timeout_keep_alive=30,
        timeout_graceful_shutdown=1,
        h11_max_incomplete_event_size=32 << 10,
    )


class Edge:
    """An ASGI application around ours, which is WSGI."""

    def __init__(self, app: Wsgi, settings: Settings, bench: Workbench) -> None:
        self._app, self._settings, self._bench = app, settings, bench
        self._pools = Pools()
        self._disk = ThreadPoolExecutor(DISK_THREADS, "receive")
        self._hand = HandRelay()
        self._news = news.News(bench.database, self._disk)
        self._is_ending = False
        self._guesses = Guesses()

    async def __call__(self, scope: Scope, receive: Receive, plain_send: Send) -> None:
        """Answer one request."""
        if scope["type"] != "http":
            return
        environ = environ_of(scope)
        asked = Request(environ["REQUEST_METHOD"], environ["PATH_INFO"])
        received: Path | None = None
        answered = False

        async def send(message: dict[str, Any]) -> None:
            nonlocal answered
            answered = True
            await plain_send(message)

        try:
            early = False
            if environ["PATH_INFO"] in (ADDRESS, SHOWN, news.ADDRESS) and judge(self._settings, environ) is None:
                await self._relay(environ, receive, send)
                return
            if has_body(environ):
                early, received = await self._take_body(environ, receive, asked)
            asked.is_here()
            await self._answer(asked, environ, send, receive, early)
        except Gone:
            # who has gone does not hear it; who has only fallen silent does
            status = 503 if self._is_ending else 408
            await send({"type": "http.response.start", "status": status, "headers": [(b"connection", b"close")]})
            await send({"type": "http.response.body", "body": b""})
        except Exception as error:
            id = write_down(error, f"{environ['REQUEST_METHOD']} {environ['PATH_INFO']}")
            if answered:
                raise Gone from None
            body = json.dumps(unexpected(id, self._settings.data)).encode()
            headers = [(b"content-type", b"application/problem+json"), (b"connection", b"close")]
            await send({"type": "http.response.start", "status": 500, "headers": headers})
            await send({"type": "http.response.body", "body": body})
        finally:
            if received is not None:
                received.unlink(missing_ok=True)

    def let_go(self) -> None:
        """Let all work go at its next step; take no more requests. May be called by a signal, wherever it comes."""
        self._is_ending = True
        for relay in (self._hand, self._news):
            relay.let_go()
        self._pools.let_go()

    def close(self, seconds: float = 1.0) -> bool:
        """Let the threads go; whether all of them have gone within some seconds."""
        self.let_go()
        self._pools.end()
        self._disk.shutdown(wait=False, cancel_futures=True)
        return self._pools.is_idle(seconds)

    async def _relay(self, environ: dict[str, Any], receive: Receive, send: Send) -> None:
        """What comes from the stand-in and goes to the page, and the other way; and what is new of sessions."""
        if environ["PATH_INFO"] == news.ADDRESS:
            await self._news.tell(receive, send)
            return
        if environ["REQUEST_METHOD"] != "POST":
            await self._hand.listen(receive, send)
            return
        try:
            data = await small_body(receive, MOST_BYTES, SILENT_SECONDS) if has_body(environ) else b""
        except TooLarge as error:
            environ[REFUSED] = error.verdict
            await self._answer(Request("POST", ADDRESS), environ, send, receive, True)
            return
        await (self._hand.show if environ["PATH_INFO"] == SHOWN else self._hand.pass_on)(data, send)

    async def _take_body(self, environ: dict[str, Any], receive: Receive, asked: Request) -> tuple[bool, Path | None]:
        """Read the body of a request; whether it is answered without all of it, and the file that it lies in, if any."""
        if judge(self._settings, environ) is not None:
            # the application says why
            return True, None
        length = length_of(environ)
        upload = _UPLOAD.fullmatch(environ["PATH_INFO"])
        try:
            if upload and environ["REQUEST_METHOD"] == "POST" and (name := argument_of(environ, "name")):
                return False, await self._take_upload(environ, receive, asked, upload[1], name, length)
            most = most_bytes(environ["PATH_INFO"])
            if length is not None and length > most:
                raise TooLarge(most)
            body = await small_body(receive, most, 2 * SILENT_SECONDS)
            environ["wsgi.input"], environ["CONTENT_LENGTH"] = io.BytesIO(body), str(len(body))
            return False, None
        except TooLarge as error:
            environ[REFUSED] = error.verdict
        except NivelusError as error:
            environ[REFUSED] = (status_of(error), type(error).__name__, error.sentence)
        return True, None

    async def _take_upload(
        self, environ: dict[str, Any], receive: Receive, asked: Request, session: str, name: str, length: int | None
    ) -> Path:
        """Write an upload where it belongs; the application makes its job."""
        loop = asyncio.get_running_loop()
        path = await self._run(asked, imports.expect_upload, self._bench, session, name, length)
        with imports.whole_or_gone(path):
            handle = path.open("wb")
            try:
                size, content = 0, ContentHash()
                async for block in blocks(receive):
                    size += len(block)
                    if size > self._settings.max_upload_mb << 20:
                        raise TooLarge(self._settings.max_upload_mb << 20)
                    await loop.run_in_executor(self._disk, take_block, handle, content, block)
            finally:
                await loop.run_in_executor(self._disk, handle.close)
        environ[RECEIVED], environ[CONTENT], environ["CONTENT_LENGTH"] = path, content.name(), str(size)
        return path

    async def _answer(self, asked: Request, environ: dict[str, Any], send: Send, receive: Receive, has_unread: bool) -> None:
        """Run the application and send what it says; with an unread body the connection is closed after it."""
        watch = None if has_unread else asyncio.ensure_future(_let_go_when_gone(receive, asked))
        try:
            answer = await self._run(asked, Answer, self._app, environ)
        finally:
            if watch is not None:
                watch.cancel()
        if answer.status == 401:
            await asyncio.sleep(self._guesses.wait())
        try:
            # the date is the server's to say
            told = [(name.lower(), value) for name, value in answer.headers if name.lower() != "date"]
            headers = [(name.encode("latin-1"), value.encode("latin-1")) for name, value in told]
            if has_unread:
                headers.append((b"connection", b"close"))
            await send({"type": "http.response.start", "status": answer.status, "headers": headers})
            block: bytes | None = answer.first
            while block is not None:
                await send({"type": "http.response.body", "body": block, "more_body": True})
                block = None if answer.is_whole else await self._run(asked, answer.next)
            if has_unread:
                # who is still sending would not see the answer if the connection were closed under it
                await drain(receive)
            await send({"type": "http.response.body", "body": b"", "more_body": False})
        finally:
            if answer.is_whole or self._is_ending:
                answer.close()
            else:
                await asyncio.get_running_loop().run_in_executor(self._disk, answer.close)

    async def _run(self, asked: Request, work: Callable[..., Value], *given: Any) -> Value:
        """Run work of a request in a thread. Raises Gone where nobody waits for it any more."""
        try:
            return await asyncio.wrap_future(self._pools.submit(asked, work, *given))
        except (Cancelled, RuntimeError) as error:
            if isinstance(error, RuntimeError) and not self._is_ending:
                raise
            raise Gone from None


async def _let_go_when_gone(receive: Receive, asked: Request) -> None:
    """Note when the other side closes the connection."""
    while (await receive())["type"] != "http.disconnect":
        pass
    asked.let_go()
