"""Windows of all sizes: nothing that is worked with is cut off, and in large ones text and handles are larger."""

from __future__ import annotations

import pytest
from playwright.sync_api import Page, expect

from tests.browser.hands import FEATURE, GUIDE, SONG, fresh, open_stage
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


def test_text_and_handles_are_a_step_larger_in_a_large_window(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, GUIDE)
    sizes = []
    for width, height in ((1280, 800), (1920, 1080)):
        page.set_viewport_size({"width": width, "height": height})
        open_stage(page, demo_program, state, "phrases")
        thumb = page.get_by_role("slider", name="Tolerance")
        sizes.append(
            (
                thumb.evaluate("one => one.getBoundingClientRect().width"),
                page.locator(".row").first.evaluate("one => parseFloat(getComputedStyle(one).fontSize)"),
            )
        )
    (handle, text), (larger_handle, larger_text) = sizes
    assert larger_handle >= 1.1 * handle
    assert larger_text >= 1.1 * text
