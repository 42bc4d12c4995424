"""What is drawn on lanes: trim, clip curves, curves from files, freehand lines, and what the hand draws while it moves."""

from __future__ import annotations

import itertools
import re
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from tests.browser.hands import (
    ANSWERED,
    FEATURE,
    SONG,
    HeldAnswer,
    drag,
    eventually,
    fresh,
    gain_height,
    open_stage,
    open_whole,
    place,
    ride_of,
    wait_past,
)
from tests.browser.spans import lane, lift_by_three, select_span
from tests.helpers.program import Program


def test_the_trim_is_a_lane_of_its_own_and_heard_at_once(page: Page, demo_program: Program) -> None:
    song = open_whole(page, demo_program, SONG, "ride")
    lane(page, "trim")
    select_span(page, song, 20.0, 24.0)
    page.keyboard.press("ArrowDown")
    eventually(lambda: len(ride_of(demo_program, song)["trim"]) == 4)
    assert ride_of(demo_program, song)["ride"] == []
    layer = page.get_by_role("button", name="Trim layer")
    page.keyboard.press("Enter")
    wait_past(page, 20.3)
    expect(layer).to_contain_text("−0.5")
    layer.click()
    expect(layer).to_have_attribute("aria-pressed", "false")
    page.keyboard.press("Space")
    expect(page.get_by_role("button", name="Play", exact=True)).to_be_visible()


def test_what_a_client_wants_louder_is_level_and_no_draft_undoes_it(page: Page, demo_program: Program) -> None:
    song = open_whole(page, demo_program, SONG, "ride")
    figures = page.get_by_test_id("figures")
    page.keyboard.press("2")
    page.keyboard.press("d")
    expect(page.get_by_role("button", name=re.compile("Accept .* change"))).to_be_visible()
    page.keyboard.press("d")
    expect(figures).to_contain_text(re.compile(r"level\s*2 → [456] of 6"))
    level = re.search(r"→ (\d) of 6", figures.inner_text())[1]
    page.keyboard.press("4")
    lane(page, "trim")
    refrain = [clip for clip in song["clips"] if clip["track"] == song["tracks"][0]["id"]][1:3]
    select_span(page, song, refrain[0]["start"] + 0.05, refrain[1]["end"] - 0.05)
    page.get_by_label("Lift the trim by").fill("3")
    page.keyboard.press("Enter")
    eventually(lambda: len(ride_of(demo_program, song)["trim"]) == 4)
    page.keyboard.press("Escape")
    page.keyboard.press("2")
    expect(figures).to_contain_text(f"→ {level} of 6")
    words = page.locator(f".capsule[data-clip='{refrain[0]['id']}']")
    expect(words).to_have_attribute("aria-label", re.compile(r"level.*\+3\.0 dB asked for"))
    gains = [clip["gain"] for clip in demo_program.get(f"/api/sessions/{song['id']}")["clips"]]
    page.keyboard.press("d")
    expect(page.locator(".rule")).to_contain_text(f"{level} of 6 would be level")
    page.keyboard.press("d")
    expect(figures).to_contain_text(f"→ {level} of 6")
    assert [clip["gain"] for clip in demo_program.get(f"/api/sessions/{song['id']}")["clips"]] == gains
    # folded into the ride it is judged, and the step says what that does
    page.keyboard.press("4")
    lane(page, "trim")
    page.get_by_role("button", name="fold into the ride").click()
    eventually(lambda: "off by it" in (demo_program.get(f"/api/sessions/{song['id']}")["undo"] or ""))
    expect(figures).not_to_contain_text(f"→ {level} of 6")


