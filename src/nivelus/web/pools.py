"""Threads for requests: who waits for what is quick never waits for what is slow.

Three pools. Edits have one, because each may wait for the database. Questions that take long have one, so that however many are
asked, half of the threads are free; what takes long is learnt from what took long before. Everything else has the third.

Work for somebody who has gone ends at its next step, see ``core.stopping``, but for edits: who leaves the page after pressing a
key has made that edit.
"""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, TypeVar

from nivelus.core.errors import Cancelled
from nivelus.core.stopping import until
from nivelus.store.database import patience

QUICK, SLOW, EDITS = 3, 4, 3
"""Threads of each pool."""
SLOW_SECONDS = 0.3
"""From how long on a question belongs to the slow ones."""
EDIT_SECONDS, LEAST_SECONDS = 4.5, 0.25
"""How long an edit may wait for the database, its waiting for a thread included; and how long it waits in any case."""
_MOST_SHAPES = 200
_ID = re.compile(r"(?<=/)[A-Za-z0-9_-]{8,}(?=/|$)")
_QUESTION = re.compile(r"/(draft|trial)$")
_KNOWN = {"/load", "/load/course", "/reduction", "/figures", "/ride/inside", "/ride/draft", "/duck/draft", "/slow/draft"}
"""Ends of addresses that are slow on an hour."""
_SOUND = ("/samples", "/gain")
"""Ends of addresses that are asked while it plays: they wait for nothing that is slow, however long they took."""

Value = TypeVar("Value")


class Request:
    """One request: what it asks for, when it came, and whether somebody waits for it."""

    def __init__(self, method: str, path: str) -> None:
        self.came = time.monotonic()
        self.is_edit = method not in ("GET", "HEAD") and not _QUESTION.search(path)
        self.shape = _ID.sub("*", path)
        self._gone = threading.Event()

    def is_here(self) -> None:
        """All of it is here only now."""
        self.came = time.monotonic()

    @property
    def has_gone(self) -> bool:
        """Whether nobody waits any more."""
        return self._gone.is_set()

    def let_go(self) -> None:
        """Nobody waits any more."""
        self._gone.set()


class Pools:
    """Runs the work of requests."""

    def __init__(self) -> None:
        self._quick = ThreadPoolExecutor(QUICK, "answer")
        self._slow = ThreadPoolExecutor(SLOW, "slow")
        self._edits = ThreadPoolExecutor(EDITS, "edit")
        self._took: dict[str, float] = {}
        self._is_ending = False
        self._running = 0
        self._lock = threading.Lock()

    def submit(self, request: Request, work: Callable[..., Value], *given: Any) -> Future[Value]:
        """Run some work for a request in the pool where it belongs."""
        pool = self._edits if request.is_edit else self._slow if self.is_slow(request) else self._quick
        return pool.submit(self._run, request, work, *given)

    def is_slow(self, request: Request) -> bool:
        """Whether a question is one of those that take long."""
        if request.shape.endswith(_SOUND):
            return False
        is_known = any(request.shape.endswith(end) for end in _KNOWN)
        return is_known or self._took.get(request.shape, 0.0) > SLOW_SECONDS

    def let_go(self) -> None:
        """Let all work go at its next step, and begin none any more.

        It waits for no lock: a signal may come while this very thread hands some work over, and holds one.
        """
        self._is_ending = True

    def end(self) -> None:
        """Let all work go, and the threads with it."""
        self.let_go()
        for pool in (self._quick, self._slow, self._edits):
            pool.shutdown(wait=False, cancel_futures=True)

    def is_idle(self, seconds: float) -> bool:
        """Whether nothing runs any more within some seconds."""
        until_then = time.monotonic() + seconds
        while self._running and time.monotonic() < until_then:
            time.sleep(0.02)
        return not self._running

    def _run(self, request: Request, work: Callable[..., Value], *given: Any) -> Value:
        def nobody_waits() -> bool:
            return self._is_ending or (request.has_gone and not request.is_edit)

        if nobody_waits():
            raise Cancelled("Nobody waits for this any more.")
        with self._lock:
            self._running += 1
        began = time.monotonic()
        try:
            with until(nobody_waits), patience(max(EDIT_SECONDS - (began - request.came), LEAST_SECONDS)):
                return work(*given)
        finally:
            with self._lock:
                self._running -= 1
                if request.shape in self._took or len(self._took) < _MOST_SHAPES:
                    self._took[request.shape] = time.monotonic() - began
