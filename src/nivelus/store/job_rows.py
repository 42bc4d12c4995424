"""What is asked of jobs, and what is written down of a run only as long as it has its job."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import select, update
from sqlalchemy.orm import Session as DbSession
from sqlmodel import col

from nivelus.store.tables import Job

AT_WORK = ("waiting", "running")
OPEN = (*AT_WORK, "asks")
"""What is not over: what asks goes on once it is answered."""


def jobs_of(db: DbSession, session_id: str) -> Sequence[Job]:
    """The jobs of a session in the order in which they were asked for."""
    return db.scalars(select(Job).where(col(Job.session_id) == session_id).order_by(col(Job.created), col(Job.id))).all()


def names_of_jobs(db: DbSession, session_id: str) -> set[str]:
    """What the jobs of a session are called."""
    return set(db.scalars(select(col(Job.name)).where(col(Job.session_id) == session_id)))


def failed_imports(db: DbSession, session_id: str) -> list[str]:
    """The names of files that could not be brought into a session."""
    imports = (col(Job.session_id) == session_id, col(Job.kind) == "import", col(Job.state) == "failed")
    return list(db.scalars(select(col(Job.name)).where(*imports)))


def open_payloads(db: DbSession, session_id: str) -> list[dict[str, Any]]:
    """What is known of the jobs of a session that are not finished."""
    return list(db.scalars(select(col(Job.payload)).where(col(Job.session_id) == session_id, col(Job.state).in_(OPEN))))


def open_imports(db: DbSession) -> Sequence[Job]:
    """The imports that are not finished, oldest first."""
    at_work = (col(Job.kind) == "import", col(Job.state).in_(OPEN))
    return db.scalars(select(Job).where(*at_work).order_by(col(Job.created))).all()


def imports_open(db: DbSession, session_id: str) -> tuple[int, int]:
    """How many files are on their way into a session, and how many of them ask something."""
    mine = (col(Job.session_id) == session_id, col(Job.kind) == "import", col(Job.state).in_(OPEN))
    states = list(db.scalars(select(col(Job.state)).where(*mine)))
    return len(states), states.count("asks")


def open_job_ids(db: DbSession) -> list[str]:
    """Ids of all jobs that are to be worked on, oldest first."""
    return list(db.scalars(select(col(Job.id)).where(col(Job.state).in_(AT_WORK)).order_by(col(Job.created))))


def waiting_since(db: DbSession, moment: datetime) -> list[str]:
    """Ids of jobs that have waited since then, oldest first."""
    waiting = select(col(Job.id)).where(col(Job.state) == "waiting", col(Job.created) < moment)
    return list(db.scalars(waiting.order_by(col(Job.created))))


def all_wait_again(db: DbSession) -> None:
    """Let everything that is at work wait again."""
    db.execute(update(Job).where(col(Job.state) == "running").values(state="waiting", stage="waiting", run=""))


def running_pulses(db: DbSession) -> dict[str, tuple[str, int]]:
    """The run and the beat of every job that is at work."""
    rows = db.execute(select(col(Job.id), col(Job.run), col(Job.beat)).where(col(Job.state) == "running"))
    return {id: (run, beat) for id, run, beat in rows}


def is_at_work(db: DbSession, job: Job) -> bool:
    """Whether a run still has its job."""
    found = select(col(Job.id)).where(col(Job.id) == job.id, col(Job.run) == job.run, col(Job.state) == "running")
    return db.scalar(found) is not None


def put_of_run(db: DbSession, job: Job, **values: Any) -> bool:
    """Write values of a run into its job's row; whether it still has it, for nothing is written once another run does."""
    own = update(Job).where(col(Job.id) == job.id, col(Job.run) == job.run, col(Job.state) == "running")
    return bool(db.execute(own.values(**values)).rowcount)  # type: ignore[attr-defined]


def beat(db: DbSession, job: Job) -> bool:
    """Let a job's row show that its run is alive; whether it still has it."""
    return put_of_run(db, job, beat=Job.beat + 1)