def test_a_curve_is_brought_in_and_a_bad_one_says_why(page: Page, demo_program: Program, tmp_path: Path) -> None:
    song = open_whole(page, demo_program, SONG, "ride")
    good, bad = tmp_path / "fader.csv", tmp_path / "bad.csv"
    good.write_text("seconds,dB\n1,0\n10,-6\n")
    bad.write_text("this,is\nno,curve\n")

    def bring_in(path: Path) -> None:
        page.get_by_role("button", name="More about the ride").click()
        with page.expect_file_chooser() as chooser:
            page.get_by_role("menuitem", name="Import a curve from a file …").click()
        chooser.value.set_files(path)

    bring_in(good)
    expect(page.get_by_text("“fader.csv” is the ride now.")).to_be_visible()
    assert [(p["at"], p["db"]) for p in ride_of(demo_program, song)["ride"]] == [(1, 0), (10, -6)]
    # what is there is not replaced unasked: put away it stays, and so it does where the file holds no curve
    question = page.get_by_role("alert").filter(has_text="would take the place of the ride of Singer")
    bring_in(bad)
    question.get_by_role("button", name="Dismiss this message").click()
    bring_in(bad)
    question.get_by_role("button", name="Replace the ride").click()
    expect(page.get_by_text("“bad.csv”: Line 2 holds no point")).to_be_visible()
    assert len(ride_of(demo_program, song)["ride"]) == 2
    # as a spreadsheet writes it where numbers have commas; the answer is given by key
    commas = tmp_path / "commas.csv"
    commas.write_text("Sekunden;dB\n1,5;-0,5\n10,25;-6,5\n")
    bring_in(commas)
    expect(question.get_by_role("button", name="Replace the ride")).to_be_focused()
    page.keyboard.press("Enter")
    expect(page.get_by_text("“commas.csv” is the ride now.")).to_be_visible()
    assert [(p["at"], p["db"]) for p in ride_of(demo_program, song)["ride"]] == [(1.5, -0.5), (10.25, -6.5)]
    page.keyboard.press("t")
    page.get_by_role("button", name="More about the ride").click()
    page.get_by_role("menuitem", name="Remove the ride").click()
    eventually(lambda: ride_of(demo_program, song)["ride"] == [])


def test_a_line_is_drawn_and_a_span_copied_to_another_time(page: Page, demo_program: Program) -> None:
    song = open_whole(page, demo_program, SONG, "ride")
    x, y = place(page, song, 5.0, "gain")
    page.keyboard.down("Shift")
    # from right to left, and a little back again
    page.mouse.move(x, y)
    page.mouse.down()
    for step in range(30):
        page.mouse.move(x - 2 * step, y + 20 * np.sin(step / 8))
    page.mouse.move(x - 50, y + 10)
    expect(page.locator(".hand-label")).to_contain_text("dB")
    page.mouse.up()
    page.keyboard.up("Shift")
    eventually(lambda: 4 <= len(ride_of(demo_program, song)["ride"]) <= 25)
    points = ride_of(demo_program, song)["ride"]
    assert all(a["at"] < b["at"] for a, b in itertools.pairwise(points))

    select_span(page, song, 2.5, 5.2)
    page.keyboard.press("Control+c")
    expect(page.get_by_text("of the ride copied")).to_be_visible()
    x, y = place(page, song, 25.0, "wave-overlay")
    page.mouse.click(x, y)
    page.keyboard.press("Control+v")
    eventually(lambda: len(ride_of(demo_program, song)["ride"]) > len(points))
    later = [p for p in ride_of(demo_program, song)["ride"] if p["at"] > 24]
    assert max(abs(p["db"]) for p in later) == pytest.approx(max(abs(p["db"]) for p in points), abs=0.5)


