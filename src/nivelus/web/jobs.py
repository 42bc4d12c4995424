"""Routes of long work: what is going on, stopping it, taking it off the list."""

from __future__ import annotations

from flask import Response
from pydantic import BaseModel

from nivelus.services.sessions import jobs
from nivelus.services.sessions.jobs import JobsView, JobView
from nivelus.web.answers import answer
from nivelus.web.context import bench
from nivelus.web.models import Id, SessionPath
from nivelus.web.routes import Routes

api = Routes("jobs", "jobs", "/api")


class JobPath(BaseModel):
    """A job in an address."""

    job_id: Id


@api.get("/sessions/<session_id>/jobs", responses={200: JobsView})
def list_jobs(path: SessionPath) -> Response:
    """The jobs of a session."""
    return answer(JobsView(items=jobs.list_jobs(bench(), path.session_id)))


@api.post("/jobs/<job_id>/cancel", responses={200: JobView})
def cancel_job(path: JobPath) -> Response:
    """Ask a job to stop."""
    return answer(jobs.cancel(bench(), path.job_id))


@api.delete("/jobs/<job_id>", responses={204: None})
def dismiss_job(path: JobPath) -> Response:
    """Take a finished job off the list."""
    jobs.dismiss(bench(), path.job_id)
    return Response(status=204)
