"""Running the program: one command starts the server and its worker, mends what a crash left, and ends both together."""

from __future__ import annotations

import os
import signal
import sys
from collections.abc import Callable

from nivelus.core.errors import Refused
from nivelus.jobs.queue import JobQueue
from nivelus.jobs.worker import start_worker, stop_worker
from nivelus.services.mending import mend
from nivelus.services.workbench import Workbench
from nivelus.settings import Settings
from nivelus.store.lock import DataLock
from nivelus.web.app import create_app


def serve(settings: Settings, say: Callable[[str], None], prepare: Callable[[Workbench], None] | None = None) -> None:
    """Serve until stopped.

    Parameters
    ----------
    say : told what a person should read
    prepare : run on the workbench before anything is served, such as building the demo

    Raises
    ------
    Refused
        If the address is open to others and no token is set, the port is taken, or the data folder is in use.
    """
    import waitress

    if not settings.is_local and not settings.token:
        raise Refused("Listening beyond this machine needs a token: set NIVELUS_TOKEN to a long random word.")
    lock = DataLock(settings.data)
    bench = Workbench(settings)
    for sentence in mend(bench):
        say(sentence)
    if prepare:
        prepare(bench)
    queue = JobQueue(settings)
    queue.refill(bench)
    app = create_app(settings, bench, queue)
    try:
        server = waitress.create_server(
            app,
            host=settings.host,
            port=settings.port,
            threads=8,
            max_request_body_size=(settings.max_upload_mb + 1) << 20,
            channel_timeout=600,
        )
    except OSError as error:
        raise Refused(f"Port {settings.port} cannot be used: {error.strerror}. Choose another (--port).") from error
    worker = start_worker(settings, lock, on_death=lambda: os.kill(os.getpid(), signal.SIGTERM))
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    name = f"[{settings.host}]" if ":" in settings.host else settings.host
    say(f"Nivelus is at http://{name}:{settings.port}/" + (f"?token={settings.token}" if settings.token else ""))
    try:
        server.run()
    finally:
        stop_worker(worker)
        bench.close()
