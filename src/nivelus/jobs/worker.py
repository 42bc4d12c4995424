"""The worker: a process of its own beside the server, so that long work never slows down the interface.

``python -m nivelus.jobs.worker`` reads its settings from the environment. It dies with the server that started it.
"""

from __future__ import annotations

import ctypes
import os
import signal
import subprocess
import sys
import threading
from collections.abc import Callable

from nivelus.settings import Settings
from nivelus.store.lock import DataLock

_PR_SET_PDEATHSIG = 1
WORKERS = 2


def start_worker(settings: Settings, lock: DataLock, on_death: Callable[[], None]) -> subprocess.Popen[bytes]:
    """Start the worker process, which holds ``lock`` as well; ``on_death`` is called when it ends."""
    environment = {**os.environ, "NIVELUS_DATA": str(settings.data), "NIVELUS_PARENT": str(os.getpid())}
    if settings.redis_url:
        environment["NIVELUS_REDIS_URL"] = settings.redis_url
    process = subprocess.Popen(
        [sys.executable, "-m", "nivelus.jobs.worker"],
        env=environment,
        start_new_session=True,
        pass_fds=(lock.file,),
    )

    def watch() -> None:
        process.wait()
        on_death()

    threading.Thread(target=watch, daemon=True).start()
    return process


def stop_worker(process: subprocess.Popen[bytes]) -> None:
    """Let the worker finish for a moment, then end it."""
    process.terminate()
    try:
        process.wait(timeout=5)
    except subprocess.TimeoutExpired:
        process.kill()


def main() -> None:
    """Work on jobs until told to stop."""
    _die_with_parent()
    if os.getppid() != int(os.environ.get("NIVELUS_PARENT", os.getppid())):
        return
    from nivelus.jobs.queue import JobQueue

    # whatever the consumer forks - workers and a scheduler - goes with it, and with it the hold on the data folder
    os.register_at_fork(after_in_child=_die_with_parent)
    queue = JobQueue(Settings())
    queue.huey.on_startup()(queue.prepare)
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
