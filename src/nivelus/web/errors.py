"""Errors as problem details (RFC 9457), made in this one place: a sentence for the person, fields for the program."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

from flask import Flask, Response, jsonify, request
from pydantic import ValidationError
from werkzeug.exceptions import HTTPException

from nivelus.core.errors import (
    Broken,
    Busy,
    Cancelled,
    CurveFileError,
    DiskFull,
    FileError,
    NivelusError,
    NotFound,
    Refused,
    RuleError,
    SoundError,
    Stale,
)
from nivelus.core.files import disk_full, is_full
from nivelus.logs import write_down
from nivelus.store.backups import NAME

STATUSES: tuple[tuple[type[NivelusError], int], ...] = (
    (SoundError, 422),
    (FileError, 422),
    (CurveFileError, 422),
    (RuleError, 422),
    (Refused, 422),
    (Broken, 422),
    (NotFound, 404),
    (Stale, 409),
    (DiskFull, 507),
    (Busy, 503),
    (Cancelled, 503),
)
"""What each kind of error means in HTTP (RFC 9110); whatever is none of these is a bad request."""
SENTENCES = {
    400: "The request could not be read.",
    404: "There is nothing at this address.",
    405: "That cannot be done at this address.",
    413: "That is too large.",
}


def status_of(error: NivelusError) -> int:
    """The HTTP status of an error."""
    return next((status for kind, status in STATUSES if isinstance(error, kind)), 400)


def problem(status: int, title: str, detail: str, **fields: Any) -> Response:
    """A problem body; ``title`` names the kind of error."""
    response = jsonify({"type": "about:blank", "title": title, "status": status, "detail": detail, **fields})
    response.status_code = status
    response.mimetype = "application/problem+json"
    return response


def unexpected(id: str, data: Path) -> dict[str, Any]:
    """The body of an answer to what nobody foresaw; ``id`` is where the log has it."""
    what = "Something unexpected went wrong. Nothing was changed; try it again."
    if not (data / NAME).exists():
        what = f"The data folder {data} no longer exists. Stop Nivelus, put the folder back, and start it again."
    detail = f"{what} The log has it as {id}."
    return {"type": "about:blank", "title": "Unexpected", "status": 500, "detail": detail, "id": id}


def on_invalid(error: ValidationError) -> Response:
    """A request that does not fit its model."""
    faults = [
        {"where": ".".join(str(part) for part in fault["loc"]), "what": fault["msg"]}
        for fault in error.errors(include_url=False, include_context=False, include_input=False)
    ]
    first = faults[0] if faults else {"where": "", "what": "it is not understood"}
    return problem(422, "Invalid", f"{first['where'] or 'The request'}: {first['what']}.", faults=faults)


def register_errors(app: Flask, data: Path) -> None:
    """Turn every error of ``app``, whose files lie in ``data``, into a problem body."""

    @app.errorhandler(NivelusError)
    def on_ours(error: NivelusError) -> Response:
        return problem(status_of(error), type(error).__name__, error.sentence, **error.fields)

    @app.errorhandler(HTTPException)
    def on_http(error: HTTPException) -> Response:
        code = error.code or 500
        response = problem(code, error.name, SENTENCES.get(code, error.name + "."))
        if code == 405:
            response.headers["Allow"] = ", ".join(sorted(getattr(error, "valid_methods", None) or []))
        return response

    @app.errorhandler(RecursionError)
    def on_depth(error: RecursionError) -> Response:
        # a body that is nested deeper than anything that could be meant
        return problem(400, "BadRequest", SENTENCES[400])

    @app.errorhandler(Exception)
    def on_anything(error: Exception) -> Response:
        if isinstance(error, OSError) and is_full(error):
            full = disk_full(data)
            return problem(status_of(full), type(full).__name__, full.sentence)
        id = write_down(error, f"{request.method} {request.path}")
        print(f"Something unexpected went wrong; the log has it as {id}.", file=sys.stderr)
        body = unexpected(id, data)
        return problem(body.pop("status"), body.pop("title"), body.pop("detail"), id=id)
