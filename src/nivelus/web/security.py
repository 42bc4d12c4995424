"""Who may talk to the program.

It holds private recordings and listens on this machine only. A page from elsewhere that is open in the same browser can
still send requests to it, so the Host must be ours (which also stops DNS rebinding), and a request that comes from
another origin is refused. Away from this machine every request needs the token.
"""

from __future__ import annotations

import hmac
import time
from collections import deque
from typing import Any
from urllib.parse import parse_qs, urlsplit

from flask import Flask, Response, redirect, request
from werkzeug.http import parse_cookie
from werkzeug.wrappers import Response as AnyResponse

from nivelus.logs import note
from nivelus.settings import Settings
from nivelus.web.errors import problem

COOKIE = "nivelus_token"
POLICY = "; ".join(
    (
        "default-src 'self'",
        "script-src 'self'",
        "worker-src 'self' blob:",
        "style-src 'self' 'unsafe-inline'",
        "img-src 'self' data: blob:",
        "font-src 'self' data:",
        "connect-src 'self'",
        "object-src 'none'",
        "base-uri 'none'",
        "form-action 'self'",
        "frame-ancestors 'none'",
    )
)
PERMISSIONS = ", ".join(
    ["midi=(self)", *(f"{name}=()" for name in ("camera", "display-capture", "geolocation", "microphone", "payment", "usb"))]
)
"""What a page of ours may use: controllers, and nothing else that a browser asks a person for."""
HEADERS = {
    "Content-Security-Policy": POLICY,
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Cross-Origin-Embedder-Policy": "require-corp",
    "Permissions-Policy": PERMISSIONS,
}
"""What every answer carries; the server itself adds them, so that none can be without (``edge.config_of``)."""
LOCAL_NAMES = {"localhost", "127.0.0.1", "::1"}


RECEIVED, CONTENT, REFUSED = "nivelus.received", "nivelus.content", "nivelus.refused"
"""Keys of the environment of a request: the file that an upload was received in and its content hash, and why a request is
refused without being read."""
MOST_JSON, MOST_CURVE = 2 << 20, 16 << 20
"""Bytes of a body: what the interface can send is far less, and a curve file."""

LEAST_TOKEN = 16
"""Characters of a token."""
_GUESSES, _MINUTE, _SLOWED = 5, 60.0, 2.0

Verdict = tuple[int, str, str]


def most_bytes(path: str) -> int:
    """How large a body may be that is sent to ``path``; uploads have a limit of their own."""
    return MOST_CURVE if path.endswith("/lanes/file") else MOST_JSON


def judge(settings: Settings, environ: dict[str, Any]) -> Verdict | None:
    """Why a request is refused, by its head alone: status, title, sentence; None if it is not."""
    host, origin = environ.get("HTTP_HOST", ""), environ.get("HTTP_ORIGIN")
    path = environ.get("PATH_INFO", "")
    try:
        name = urlsplit(f"//{host}").hostname
        theirs = None if origin is None else urlsplit(origin).netloc
    except ValueError:
        return 400, "BadRequest", "The request could not be read."
    if not path.startswith("/") or any(ord(c) < 32 or ord(c) == 127 for c in path):
        return 400, "BadRequest", "The request could not be read."
    if "@" in host or (settings.token is None and name not in LOCAL_NAMES):
        return 403, "Forbidden", "Nivelus does not answer at this address. Open it at the address printed when it started."
    is_read = environ.get("REQUEST_METHOD") in ("GET", "HEAD")
    # following a link to the program from elsewhere is fine
    is_page = is_read and not path.startswith("/api/")
    is_foreign = (
        theirs != host if origin is not None else environ.get("HTTP_SEC_FETCH_SITE", "none") not in ("same-origin", "none")
    )
    if is_foreign and (origin is not None or not is_page):
        return 403, "Forbidden", "Another page tried to use this program. That is not allowed."
    if settings.token is None or _same(_token_of(environ), settings.token):
        return None
    if is_read and _same(parse_qs(environ.get("QUERY_STRING", "")).get("token", [""])[0], settings.token):
        return None
    return 401, "Unauthorized", "Open the program with the address that holds its token."


def register_security(app: Flask, settings: Settings) -> None:
    """Check every request of ``app``, and have no answer of the interface kept unless it says so."""

    @app.before_request
    def check() -> AnyResponse | None:
        verdict = judge(settings, request.environ) or request.environ.get(REFUSED)
        if verdict is not None:
            return problem(*verdict)
        given = request.args.get("token")
        if settings.token is not None and given is not None and request.method == "GET" and _same(given, settings.token):
            # the token moves out of the address into a cookie that no script and no other site can use
            answer = redirect(request.path)
            answer.set_cookie(COOKIE, given, httponly=True, samesite="Strict")
            return answer
        if not request.path.endswith("/uploads"):
            request.max_content_length = most_bytes(request.path)
        return None

    @app.after_request
    def keep_nothing(response: Response) -> Response:
        if request.path.startswith("/api/") and "Cache-Control" not in response.headers:
            response.headers["Cache-Control"] = "no-store"
        return response


def _token_of(environ: dict[str, Any]) -> str:
    """The token that a request carries, in its cookie or its header."""
    cookie = parse_cookie(environ.get("HTTP_COOKIE")).get(COOKIE)
    return str(cookie or environ.get("HTTP_AUTHORIZATION", "").removeprefix("Bearer "))


def _same(given: str, token: str) -> bool:
    # a header holds bytes, each of them as one character
    ways = (given.encode(), given.encode("latin-1", "replace"))
    return any([hmac.compare_digest(way, token.encode()) for way in ways])


class Guesses:
    """Wrong tokens: from the fifth within a minute on, whoever gives them waits, and it is noted once a minute."""

    def __init__(self) -> None:
        self._seen: deque[float] = deque(maxlen=_GUESSES)
        self._noted = -_MINUTE

    def wait(self) -> float:
        """Seconds to wait with the answer to a wrong token that was given now."""
        moment = time.monotonic()
        self._seen.append(moment)
        if len(self._seen) < _GUESSES or moment - self._seen[0] > _MINUTE:
            return 0.0
        if moment - self._noted > _MINUTE:
            self._noted = moment
            note(f"{_GUESSES} wrong tokens or more were given within a minute.")
        return _SLOWED
