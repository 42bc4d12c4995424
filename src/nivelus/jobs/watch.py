"""The watch over a running program: jobs that have lost their worker, and a database that could be smaller."""

from __future__ import annotations

import threading
import time

from nivelus.jobs.queue import JobQueue
from nivelus.logs import note, write_down
from nivelus.services.sessions import jobs
from nivelus.services.track.workbench import Workbench

LOOK_SECONDS = 2.0
SILENT_SECONDS = 15.0
"""A job whose beat stands still for so long has lost its worker."""
SHRINK_SECONDS = 60.0


class Watch:
    """Looks after jobs from a thread of its own until it is stopped."""

    def __init__(self, bench: Workbench, queue: JobQueue, silent: float = SILENT_SECONDS) -> None:
        self._bench, self._queue, self._silent = bench, queue, silent
        self._over = threading.Event()
        self._seen: dict[str, tuple[tuple[str, int], float]] = {}
        self._shrunk = time.monotonic()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def stop(self) -> None:
        """Look no more."""
        self._over.set()
        self._thread.join(timeout=1)

    def look(self) -> None:
        """Look once: what has stood still for too long goes back into the queue, or is given up."""
        # time that the whole machine slept does not count
        moment = time.monotonic()
        at_work = jobs.pulses(self._bench)
        self._seen = {
            id: self._seen[id] if id in self._seen and self._seen[id][0] == pulse else (pulse, moment)
            for id, pulse in at_work.items()
        }
        for id, (pulse, since) in list(self._seen.items()):
            if moment - since > self._silent:
                note(f"Job {id} has stood still for {moment - since:.0f} s.")
                if jobs.take_back(self._bench, id, *pulse):
                    self._queue.put(id)
        if not at_work and self._queue.is_empty:
            # what could not be put into the queue, because the disk was full for a moment
            for id in jobs.forgotten(self._bench, self._silent):
                self._queue.put(id)
        if not at_work and moment - self._shrunk > SHRINK_SECONDS:
            self._shrunk = moment
            self._bench.database.shrink()
            self._bench.keep_spare()

    def _run(self) -> None:
        while not self._over.wait(LOOK_SECONDS):
            try:
                self.look()
            except Exception as error:
                write_down(error, "watch")
