"""Riding by hand as a person does it: it plays, the hand moves, passes wait, are compared, kept, undone, and rendered."""

from __future__ import annotations

import io
import sqlite3
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from tests.browser.hands import box_of, eventually, play_on, position, wait_past
from tests.browser.riding import armed, gain, hand, passes, pull, start, waits, writes
from tests.conftest import RATE, write_sound
from tests.helpers.program import Program
from tests.helpers.sounds import wavering


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
    expect(page.get_by_test_id("hand")).to_be_visible()
    expect(page.locator(".hand-note")).to_contain_text("nothing is written")
    page.keyboard.press("h")
    expect(armed(page)).to_have_attribute("aria-pressed", "true")
    start(page)
    pull(page, -0.2, 0.1)
    expect(page.locator(".hand-note")).to_contain_text("Writing")
    page.mouse.up()
    play_on(page, 0.5)
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

    # an import that went well is taken off the list a moment after its track is there
    eventually(lambda: demo_program.get(f"/api/sessions/{state['id']}/jobs")["items"] == [])
    before = stored()
    start(page)
    pull(page, -0.3, 0.2)
    page.mouse.up()
    page.mouse.wheel(0, 200)
    page.keyboard.down("ArrowUp")
    play_on(page, 0.3)
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
    eventually(lambda: hand(page) < -2)
    page.keyboard.up("ArrowDown")
    play_on(page, 0.7)
    left_at = hand(page)
    page.keyboard.press("Space")
    (made,) = waits(page, demo_program, state, 1)
    assert made["mode"] == "latch"
    assert made["end"] - made["start"] > 0.8
    page.keyboard.press("d")
    eventually(lambda: passes(demo_program, state)[0]["state"] == "kept")
    held = gain(demo_program, state, np.array([made["end"] - 0.3, made["end"] - 0.05]))
    assert held == pytest.approx([left_at, left_at], abs=0.3)


def test_what_a_pixel_means_stays_while_the_hand_is_held(riding: Page) -> None:
    """A pass that comes in below the hand takes some of its height, as a window does that is made another size."""
    page = riding
    field = page.get_by_test_id("hand")
    start(page)
    before = box_of(field)
    x, y = before["x"] + before["width"] * 0.6, before["y"] + before["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.set_viewport_size({"width": 1280, "height": 1000})
    eventually(lambda: box_of(field)["height"] > before["height"] + 40)
    page.mouse.move(x, y + 0.2 * before["height"], steps=4)
    eventually(lambda: hand(page) == pytest.approx(-5.2, abs=0.15))
    page.mouse.up()


def test_another_window_edits_meanwhile(riding: Page, demo_program: Program, state: dict[str, Any]) -> None:
    page = riding
    track = state["tracks"][0]["id"]
    page.keyboard.press("h")
    start(page)
    pull(page, -0.2)
    now = demo_program.get(f"/api/sessions/{state['id']}")
    lift = {"revision": now["revision"], "lane": "ride", "start": 12, "end": 13, "by": 4}
    demo_program.post(f"/api/tracks/{track}/lanes/lift", lift)
    play_on(page, 0.3)
    page.mouse.up()
    page.keyboard.press("Space")
    waits(page, demo_program, state, 1)
    expect(page.get_by_test_id("pass")).to_contain_text("was changed since")
    # that the session is another by now was found out when the gain of the one before was asked for
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
    # however long that took on a machine that is at much else
    taken = position(page)
    play_on(page, 1.2)
    own_program.kill()
    page.wait_for_timeout(400)
    box = box_of(page.get_by_test_id("hand"))
    page.mouse.move(box["x"] + 80, box["y"] + 100, steps=5)
    page.wait_for_timeout(1500)
    own_program.start()
    page.mouse.up()
    page.wait_for_timeout(300)
    page.keyboard.press("Space")
    (made,) = waits(page, own_program, state, 1)
    assert at - 0.1 < made["start"] < taken + 0.1
    # sound stops where no block comes any more; what was ridden until then is there
    assert made["end"] - made["start"] > 1.4


def test_a_page_that_crashes_in_a_pass_leaves_what_it_had(page: Page, demo_program: Program, state: dict[str, Any]) -> None:
    page.goto(f"{demo_program.address}/s/{state['id']}/ride")
    expect(page.get_by_test_id("hand")).to_be_visible()
    page.keyboard.press("h")
    start(page)
    pull(page, -0.2, 0.1)
    play_on(page, 2.2)
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
    riding.get_by_role("button", name="Ride layer").click()
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
    play_on(page, 0.7)
    pull(page, 0.1)
    page.mouse.up()
    wait_past(page, 2.0)
    page.keyboard.press("Space")
    for track, way in zip(state["tracks"], (-5.2, 2.6), strict=True):
        own = {**state, "tracks": [track]}
        eventually(lambda own: len(passes(demo_program, own)) == 1 and writes(demo_program, passes(demo_program, own)[0]), own)
        assert any(f"{track['id']}/samples" in url for url in asked)
        (made,) = passes(demo_program, own)
        draft = demo_program.post(f"/api/passes/{made['id']}/draft", {"error": 0.02})
        assert sorted(draft["by"], key=abs)[-1] == pytest.approx(way, abs=0.4)
