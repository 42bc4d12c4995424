"""The pictures of the README, from the demo as it comes: make pictures.

A program of its own builds the demo, and its sessions are worked on in the order of the README. Pictures that show sound
while it plays are never twice the same; take those that show what has changed.
"""

from __future__ import annotations

import math
import sys
import tempfile
from pathlib import Path

from playwright.sync_api import Browser, Page, ViewportSize, sync_playwright

from tests.browser.conftest import CHROMIUM, FLAGS
from tests.browser.hands import ANSWERED, FEATURE, GUIDE, SONG, box_of, render_link
from tests.helpers.program import Program

FOLDER = Path(__file__).parents[1] / "docs" / "screenshots"
MOMENT, WHILE, LONG = 500, 1500, 6000
"""Milliseconds until a page has drawn itself, has been told what it asked for, and has drafts of a whole track."""


class Camera:
    """The demo by day and by night, in one window each."""

    def __init__(self, browser: Browser, program: Program, only: set[str]) -> None:
        self.browser, self.program, self.only = browser, program, only
        self.day, self.night = (self.window("light"), self.window("dark"))

    def window(self, scheme: str, width: int = 1280, height: int = 800) -> Page:
        size = ViewportSize(width=width, height=height)
        dark = scheme == "dark"
        return self.browser.new_page(viewport=size, color_scheme="dark" if dark else "light", reduced_motion="reduce")

    def go(self, page: Page, name: str, stage: str) -> None:
        page.goto(f"{self.program.address}/s/{self.program.session(name)['id']}/{stage}")
        page.get_by_test_id("figures").wait_for()
        page.wait_for_timeout(WHILE)

    def press(self, page: Page, *keys: str, wait: int = MOMENT) -> None:
        for key in keys:
            page.keyboard.press(key)
            page.wait_for_timeout(wait)
        page.wait_for_function(ANSWERED)

    def take(self, page: Page, name: str) -> None:
        page.wait_for_timeout(2 * MOMENT)
        if not self.only or name in self.only:
            page.screenshot(path=FOLDER / f"{name}.png")
            print(name)

    def both(self, name: str, stage: str, called: str, *keys: str) -> None:
        """A stage by day, where it is open, and by night."""
        for page, scheme in ((self.day, "day"), (self.night, "night")):
            if page is self.night:
                self.go(page, name, stage)
            self.press(page, *keys)
            self.take(page, f"{called}-{scheme}")


def zoom(page: Page, by: int, times: int) -> None:
    """Turn the wheel over the picture; down is further away."""
    page.mouse.move(700, 300)
    page.keyboard.down("Control")
    for _ in range(times):
        page.mouse.wheel(0, by)
        page.wait_for_timeout(60)
    page.keyboard.up("Control")


def ride_by_hand(camera: Camera, page: Page, called: str, lane: str) -> None:
    """The hand while it plays; what was written is discarded."""
    camera.go(page, GUIDE, "ride")
    page.keyboard.press("Shift+F")
    page.get_by_text(lane, exact=True).first.click()
    page.get_by_text("touch", exact=True).click()
    camera.press(page, "Home", "h")
    zoom(page, -100, 14)
    camera.press(page, "Home", "Space", wait=3500)
    box = box_of(page.get_by_test_id("hand"))
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] * 0.3
    page.mouse.move(x, y)
    page.mouse.down()
    for step in range(44):
        page.mouse.move(x, y + 40 * math.sin(step / 5))
        page.wait_for_timeout(80)
    if lane == "ride":
        camera.take(page, called)
    page.mouse.up()
    camera.press(page, "Space", wait=WHILE)
    if not page.get_by_test_id("pass").count():
        page.locator(".hand-pass").first.click()
    if lane == "trim":
        camera.take(page, called)
    page.get_by_test_id("pass").get_by_role("button", name="Discard").click()
    page.wait_for_function(ANSWERED)


def take_all(camera: Camera) -> None:
    """Every picture, in the order in which the sessions are worked on."""
    day, night, press = camera.day, camera.night, camera.press
    day.goto(camera.program.address)
    day.get_by_role("link", name=SONG).wait_for()
    camera.take(day, "sessions")
    camera.go(day, SONG, "survey")
    camera.take(day, "survey")
    camera.go(night, FEATURE, "survey")
    camera.take(night, "survey-night")
    camera.go(day, SONG, "phrases")
    press(day, "?")
    camera.take(day, "keys")

    camera.go(day, GUIDE, "phrases")
    press(day, "d", wait=WHILE)
    camera.take(day, "draft")
    press(day, "d", wait=WHILE)
    camera.both(GUIDE, "phrases", "phrases", ".", "Space")
    ride_by_hand(camera, day, "hand-day", "ride")
    ride_by_hand(camera, night, "hand-night", "trim")

    camera.go(day, GUIDE, "details")
    press(day, "d", wait=LONG)
    camera.both(GUIDE, "details", "details", ".", "Space")
    camera.go(day, GUIDE, "ride")
    press(day, "d", "d", wait=LONG)
    for page, scheme in ((day, "day"), (night, "night")):
        if page is night:
            camera.go(page, GUIDE, "ride")
        press(page, ".", "Space", "f")
        zoom(page, 300, 4)
        camera.take(page, f"ride-{scheme}")

    camera.go(day, GUIDE, "balance")
    day.get_by_text("to a distance").click()
    press(day, "d", wait=LONG)
    press(day, ".", "Space", wait=WHILE)
    camera.take(day, "balance-day")
    camera.go(night, GUIDE, "balance")
    night.get_by_text("into the compressor").click()
    night.wait_for_timeout(LONG)
    camera.take(night, "balance-night")
    camera.go(day, GUIDE, "signoff")
    render_link(day)
    camera.take(day, "sign-off")
    small = camera.window("light", 340, 640)
    small.goto(f"{camera.program.address}/hand")
    camera.take(small, "stand-in")


def main() -> None:
    """Take all pictures, or those that are named: python -m tests.pictures phrases-day keys"""
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as playwright:
        program = Program(Path(folder) / "data")
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        try:
            take_all(Camera(browser, program, set(sys.argv[1:])))
        finally:
            browser.close()
            program.stop()


if __name__ == "__main__":
    main()
