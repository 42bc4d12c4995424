"""A real browser for what is measured in one."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from playwright.sync_api import Browser, ViewportSize, sync_playwright
from tests.browser.conftest import CHROMIUM, FLAGS

VIEW = ViewportSize(width=1280, height=800)


@contextmanager
def chromium() -> Iterator[Browser]:
    """Debian's Chromium, as the tests run it."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        yield browser
        browser.close()
