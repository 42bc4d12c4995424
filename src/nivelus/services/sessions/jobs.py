"""Long work: its row in the database, its progress, and stopping it.

A job's row outlives the program: what was waiting or running when it was killed is taken up again at the next start.
Every job is written so that running it twice does no harm, and each run has a name: who finds another name in the row, or a
job that is over, has lost it and leaves without a trace. So stopping takes effect at once, whatever the worker does.

While it is at work a run raises the row's ``beat`` every few seconds. A job whose beat stands still has lost its worker; it
is put back into the queue once, and told of after that.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy.orm import Session as DbSession

from nivelus.core.errors import Cancelled, NivelusError, Refused, UndecidedSound
from nivelus.core.files import disk_full, is_full
from nivelus.core.stopping import until
from nivelus.logs import write_down
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.view import View
from nivelus.store import job_rows
from nivelus.store.history import newest_step, require
from nivelus.store.job_rows import (
    OPEN,
    all_wait_again,
    is_at_work,
    jobs_of,
    open_job_ids,
    put_of_run,
    running_pulses,
    waiting_since,
)
from nivelus.store.tables import Job, Session, new_id, now


class JobView(View):
    """Long work: ``state`` is waiting, running, asks, done, failed or cancelled.

    What asks waits for one of ``options`` to be chosen; ``usual`` is the place of the likely one.

    Of a render, ``made`` is when it was asked for, ``holds`` what is in it, ``step`` the newest step of the history that it has
    and ``current`` whether that still is the newest.
    """

    id: str
    kind: str
    name: str
    state: str
    stage: str
    percent: float
    message: str
    options: list[str]
    usual: int
    track: str | None
    file: str | None
    made: datetime
    holds: str
    step: str
    current: bool


class JobsView(View):
    """The jobs of a session."""

    items: list[JobView]


RECEIVING = ".receiving"
"""Ending of an upload that is still arriving."""
MOST_TRIES = 2
STOPPED = {"import": "Stopped. Nothing was imported.", "render": "Stopped. Nothing was written."}
LOST = "The work on it broke off twice without a word. If it does so again, the file may be at fault: export it anew."
BEAT_SECONDS = 2.0
_REPORT_SECONDS = 0.2


def list_jobs(bench: Workbench, session_id: str) -> list[JobView]:
    """The jobs of a session in the order they were asked for."""
    with bench.database.reading() as db:
        require(db, Session, session_id, "session")
        rows = jobs_of(db, session_id)
        newest, _ = newest_step(db, session_id)
        return [view_job(job, newest) for job in rows]


def get(bench: Workbench, job_id: str) -> Job:
    """A job's row. Raises NotFound."""
    with bench.database.reading() as db:
        job: Job = require(db, Job, job_id, "job")
        return job


def open_jobs(bench: Workbench) -> list[str]:
    """Ids of all jobs that are not finished, oldest first."""
    with bench.database.reading() as db:
        return open_job_ids(db)


def forgotten(bench: Workbench, seconds: float) -> list[str]:
    """Ids of jobs that have waited for so long, oldest first."""
    with bench.database.reading() as db:
        return waiting_since(db, now() - timedelta(seconds=seconds))


def begin_anew(bench: Workbench) -> list[str]:
    """Let everything that was at work when the program ended wait again; ids of all that waits, oldest first."""
    with bench.database.writing() as db:
        all_wait_again(db)
    return open_jobs(bench)


def cancel(bench: Workbench, job_id: str) -> JobView:
    """Stop a job, at once: whoever is at work on it notices at the next report and leaves nothing."""
    with bench.database.writing() as db:
        job: Job = require(db, Job, job_id, "job")
        was_open = job.state in OPEN
        if was_open:
            job.message = "Stopped before it began." if job.state == "waiting" else STOPPED[job.kind]
            job.state, job.run = "cancelled", ""
        shown = view_job(job)
    if was_open:
        bench.vault.clear_job(job_id)
    return shown


def dismiss(bench: Workbench, job_id: str) -> None:
    """Take a finished job off the list, and the file that it made with it; also on a full disk."""

    def work() -> None:
        with bench.database.writing() as db:
            job: Job = require(db, Job, job_id, "job")
            if job.state in OPEN:
                raise Refused("This job is still running. Stop it first.")
            db.delete(job)

    bench.freeing(work)
    bench.vault.clear_job(job_id)


def begin(bench: Workbench, job_id: str) -> Job | None:
    """Begin a run of a job; None if it is not waiting for that (any more)."""
    with bench.database.writing() as db:
        job = db.get(Job, job_id)
        if job is None or job.state != "waiting":
            return None
        job.state, job.stage, job.run, job.tries = "running", "starting", new_id(), job.tries + 1
        return job


def ask(bench: Workbench, job: Job, message: str, asked: Mapping[str, Any]) -> None:
    """Let a run end with a question; the job waits for an answer.

    Parameters
    ----------
    job : as the run has it
    message : the question
    asked : its answers, the likely one, and what they are of; the fields of UndecidedSound. Also what is ``kept`` for the
        run after the answer, if anything is
    """
    result = {name: asked[name] for name in ("options", "usual", "of")}
    payload = {**job.payload, **asked.get("kept", {})}
    with bench.database.writing() as db:
        put_of_run(db, job, state="asks", stage="waiting", message=message, run="", result=result, payload=payload)


