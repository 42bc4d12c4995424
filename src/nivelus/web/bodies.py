"""Requests and answers as ASGI and WSGI have them: heads, bodies in blocks, and what is answered, block by block."""

from __future__ import annotations

import asyncio
import contextlib
import io
import sys
from collections.abc import Awaitable, Callable, Iterable, Iterator
from typing import Any, BinaryIO
from urllib.parse import parse_qs

from nivelus.store.hashes import ContentHash

SILENT_SECONDS = 30.0
"""Time that a body may pause."""
_BLOCK = 1 << 20
_DRAINED_SECONDS = 5.0
Scope = dict[str, Any]
Receive = Callable[[], Awaitable[dict[str, Any]]]
Send = Callable[[dict[str, Any]], Awaitable[None]]
Wsgi = Callable[[dict[str, Any], Callable[..., Any]], Iterable[bytes]]


class Gone(Exception):  # noqa: N818
    """The other side has closed the connection, or has fallen silent."""


def take_block(handle: BinaryIO, content: ContentHash, block: bytes) -> None:
    handle.write(block)
    content.update(block)


class TooLarge(Exception):  # noqa: N818
    """A body is larger than ``most`` bytes."""

    def __init__(self, most: int) -> None:
        super().__init__(most)
        size = f"{most >> 20} MB" if most >> 20 else f"{most >> 10} kB"
        self.verdict = (413, "TooLarge", f"That is too large: at most {size} are taken here.")


class Answer:
    """What the application answers: status, headers, the first block, and those that follow."""

    def __init__(self, app: Wsgi, environ: dict[str, Any]) -> None:
        self.status = 500
        self.headers: list[tuple[str, str]] = []
        self._result = app(environ, self._start)
        self._blocks: Iterator[bytes] = iter(self._result)
        self.first = self.next() or b""
        self.is_whole = isinstance(self._result, list | tuple) and len(self._result) <= 1
        if not self.is_whole and (second := self.next()) is None:
            self.is_whole = True
        elif not self.is_whole:
            self._blocks = _chain(second or b"", self._blocks)

    def _start(self, status: str, headers: list[tuple[str, str]], _: object = None) -> Callable[[bytes], None]:
        self.status, self.headers = int(status.split(" ", 1)[0]), headers
        return lambda _: None

    def next(self) -> bytes | None:
        return next(self._blocks, None)

    def close(self) -> None:
        close = getattr(self._result, "close", None)
        if close is not None:
            close()


class _FileBlocks:
    """A file as an application hands it over, in large blocks."""

    def __init__(self, file: BinaryIO, _: int = 0) -> None:
        self._file = file

    def __iter__(self) -> Iterator[bytes]:
        while block := self._file.read(_BLOCK):
            yield block

    def close(self) -> None:
        self._file.close()


def _chain(first: bytes, rest: Iterator[bytes]) -> Iterator[bytes]:
    yield first
    yield from rest


def environ_of(scope: Scope) -> dict[str, Any]:
    """The WSGI environment of a request without its body (PEP 3333)."""
    server, client = scope.get("server") or ("", 0), scope.get("client") or ("", 0)
    environ: dict[str, Any] = {
        "REQUEST_METHOD": scope["method"],
        "SCRIPT_NAME": "",
        "PATH_INFO": scope["path"].encode("utf-8", "surrogateescape").decode("latin-1"),
        "QUERY_STRING": scope["query_string"].decode("latin-1"),
        "SERVER_NAME": str(server[0]),
        "SERVER_PORT": str(server[1]),
        "SERVER_PROTOCOL": f"HTTP/{scope['http_version']}",
        "REMOTE_ADDR": str(client[0]),
        "wsgi.version": (1, 0),
        "wsgi.url_scheme": scope.get("scheme", "http"),
        "wsgi.input": io.BytesIO(),
        "wsgi.input_terminated": True,
        "wsgi.errors": sys.stderr,
        "wsgi.multithread": True,
        "wsgi.multiprocess": False,
        "wsgi.run_once": False,
        "wsgi.file_wrapper": _FileBlocks,
    }
    for raw, value in scope["headers"]:
        name = raw.decode("latin-1").upper().replace("-", "_")
        key = name if name in ("CONTENT_TYPE", "CONTENT_LENGTH") else f"HTTP_{name}"
        text = value.decode("latin-1")
        environ[key] = f"{environ[key]},{text}" if key in environ and key != "CONTENT_LENGTH" else text
    return environ


def has_body(environ: dict[str, Any]) -> bool:
    return environ.get("CONTENT_LENGTH", "0") != "0" or "HTTP_TRANSFER_ENCODING" in environ


def length_of(environ: dict[str, Any]) -> int | None:
    said = environ.get("CONTENT_LENGTH", "")
    return int(said) if said.isdigit() else None


def argument_of(environ: dict[str, Any], name: str) -> str:
    return str(parse_qs(environ["QUERY_STRING"]).get(name, [""])[0])


async def _parts(receive: Receive) -> Any:
    """The parts of a body as they arrive. Raises Gone."""
    while True:
        try:
            message = await asyncio.wait_for(receive(), SILENT_SECONDS)
        except TimeoutError:
            raise Gone from None
        if message["type"] == "http.disconnect":
            raise Gone
        yield message["body"]
        if not message.get("more_body"):
            return


async def blocks(receive: Receive) -> Any:
    """A body in blocks of about a MiB."""
    block = bytearray()
    async for part in _parts(receive):
        block += part
        if len(block) >= _BLOCK:
            yield bytes(block)
            block = bytearray()
    if block:
        yield bytes(block)


async def small_body(receive: Receive, most: int, seconds: float) -> bytes:
    """A body of at most so many bytes that is here within some seconds. Raises TooLarge, Gone."""
    body = bytearray()
    try:
        async with asyncio.timeout(seconds):
            async for part in _parts(receive):
                body += part
                if len(body) > most:
                    raise TooLarge(most)
    except TimeoutError:
        raise Gone from None
    return bytes(body)


async def drain(receive: Receive) -> None:
    async def take() -> None:
        async for _ in _parts(receive):
            pass

    with contextlib.suppress(TimeoutError, Gone):
        await asyncio.wait_for(take(), _DRAINED_SECONDS)
