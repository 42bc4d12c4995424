"""A real program - server, worker, database - and a real browser that sees nothing but it."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page

from tests.helpers.program import Program

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


@pytest.fixture(scope="session")
def browser_type_launch_args() -> dict[str, Any]:
    return {"executable_path": "/usr/bin/chromium", "args": FLAGS}


@pytest.fixture(scope="session")
def browser_context_args() -> dict[str, Any]:
    return {"viewport": {"width": 1280, "height": 800}, "reduced_motion": "reduce", "color_scheme": "light"}


@pytest.fixture(scope="session")
def demo_program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Program]:
    """The demo as it is built at the first start."""
    program = Program(tmp_path_factory.mktemp("demo") / "data")
    yield program
    program.stop()


@pytest.fixture
def own_program(tmp_path: Path) -> Iterator[Program]:
    """An empty program of one's own."""
    program = Program(tmp_path / "data", "--no-demo")
    yield program
    program.stop()


@pytest.fixture
def quiet_page(page: Page) -> Iterator[Page]:
    """A page whose console must stay clean and that asks for nothing elsewhere."""
    faults: list[str] = []
    page.on("pageerror", lambda error: faults.append(str(error)))
    page.on("console", lambda message: faults.append(message.text) if message.type == "error" else None)
    ours = ("http://127.0.0.1", "blob:", "data:")
    page.on("request", lambda request: None if request.url.startswith(ours) else faults.append(request.url))
    yield page
    assert [fault for fault in faults if "409" not in fault and "422" not in fault] == []
