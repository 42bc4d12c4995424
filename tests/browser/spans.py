"""Spans of what is drawn, by hand."""

from __future__ import annotations

from typing import Any

from playwright.sync_api import Page, expect

from nivelus.core.deliver.curve_csv import read_csv
from tests.browser.hands import drag, place
from tests.helpers.program import Program


def select_span(page: Page, state: dict[str, Any], start: float, end: float) -> None:
    """Drag across the wave, without snapping."""
    (x0, y), (x1, _) = (place(page, state, at, "wave-overlay") for at in (start, end))
    page.keyboard.down("Control")
    drag(page, (x0, y), (x1 - x0, 0))
    page.keyboard.up("Control")
    expect(page.get_by_test_id("inspector")).to_contain_text("Span")


def lift_by_three(page: Page) -> None:
    """Lift the selected span; the page has the points a moment after the server."""
    page.get_by_label("Lift the ride by").fill("3")
    with page.expect_response(lambda answer: "/heard?" in answer.url):
        page.keyboard.press("Enter")


def lane(page: Page, name: str) -> None:
    """Take a lane in hand."""
    page.get_by_role("radiogroup", name="Lane in hand").get_by_text(name, exact=True).click()


def curve_now(program: Program, song: dict[str, Any]) -> Any:
    """The ride as it is written out."""
    return read_csv(program.get_bytes(f"/api/tracks/{song['tracks'][0]['id']}/lanes/ride.csv"))
