"""The worker: a process of its own beside the server, so that long work never slows down the interface.

``python -m nivelus.jobs.worker`` reads its settings from the environment. It dies with the server that started it.
"""

from __future__ import annotations

import ctypes
import logging
import os
import signal
import subprocess
import sys
import threading
import time
from collections import deque
from collections.abc import Callable

from nivelus.logs import note, open_log
from nivelus.memory import leave_what_stays
from nivelus.settings import Settings
from nivelus.store.lock import DataLock

_PR_SET_PDEATHSIG = 1
WORKERS = 2
END_SECONDS = 2.0
"""Within which a worker has to end; what it is at work on is begun anew at the next start."""
MOST_ENDS, ENDS_SECONDS = 5, 60.0


class Worker:
    """The worker process, begun again when it ends by itself.

    Parameters
    ----------
    lock : held by the worker as well, so that no other program works on the folder while it does
    on_end : called when it has ended MOST_ENDS times within ENDS_SECONDS: then it is of no use to go on
    """

    def __init__(self, settings: Settings, lock: DataLock, on_end: Callable[[], None]) -> None:
        self._settings, self._lock, self._on_end = settings, lock, on_end
        self._stopping = False
        self.process = self._start()
        threading.Thread(target=self._watch, daemon=True).start()

    def stop(self) -> None:
        """Let it finish for a moment, then end it."""
        self._stopping = True
        self.process.terminate()
        try:
            self.process.wait(timeout=END_SECONDS)
        except subprocess.TimeoutExpired:
            self.process.kill()

    def _start(self) -> subprocess.Popen[bytes]:
        settings = self._settings
        environment = {**os.environ, "NIVELUS_DATA": str(settings.data), "NIVELUS_PARENT": str(os.getpid())}
        return subprocess.Popen(
            [sys.executable, "-m", "nivelus.jobs.worker"],
            env=environment,
            start_new_session=True,
            pass_fds=(self._lock.file,),
        )

    def _watch(self) -> None:
        ends: deque[float] = deque(maxlen=MOST_ENDS)
        while True:
            self.process.wait()
            if self._stopping:
                return
            note(f"The worker has ended by itself ({self.process.returncode}).")
            ends.append(time.monotonic())
            if len(ends) == MOST_ENDS and ends[-1] - ends[0] < ENDS_SECONDS:
                self._on_end()
                return
            self.process = self._start()


def main() -> None:
    """Work on jobs until told to stop."""
    _die_with_parent()
    if os.getppid() != int(os.environ.get("NIVELUS_PARENT", os.getppid())):
        return
    from nivelus.core.deliver.warm import warm_kernels
    from nivelus.jobs.queue import JobQueue

    # whatever the consumer forks - workers and a scheduler - goes with it, and with it the hold on the data folder
    os.register_at_fork(after_in_child=_die_with_parent)
    settings = Settings.read()
    open_log(settings.data, "worker", settings.token)
    # the consumer writes whole traces to the console; ours go to the log
    logging.getLogger("huey").setLevel(logging.CRITICAL + 1)
    queue = JobQueue(settings)
    queue.huey.on_startup()(queue.prepare)
    # once for all processes that are forked: what is loaded here they share
    warm_kernels()
    leave_what_stays()
    consumer = queue.huey.create_consumer(
        workers=WORKERS,
        worker_type="process",
        max_delay=0.25,
        periodic=False,
        graceful_signal="TERM",
        shutdown_timeout=10,
    )
    consumer.run()


def _die_with_parent() -> None:
    """Ask for the kernel's SIGKILL when the parent ends. Every job may be cut off anywhere: it is run again."""
    if sys.platform == "linux":
        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)


if __name__ == "__main__":
    main()
