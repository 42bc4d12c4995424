"""Long work: its row in the database, its progress, and stopping it.

A job's row outlives the program: what was waiting or running when it was killed is taken up again at the next start.
Every job is written so that running it twice does no harm.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from sqlalchemy import select, update
from sqlmodel import col

from nivelus.core.errors import Cancelled, NivelusError, Refused
from nivelus.services.views import JobView
from nivelus.services.workbench import Workbench
from nivelus.store.history import require
from nivelus.store.tables import Job, Session, now

OPEN = ("waiting", "running")
_REPORT_SECONDS = 0.2


def list_jobs(bench: Workbench, session_id: str) -> list[JobView]:
    """The jobs of a session in the order they were asked for."""
    with bench.database.reading() as db:
        require(db, Session, session_id, "session")
        rows = db.scalars(select(Job).where(col(Job.session_id) == session_id).order_by(col(Job.created), col(Job.id)))
        return [view_job(job) for job in rows]


def get(bench: Workbench, job_id: str) -> Job:
    """A job's row. Raises NotFound."""
    with bench.database.reading() as db:
        job: Job = require(db, Job, job_id, "job")
        return job


def open_jobs(bench: Workbench) -> list[str]:
    """Ids of all jobs that are not finished, oldest first."""
    with bench.database.reading() as db:
        return list(db.scalars(select(col(Job.id)).where(col(Job.state).in_(OPEN)).order_by(col(Job.created))))


def cancel(bench: Workbench, job_id: str) -> JobView:
    """Ask a job to stop; one that has not begun stops at once."""
    with bench.database.writing() as db:
        job: Job = require(db, Job, job_id, "job")
        if job.state in OPEN:
            job.stop = True
            job.message = "Stopping."
        if job.state == "waiting":
            job.state, job.message = "cancelled", "Stopped before it began."
            _clean(bench, job)
        return view_job(job)


def dismiss(bench: Workbench, job_id: str) -> None:
    """Take a finished job off the list, and the file that it made with it."""
    with bench.database.writing() as db:
        job: Job = require(db, Job, job_id, "job")
        if job.state in OPEN:
            raise Refused("It is still at work. Stop it first.")
        _clean(bench, job)
        db.delete(job)


def finish(bench: Workbench, job_id: str, state: str, message: str, **result: Any) -> None:
    """Write down what became of a job."""
    with bench.database.writing() as db:
        job = db.get(Job, job_id)
        if job is None:
            return
        job.state, job.message = state, message
        job.percent = 100.0 if state == "done" else job.percent
        job.result = {**job.result, **result}
        if state != "done":
            _clean(bench, job)


def begin(bench: Workbench, job_id: str) -> Job | None:
    """Mark a job as running; None if it is not waiting for that (any more)."""
    with bench.database.writing() as db:
        job = db.get(Job, job_id)
        if job is None or job.state not in OPEN:
            return None
        job.state, job.stage = "running", "starting"
        return job


def run(bench: Workbench, job_id: str, task: Callable[[Job], dict[str, Any]], stopped: str, failed: str) -> None:
    """Do what a job asks for, and write down what became of it.

    Parameters
    ----------
    task : does the work and returns the job's result
    stopped, failed : what to say when the person stopped it, and when it broke in a way that nobody foresaw
    """
    job = begin(bench, job_id)
    if job is None:
        return
    try:
        result = task(job)
    except Cancelled:
        finish(bench, job_id, "cancelled", stopped)
    except NivelusError as error:
        finish(bench, job_id, "failed", error.sentence)
    except OSError as error:
        finish(bench, job_id, "failed", f"{failed} ({error.strerror or error})")
    except Exception:
        finish(bench, job_id, "failed", failed)
        raise
    else:
        finish(bench, job_id, "done", "", **result)


def reporter(bench: Workbench, job_id: str, stage: str, low: float, high: float) -> Callable[[float], None]:
    """A progress callback that writes ``low`` ... ``high`` percent to the job's row, at most five times a second.

    It raises Cancelled once the person asked for a stop.
    """
    last = 0.0

    def report(share: float) -> None:
        nonlocal last
        moment = time.monotonic()
        if share < 1.0 and moment - last < _REPORT_SECONDS:
            return
        last = moment
        with bench.database.writing() as db:
            values = {"stage": stage, "percent": low + (high - low) * min(max(share, 0.0), 1.0)}
            db.execute(update(Job).where(col(Job.id) == job_id).values(**values))
            stop = db.scalar(select(col(Job.stop)).where(col(Job.id) == job_id))
        if stop is None or stop:
            raise Cancelled("Stopped.")

    return report


def view_job(job: Job) -> JobView:
    """A job as the interface shows it."""
    return JobView(
        id=job.id,
        kind=job.kind,
        name=job.name,
        state=job.state,
        stage=job.stage,
        percent=job.percent,
        message=job.message,
        track=job.result.get("track") or job.payload.get("track"),
        file=job.result.get("file"),
    )


def new_job(session_id: str, kind: str, name: str, **payload: Any) -> Job:
    """A row for a job that is waiting to be run."""
    return Job(session_id=session_id, kind=kind, name=name, payload=payload, created=now())


def _clean(bench: Workbench, job: Job) -> None:
    """Remove the files that belong to a job which is over."""
    (bench.vault.incoming / job.id).unlink(missing_ok=True)
    for left in bench.vault.renders.glob(f"{job.id}.*"):
        left.unlink(missing_ok=True)
