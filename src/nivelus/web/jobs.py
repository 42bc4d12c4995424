"""Routes of long work: what is going on, stopping it, taking it off the list."""

from __future__ import annotations

from typing import Annotated

from flask import Response
from pydantic import BaseModel, Field

from nivelus.services.sessions import jobs
from nivelus.services.sessions.jobs import JobsView, JobView
from nivelus.web.answers import answer
from nivelus.web.context import bench, queue
from nivelus.web.models import Id, Request, SessionPath
from nivelus.web.routes import Routes

api = Routes("jobs", "jobs", "/api")


class JobPath(BaseModel):
    """A job in an address."""

    job_id: Id


class ChoiceBody(Request):
    """The place of what was chosen among the options."""

    choice: Annotated[int, Field(ge=0, le=1000)]


@api.get("/sessions/<session_id>/jobs", responses={200: JobsView})
def list_jobs(path: SessionPath) -> Response:
    """The jobs of a session."""
    return answer(JobsView(items=jobs.list_jobs(bench(), path.session_id)))


@api.post("/jobs/<job_id>/cancel", responses={200: JobView})
def cancel_job(path: JobPath) -> Response:
    """Ask a job to stop."""
    return answer(jobs.cancel(bench(), path.job_id))


@api.post("/jobs/<job_id>/choice", responses={200: JobView})
def choose(path: JobPath, body: ChoiceBody) -> Response:
    """Answer what a job asks."""
    job = jobs.choose(bench(), path.job_id, body.choice)
    queue().put(job.id)
    return answer(job)


@api.delete("/jobs/<job_id>", responses={204: None})
def dismiss_job(path: JobPath) -> Response:
    """Take a finished job off the list."""
    jobs.dismiss(bench(), path.job_id)
    return Response(status=204)
