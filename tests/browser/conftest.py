"""A real program - server, worker, database - and a real browser that sees nothing but it."""

from __future__ import annotations

import fcntl
import shutil
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Error, Page, Response, expect

from nivelus.web.pages import STATIC
from tests.browser.hands import ANSWERED, HOLDING, PACKED, PATIENCE_SECONDS
from tests.conftest import write_sound
from tests.helpers.program import Program
from tests.helpers.sounds import wavering

CHROMIUM = "/usr/bin/chromium-headless-shell"
FLAGS = [
    "--headless",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--autoplay-policy=no-user-gesture-required",
    "--host-resolver-rules=MAP * ~NOTFOUND , EXCLUDE 127.0.0.1",
]
ROOT = Path(__file__).parents[2]
REFUSED = "Failed to load resource"
expect.set_options(timeout=1000 * PATIENCE_SECONDS)


@pytest.fixture(scope="session", autouse=True)
def _a_page_of_these_sources() -> None:
    """What is tested is the page that the sources make, and not one that was built before they were changed."""
    sources = [path for path in (ROOT / "frontend" / "src").rglob("*") if path.suffix in (".ts", ".tsx", ".css")]
    newest = max(sources, key=lambda path: path.stat().st_mtime)
    if newest.stat().st_mtime > (STATIC / "index.html").stat().st_mtime:
        pytest.exit(f"The page is older than {newest.relative_to(ROOT)}: run make .build/ready.", returncode=1)


@pytest.fixture(scope="session")
def browser_type_launch_args() -> dict[str, Any]:
    return {"executable_path": CHROMIUM, "args": FLAGS}


@pytest.fixture(scope="session")
def browser_context_args() -> dict[str, Any]:
    return {"viewport": {"width": 1280, "height": 800}, "reduced_motion": "reduce", "color_scheme": "light"}


@pytest.fixture(scope="session")
def demo_program(tmp_path_factory: pytest.TempPathFactory, worker_id: str) -> Iterator[Program]:
    """The demo as it is built at the first start: by one of the processes that share the tests; the others have a copy."""
    own = tmp_path_factory.mktemp("demo") / "data"
    if worker_id != "master":
        built = tmp_path_factory.getbasetemp().parent / "built"
        with built.with_suffix(".lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            if not built.exists():
                first = Program(built.with_suffix(".part"))
                first.stop()
                first.data.rename(built)
        shutil.copytree(built, own)
    program = Program(own)
    yield program
    program.stop()


class Spares:
    """Empty programs. One that a test has only worked in is emptied and used again: to start one takes seconds of the CPU."""

    def __init__(self, folder: Callable[[], Path]) -> None:
        self._folder = folder
        self._used: list[Program] = []
        self._new = self._launch()

    def _launch(self) -> Program:
        return Program(self._folder() / "data", "--no-demo", waits=False)

    def take(self) -> Program:
        while self._used:
            program = self._used.pop()
            if program.is_emptied():
                return program
            program.stop()
        # while it is in use the next one starts
        program, self._new = self._new, self._launch()
        program.wait()
        return program

    def give_back(self, program: Program) -> None:
        self._used.append(program)

    def stop(self) -> None:
        for program in (*self._used, self._new):
            program.stop()


@pytest.fixture(scope="session")
def spares(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Spares]:
    spares = Spares(lambda: tmp_path_factory.mktemp("own"))
    yield spares
    spares.stop()


@pytest.fixture
def own_program(spares: Spares) -> Iterator[Program]:
    """An empty program of one's own."""
    program = spares.take()
    process = program.process
    yield program
    if program.process is process and process.poll() is None:
        spares.give_back(program)
    else:
        program.stop()


@pytest.fixture
def page(page: Page, monkeypatch: pytest.MonkeyPatch) -> Page:
    """A page in which a test can hold an answer back, and that hands over sound."""
    page.add_init_script(HOLDING)
    page.add_init_script(PACKED)

    def answered() -> None:
        """What the server knows is looked at when it knows all that was done: the page shows it before that."""
        for _ in range(500):
            if page.is_closed():
                return
            with suppress(Error):
                if page.evaluate(ANSWERED):
                    return
            time.sleep(0.01)

    monkeypatch.setattr(Program, "ready", staticmethod(answered))
    return page


@pytest.fixture
def quiet_page(page: Page) -> Iterator[Page]:
    """A page whose console must stay clean and that asks for nothing elsewhere."""
    faults: list[str] = []
    gone: list[str] = []
    page.on("pageerror", lambda error: faults.append(str(error)))
    # a refused request is told by its address, not by what the console says of it, which names none
    page.on(
        "console",
        lambda message: faults.append(message.text) if message.type == "error" and REFUSED not in message.text else None,
    )

    def look(answer: Response) -> None:
        if answer.status == 404 and "/api/tracks/" in answer.url and answer.request.method == "GET":
            gone.append(answer.url)
        elif answer.status >= 400:
            faults.append(f"{answer.status} {answer.url}")

    page.on("response", look)
    ours = ("http://127.0.0.1", "blob:", "data:")
    page.on("request", lambda request: None if request.url.startswith(ours) else faults.append(request.url))
    yield page
    assert [fault for fault in faults if not fault.startswith(("409", "422"))] == []
    # a track may go while something of it is on its way; a page that goes on asking for it is at fault
    assert [address for address, times in Counter(gone).items() if times > 1] == []


@pytest.fixture
def state(demo_program: Program, tmp_path: Path, request: pytest.FixtureRequest) -> Iterator[dict[str, Any]]:
    """A voice of 16 s in a session of its own, in which nothing is drawn."""
    state = demo_program.brought_in(write_sound(tmp_path / "voice.wav", wavering()), request.node.name[:60])
    yield state
    demo_program.delete(f"/api/sessions/{state['id']}")


@pytest.fixture
def riding(state: dict[str, Any], quiet_page: Page, demo_program: Program) -> Page:
    """The stage Ride of it."""
    quiet_page.goto(f"{demo_program.address}/s/{state['id']}/ride")
    expect(quiet_page.get_by_test_id("hand")).to_be_visible()
    expect(quiet_page.get_by_test_id("figures")).to_contain_text("spread")
    return quiet_page
