"""The queue: Huey on SQLite beside the data.

The queue only carries ids. What a job is and how far it got stands in the database, so the queue may be thrown away:
``refill`` puts every unfinished job into it again at start.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from pathlib import Path
from typing import Any

from huey import Huey, SqliteHuey

from nivelus.logs import note, write_down
from nivelus.memory import give_back_now
from nivelus.services.files.imports import run_import
from nivelus.services.files.renders import run_render
from nivelus.services.sessions import jobs
from nivelus.services.track.workbench import Workbench
from nivelus.settings import Settings
from nivelus.store.backups import QUEUE, is_whole
from nivelus.store.database import is_held

RUN: dict[str, Callable[[Workbench, str], list[str]]] = {"import": run_import, "render": run_render}


class JobQueue:
    """Hands jobs to whoever works on them."""

    def __init__(self, settings: Settings, immediate: bool = False) -> None:
        self.settings = settings
        self.huey = _make(settings, immediate)
        self._bench: Workbench | None = None

        def run(job_id: str) -> None:
            try:
                for more in run_job(self._own_bench(), job_id):
                    self.put(more)
            except Exception as error:
                # what a job itself meets is told in its row; here not even that could be written
                write_down(error, f"job {job_id}")
            give_back_now()

        self._task = self.huey.task(name="run")(run)

    def put(self, job_id: str) -> None:
        """Queue a job; where another program holds the queue, the watch does so later."""
        try:
            self._task(job_id)
        except sqlite3.OperationalError as error:
            if not is_held(error):
                raise
            note(f"The queue is held by another program; job {job_id} waits.")

    @property
    def is_empty(self) -> bool:
        """Whether nothing is waiting in the queue itself."""
        return not self.huey.pending_count()

    def refill(self, bench: Workbench) -> int:
        """Empty the queue and queue every job that is not finished; how many there are."""
        self.huey.flush()
        waiting = jobs.begin_anew(bench)
        for job_id in waiting:
            self.put(job_id)
        return len(waiting)

    def prepare(self) -> None:
        """Have the database open for the first job, so that it does not wait longer than the next."""
        self._own_bench()

    def _own_bench(self) -> Workbench:
        # opened where the job runs: a database connection must not cross a fork
        if self._bench is None:
            self._bench = Workbench(self.settings)
        return self._bench


def run_job(bench: Workbench, job_id: str) -> list[str]:
    """Run a job now, whatever it is; nothing if it is gone. Ids of jobs that are to be run after it."""
    return RUN[jobs.get(bench, job_id).kind](bench, job_id) if job_id in jobs.open_jobs(bench) else []


def queue_file(data: Path) -> Path:
    """Where the SQLite queue lies."""
    return data / QUEUE


def _make_anew_if_damaged(path: Path) -> None:
    if path.exists() and not is_whole(path, thorough=False):
        for side in ("", "-wal", "-shm", "-journal"):
            path.with_name(path.name + side).unlink(missing_ok=True)


def _make(settings: Settings, immediate: bool) -> Huey:
    settings.data.mkdir(parents=True, exist_ok=True)
    if not immediate:
        _make_anew_if_damaged(queue_file(settings.data))
    options: dict[str, Any] = {"filename": str(queue_file(settings.data)), "timeout": 4}
    return SqliteHuey("nivelus", immediate=immediate, immediate_use_memory=immediate, **options)
