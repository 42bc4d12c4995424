"""A session that is open in two windows: each hears of what is done in the other, and keeps its own hand and view."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect

from tests.browser.hands import capsule, clip_of, drag, eventually, gain_told, middle, open_stage, row
from tests.conftest import write_sound
from tests.helpers.program import Program
from tests.helpers.sounds import wavering

NO_EVENTS = "delete window.EventSource; window.EventSource = class { close() {} };"
"""A browser in which nothing can be listened to: the page asks by itself."""
DEAF = (
    NO_EVENTS
    + """
window.BroadcastChannel = class { postMessage() {} close() {} };
const own = window.fetch;
window.fetch = (request, ...more) =>
  /\\/revision$/.test(request.url ?? request) ? Promise.reject(new TypeError("deaf")) : own(request, ...more);
"""
)
"""A page that hears of nothing: it is found out when it edits."""


@pytest.fixture
def opened(own_program: Program, voice_file: Path) -> dict[str, Any]:
    return own_program.brought_in(voice_file)


def two(context: BrowserContext, program: Program, state: dict[str, Any], script: str = "") -> tuple[Page, Page]:
    one, other = context.new_page(), context.new_page()
    if script:
        other.add_init_script(script)
    for window in (one, other):
        open_stage(window, program, state)
    return one, other


def nudge(page: Page, clip: dict[str, Any], key: str = "ArrowUp") -> None:
    row(page, clip).click()
    page.keyboard.press(key)


def test_a_window_follows_the_other_and_keeps_its_selection_and_view(
    context: BrowserContext, own_program: Program, opened: dict[str, Any]
) -> None:
    first, second, third = opened["clips"][:3]
    one, other = two(context, own_program, opened)
    row(other, third).click()
    other.keyboard.press("f")
    at = capsule(other, third).bounding_box()
    nudge(one, first)
    for window in (one, other):
        expect(row(window, first)).to_have_accessible_name(re.compile(r"gain \+0\.5 dB"))
    expect(row(other, third)).to_have_attribute("aria-pressed", "true")
    assert capsule(other, third).bounding_box() == at
    # the other way round, undo included: the newest step is everybody's
    nudge(other, second, "ArrowDown")
    expect(row(one, second)).to_have_accessible_name(re.compile(r"gain −0\.5 dB"))
    one.keyboard.press("Control+z")
    expect(row(other, second)).to_have_accessible_name(re.compile(r"gain 0\.0 dB"))
    # the window that listened for both is closed: the other goes on
    one.close()
    own_program.post(
        f"/api/tracks/{first['track']}/gain",
        {"revision": own_program.get(f"/api/sessions/{opened['id']}")["revision"], "clips": [third["id"]], "by": 2.0},
    )
    expect(row(other, third)).to_have_accessible_name(re.compile(r"gain \+2\.0 dB"))


def test_an_import_is_heard_of(context: BrowserContext, own_program: Program, opened: dict[str, Any], tmp_path: Path) -> None:
    one, other = two(context, own_program, opened)
    one.keyboard.press("1")
    one.get_by_label("Sound files").set_input_files(write_sound(tmp_path / "second voice.wav", wavering()))
    for window in (one, other):
        expect(window.get_by_role("tab", name="second voice")).to_be_visible(timeout=20_000)


def test_a_window_asks_where_it_cannot_listen(context: BrowserContext, own_program: Program, opened: dict[str, Any]) -> None:
    context.add_init_script(NO_EVENTS)
    first = opened["clips"][0]
    one, other = two(context, own_program, opened)
    nudge(one, first)
    expect(row(other, first)).to_have_accessible_name(re.compile(r"gain \+0\.5 dB"))


def test_the_hand_keeps_what_it_holds(context: BrowserContext, own_program: Program, opened: dict[str, Any]) -> None:
    """A phrase that is being dragged stays in the hand while another window edits, and is let go where it was dragged to."""
    first, second = opened["clips"][:2]
    one, other = two(context, own_program, opened)
    drag(other, middle(capsule(other, second)), (0, -30), release=False)
    held = other.locator(".hand-label").inner_text()
    nudge(one, first)
    expect(row(other, first)).to_have_accessible_name(re.compile(r"gain \+0\.5 dB"))
    assert other.locator(".hand-label").inner_text() == held
    other.mouse.up()
    moved = float(re.findall(r"[+-]?\d+\.\d", held.replace("−", "-"))[0])
    assert moved > 0
    eventually(lambda: abs(clip_of(own_program, opened, second)["gain"] - moved) < 0.05)
    assert gain_told(capsule(other, second)) == pytest.approx(moved)
    eventually(lambda: clip_of(own_program, opened, first)["gain"] == 0.5)


def test_a_window_that_has_heard_nothing_does_what_touches_nothing_new_and_is_told_of_the_rest(
    browser: Browser, context: BrowserContext, own_program: Program, opened: dict[str, Any]
) -> None:
    first, second = opened["clips"][:2]
    one, other = two(context, own_program, opened, DEAF)
    nudge(one, first)
    eventually(lambda: clip_of(own_program, opened, first)["gain"] == 0.5)
    # what the other touches has not changed: it is done, and what it has missed is shown
    nudge(other, second, "ArrowDown")
    eventually(lambda: clip_of(own_program, opened, second)["gain"] == -0.5)
    expect(row(other, first)).to_have_accessible_name(re.compile(r"gain \+0\.5 dB"))
    expect(row(other, second)).to_have_accessible_name(re.compile(r"gain −0\.5 dB"))
    expect(row(one, second)).to_have_accessible_name(re.compile(r"gain −0\.5 dB"))
    # what it touches has changed meanwhile: refused with a sentence, and shown as it is
    nudge(one, first)
    eventually(lambda: clip_of(own_program, opened, first)["gain"] == 1.0)
    nudge(other, first, "ArrowDown")
    expect(other.get_by_text("changed in another window")).to_be_visible()
    expect(row(other, first)).to_have_accessible_name(re.compile(r"gain \+1\.0 dB"))
    assert clip_of(own_program, opened, first)["gain"] == 1.0
    other.keyboard.press("ArrowDown")
    eventually(lambda: clip_of(own_program, opened, first)["gain"] == 0.5)
