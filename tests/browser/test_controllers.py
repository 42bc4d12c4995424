"""What moves the hand from outside of the page: the stand-in's own page, and a MIDI device that is put into the browser."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from tests.browser.hands import MIDI, box_of, eventually, wait_past
from tests.browser.riding import close_menu, gain, open_menu, passes, start, waits
from tests.helpers.program import Program


def open_stand_in(page: Page) -> Page:
    """Open the stand-in from the menu of the hand; its page, once it shows what it moves."""
    open_menu(page)
    with page.expect_popup() as popup:
        page.get_by_role("menuitem", name="Open the stand-in").click()
    other = popup.value
    close_menu(page)
    expect(other.locator("#lane")).to_have_text("voice: ride")
    return other


def shown(program: Program) -> dict[str, Any]:
    """What the page that listens shows of its hand."""
    told: dict[str, Any] = program.post("/api/hand", b"")["shown"]
    return told


def test_the_stand_in_rides_from_a_window_of_its_own(riding: Page, demo_program: Program, state: dict[str, Any]) -> None:
    page = riding
    other = open_stand_in(page)
    page.bring_to_front()
    page.keyboard.press("h")
    expect(other.locator("#mode")).to_have_text("touch, armed")
    start(page)
    other.bring_to_front()
    box = box_of(other.locator("#field"))
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    other.mouse.move(x, y)
    other.mouse.down()
    other.mouse.move(x, y + box["height"] * 0.2, steps=12)
    expect(other.locator("#mode")).to_have_text("writing")
    # a last move that arrives together with the letting go is not heard, and so not written
    eventually(lambda: shown(demo_program)["db"] == pytest.approx(-5.2, abs=0.2))
    other.mouse.up()
    page.bring_to_front()
    eventually(lambda: shown(demo_program)["db"] == 0)
    page.keyboard.press("Space")
    (made,) = waits(page, demo_program, state, 1)
    page.keyboard.press("d")
    eventually(lambda: passes(demo_program, state)[0]["state"] == "kept")
    assert gain(demo_program, state, np.linspace(made["start"], made["end"], 400)).min() == pytest.approx(-5.2, abs=0.4)


def test_a_stand_in_closed_in_mid_gesture_has_let_go(riding: Page, demo_program: Program, state: dict[str, Any]) -> None:
    page = riding
    other = open_stand_in(page)
    page.keyboard.press("h")
    start(page)
    box = box_of(other.locator("#field"))
    other.mouse.move(box["x"] + 50, box["y"] + 50)
    other.mouse.down()
    other.mouse.move(box["x"] + 50, box["y"] + 120, steps=6)
    expect(page.get_by_test_id("hand")).to_have_attribute("data-held", "true")
    other.close()
    expect(page.get_by_test_id("hand")).to_have_attribute("data-held", "false")
    page.keyboard.press("Space")
    waits(page, demo_program, state, 1)


# --- a MIDI device


def listen_to_midi(page: Page) -> None:
    open_menu(page)
    page.get_by_role("menuitem", name="Listen to MIDI controllers").click()


@pytest.fixture
def midi(state: dict[str, Any], quiet_page: Page, demo_program: Program) -> Page:
    quiet_page.add_init_script(MIDI)
    quiet_page.goto(f"{demo_program.address}/s/{state['id']}/ride")
    expect(quiet_page.get_by_test_id("hand")).to_be_visible()
    expect(quiet_page.get_by_test_id("figures")).to_contain_text("spread")
    listen_to_midi(quiet_page)
    expect(quiet_page.get_by_text("MIDI: Bench faders")).to_be_visible()
    return quiet_page


def send(page: Page, *bytes_: int, device: str = "one") -> None:
    page.evaluate("([id, ...bytes]) => window.midi(id, ...bytes)", [device, *bytes_])


def test_a_controller_is_picked_up_where_the_lane_is(midi: Page, demo_program: Program, state: dict[str, Any]) -> None:
    page = midi
    close_menu(page)
    page.keyboard.press("h")
    start(page)
    send(page, 0xB0, 7, 20)
    expect(page.locator(".hand-note")).to_contain_text("move it past")
    expect(page.get_by_test_id("hand")).to_have_attribute("data-held", "false")
    for value in range(20, 118, 7):
        send(page, 0xB0, 7, value)
    expect(page.get_by_test_id("hand")).to_have_attribute("data-held", "true")
    # garbage in the middle of it moves nothing
    send(page, 0xF0, 1, 2, 3)
    send(page, 0xB0, 7)
    send(page, 0xB0, 200, 200)
    # without a touch it has let go when it has rested
    expect(page.get_by_test_id("hand")).to_have_attribute("data-held", "false")
    page.keyboard.press("Space")
    (made,) = waits(page, demo_program, state, 1)
    page.keyboard.press("d")
    eventually(lambda: passes(demo_program, state)[0]["state"] == "kept")
    written = gain(demo_program, state, np.linspace(made["start"], made["end"], 500))
    assert written.max() == pytest.approx(-20 + 26 * 111 / 127, abs=0.3)
    assert written.min() > -0.3


def test_a_control_is_learnt_with_its_touch_and_another_device_does_nothing(midi: Page) -> None:
    page = midi
    page.evaluate("window.plug('two', 'Other box')")
    expect(page.get_by_text("MIDI: Bench faders, Other box")).to_be_visible()
    page.get_by_role("menuitem", name="Learn another control").click()
    send(page, 0x90, 104, 127)
    send(page, 0xB0, 21, 64)
    expect(page.get_by_text("control 21 of channel 1, Bench faders, with its touch").first).to_be_visible()
    send(page, 0x90, 104, 0)
    close_menu(page)
    start(page)
    hand = page.get_by_test_id("hand")
    send(page, 0xB0, 21, 64, device="two")
    send(page, 0x90, 104, 127, device="two")
    expect(hand).to_have_attribute("data-held", "false")
    send(page, 0x90, 104, 127)
    expect(hand).to_have_attribute("data-held", "true")
    send(page, 0xB0, 21, 64 - 20)
    expect(page.get_by_test_id("hand-value")).to_have_text("−4.1 dB")
    # pulled out in the middle of a gesture: it has let go
    page.evaluate("window.unplug('one')")
    expect(hand).to_have_attribute("data-held", "false")
    # what was learnt is known after a reload
    page.reload()
    listen_to_midi(page)
    expect(page.get_by_text("Follows control 21 of channel 1, Bench faders, with its touch")).to_be_visible()


def test_a_flood_is_followed_without_a_gap(midi: Page, demo_program: Program, state: dict[str, Any]) -> None:
    page = midi
    close_menu(page)
    page.keyboard.press("h")
    start(page)
    page.evaluate(
        """() => new Promise((done) => {
          let sent = 0;
          const timer = setInterval(() => {
            for (let i = 0; i < 10; i++) window.midi('one', 0xB0, 7, 98 + Math.round(20 * Math.sin(sent++ / 400)));
            if (sent >= 3000) { clearInterval(timer); done(); }
          }, 10);
        })"""
    )
    assert wait_past(page, 2.5) > 2.5
    page.keyboard.press("Space")
    (made,) = waits(page, demo_program, state, 1)
    assert made["end"] - made["start"] > 2


def test_refused_it_says_so_and_offers_the_stand_in(state: dict[str, Any], quiet_page: Page, demo_program: Program) -> None:
    page = quiet_page
    page.add_init_script(MIDI + "window.refuses = true;")
    page.goto(f"{demo_program.address}/s/{state['id']}/ride")
    listen_to_midi(page)
    expect(page.get_by_role("alert").first).to_contain_text("stand-in can do the same")
    expect(page.get_by_text("The browser does not allow MIDI here")).to_be_visible()
