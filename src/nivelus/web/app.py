"""The application factory."""

from __future__ import annotations

from flask import request
from flask_openapi3 import Info, OpenAPI

from nivelus import __version__
from nivelus.jobs.queue import JobQueue
from nivelus.services.track.workbench import Workbench
from nivelus.settings import Settings
from nivelus.store import gestures
from nivelus.web import (
    balance,
    binary,
    details,
    formats,
    jobs,
    pages,
    passes,
    recordings,
    rides,
    rules,
    sessions,
    timeline,
    tracks,
)
from nivelus.web.context import KEY
from nivelus.web.errors import on_invalid, register_errors
from nivelus.web.models import Problem
from nivelus.web.security import register_security


def create_app(
    settings: Settings, bench: Workbench | None = None, queue: JobQueue | None = None, *, described: bool = False
) -> OpenAPI:
    """Build the application on the data folder of ``settings``; one that is ``described`` has an OpenAPI document."""
    app = OpenAPI(
        "nivelus",
        info=Info(title="Nivelus", version=__version__),
        security_schemes={},
        doc_ui=False,
        validation_error_model=Problem,
        validation_error_callback=on_invalid,
        static_folder=None,
    )
    app.json.sort_keys = False  # type: ignore[attr-defined]
    app.extensions[KEY] = {"bench": bench or Workbench(settings), "queue": queue or JobQueue(settings)}
    register_errors(app, settings.data)
    register_security(app, settings)
    # which gesture the page says that an edit is part of
    app.before_request(lambda: gestures.begin(request.headers.get("X-Gesture", "")))
    parts = (sessions, tracks, timeline, details, rides, passes, balance, jobs, recordings, rules, formats, binary)
    for part in parts:
        part.api.join(app, described)
    if described:
        from nivelus.web.described import EDGE

        app.paths.update(EDGE)
    app.register_blueprint(pages.bp)
    return app
