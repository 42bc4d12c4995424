"""Spans of what is drawn in the stage Ride: lifted, deleted, held, smoothed, and given border points."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from tests.browser.hands import SONG, drag, eventually, gain_height, open_whole, place, ride_of
from tests.browser.spans import curve_now, lift_by_three, select_span
from tests.helpers.program import Program


@pytest.fixture
def song(page: Page, demo_program: Program) -> dict[str, Any]:
    """The song, open at the stage Ride, all of it in the window."""
    return open_whole(page, demo_program, SONG, "ride")


def test_a_span_is_lifted_by_hand_and_by_key_and_nothing_else_moves(page: Page, demo_program: Program, song: dict) -> None:
    select_span(page, song, 5.0, 7.0)
    x, y = place(page, song, 6.0, "gain")
    drag(page, (x, y), (30, -30), release=False)
    expect(page.locator(".hand-label")).to_contain_text(re.compile(r"lift \+\d\.\d dB"))
    page.mouse.up()
    eventually(lambda: len(ride_of(demo_program, song)["ride"]) == 4)
    points = ride_of(demo_program, song)["ride"]
    assert points[0]["db"] == points[3]["db"] == 0
    assert points[1]["db"] == points[2]["db"] > 1
    assert points[1]["at"] == pytest.approx(5.0, abs=0.05)
    assert points[2]["at"] == pytest.approx(7.0, abs=0.05)
    # the same span again: the same points
    page.keyboard.press("ArrowDown")
    eventually(lambda: ride_of(demo_program, song)["ride"][1]["db"] == pytest.approx(points[1]["db"] - 0.5))
    assert len(ride_of(demo_program, song)["ride"]) == 4
    page.get_by_label("Lift the ride by").fill("-3")
    page.keyboard.press("Enter")
    eventually(lambda: ride_of(demo_program, song)["ride"][1]["db"] == pytest.approx(points[1]["db"] - 3.5))
    page.keyboard.press("Backspace")
    eventually(lambda: ride_of(demo_program, song)["ride"] == [])
    page.keyboard.press("Control+z")
    page.keyboard.press("Control+z")
    eventually(lambda: ride_of(demo_program, song)["ride"][1]["db"] == pytest.approx(points[1]["db"] - 0.5))


def test_an_edge_of_a_lift_is_moved_later(page: Page, demo_program: Program, song: dict) -> None:
    select_span(page, song, 5.0, 7.0)
    lift_by_three(page)
    before = ride_of(demo_program, song)["ride"]
    assert len(before) == 4
    x, _ = place(page, song, 7.0, "gain")
    page.keyboard.down("Control")
    drag(page, (x, gain_height(page, -12)), (60, 5), release=False)
    expect(page.locator(".hand-label")).to_contain_text("edge of the span")
    page.mouse.up()
    page.keyboard.up("Control")
    eventually(lambda: ride_of(demo_program, song)["ride"][3]["at"] > before[3]["at"] + 1)
    after = ride_of(demo_program, song)["ride"]
    assert after[:2] == before[:2]
    assert after[3]["at"] - after[2]["at"] == pytest.approx(before[3]["at"] - before[2]["at"], abs=1e-5)
    assert [p["db"] for p in after] == [0, 3, 3, 0]
    # the span goes with its edge, so the next lift fits
    page.keyboard.press("ArrowUp")
    eventually(lambda: [p["db"] for p in ride_of(demo_program, song)["ride"]] == [0, 3.5, 3.5, 0])


@pytest.mark.parametrize("key", ["Delete", "Backspace", ""])
def test_a_deleted_span_goes_back_to_0_and_no_further(page: Page, demo_program: Program, song: dict, key: str) -> None:
    """In the middle of a drafted ride: no slope from side to side, nothing moved outside; the step says where it goes."""
    page.keyboard.press("d")
    page.get_by_role("button", name=re.compile("Accept the ride")).click()
    eventually(lambda: len(ride_of(demo_program, song)["ride"]) > 10)
    before = curve_now(demo_program, song)
    select_span(page, song, 9.0, 14.0)

    def delete() -> None:
        page.keyboard.press(key) if key else page.get_by_role("button", name="Clear the span").click()

    delete()
    eventually(lambda: demo_program.session(SONG)["undo"] == "Delete a range of the ride: back to 0 dB")
    now = curve_now(demo_program, song)
    outside = np.r_[np.linspace(0, 8.9, 200), np.linspace(14.1, 30, 200)]
    assert now(outside) == pytest.approx(before(outside), abs=0.02)
    assert np.abs(now(np.linspace(9.2, 13.8, 50))).max() < 0.01
    delete()
    expect(page.get_by_text("There is nothing to delete here: the ride is at 0 dB.")).to_be_visible()


def test_a_span_is_held_smoothed_and_given_border_points_by_keys(page: Page, demo_program: Program, song: dict) -> None:
    select_span(page, song, 9.0, 12.0)
    lift_by_three(page)
    page.keyboard.press("p")
    page.get_by_label("Shape to the next point").select_option("hold")
    eventually(lambda: ride_of(demo_program, song)["ride"][1]["shape"] == "hold")
    start, end = (ride_of(demo_program, song)["ride"][place]["at"] for place in (1, 2))
    held = curve_now(demo_program, song)
    # its edges are those of the span, with the de-click ramp of 5 ms
    assert held([start - 0.006, start, end, end + 0.006]) == pytest.approx([0, 3, 3, 0], abs=0.01)
    page.keyboard.press("Control+z")
    # border points of another span: two, and with the same key again four
    select_span(page, song, 20.0, 22.0)
    for count in (6, 8):
        page.keyboard.press("Shift+P")
        eventually(lambda count: len(ride_of(demo_program, song)["ride"]) == count, count)
    # or by the mouse
    select_span(page, song, 26.0, 28.0)
    page.get_by_role("button", name="More about the ride").click()
    page.get_by_role("menuitem", name="Add border points: four").click()
    eventually(lambda: len(ride_of(demo_program, song)["ride"]) == 12)
    # smoothed by as much as was chosen: the key takes that from then on
    select_span(page, song, 8.0, 13.0)
    page.get_by_role("button", name="More about the ride").click()
    page.get_by_role("menuitem", name="Smooth the span over 1 s").click()
    eventually(lambda: demo_program.session(SONG)["undo"] == "Smooth the ride over 1 s")
    page.keyboard.press("Control+z")
    eventually(lambda: demo_program.session(SONG)["undo"] != "Smooth the ride over 1 s")
    select_span(page, song, 8.0, 13.0)
    page.keyboard.press("s")
    eventually(lambda: demo_program.session(SONG)["undo"] == "Smooth the ride over 1 s")
    smoothed = curve_now(demo_program, song)
    assert smoothed([(start + end) / 2]) == pytest.approx([3.0], abs=0.1)
    at = np.linspace(8.0, 13.0, 2001)
    assert np.abs(np.gradient(smoothed(at), at)).max() < 6


def test_escape_takes_a_lift_back(page: Page, demo_program: Program, song: dict) -> None:
    select_span(page, song, 5.0, 7.0)
    x, y = place(page, song, 6.0, "gain")
    drag(page, (x, y), (0, -30), release=False)
    expect(page.locator(".hand-label")).to_contain_text("lift")
    page.keyboard.press("Escape")
    expect(page.locator(".hand-label")).to_be_hidden()
    page.mouse.up()
    assert ride_of(demo_program, song)["ride"] == []