def test_a_clip_curve_is_drawn_and_mirrored_into_the_ride(page: Page, demo_program: Program) -> None:
    song = open_whole(page, demo_program, SONG, "ride")
    first = next(clip for clip in song["clips"] if clip["phrase_start"] is not None and clip["end"] > 4)
    lane(page, "clip curve")
    select_span(page, song, first["end"] - 0.8, first["end"] + 0.8)
    for _ in range(4):
        page.keyboard.press("ArrowDown")
    eventually(lambda: [p["db"] for p in ride_of(demo_program, song)["curve"]] == [0, -2, -2, -2, -2, 0])
    assert len({p["clip"] for p in ride_of(demo_program, song)["curve"]}) == 2
    layer = page.get_by_role("button", name="Clip curve layer")
    x, y = place(page, song, first["end"] - 0.4, "wave-overlay")
    page.mouse.click(x, y)
    expect(layer).to_contain_text("−2.0")
    # the hand cannot carry a point out of its clip
    page.keyboard.press("p")
    expect(page.get_by_test_id("inspector")).to_contain_text("6 points")
    page.get_by_role("button", name="More about the clip curve").click()
    page.get_by_role("menuitem", name="Move the clip curve into the ride").click()
    eventually(lambda: ride_of(demo_program, song)["curve"] == [])
    expect(layer).to_contain_text("0.0")
    expect(page.get_by_role("button", name="Ride layer")).to_contain_text("−2.0")
    page.keyboard.press("Control+z")
    eventually(lambda: len(ride_of(demo_program, song)["curve"]) == 6)
    assert ride_of(demo_program, song)["ride"] == []


def test_the_working_range_holds_the_hand_and_is_widened(page: Page, demo_program: Program) -> None:
    song = open_whole(page, demo_program, SONG, "ride")
    select_span(page, song, 5.0, 7.0)
    x, y = place(page, song, 6.0, "gain")
    drag(page, (x, y), (0, -170), release=False)
    expect(page.locator(".hand-label")).to_contain_text("lift +6.0 dB")
    page.mouse.up()
    eventually(lambda: max([p["db"] for p in ride_of(demo_program, song)["ride"]], default=0) == 6.0)
    page.keyboard.press("ArrowUp")
    expect(page.get_by_text("The working range ends here")).to_be_visible()
    page.get_by_label("Working range").select_option(label="−40 … +12 dB")
    eventually(lambda: demo_program.session(SONG)["tracks"][0]["range_high"] == 12)
    page.keyboard.press("ArrowUp")
    eventually(lambda: max(p["db"] for p in ride_of(demo_program, song)["ride"]) == 6.5)
    # silence is a value: it widens the range by itself
    page.keyboard.press("p")
    page.get_by_role("button", name="Silence").click()
    eventually(lambda: demo_program.session(SONG)["tracks"][0]["range_low"] == -144)
    expect(page.get_by_label("Working range")).to_contain_text("silence … +12 dB")


def test_moves_are_scaled_and_borders_are_made(page: Page, demo_program: Program) -> None:
    song = open_whole(page, demo_program, SONG, "ride")
    select_span(page, song, 5.0, 7.0)
    page.get_by_label("Lift the ride by").fill("4")
    page.keyboard.press("Enter")
    eventually(lambda: len(ride_of(demo_program, song)["ride"]) == 4)
    select_span(page, song, 4.5, 7.5)
    page.get_by_label("Around").fill("0")
    page.keyboard.press("Enter")
    page.get_by_label("Scale the moves to").fill("50")
    page.keyboard.press("Enter")
    eventually(lambda: [p["db"] for p in ride_of(demo_program, song)["ride"]] == [0, 0, 2, 2, 0, 0])
    select_span(page, song, 10.0, 11.0)
    for name, count in (("two", 8), ("four", 10)):
        page.get_by_role("button", name="More about the ride").click()
        page.get_by_role("menuitem", name=f"Add border points: {name}").click()
        eventually(lambda count: len(ride_of(demo_program, song)["ride"]) == count, count)


HEARD = """
window.heard = [];
const post = MessagePort.prototype.postMessage;
MessagePort.prototype.postMessage = function (message, ...rest) {
  if (message?.type === 'hold') window.heard.push({ at: [...message.points.at], db: [...message.points.db] });
  return post.call(this, message, ...rest);
};
"""


