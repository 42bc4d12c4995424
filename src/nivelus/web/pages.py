"""The page itself: one document for every address of the interface, and the files that it loads."""

from __future__ import annotations

import re
from pathlib import Path
from urllib.parse import quote

from flask import Blueprint, Response, abort, redirect, request, send_from_directory
from werkzeug.wrappers import Response as AnyResponse

STATIC = Path(__file__).parent / "static"

_ID = re.compile(r"[A-Za-z0-9_-]{1,32}")
_SESSION = re.compile(r"s/([A-Za-z0-9_-]{1,32})(?:/[a-z]+)?$")

bp = Blueprint("pages", __name__)


@bp.get("/assets/<path:name>")
def assets(name: str) -> Response:
    """Scripts, styles and fonts; their names carry their content, so they may be kept for good."""
    response = send_from_directory(STATIC / "assets", name)
    response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
    return response


@bp.get("/icon.svg")
def icon() -> Response:
    """The vial."""
    return send_from_directory(STATIC, "icon.svg")


@bp.get("/hand")
def hand() -> Response:
    """The stand-in: a fader of its own, for another window or another device."""
    return _document("hand.html")


@bp.get("/s/<session_id>/deliver")
def former_address(session_id: str) -> AnyResponse:
    """The last stage under the name that it once had, as bookmarks still hold it."""
    query = request.query_string.decode("latin-1")
    return redirect(f"/s/{quote(session_id, safe='')}/signoff" + (f"?{query}" if query else ""), 308)


@bp.get("/", defaults={"address": ""})
@bp.get("/<path:address>")
def page(address: str) -> Response:
    """The page, whatever the address within the interface."""
    if address.startswith(("api/", "openapi")):
        abort(404)
    response = _document("index.html")
    session = _SESSION.match(address)
    if session:
        # its state is on its way while the script still loads
        track = request.args.get("track", "")
        first = track if _ID.fullmatch(track) else ""
        response.headers["Link"] = f"</api/sessions/{session[1]}?first={first}>; rel=preload; as=fetch; crossorigin"
    return response


def _document(name: str) -> Response:
    if not (STATIC / name).exists():
        abort(Response("The interface has not been built. Run “make demo” or “make serve”.", 503))
    response = send_from_directory(STATIC, name)
    response.headers["Cache-Control"] = "no-cache"
    return response