def choose(bench: Workbench, job_id: str, choice: int) -> JobView:
    """Answer what a job asks by the place of an option; it waits to go on then.

    Raises
    ------
    NotFound, Refused
        If there is no such job, if it asks nothing (any more), or if there is no such option.
    """
    with bench.database.writing() as db:
        job: Job = require(db, Job, job_id, "job")
        if job.state != "asks":
            raise Refused("This has been answered already.")
        if not 0 <= choice < len(job.result["options"]):
            raise Refused("This is none of what can be chosen.")
        job.payload = {**job.payload, job.result.get("of", "sound track"): choice}
        job.state, job.stage, job.message, job.result, job.tries = "waiting", "waiting", "", {}, 0
        return view_job(job)


def finish(bench: Workbench, job: Job, state: str, message: str, **result: Any) -> None:
    """Write down what became of a run, unless the job is over or another run has it by now."""
    if state != "done":
        # first, for it may be what makes room on a full disk; whoever has the job now has begun anew
        with bench.database.reading() as db:
            is_lost = not is_at_work(db, job)
            row = db.get(Job, job.id)
            goes = not is_lost or row is None or row.state not in OPEN
        if goes:
            bench.vault.clear_job(job.id)
        if is_lost:
            return
    with bench.database.writing() as db:
        row = db.get(Job, job.id)
        if row is None or not is_at_work(db, job):
            return
        row.state, row.message = state, message
        row.percent = 100.0 if state == "done" else row.percent
        row.result = {**row.result, **result}


def run(bench: Workbench, job_id: str, task: Callable[[Job], dict[str, Any]], failed: str) -> None:
    """Do what a job asks for, and write down what became of it.

    Parameters
    ----------
    task : does the work and returns the job's result; what it has ``told`` is the job's message
    failed : what to say when it broke in a way that nobody foresaw
    """
    job = begin(bench, job_id)
    if job is None:
        return
    try:
        with _beating(bench, job) as lost, until(lost.is_set):
            result = task(job)
    except Cancelled:
        finish(bench, job, "cancelled", STOPPED[job.kind])
    except UndecidedSound as error:
        ask(bench, job, f"{error.sentence} Choose one.", error.fields)
    except NivelusError as error:
        finish(bench, job, "failed", error.sentence)
    except OSError as error:
        said = disk_full(bench.vault.root).sentence if is_full(error) else f"{failed} ({error.strerror or error})"
        finish(bench, job, "failed", said)
    except Exception as error:
        finish(bench, job, "failed", f"{failed} (Noted as {write_down(error)}.)")
    else:
        finish(bench, job, "done", result.pop("told", ""), **result)


def require_at_work(db: DbSession, job: Job) -> None:
    """Make sure that a run still has its job. Raises Cancelled."""
    if not is_at_work(db, job):
        raise Cancelled("Stopped.")


def reporter(bench: Workbench, job: Job, stage: str, low: float, high: float) -> Callable[[float], None]:
    """A progress callback that writes ``low`` ... ``high`` percent to the job's row, at most five times a second.

    It raises Cancelled once the run has lost its job: the person asked for a stop, or another run has it.
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
            if not put_of_run(db, job, **values):
                raise Cancelled("Stopped.")

    return report


def take_back(bench: Workbench, job_id: str, run: str, beat: int) -> bool:
    """Put a job that has lost its worker back into the queue, or give it up; whether it is waiting again.

    ``run`` and ``beat`` are those at which it has stood still: if they have changed meanwhile nothing happens.
    """
    with bench.database.writing() as db:
        job = db.get(Job, job_id)
        if job is None or (job.state, job.run, job.beat) != ("running", run, beat):
            return False
        job.run = ""
        if job.tries < MOST_TRIES:
            job.state, job.stage = "waiting", "waiting"
            return True
        job.state, job.message = "failed", LOST
    bench.vault.clear_job(job_id)
    return False


def pulses(bench: Workbench) -> dict[str, tuple[str, int]]:
    """The run and the beat of every job that is at work."""
    with bench.database.reading() as db:
        return running_pulses(db)


def view_job(job: Job, newest: str | None = None) -> JobView:
    """A job as the interface shows it; ``newest`` tells the state that its session is in, where that is known."""
    return JobView(
        id=job.id,
        kind=job.kind,
        name=job.name,
        state=job.state,
        stage=job.stage,
        percent=job.percent,
        message=job.message,
        options=job.result.get("options", []) if job.state == "asks" else [],
        usual=job.result.get("usual", 0),
        track=job.result.get("track") or job.payload.get("track"),
        file=job.result.get("file"),
        made=job.created.replace(tzinfo=UTC),
        holds=job.payload.get("holds", ""),
        step=job.result.get("step", ""),
        current=newest is None or job.result.get("at", newest) == newest,
    )


def new_job(session_id: str, kind: str, name: str, **payload: Any) -> Job:
    """A row for a job that is waiting to be run."""
    return Job(session_id=session_id, kind=kind, name=name, payload=payload, created=now())


@contextmanager
def _beating(bench: Workbench, job: Job) -> Iterator[threading.Event]:
    """Let a job's row show that its run is alive; what is yielded is set once the run has lost its job."""
    over, lost = threading.Event(), threading.Event()

    def beat() -> None:
        while not over.wait(BEAT_SECONDS):
            try:
                with bench.database.writing() as db:
                    if not job_rows.beat(db, job):
                        lost.set()
            except Exception:
                # a beat that is missed is no harm, and why is said by whatever else cannot write
                continue

    thread = threading.Thread(target=beat, daemon=True)
    thread.start()
    try:
        yield lost
    finally:
        over.set()
        thread.join()
