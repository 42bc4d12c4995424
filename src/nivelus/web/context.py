"""What every route works with: the workbench and the queue of the running application."""

from __future__ import annotations

from http import HTTPStatus
from typing import Any, cast

from flask import current_app
from pydantic import BaseModel

from nivelus.jobs.queue import JobQueue
from nivelus.services.track.workbench import Workbench
from nivelus.web.models import Problem

KEY = "nivelus"
PROBLEMS: dict[str | int | HTTPStatus, type[BaseModel] | dict[Any, Any] | None] = {
    status: Problem for status in (403, 404, 409, 422)
}


def bench() -> Workbench:
    """The workbench of this application."""
    return cast(Workbench, current_app.extensions[KEY]["bench"])


def queue() -> JobQueue:
    """The queue of this application."""
    return cast(JobQueue, current_app.extensions[KEY]["queue"])
