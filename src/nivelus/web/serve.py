"""Running the program: one command starts the server and its worker, mends what a crash left, and ends both together."""

from __future__ import annotations

import logging
import os
import signal
import socket
import sqlite3
import sys
import threading
from collections.abc import Callable
from types import FrameType

from nivelus.core.deliver.warm import warm_gain
from nivelus.core.errors import Refused
from nivelus.core.files import disk_full, is_full
from nivelus.jobs.queue import JobQueue
from nivelus.jobs.watch import Watch
from nivelus.jobs.worker import Worker
from nivelus.logs import note, open_log
from nivelus.memory import give_memory_back, leave_what_stays
from nivelus.services.track.workbench import Workbench
from nivelus.services.upkeep.mending import mend
from nivelus.settings import Settings
from nivelus.store.backups import is_out_of_room, secure
from nivelus.store.database import known_versions
from nivelus.store.lock import DataLock
from nivelus.web.app import create_app
from nivelus.web.security import LEAST_TOKEN


def serve(settings: Settings, say: Callable[[str], None], prepare: Callable[[Workbench], None] | None = None) -> None:
    """Serve until stopped.

    Parameters
    ----------
    say : told what a person should read
    prepare : run on the workbench before anything is served, such as building the demo

    Raises
    ------
    Refused
        If the address is open to others and no token is set, the port is taken, or the data folder is in use or was written
        by a newer version.
    """
    import uvicorn

    from nivelus.web.edge import Edge, config_of

    if not settings.is_local and not settings.token:
        raise Refused("Listening beyond this machine needs a token: set NIVELUS_TOKEN to a long random word.")
    if settings.token is not None and len(settings.token.strip()) < LEAST_TOKEN:
        raise Refused(
            f"NIVELUS_TOKEN is too short: a token has at least {LEAST_TOKEN} characters, blanks around it not counted."
        )
    give_memory_back()
    lock = DataLock(settings.data)
    open_log(settings.data, token=settings.token)
    bench = _open(settings, say)
    if prepare:
        prepare(bench)
    listening = _listen(settings)
    try:
        queue = JobQueue(settings)
        queue.refill(bench)
    except sqlite3.Error as error:
        if is_out_of_room(error):
            raise disk_full(settings.data) from error
        raise
    edge = Edge(create_app(settings, bench, queue), settings, bench)
    logging.getLogger("uvicorn").setLevel(logging.CRITICAL + 1)

    class Server(uvicorn.Server):
        def handle_exit(self, sig: int, frame: FrameType | None) -> None:
            # whatever is being worked out is let go at once, so that nothing is waited for
            edge.let_go()
            super().handle_exit(sig, frame)

    server = Server(config_of(edge))
    worker = Worker(settings, lock, on_end=lambda: os.kill(os.getpid(), signal.SIGTERM))
    watch = Watch(bench, queue)
    # nothing is raised: a signal may come while an object is being destroyed, where Python prints what is raised and goes on
    signal.signal(signal.SIGTERM, server.handle_exit)
    name = f"[{settings.host}]" if ":" in settings.host else settings.host
    say(f"Nivelus is at http://{name}:{settings.port}/" + (f"?token={settings.token}" if settings.token else ""))
    leave_what_stays()
    # nobody waits for it, and whoever opens a session in the next second finds it done
    threading.Thread(target=warm_gain, daemon=True).start()
    try:
        server.run([listening])
    except KeyboardInterrupt:
        pass
    finally:
        watch.stop()
        worker.stop()
        all_gone = edge.close()
        bench.close()
        if not all_gone:
            # a thread that does not come to its next step would be waited for; all that was answered is on disk
            for stream in (sys.stdout, sys.stderr):
                stream.flush()
            os._exit(0)


def _open(settings: Settings, say: Callable[[str], None]) -> Workbench:
    """Open the data folder, whole and mended."""
    try:
        done = secure(settings.data, set(known_versions()))
        bench = Workbench(settings)
        done += mend(bench, say)
        bench.keep_spare()
    except OSError as error:
        if is_full(error):
            raise disk_full(settings.data) from error
        raise
    for sentence in done:
        note(sentence)
    for sentence in dict.fromkeys(done):
        say(sentence if done.count(sentence) == 1 else f"{sentence} ({done.count(sentence)} times)")
    return bench


def _listen(settings: Settings) -> socket.socket:
    family = socket.AF_INET6 if ":" in settings.host else socket.AF_INET
    try:
        return socket.create_server((settings.host, settings.port), family=family, backlog=512)
    except OSError as error:
        raise Refused(f"Port {settings.port} cannot be used: {error.strerror}. Choose another (--port).") from error
