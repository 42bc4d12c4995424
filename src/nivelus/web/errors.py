"""Errors as problem details (RFC 9457), made in this one place: a sentence for the person, fields for the program."""

from __future__ import annotations

from typing import Any

import structlog
from flask import Flask, Response, jsonify
from pydantic import ValidationError
from werkzeug.exceptions import HTTPException

from nivelus.core.errors import NivelusError

log = structlog.get_logger()

SENTENCES = {
    400: "The request could not be read.",
    404: "There is nothing at this address.",
    405: "That cannot be done at this address.",
    413: "That is too large.",
}


def problem(status: int, title: str, detail: str, **fields: Any) -> Response:
    """A problem body; ``title`` names the kind of error."""
    response = jsonify({"type": "about:blank", "title": title, "status": status, "detail": detail, **fields})
    response.status_code = status
    response.mimetype = "application/problem+json"
    return response


def on_invalid(error: ValidationError) -> Response:
    """A request that does not fit its model."""
    faults = [
        {"where": ".".join(str(part) for part in fault["loc"]), "what": fault["msg"]}
        for fault in error.errors(include_url=False, include_context=False, include_input=False)
    ]
    first = faults[0] if faults else {"where": "", "what": "it is not understood"}
    return problem(422, "Invalid", f"{first['where'] or 'The request'}: {first['what']}.", faults=faults)


def register_errors(app: Flask) -> None:
    """Turn every error of ``app`` into a problem body."""

    @app.errorhandler(NivelusError)
    def on_ours(error: NivelusError) -> Response:
        return problem(error.status, type(error).__name__, error.sentence, **error.fields)

    @app.errorhandler(HTTPException)
    def on_http(error: HTTPException) -> Response:
        code = error.code or 500
        response = problem(code, error.name, SENTENCES.get(code, error.name + "."))
        if code == 405:
            response.headers["Allow"] = ", ".join(sorted(getattr(error, "valid_methods", None) or []))
        return response

    @app.errorhandler(Exception)
    def on_anything(error: Exception) -> Response:
        log.exception("unexpected error")
        return problem(500, "Unexpected", "Something unexpected went wrong. Nothing was changed; try it again.")
