"""The edge: what is slow never keeps what is quick waiting, and what nobody waits for any more ends."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterable, Iterator
from typing import Any

import pytest

from nivelus.core.errors import Cancelled
from nivelus.core.stopping import kept, step, until
from nivelus.services.track.workbench import Workbench
from nivelus.settings import Settings
from nivelus.web.edge import Edge
from nivelus.web.pools import SLOW, Pools, Request
from nivelus.web.security import HEADERS
from tests.web.served import SLOW_PATH, Served, at_its_edge, until_true

LONG = 30.0


class Slow:
    """An application whose questions take long unless somebody lets them go."""

    def __init__(self) -> None:
        self.running = self.done = 0
        self.lock = threading.Lock()

    def __call__(self, environ: dict[str, Any], start: Callable[..., Any]) -> Iterable[bytes]:
        if environ["PATH_INFO"] == SLOW_PATH:
            with self.lock:
                self.running += 1
            try:
                self.work(1.0 if environ["REQUEST_METHOD"] == "POST" else LONG)
                self.done += 1
            except Cancelled:
                pass
            finally:
                with self.lock:
                    self.running -= 1
        start("200 OK", [("content-type", "text/plain")])
        return [b"answered"]

    def work(self, seconds: float) -> None:
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            step()
            time.sleep(0.005)


@pytest.fixture
def served(bench: Workbench, settings: Settings) -> Iterator[Served]:
    with at_its_edge(Slow(), bench, settings) as own:
        yield own


def test_slow_questions_hold_half_of_the_threads_at_most(served: Served) -> None:
    wires = [served.begin() for _ in range(20)]
    assert until_true(lambda: served.app.running == SLOW)
    for _ in range(5):
        said, took = served.ask("/api/sessions")
        assert said == b"answered"
        assert took < 5
    assert served.app.running == SLOW
    for wire in wires:
        wire.close()
    # nobody waits: neither those at work nor those that have not begun go on
    assert until_true(lambda: served.app.running == 0)
    assert served.app.done == 0


def test_an_edit_is_made_even_if_its_page_is_left(served: Served) -> None:
    served.begin("POST").close()
    assert until_true(lambda: served.app.done == 1)


def test_what_took_long_is_known_to_be_slow_from_then_on() -> None:
    pools = Pools()
    try:
        asked = Request("GET", "/api/tracks/abcdefghijkl/takes")
        assert not pools.is_slow(asked)
        pools.submit(asked, time.sleep, 0.35).result()
        assert pools.is_slow(Request("GET", "/api/tracks/another-track/takes"))
        pools.submit(asked, time.sleep, 0.0).result()
        assert not pools.is_slow(asked)
        # what is asked while it plays waits behind nothing that is slow
        sound = Request("GET", "/api/tracks/abcdefghijkl/samples")
        pools.submit(sound, time.sleep, 0.35).result()
        assert not pools.is_slow(sound)
    finally:
        pools.end()


def test_the_end_lets_everything_go(served: Served) -> None:
    wires = [served.begin() for _ in range(6)]
    assert until_true(lambda: served.app.running == SLOW)
    assert served.edge.close(seconds=5)
    assert served.app.running == served.app.done == 0
    for wire in wires:
        wire.close()


def test_a_step_goes_along_into_other_threads() -> None:
    gone = threading.Event()
    step()
    with until(gone.is_set):
        work = kept(step)
        work()
        gone.set()
        said: list[BaseException] = []

        def run() -> None:
            try:
                work()
            except Cancelled as error:
                said.append(error)

        thread = threading.Thread(target=run)
        thread.start()
        thread.join()
        assert len(said) == 1
    step()


def test_a_signal_while_work_is_handed_over_waits_for_no_lock(bench: Workbench) -> None:
    """A signal comes between any two steps of the thread that hands work over, which may hold the locks of the pools."""
    edge = Edge(lambda *_: [], bench.settings, bench)
    pools = edge._pools
    locks = [pool._shutdown_lock for pool in (pools._quick, pools._slow, pools._edits)]
    for lock in locks:
        lock.acquire()
    try:
        signalled = threading.Thread(target=edge.let_go, daemon=True)
        signalled.start()
        signalled.join(5)
        assert not signalled.is_alive()
    finally:
        for lock in locks:
            lock.release()
    late = pools.submit(Request("GET", "/api/sessions"), lambda: None)
    with pytest.raises(Cancelled):
        late.result(5)
    assert edge.close()


HOST = b"Host: 127.0.0.1\r\n"


@pytest.mark.parametrize(
    "asked",
    [
        *(
            b"GET " + address + b" HTTP/1.1\r\n" + HOST + b"\r\n"
            for address in (b"/", b"/api/sessions", b"/api/nothing", b"/icon.svg")
        ),
        b"GET /api/news HTTP/1.1\r\n" + HOST + b"\r\n",
        b"GET /api/hand HTTP/1.1\r\n" + HOST + b"\r\n",
        b"POST /api/hand HTTP/1.1\r\n" + HOST + b"Content-Length: 3\r\n\r\n[0]",
        b"GET / HTTP/1.1\r\nHost: elsewhere.example\r\n\r\n",
        b"POST /api/sessions HTTP/1.1\r\n" + HOST + b"Content-Length: 99999999\r\n\r\n",
        b"no request at all\r\n\r\n",
    ],
)
def test_every_answer_carries_the_policy(whole: Served, asked: bytes) -> None:
    """Pages, the interface, what is relayed, what is refused by its head, and what is no request."""
    head = whole.say(asked).partition(b"\r\n\r\n")[0].decode()
    headers = [line.partition(": ")[::2] for line in head.split("\r\n")[1:]]
    told = {name.lower(): value for name, value in headers}
    assert len(told) == len(headers), "none is said twice"
    assert {name.lower(): value for name, value in HEADERS.items()}.items() <= told.items()
    policy = told["content-security-policy"].split("; ")
    assert {"default-src 'self'", "script-src 'self'", "frame-ancestors 'none'"} <= set(policy)
    assert "microphone=()" in told["permissions-policy"]
    assert "midi=(self)" in told["permissions-policy"]
