"""Riding by hand as a person does it: it plays, the hand moves, passes wait, are compared, kept, undone, and rendered.

By mouse, keys, the stand-in's own page, and a MIDI device that an init script puts into the browser.
"""

from __future__ import annotations

import io
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Locator, Page, expect

from tests.browser.hands import MIDI, eventually, wait_past
from tests.conftest import write_sound
from tests.helpers.program import Program
from tests.helpers.sounds import wavering

RATE = 48_000


@pytest.fixture
def state(demo_program: Program, tmp_path: Path, request: pytest.FixtureRequest) -> Iterator[dict[str, Any]]:
    """A voice of 16 s in a session of its own, in which nothing is drawn."""
    state = demo_program.brought_in(write_sound(tmp_path / "voice.wav", wavering()), request.node.name[:60])
    yield state
    demo_program.delete(f"/api/sessions/{state['id']}")


@pytest.fixture
def riding(state: dict[str, Any], quiet_page: Page, demo_program: Program) -> Page:
    """The stage Ride of it."""
    quiet_page.goto(f"{demo_program.address}/s/{state['id']}/ride")
    expect(quiet_page.get_by_test_id("hand")).to_be_visible()
    expect(quiet_page.get_by_test_id("figures")).to_contain_text("spread")
    return quiet_page


def passes(program: Program, state: dict[str, Any]) -> list[dict[str, Any]]:
    return program.get(f"/api/tracks/{state['tracks'][0]['id']}/passes")["items"]


def gain(program: Program, state: dict[str, Any], at: np.ndarray, layer: str = "ride") -> np.ndarray:
    """What a layer does at some seconds, dB."""
    data = program.get_bytes(f"/api/tracks/{state['tracks'][0]['id']}/gain?layers={layer}")
    points = np.frombuffer(data, "<f8").reshape(-1, 2)
    return np.interp(at * RATE, points[:, 0], points[:, 1])


def start(page: Page, past: float = 0.3) -> float:
    page.keyboard.press("Space")
    return wait_past(page, past)


def pull(page: Page, *ways: float, pause: int = 250) -> None:
    """Take the hand with the mouse, move it by shares of its length, up is positive, and hold it still after each."""
    box = page.get_by_test_id("hand").bounding_box()
    assert box
    x, y = box["x"] + box["width"] * 0.6, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    for way in ways:
        y -= way * box["height"]
        page.mouse.move(x, y, steps=6)
        page.wait_for_timeout(pause)


def waits(page: Page, program: Program, state: dict[str, Any], count: int) -> list[dict[str, Any]]:
    """The passes, once there are so many, and the newest lies over the lane."""
    eventually(lambda: len(passes(program, state)) == count and passes(program, state)[0]["points"] > 0)
    expect(page.get_by_test_id("pass")).to_contain_text("points, which may stray")
    return passes(program, state)


def armed(page: Page) -> Locator:
    return page.locator(".hand-arm button").first


def rendered(page: Page, program: Program, state: dict[str, Any]) -> tuple[np.ndarray, np.ndarray]:
    """The recording and what is rendered of it."""
    track = state["tracks"][0]["id"]
    job = program.post(f"/api/tracks/{track}/render", {"format": "wav", "bits": 32})
    assert program.finished(state["id"], job["id"])["state"] == "done"
    data = program.get_bytes(f"/api/jobs/{job['id']}/file")
    return wavering(), soundfile.read(io.BytesIO(data), dtype="float64")[0]


