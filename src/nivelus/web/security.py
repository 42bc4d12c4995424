"""Who may talk to the program.

It holds private recordings and listens on this machine only. A page from elsewhere that is open in the same browser can
still send requests to it, so the Host must be ours (which also stops DNS rebinding), and a request that comes from
another origin is refused. Away from this machine every request needs the token.
"""

from __future__ import annotations

import hmac
from urllib.parse import urlsplit

from flask import Flask, Response, redirect, request
from werkzeug.wrappers import Response as AnyResponse

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
HEADERS = {
    "Content-Security-Policy": POLICY,
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Cross-Origin-Embedder-Policy": "require-corp",
}
LOCAL_NAMES = {"localhost", "127.0.0.1", "::1"}


def register_security(app: Flask, settings: Settings) -> None:
    """Check every request of ``app`` and add the headers to every answer."""

    @app.before_request
    def check() -> AnyResponse | None:
        host = urlsplit(f"//{request.host}")
        if settings.token is None and host.hostname not in LOCAL_NAMES:
            return problem(403, "Forbidden", "This address is not ours: open the program by its own address.")
        if _is_foreign():
            return problem(403, "Forbidden", "Another page tried to use this program. That is not allowed.")
        if settings.token is None:
            return None
        given = request.args.get("token")
        if given is not None and request.method == "GET" and _same(given, settings.token):
            # the token moves out of the address into a cookie that no script and no other site can use
            answer = redirect(request.path)
            answer.set_cookie(COOKIE, given, httponly=True, samesite="Strict")
            return answer
        carried = request.cookies.get(COOKIE) or request.headers.get("Authorization", "").removeprefix("Bearer ")
        if not _same(carried, settings.token):
            return problem(401, "Unauthorized", "Open the program with the address that holds its token.")
        return None

    @app.after_request
    def add_headers(response: Response) -> Response:
        for name, value in HEADERS.items():
            response.headers.setdefault(name, value)
        if request.path.startswith("/api/") and "Cache-Control" not in response.headers:
            response.headers["Cache-Control"] = "no-store"
        return response


def _is_foreign() -> bool:
    origin = request.headers.get("Origin")
    if origin is not None:
        return urlsplit(origin).netloc != request.host
    if request.method in ("GET", "HEAD") and not request.path.startswith("/api/"):
        # following a link to the program from elsewhere is fine
        return False
    return request.headers.get("Sec-Fetch-Site", "none") not in ("same-origin", "none")


def _same(given: str, token: str) -> bool:
    return hmac.compare_digest(given.encode(), token.encode())
