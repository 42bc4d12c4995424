"""The play line and the free span by key and by number, and what is pasted at the time it came from."""

from __future__ import annotations

from typing import Any

import pytest
from playwright.sync_api import Page, expect

from tests.browser.hands import GUIDE, SONG, eventually, fresh, open_stage, open_whole, place, position, ride_of
from tests.helpers.program import Program


@pytest.fixture
def song(page: Page, demo_program: Program) -> dict[str, Any]:
    return open_whole(page, demo_program, SONG, "phrases")


def press(page: Page, *keys: str) -> float:
    for key in keys:
        page.keyboard.press(key)
    return drawn(page)


def drawn(page: Page) -> float:
    """Where the play line is once it is drawn there."""
    page.evaluate("() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)))")
    return position(page)


def test_the_play_line_is_moved_by_keys_and_typed(page: Page, song: dict) -> None:
    length = song["tracks"][0]["timeline"]["duration"]
    assert press(page, "Home") == 0
    assert press(page, "End") == pytest.approx(length, abs=0.002)
    assert press(page, "Home", "ArrowRight", "ArrowRight", "ArrowRight") == pytest.approx(0.03 * length, abs=0.01)
    assert press(page, "ArrowLeft") == pytest.approx(0.02 * length, abs=0.01)
    # a page is the window
    page.locator(".row").first.click()
    page.keyboard.press("f")
    page.keyboard.press("Escape")
    start = press(page, "Home")
    page_long = press(page, "PageDown") - start
    assert 0 < page_long < length
    assert press(page, "PageDown") == pytest.approx(2 * page_long, abs=0.01)
    assert press(page, "PageUp") == pytest.approx(page_long, abs=0.01)
    # it stays in the window
    expect(page.get_by_test_id("play-line")).to_be_visible()
    # a time is typed where it stands; what is no time says so and goes nowhere
    field = page.get_by_label("Position")
    for typed, at in (("0:12.5", 12.5), ("7,25", 7.25), ("1:02", min(62.0, length))):
        field.fill(typed)
        field.press("Enter")
        assert drawn(page) == pytest.approx(at, abs=0.01)
    was = drawn(page)
    field.fill("soon")
    field.press("Enter")
    expect(page.get_by_text("“soon” is no time. Write 83.5 or 1:23.5.")).to_be_visible()
    field.fill("3")
    field.press("Escape")
    assert drawn(page) == was
    # the keys are those of the picture again
    assert press(page, "Home") == 0


def test_a_span_is_drawn_by_keys_and_stays_where_the_mouse_draws_it(page: Page, demo_program: Program, song: dict) -> None:
    page.keyboard.press("4")
    page.get_by_label("Position").fill("10")
    page.get_by_label("Position").press("Enter")
    first = drawn(page)
    last = press(page, "Shift+ArrowRight", "Shift+ArrowRight", "Shift+ArrowRight", "Shift+ArrowLeft")
    inspector = page.get_by_test_id("inspector")
    expect(inspector).to_contain_text("Span")
    page.keyboard.press("ArrowUp")
    eventually(lambda: len(ride_of(demo_program, song)["ride"]) == 4)
    points = ride_of(demo_program, song)["ride"]
    assert [points[1]["at"], points[2]["at"]] == pytest.approx([first, last], abs=0.002)
    # from the beginning of another one, to the left
    page.keyboard.press("Escape")
    page.get_by_label("Position").fill("20")
    page.get_by_label("Position").press("Enter")
    page.keyboard.press("Shift+Home")
    page.keyboard.press("Delete")
    eventually(lambda: ride_of(demo_program, song)["ride"] == [])


def test_a_click_places_the_play_line_softly_at_a_phrase(page: Page, song: dict) -> None:
    edge = song["clips"][1]["phrase_start"]
    x, y = place(page, song, edge, "wave-overlay")
    page.mouse.click(x + 3, y)
    assert drawn(page) == pytest.approx(edge, abs=0.002)
    # and does not where it is not wanted
    page.keyboard.down("Control")
    page.mouse.click(x + 3, y)
    page.keyboard.up("Control")
    assert abs(drawn(page) - edge) > 0.01


def test_points_and_whole_lanes_are_pasted_at_the_same_time_on_another_track(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, GUIDE)
    open_stage(page, demo_program, state, "ride")
    track, bed = (one["id"] for one in state["tracks"][:2])
    at = f"/api/tracks/{track}/lanes"
    for start, by in ((10.0, -3.0), (30.0, -5.0)):
        revision = demo_program.session(GUIDE)["revision"]
        body = {"revision": revision, "lane": "ride", "start": start, "end": start + 2, "by": by}
        demo_program.post(f"{at}/lift", body)
    page.reload()
    page.get_by_role("radiogroup", name="Lane in hand").get_by_text("ride", exact=True).wait_for()

    def ride(of: str) -> list[tuple[float, float]]:
        return [(round(p["at"], 2), p["db"]) for p in demo_program.get(f"/api/tracks/{of}/lanes")["ride"]]

    # all of the lane where nothing is selected
    page.keyboard.press("Control+c")
    expect(page.get_by_text("of the ride copied")).to_be_visible()
    page.get_by_role("tab").nth(1).click()
    page.keyboard.press("Shift+Control+V")
    eventually(lambda: len(ride(bed)) >= 8)
    assert {point for point in ride(track) if point[1]} <= set(ride(bed))
    page.keyboard.press("Control+z")
    eventually(lambda: ride(bed) == [])
    # and only what lies between the points that are selected
    page.get_by_role("tab").first.click()
    page.keyboard.press("p")
    expect(page.get_by_test_id("inspector")).to_contain_text("8 points")
    page.keyboard.press("Control+c")
    expect(page.get_by_text("8 points of the ride copied")).to_be_visible()
    page.get_by_role("tab").nth(1).click()
    page.keyboard.press("Shift+Control+V")
    eventually(lambda: {point for point in ride(track) if point[1]} <= set(ride(bed)))