def test_from_dropped_file_to_render(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    """From an empty program: ride with the mouse in touch, reload, hear, compare, keep by key, undo, redo, render."""
    page = quiet_page
    page.goto(own_program.address)
    page.get_by_label("Sound files").set_input_files(write_sound(tmp_path / "lead.wav", wavering()))
    expect(page.get_by_role("tab")).to_have_count(1, timeout=30_000)
    (card,) = own_program.get("/api/sessions")["items"]
    state = own_program.get(f"/api/sessions/{card['id']}")
    page.keyboard.press("4")
    hand = page.get_by_test_id("hand")
    expect(hand).to_be_visible()
    expect(page.locator(".hand-note")).to_contain_text("nothing is written")
    page.keyboard.press("h")
    expect(armed(page)).to_have_attribute("aria-pressed", "true")
    start(page)
    pull(page, -0.2, 0.1)
    expect(page.locator(".hand-note")).to_contain_text("Writing")
    page.mouse.up()
    page.wait_for_timeout(500)
    page.keyboard.press("Space")
    (made,) = waits(page, own_program, state, 1)
    # after a stop that wrote something the hand only listens again
    expect(armed(page)).to_have_attribute("aria-pressed", "false")
    assert np.abs(gain(own_program, state, np.linspace(0, 16, 500))).max() == 0
    page.reload()
    page.get_by_role("option", name="Pass 1").click()
    expect(page.get_by_test_id("pass")).to_contain_text("points")
    page.get_by_test_id("pass").get_by_label("Hear it").click()
    page.get_by_test_id("pass").get_by_label("Hear it").click()
    page.keyboard.press("d")
    expect(page.get_by_role("button", name="Undo")).to_be_enabled()
    eventually(lambda: passes(own_program, state)[0]["state"] == "kept")
    at = np.linspace(made["start"], made["end"], 200)
    written = gain(own_program, state, at)
    # a fifth of 26 dB down, and half of that up again
    assert written.min() == pytest.approx(-5.2, abs=0.5)
    assert written[-1] == pytest.approx(-2.6, abs=0.5)
    before, after = rendered(page, own_program, state)
    for second in np.arange(made["start"] + 0.1, made["end"] - 0.1, 0.05):
        part = slice(round(second * RATE), round((second + 0.005) * RATE))
        got = 10 * np.log10((after[part] ** 2).sum() / (before[part] ** 2).sum())
        assert got == pytest.approx(float(gain(own_program, state, np.array([second + 0.0025]))[0]), abs=0.1)
    outside = np.concatenate([np.arange(0, made["start"] - 0.01, 0.01), np.arange(made["end"] + 0.32, 16, 0.01)])
    assert np.abs(gain(own_program, state, outside)).max() == 0
    page.keyboard.press("Control+z")
    eventually(lambda: passes(own_program, state)[0]["state"] == "waiting")
    assert np.abs(gain(own_program, state, at)).max() == 0
    page.keyboard.press("Control+Shift+z")
    eventually(lambda: passes(own_program, state)[0]["state"] == "kept")


def test_listening_writes_nothing(riding: Page, demo_program: Program, state: dict[str, Any]) -> None:
    """Playing, moving by mouse, wheel and keys without arming: the database holds what it held."""
    page = riding

    def stored() -> list[Any]:
        with sqlite3.connect(f"file:{demo_program.data / 'nivelus.sqlite'}?mode=ro", uri=True) as db:
            names = [name for (name,) in db.execute("select name from sqlite_master where type='table' order by name")]
            return [(name, db.execute(f'select * from "{name}"').fetchall()) for name in names]

    before = stored()
    start(page)
    pull(page, -0.3, 0.2)
    page.mouse.up()
    page.mouse.wheel(0, 200)
    page.keyboard.down("ArrowUp")
    page.wait_for_timeout(300)
    page.keyboard.up("ArrowUp")
    page.keyboard.press("b")
    page.keyboard.press("b")
    page.keyboard.press("Space")
    page.wait_for_timeout(1300)
    assert stored() == before


def test_held_keys_ride_and_latch_stays_until_the_stop(riding: Page, demo_program: Program, state: dict[str, Any]) -> None:
    page = riding
    page.keyboard.press("h")
    page.keyboard.press("Shift+H")
    expect(page.get_by_role("radio", name="latch")).to_be_checked()
    start(page)
    page.keyboard.down("ArrowDown")
    page.wait_for_timeout(600)
    page.keyboard.up("ArrowDown")
    page.wait_for_timeout(700)
    page.keyboard.press("Space")
    (made,) = waits(page, demo_program, state, 1)
    assert made["mode"] == "latch"
    assert made["end"] - made["start"] > 1.1
    page.keyboard.press("d")
    eventually(lambda: passes(demo_program, state)[0]["state"] == "kept")
    held = gain(demo_program, state, np.array([made["end"] - 0.3, made["end"] - 0.05]))
    assert -6 < held[0] < -1.5
    assert held[0] == pytest.approx(held[1], abs=0.26)


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
    length = clip["phrase_end"] - clip["phrase_start"]
    for round_ in range(2):
        page.wait_for_timeout(500)
        pull(page, 0.1 + 0.1 * round_)
        page.mouse.up()
        page.wait_for_timeout(round(length * 1000))
    page.keyboard.press("Space")
    made = waits(page, demo_program, state, 2)
    # pinned, it stays armed
    expect(armed(page)).to_have_attribute("aria-pressed", "true")
    for one in made:
        assert clip["start"] - 0.01 <= one["start"] < one["end"] <= clip["end"] + 0.01
        assert one["span"] is not None
    page.get_by_role("option", name="Pass 1").click()
    expect(page.get_by_test_id("pass")).to_contain_text("Pass 1")
    page.get_by_test_id("pass").get_by_role("button", name="Drop").click()
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
    inspector.get_by_role("slider", name="Earlier by").focus()
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


def test_as_clip_gain_what_is_heard_stays(riding: Page, demo_program: Program, state: dict[str, Any]) -> None:
    page = riding
    page.keyboard.press("h")
    page.keyboard.press("Shift+H")
    start(page, 0.1)
    pull(page, -0.15)
    page.mouse.up()
    wait_past(page, 5.0)
    page.keyboard.press("Space")
    waits(page, demo_program, state, 1)
    page.get_by_role("button", name="as clip gain").click()
    eventually(lambda: passes(demo_program, state)[0]["state"] == "kept")
    now = demo_program.get(f"/api/sessions/{state['id']}")
    assert now["undo"].startswith("Turn pass 1 into clip gain of")
    first = next(c for c in now["clips"] if c["phrase_start"] is not None)
    assert first["gain"] == pytest.approx(-3.9, abs=0.8)
    middle = np.array([(first["phrase_start"] + first["phrase_end"]) / 2])
    assert gain(demo_program, state, middle, "clip")[0] == pytest.approx(first["gain"], abs=0.01)
    assert gain(demo_program, state, middle)[0] == pytest.approx(0, abs=0.7)


def test_another_window_edits_meanwhile(riding: Page, demo_program: Program, state: dict[str, Any]) -> None:
    page = riding
    track = state["tracks"][0]["id"]
    page.keyboard.press("h")
    start(page)
    pull(page, -0.2)
    now = demo_program.get(f"/api/sessions/{state['id']}")
    lift = {"revision": now["revision"], "lane": "ride", "start": 12, "end": 13, "by": 4}
    demo_program.post(f"/api/tracks/{track}/lanes/lift", lift)
    page.wait_for_timeout(300)
    page.mouse.up()
    page.keyboard.press("Space")
    waits(page, demo_program, state, 1)
    expect(page.get_by_test_id("pass")).to_contain_text("was changed since")
    # the first try tells that the session is another by now, and shows it
    page.keyboard.press("d")
    expect(page.get_by_role("alert").first).to_contain_text("another window")
    eventually(lambda: True)
    page.keyboard.press("d")
    eventually(lambda: passes(demo_program, state)[0]["state"] == "kept")
    assert gain(demo_program, state, np.array([12.5]))[0] == pytest.approx(4, abs=0.01)


def test_a_program_that_is_killed_in_a_pass_loses_nothing(page: Page, own_program: Program, tmp_path: Path) -> None:
    state = own_program.brought_in(write_sound(tmp_path / "voice.wav", wavering()))
    page.goto(f"{own_program.address}/s/{state['id']}/ride")
    expect(page.get_by_test_id("hand")).to_be_visible()
    page.keyboard.press("h")
    at = start(page)
    pull(page, -0.2)
    page.wait_for_timeout(1200)
    own_program.kill()
    page.wait_for_timeout(400)
    box = page.get_by_test_id("hand").bounding_box()
    assert box
    page.mouse.move(box["x"] + 80, box["y"] + 100, steps=5)
    page.wait_for_timeout(1500)
    own_program.start()
    page.mouse.up()
    page.wait_for_timeout(300)
    page.keyboard.press("Space")
    (made,) = waits(page, own_program, state, 1)
    assert made["start"] < at + 1
    # sound stops where no block comes any more; what was ridden until then is there
    assert made["end"] - made["start"] > 1.4


def test_a_page_that_crashes_in_a_pass_leaves_what_it_had(page: Page, demo_program: Program, state: dict[str, Any]) -> None:
    page.goto(f"{demo_program.address}/s/{state['id']}/ride")
    expect(page.get_by_test_id("hand")).to_be_visible()
    page.keyboard.press("h")
    start(page)
    pull(page, -0.2, 0.1)
    page.wait_for_timeout(2200)
    page.goto("about:blank")
    eventually(lambda: len(passes(demo_program, state)) == 1)
    (made,) = passes(demo_program, state)
    assert made["end"] - made["start"] > 2
    page.goto(f"{demo_program.address}/s/{state['id']}/ride")
    page.get_by_role("option", name="Pass 1").click()
    expect(page.get_by_test_id("pass")).to_be_visible()
    page.keyboard.press("d")
    eventually(lambda: passes(demo_program, state)[0]["state"] == "kept")


def test_riding_with_before_held_writes_all_the_same(riding: Page, demo_program: Program, state: dict[str, Any]) -> None:
    page = riding
    page.keyboard.press("h")
    start(page)
    page.keyboard.press("b")
    pull(page, 0.2)
    page.mouse.up()
    page.keyboard.press("Space")
    waits(page, demo_program, state, 1)
    page.keyboard.press("d")
    eventually(lambda: passes(demo_program, state)[0]["state"] == "kept")
    assert gain(demo_program, state, np.linspace(0, 8, 3000)).max() == pytest.approx(5.2, abs=0.5)


def test_a_lane_that_is_switched_off_is_not_armed(riding: Page) -> None:
    riding.get_by_label("Ride layer").click()
    riding.keyboard.press("h")
    expect(riding.get_by_role("alert").first).to_contain_text("switched off")
    expect(armed(riding)).to_have_attribute("aria-pressed", "false")


def test_several_tracks_are_ridden_one_after_the_other_while_all_are_heard(
    quiet_page: Page, own_program: Program, tmp_path: Path
) -> None:
    demo_program = own_program
    paths = [write_sound(tmp_path / f"{name}.wav", wavering()) for name in ("lead", "support")]
    state = demo_program.all_brought_in(paths, "Two by hand")
    page = quiet_page
    page.goto(f"{demo_program.address}/s/{state['id']}/ride")
    expect(page.get_by_test_id("figures")).to_contain_text("spread")
    page.get_by_label("Stay armed").click()
    page.keyboard.press("h")
    asked: list[str] = []
    page.on("request", lambda request: asked.append(request.url))
    start(page)
    pull(page, -0.2)
    page.mouse.up()
    page.get_by_role("tab", name="support").click()
    page.wait_for_timeout(700)
    pull(page, 0.1)
    page.mouse.up()
    wait_past(page, 2.0)
    page.keyboard.press("Space")
    for track, way in zip(state["tracks"], (-5.2, 2.6), strict=True):
        own = {**state, "tracks": [track]}
        eventually(lambda own=own: len(passes(demo_program, own)) == 1 and passes(demo_program, own)[0]["points"] > 0)
        assert any(f"{track['id']}/samples" in url for url in asked)
        (made,) = passes(demo_program, own)
        draft = demo_program.post(f"/api/passes/{made['id']}/draft", {})
        assert sorted(draft["by"], key=abs)[-1] == pytest.approx(way, abs=0.4)


# --- the stand-in


def test_the_stand_in_rides_from_a_window_of_its_own(riding: Page, demo_program: Program, state: dict[str, Any]) -> None:
    page = riding
    page.get_by_label("What moves the hand").click()
    with page.expect_popup() as popup:
        page.get_by_role("menuitem", name="Open the stand-in").click()
    other = popup.value
    close_menu(page)
    expect(other.locator("#lane")).to_have_text("voice: ride")
    page.bring_to_front()
    page.keyboard.press("h")
    expect(other.locator("#mode")).to_have_text("touch, armed")
    start(page)
    other.bring_to_front()
    box = other.locator("#field").bounding_box()
    assert box
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    other.mouse.move(x, y)
    other.mouse.down()
    other.mouse.move(x, y + box["height"] * 0.2, steps=12)
    expect(other.locator("#mode")).to_have_text("writing")
    other.wait_for_timeout(300)
    other.mouse.up()
    page.bring_to_front()
    page.wait_for_timeout(400)
    page.keyboard.press("Space")
    (made,) = waits(page, demo_program, state, 1)
    page.keyboard.press("d")
    eventually(lambda: passes(demo_program, state)[0]["state"] == "kept")
    assert gain(demo_program, state, np.linspace(made["start"], made["end"], 400)).min() == pytest.approx(-5.2, abs=0.4)


def test_a_stand_in_closed_in_mid_gesture_has_let_go(riding: Page, demo_program: Program, state: dict[str, Any]) -> None:
    page = riding
    page.get_by_label("What moves the hand").click()
    with page.expect_popup() as popup:
        page.get_by_role("menuitem", name="Open the stand-in").click()
    other = popup.value
    close_menu(page)
    expect(other.locator("#lane")).to_have_text("voice: ride")
    page.keyboard.press("h")
    start(page)
    box = other.locator("#field").bounding_box()
    assert box
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
    page.get_by_label("What moves the hand").click()
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


def close_menu(page: Page) -> None:
    page.keyboard.press("Escape")
    expect(page.get_by_text("The stand-in: a fader")).to_be_hidden()
    expect(page.get_by_label("What moves the hand")).not_to_be_focused()


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
    page.wait_for_timeout(200)
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
    expect(page.get_by_text("MIDI is not allowed here")).to_be_visible()