def test_what_the_hand_draws_is_heard_while_it_moves(page: Page, demo_program: Program) -> None:
    page.add_init_script(HEARD)
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state, "ride")
    expect(page.locator(".row").first).to_be_visible()
    page.keyboard.press("Shift+F")
    select_span(page, state, 5.0, 7.0)
    page.keyboard.press("Enter")
    wait_past(page, 4.1)
    lift_by_three(page)
    # a point that is moved
    x, _ = place(page, state, 5.0, "gain")
    drag(page, (x, gain_height(page, 3)), (0, 30), release=False)
    rate = state["tracks"][0]["timeline"]["sample_rate"]
    held = page.evaluate("window.heard.at(-1)")
    assert min(held["db"]) < -2
    assert 4.9 < held["at"][int(np.argmin(held["db"]))] / rate < 5.1
    page.keyboard.press("Escape")
    page.mouse.up()
    assert page.evaluate("window.heard.at(-1).at.length") == 0
    # the trim of the whole track
    page.get_by_role("slider", name="Trim of the whole track").focus()
    page.keyboard.press("ArrowLeft")
    eventually(lambda: page.evaluate("window.heard.some((h) => h.db.length === 4 && h.db[1] === -0.5)"))
    page.keyboard.press("Space")


def test_a_trim_is_switched_off_and_on(page: Page, demo_program: Program) -> None:
    song = open_whole(page, demo_program, SONG, "ride")
    slider = page.get_by_role("slider", name="Trim of the whole track")
    slider.focus()
    page.keyboard.press("ArrowLeft")
    eventually(lambda: ride_of(demo_program, song)["offset"] == -0.5)
    switch = page.get_by_role("switch", name="Trim of the whole track")
    switch.click()
    eventually(lambda: demo_program.session(SONG)["tracks"][0]["trim"] == {"offset": -0.5, "off": True})
    expect(page.locator(".trim-row")).to_contain_text("off")
    expect(page.get_by_role("button", name="fold into the ride")).to_be_disabled()
    expect(page.get_by_role("button", name="Trim layer")).to_contain_text("0.0")
    page.reload()
    expect(page.get_by_role("switch", name="Trim of the whole track")).not_to_be_checked()
    page.keyboard.press("Control+z")
    eventually(lambda: not demo_program.session(SONG)["tracks"][0]["trim"]["off"])


def test_a_trim_goes_on_from_where_it_is_however_late_its_gain_comes(page: Page, demo_program: Program) -> None:
    song = open_whole(page, demo_program, SONG, "ride")
    slider = page.get_by_role("slider", name="Trim of the whole track")
    slider.focus()
    held = HeldAnswer(page, "/heard", lambda: page.keyboard.press("ArrowLeft"), question=True)
    page.wait_for_function(ANSWERED)
    assert ride_of(demo_program, song)["offset"] == -0.5
    page.keyboard.press("ArrowLeft")
    eventually(lambda: ride_of(demo_program, song)["offset"] == -1.0)
    expect(page.locator(".trim-row")).to_contain_text("−1.0 dB")
    held.let_go()
    expect(page.locator(".path-trim .mono")).to_have_text("−1.0")
    page.keyboard.press("Control+z")
    expect(page.locator(".trim-row")).to_contain_text("0.0 dB")


def test_a_span_is_pasted_into_another_track(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, FEATURE)
    open_stage(page, demo_program, state, "ride")
    expect(page.locator(".row").first).to_be_visible()
    select_span(page, state, 5.0, 7.0)
    page.keyboard.press("ArrowUp")
    eventually(lambda: len(ride_of(demo_program, state)["ride"]) == 4)
    page.keyboard.press("Control+c")
    page.get_by_role("tab", name=re.compile("Mill keeper")).click()
    x, y = place(page, state, 10.0, "wave-overlay")
    page.mouse.click(x, y)
    page.keyboard.press("Control+v")
    other = state["tracks"][1]["id"]
    eventually(lambda: len(demo_program.get(f"/api/tracks/{other}/lanes")["ride"]) >= 2)
    assert max(p["db"] for p in demo_program.get(f"/api/tracks/{other}/lanes")["ride"]) == 0.5
