"""Routes of recordings that belong to no session: seeing them, bringing them back, deleting them."""

from __future__ import annotations

from typing import Annotated

from flask import Response
from pydantic import Field

from nivelus.services.files import imports
from nivelus.services.sessions import recordings as keeping
from nivelus.services.sessions.jobs import JobsView
from nivelus.services.sessions.recordings import LooseViews
from nivelus.web.answers import answer
from nivelus.web.context import bench, queue
from nivelus.web.models import Request
from nivelus.web.routes import Routes

api = Routes("recordings", "recordings", "/api/loose")


class Hashes(Request):
    """Recordings by their content."""

    hashes: Annotated[list[Annotated[str, Field(min_length=1, max_length=128)]], Field(min_length=1, max_length=10_000)]


@api.get("", responses={200: LooseViews})
def list_loose() -> Response:
    """The recordings that belong to no session."""
    return answer(keeping.loose(bench()))


@api.post("/bring-back", responses={202: JobsView})
def bring_back(body: Hashes) -> Response:
    """Make a session of each."""
    jobs = imports.bring_back(bench(), body.hashes)
    for job in jobs:
        queue().put(job.id)
    return answer(JobsView(items=jobs), 202)


@api.post("/delete", responses={200: LooseViews})
def delete_loose(body: Hashes) -> Response:
    """Delete them for good."""
    return answer(keeping.delete_loose(bench(), body.hashes))
