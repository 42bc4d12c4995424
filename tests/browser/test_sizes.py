"""Windows of all sizes: nothing that is worked with is cut off, and in large ones text and handles are larger."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect

from tests.browser.hands import (
    FEATURE,
    GUIDE,
    SONG,
    box_of,
    capsule,
    clip_of,
    drag,
    eventually,
    fresh,
    middle,
    open_stage,
    position,
)
from tests.helpers.program import Program

STAGES = ("survey", "phrases", "details", "ride", "balance", "signoff")
CUT_OFF = """() => {
  const meant = 'button, a[href], input:not([type=hidden]), select, [role=slider], [role=tab], [role=radio]';
  const scrolls = (style, axis) => ['auto', 'scroll'].includes(style[axis]);
  const cut = [];
  for (const one of document.querySelectorAll(meant)) {
    // what lies in the picture goes on beyond its window; a box without size is drawn by its label
    if (one.closest('.capsule, .lane-clip, [aria-hidden=true], [class*=VisuallyHidden]')) continue;
    if (!one.checkVisibility({ visibilityProperty: true })) continue;
    const own = one.getBoundingClientRect();
    if (own.width < 2 || own.height < 2) continue;
    let box = { left: own.left, right: own.right, top: own.top, bottom: own.bottom };
    let canBeReached = false;
    for (let around = one.parentElement; around; around = around.parentElement) {
      const style = getComputedStyle(around);
      const edge = around.getBoundingClientRect();
      const inX = box.left >= edge.left - 1 && box.right <= edge.right + 1;
      const inY = box.top >= edge.top - 1 && box.bottom <= edge.bottom + 1;
      if ((!inX && scrolls(style, 'overflowX')) || (!inY && scrolls(style, 'overflowY'))) { canBeReached = true; break; }
      if ((!inX && style.overflowX !== 'visible') || (!inY && style.overflowY !== 'visible')) {
        cut.push((one.getAttribute('aria-label') || one.textContent || one.tagName).slice(0, 40) + ' in ' + around.className);
        canBeReached = true;
        break;
      }
    }
    if (!canBeReached && (own.right > innerWidth + 1 || own.bottom > innerHeight + 1 || own.left < -1 || own.top < -1))
      cut.push((one.getAttribute('aria-label') || one.textContent || one.tagName).slice(0, 40) + ' beyond the window');
  }
  return cut;
}"""
"""What can be pressed, moved or typed into, but lies at least in part where it is cut off and cannot be scrolled to."""


@pytest.mark.parametrize(("width", "height"), [(1024, 700), (1280, 800), (1920, 1080)])
@pytest.mark.parametrize("name", [GUIDE, FEATURE, SONG])
def test_no_control_of_any_stage_is_cut_off(page: Page, demo_program: Program, name: str, width: int, height: int) -> None:
    page.set_viewport_size({"width": width, "height": height})
    state = fresh(demo_program, name)
    cut = []
    for stage in STAGES:
        open_stage(page, demo_program, state, stage)
        cut += [f"{stage}: {one}" for one in page.evaluate(CUT_OFF)]
        if stage != "signoff":
            # with something in hand its panel stands there as well
            page.keyboard.press(".")
            expect(page.locator("[aria-pressed=true]").first).to_be_visible()
            cut += [f"{stage}, with one chosen: {one}" for one in page.evaluate(CUT_OFF)]
            page.keyboard.press("Escape")
    assert "\n".join(cut) == ""


def test_the_switches_of_a_second_track_lie_in_a_narrow_window(page: Page, demo_program: Program) -> None:
    page.set_viewport_size({"width": 1024, "height": 700})
    state = fresh(demo_program, GUIDE)
    for stage in STAGES[1:]:
        open_stage(page, demo_program, state, stage)
        for name in ("Mute Sea and harbour", "Solo Sea and harbour", "this track only"):
            expect(page.get_by_role("button", name=name).first).to_be_in_viewport(ratio=1)


def test_a_large_screen_has_larger_text_and_handles_and_the_hand_meets_them(page: Page, demo_program: Program) -> None:
    sizes = {}
    state = fresh(demo_program, SONG)
    first = state["clips"][0]
    size = "one => parseFloat(getComputedStyle(one).fontSize)"
    for width, height in ((1280, 800), (1920, 1080)):
        page.set_viewport_size({"width": width, "height": height})
        open_stage(page, demo_program, state)
        sizes[width] = {
            "words": page.locator(".row-words").first.evaluate(size),
            "button": page.get_by_role("button", name=re.compile("^Draft")).evaluate(size),
            "row": box_of(page.locator(".row").first)["height"],
            "phrase": box_of(capsule(page, first))["height"],
            "thumb": box_of(page.get_by_role("slider", name="Strength"))["height"],
        }
    small, large = sizes[1280], sizes[1920]
    assert small["words"] == 13
    for name, value in small.items():
        assert 1.04 < large[name] / value < 1.16, name
    # what is drawn lies where it is taken, and time where it is clicked
    page.keyboard.press("Shift+F")
    drag(page, middle(capsule(page, first)), (0, -40))
    eventually(lambda: clip_of(demo_program, state, first)["gain"] > 1)
    page.get_by_test_id("chart").click(position={"x": 52, "y": 30})
    assert position(page) < 0.1
    duration = state["tracks"][0]["timeline"]["duration"]
    wide = box_of(page.get_by_test_id("chart"))["width"]
    page.get_by_test_id("chart").click(position={"x": 52 + (wide - 52) / 2, "y": 30})
    # the field says it with the next frame
    eventually(lambda: abs(position(page) - duration / 2) < 0.4)


def test_a_rule_that_is_longer_than_its_panel_says_so(page: Page, demo_program: Program) -> None:
    open_stage(page, demo_program, fresh(demo_program, GUIDE))
    more = page.get_by_role("button", name="more below")
    expect(more).to_have_count(0)
    page.get_by_role("button", name=re.compile("^ceiling, noise")).click()
    longest = page.get_by_role("slider", name="Longest phrase")
    expect(more).to_be_visible()
    more.click()
    expect(longest).to_be_in_viewport()
    page.get_by_label("Rule", exact=True).evaluate("panel => panel.scrollTo({ top: panel.scrollHeight })")
    expect(more).to_have_count(0)
    expect(page.get_by_text("Keep gains set by hand")).to_be_in_viewport()
