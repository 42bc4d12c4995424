"""What a person does at the hand, and what became of it, for tests."""

from __future__ import annotations

from typing import Any

import numpy as np
from playwright.sync_api import Locator, Page, expect

from tests.browser.hands import box_of, eventually, position, wait_past
from tests.conftest import RATE
from tests.helpers.program import Program

MENU = "The hand: how it writes and what moves it"
HELD = """
(() => {
  window.held = [];
  const send = MessagePort.prototype.postMessage;
  MessagePort.prototype.postMessage = function (data, ...rest) {
    if (data?.type === 'hold') window.held.push([...data.points.db]);
    return send.call(this, data, ...rest);
  };
})();
"""
"""An init script: the page notes the gains of what its hands do to the sound."""


def passes(program: Program, state: dict[str, Any]) -> list[dict[str, Any]]:
    return program.get(f"/api/tracks/{state['tracks'][0]['id']}/passes")["items"]


def writes(program: Program, one: dict[str, Any]) -> bool:
    """Whether keeping a pass would write anything."""
    how = {name: one[name] for name in ("glide", "lead", "error", "snap")}
    return bool(program.post(f"/api/passes/{one['id']}/draft", how)["points"])


def gain(program: Program, state: dict[str, Any], at: np.ndarray, layer: str = "ride") -> np.ndarray:
    """What a layer does at some seconds, dB."""
    data = program.get_bytes(f"/api/tracks/{state['tracks'][0]['id']}/gain?layers={layer}")
    points = np.frombuffer(data, "<f8").reshape(-1, 2)
    return np.interp(at * RATE, points[:, 0], points[:, 1])


def start(page: Page, past: float = 0.3) -> float:
    page.keyboard.press("Space")
    return wait_past(page, past)


def wait_round(page: Page) -> None:
    """Wait until a loop begins anew."""
    at = position(page)
    for _ in range(500):
        page.wait_for_timeout(20)
        before, at = at, position(page)
        if at < before:
            return
    raise AssertionError(f"playback has not come round, and is at {at}")


def hand(page: Page) -> float:
    """What is heard of the lane in hand, dB."""
    return float(page.get_by_test_id("hand").get_attribute("aria-valuenow") or "nan")


def pull(page: Page, *ways: float, pause: int = 250) -> None:
    """Take the hand with the mouse, move it by shares of its length, up is positive, and hold it still after each.

    A move that reaches the audio thread together with the next one, or with the letting go, is not heard and not written:
    each is waited for.
    """
    field = page.get_by_test_id("hand")
    box = box_of(field)
    x, y = box["x"] + box["width"] * 0.6, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    expect(field).to_have_attribute("data-held", "true")
    hold_still(page, 100)
    now = hand(page)
    low, high = (float(field.get_attribute(name) or "nan") for name in ("aria-valuemin", "aria-valuemax"))
    for way in ways:
        y -= way * box["height"]
        now += way * (high - low)
        page.mouse.move(x, y, steps=6)
        eventually(lambda now: abs(hand(page) - now) < 0.3, now)
        hold_still(page, pause)


def hold_still(page: Page, milliseconds: int) -> None:
    """Wait by the page's own clock: one that is busy sees a move and what follows it at once."""
    page.evaluate("ms => new Promise((done) => requestAnimationFrame(() => setTimeout(done, ms)))", milliseconds)


def waits(page: Page, program: Program, state: dict[str, Any], count: int) -> list[dict[str, Any]]:
    """The passes, once there are so many, and the newest lies over the lane."""
    eventually(lambda: len(passes(program, state)) == count and writes(program, passes(program, state)[0]))
    expect(page.get_by_test_id("pass")).to_contain_text("points, which may stray")
    return passes(program, state)


def open_menu(page: Page) -> None:
    """Open the menu of the hand."""
    page.get_by_label(MENU).click()


def close_menu(page: Page) -> None:
    """Close it; a menu that is closed gives the keys back."""
    page.keyboard.press("Escape")
    expect(page.get_by_text("The stand-in: a fader")).to_be_hidden()
    expect(page.get_by_label(MENU)).not_to_be_focused()


def armed(page: Page) -> Locator:
    return page.locator(".hand-arm button").first
