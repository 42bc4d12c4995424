"""Passes: compared, thinned, led, heard again, kept as clip gain."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from tests.browser.hands import box_of, eventually, position, wait_past
from tests.browser.riding import HELD, armed, close_menu, gain, open_menu, passes, pull, start, wait_round, waits
from tests.helpers.program import Program


def test_rounds_of_a_loop_are_compared_and_the_best_is_kept(riding: Page, demo_program: Program, state: dict[str, Any]) -> None:
    page = riding
    clip = next(c for c in state["clips"] if c["phrase_start"] is not None)
    page.goto(f"{demo_program.address}/s/{state['id']}/ride?phrase={clip['id']}")
    expect(page.get_by_test_id("hand")).to_be_visible()
    page.get_by_label("Stay armed").click()
    page.keyboard.press("h")
    page.keyboard.press("o")
    expect(page.locator(".hand-note")).to_contain_text("from 0:")
    page.keyboard.press("Space")
    for round_ in range(2):
        wait_past(page, clip["phrase_start"] + 0.3)
        pull(page, 0.1 + 0.1 * round_)
        page.mouse.up()
        wait_round(page)
        expect(page.get_by_role("option", name=f"Pass {round_ + 1}")).to_be_visible()
    page.keyboard.press("Space")
    made = waits(page, demo_program, state, 2)
    # pinned, it stays armed
    expect(armed(page)).to_have_attribute("aria-pressed", "true")
    for one in made:
        assert clip["start"] - 0.01 <= one["start"] < one["end"] <= clip["end"] + 0.01
        assert one["span"] is not None
    page.get_by_role("option", name="Pass 1").click()
    expect(page.get_by_test_id("pass")).to_contain_text("Pass 1")
    page.get_by_test_id("pass").get_by_role("button", name="Discard").click()
    eventually(lambda: [p["number"] for p in passes(demo_program, state)] == [2])
    page.get_by_role("option", name="Pass 2").click()
    page.get_by_test_id("pass").get_by_role("button", name="Keep").click()
    eventually(lambda: passes(demo_program, state)[0]["state"] == "kept")
    # nothing outside of what was selected
    at = np.concatenate([np.arange(0, clip["start"] - 0.01, 0.01), np.arange(clip["end"] + 0.01, 16, 0.01)])
    assert np.abs(gain(demo_program, state, at)).max() == 0
    assert gain(demo_program, state, np.linspace(clip["start"], clip["end"], 300)).max() > 3


def test_thinning_counts_its_points_and_a_lead_moves_it(riding: Page, demo_program: Program, state: dict[str, Any]) -> None:
    page = riding
    page.keyboard.press("h")
    start(page)
    pull(page, -0.2, 0.15, -0.1, 0.2, pause=150)
    page.mouse.up()
    page.keyboard.press("Space")
    (made,) = waits(page, demo_program, state, 1)
    inspector = page.get_by_test_id("pass")
    expect(inspector).to_contain_text("points")
    few = inspector.get_by_text("points, which may stray by")
    first = int((few.inner_text()).split()[0])
    inspector.get_by_role("slider", name="Points may stray").focus()
    for _ in range(12):
        page.keyboard.press("ArrowRight")
    expect(few).not_to_have_text(f"{first} points, which may stray by")
    assert int(few.inner_text().split()[0]) < first
    inspector.get_by_role("slider", name="Shift earlier by").focus()
    for _ in range(10):
        page.keyboard.press("ArrowRight")
    expect(inspector).to_contain_text("100 ms")
    inspector.get_by_role("button", name="Keep").click()
    eventually(lambda: passes(demo_program, state)[0]["state"] == "kept")
    (kept,) = passes(demo_program, state)
    assert (kept["lead"], round(kept["error"], 2)) == (0.1, 0.85)
    at = np.linspace(0, 16, 16001)
    moved = at[np.abs(gain(demo_program, state, at)) > 0.01]
    assert moved[0] == pytest.approx(made["start"] - 0.1, abs=0.25)


def test_glide_and_lead_are_set_before_the_first_pass(riding: Page, demo_program: Program, state: dict[str, Any]) -> None:
    page = riding
    open_menu(page)
    for name, presses, words in (("Shift earlier by", 8, "80 ms"), ("Glide back over", 4, "500 ms")):
        page.get_by_role("slider", name=name).focus()
        for _ in range(presses):
            page.keyboard.press("ArrowRight")
        expect(page.locator(".hand-times")).to_contain_text(words)
    close_menu(page)
    page.keyboard.press("h")
    start(page)
    pull(page, -0.2)
    page.mouse.up()
    page.keyboard.press("Space")
    (made,) = waits(page, demo_program, state, 1)
    assert (made["lead"], made["glide"]) == (0.08, 0.5)


def test_a_pass_that_is_heard_is_heard_again_after_a_move_that_was_called_off(
    page: Page, demo_program: Program, state: dict[str, Any]
) -> None:
    page.add_init_script(HELD)
    page.goto(f"{demo_program.address}/s/{state['id']}/ride")
    expect(page.get_by_test_id("figures")).to_contain_text("spread")
    page.keyboard.press("h")
    start(page)
    pull(page, -0.2)
    page.mouse.up()
    page.keyboard.press("Space")
    waits(page, demo_program, state, 1)
    eventually(lambda: page.evaluate("window.held.length > 0"))
    laid = page.evaluate("window.held.at(-1)")
    assert min(laid) < -2
    # a line is drawn, and Escape calls it off
    box = box_of(page.get_by_test_id("gain"))
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.keyboard.down("Shift")
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 80, y - 20, steps=4)
    page.keyboard.up("Shift")
    eventually(lambda: page.evaluate("window.held.at(-1)") != laid)
    page.keyboard.press("Escape")
    page.mouse.up()
    eventually(lambda: page.evaluate("window.held.at(-1)") == laid)


def test_as_clip_gain_what_is_heard_stays(riding: Page, demo_program: Program, state: dict[str, Any]) -> None:
    page = riding
    page.keyboard.press("h")
    page.keyboard.press("Shift+H")
    start(page, 0.1)
    pull(page, -0.15)
    page.mouse.up()
    # a phrase that lies under it as a whole
    begun = position(page)
    whole = next(c for c in state["clips"] if (c["phrase_start"] or 0) > begun)
    wait_past(page, whole["phrase_end"] + 0.2)
    page.keyboard.press("Space")
    waits(page, demo_program, state, 1)
    page.get_by_role("button", name="as clip gain").click()
    eventually(lambda: passes(demo_program, state)[0]["state"] == "kept")
    now = demo_program.get(f"/api/sessions/{state['id']}")
    assert now["undo"].startswith("Turn pass 1 into clip gain of")
    gained = next(c["gain"] for c in now["clips"] if c["id"] == whole["id"])
    assert gained == pytest.approx(-3.9, abs=0.3)
    middle = np.array([(whole["phrase_start"] + whole["phrase_end"]) / 2])
    assert gain(demo_program, state, middle, "clip")[0] == pytest.approx(gained, abs=0.01)
    assert gain(demo_program, state, middle)[0] == pytest.approx(0, abs=0.3)
