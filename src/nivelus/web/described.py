"""What the edge answers by itself, as the OpenAPI document tells it: there it is no route of the application."""

from __future__ import annotations

from typing import Any

from flask_openapi3.models.path_item import PathItem

from nivelus.web import news
from nivelus.web.hand import ADDRESS, MOST_BYTES, SHOWN


def _count(*also: str) -> dict[str, Any]:
    """An answer that says how many listen."""
    values = {"listeners": {"type": "integer", "minimum": 0}} | {name: {} for name in also}
    return {"200": _content("application/json", {"type": "object", "properties": values, "required": list(values)})}


def _content(kind: str, schema: dict[str, Any], said: str = "OK") -> dict[str, Any]:
    return {"description": said, "content": {kind: {"schema": schema}}}


_BYTES = {"type": "string", "format": "binary", "maxLength": MOST_BYTES}
_ANSWERS: dict[str, Any] = {
    status: _content("application/problem+json", {"$ref": "#/components/schemas/Problem"}, said)
    for status, said in (("403", "Forbidden"), ("413", "Too large"))
}
_TOO_MANY = {"503": _content("application/json", {"type": "object"}, "More listen than can be served")}
_HEARD = {"200": _content("application/octet-stream", {"type": "string", "format": "binary"})}
_NEWS = {"200": _content("text/event-stream", {"type": "string"})}

EDGE: dict[str, PathItem] = {
    address: PathItem.model_validate(methods)
    for address, methods in {
        ADDRESS: {
            "get": {
                "tags": ["hand"],
                "summary": "MIDI bytes as they come from the stand-in, until one of both ends goes.",
                "responses": _HEARD | _TOO_MANY | _ANSWERS,
            },
            "post": {
                "tags": ["hand"],
                "summary": "Hand MIDI bytes on to all pages that listen; answers with how many do, and what the page shows.",
                "requestBody": {"content": {"application/octet-stream": {"schema": _BYTES}}},
                "responses": _count("shown") | _ANSWERS,
            },
        },
        SHOWN: {
            "post": {
                "tags": ["hand"],
                "summary": "Keep what the page shows of its hand, for the stand-in; what is no JSON is nothing.",
                "requestBody": {"content": {"application/json": {"schema": {}}}},
                "responses": _count() | _ANSWERS,
            }
        },
        news.ADDRESS: {
            "get": {
                "tags": ["news"],
                "summary": "Which sessions get which revisions, as server-sent events, until one of both ends goes.",
                "responses": _NEWS | _TOO_MANY | _ANSWERS,
            }
        },
    }.items()
}
"""The addresses that the edge answers, by what they are."""
