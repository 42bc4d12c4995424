"""The stage Ride, done by hand on the demo: drafted, corrected with spans and points, trimmed, folded, rendered."""

from __future__ import annotations

import itertools
import re
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from nivelus.core.deliver.curve_csv import read_csv
from tests.browser.hands import (
    FEATURE,
    SONG,
    drag,
    eventually,
    fresh,
    gain_height,
    middle,
    note,
    open_stage,
    open_whole,
    place,
    render_link,
    ride_of,
    wait_past,
)
from tests.helpers.program import Program


def inside(program: Program, state: dict[str, Any]) -> dict[str, Any]:
    """What goes on inside the phrases, and what strays, as the server has it now."""
    return program.get(f"/api/tracks/{state['tracks'][0]['id']}/ride/inside")


@pytest.fixture
def song(page: Page, demo_program: Program) -> dict[str, Any]:
    """The song, open at the stage Ride, all of it in the window."""
    return open_whole(page, demo_program, SONG, "ride")


def select_span(page: Page, state: dict[str, Any], start: float, end: float) -> None:
    """Drag across the wave, without snapping."""
    (x0, y), (x1, _) = (place(page, state, at, "wave-overlay") for at in (start, end))
    page.keyboard.down("Control")
    drag(page, (x0, y), (x1 - x0, 0))
    page.keyboard.up("Control")
    expect(page.get_by_test_id("inspector")).to_contain_text("Span")


def lift_by_three(page: Page) -> None:
    """Lift the selected span; the page has the points a moment after the server."""
    page.get_by_label("Lift the ride by").fill("3")
    with page.expect_response(lambda answer: "/heard?" in answer.url):
        page.keyboard.press("Enter")


def lane(page: Page, name: str) -> None:
    """Take a lane in hand."""
    page.get_by_role("radiogroup", name="Lane in hand").get_by_text(name, exact=True).click()


def test_from_a_draft_to_a_render_that_is_even_inside(page: Page, demo_program: Program, song: dict, tmp_path: Path) -> None:
    status = note(page)
    expect(status).to_contain_text(re.compile(r"Inside the phrases (\d\.\d) → \1 LU\."))
    page.keyboard.press("d")
    expect(status).to_contain_text("points.")
    expect(page.locator(".row-draft").first).to_be_visible()
    assert ride_of(demo_program, song)["ride"] == []
    # the draft follows the rule
    shown = status.inner_text()
    page.get_by_role("slider", name="Strength").focus()
    page.keyboard.press("Home")
    expect(status).not_to_have_text(shown)
    page.keyboard.press("End")
    expect(status).not_to_contain_text("with 0 points")
    for _ in range(20):
        page.keyboard.press("ArrowLeft")
    expect(status).to_have_text(shown)
    page.get_by_role("button", name=re.compile("Accept the ride")).click()
    expect(page.get_by_role("button", name=re.compile("4 Ride"))).to_contain_text("ride drawn")
    expect(status).not_to_contain_text("points")
    phrases = inside(demo_program, song)["phrases"]
    assert np.mean([p["after"] for p in phrases]) < 0.75 * np.mean([p["before"] for p in phrases])

    # a client's wish is a trim, and is folded in when it is settled; its box in the path follows the slider while it is held
    slider = page.get_by_role("slider", name="Trim of the whole track")
    there = page.locator(".path-trim .mono")
    expect(there).to_have_text("0.0")
    drag(page, middle(slider), (-40, 0), release=False)
    expect(there).to_have_text(re.compile(r"^−[1-9]\d*\.\d$"))
    page.mouse.up()
    eventually(lambda: ride_of(demo_program, song)["offset"] < 0)
    page.keyboard.press("Control+z")
    expect(there).to_have_text("0.0")
    slider.focus()
    for _ in range(4):
        page.keyboard.press("ArrowLeft")
    expect(page.locator(".trim-row")).to_contain_text("−2.0 dB")
    eventually(lambda: ride_of(demo_program, song)["offset"] == -2.0)
    first = ride_of(demo_program, song)["ride"][0]["db"]
    page.get_by_role("button", name="fold into the ride").click()
    expect(page.get_by_role("button", name="fold into the ride")).to_be_disabled()
    eventually(lambda: abs(ride_of(demo_program, song)["ride"][0]["db"] - (first - 2.0)) < 0.01)

    # the ride goes out as a file
    page.get_by_role("button", name="More about the ride").click()
    with page.expect_download() as download:
        page.get_by_role("menuitem", name="Export it as CSV").click()
    download.value.save_as(tmp_path / "ride.csv")
    assert download.value.suggested_filename == "Singer ride.csv"
    curve = read_csv((tmp_path / "ride.csv").read_bytes())

    # what is rendered is the recording with that curve
    page.keyboard.press("6")
    link = render_link(page)
    with page.expect_download() as download:
        link.click()
    download.value.save_as(tmp_path / "out.wav")
    rendered, rate = soundfile.read(tmp_path / "out.wav")
    (source,) = (
        p
        for p in demo_program.data.glob("vault/*/*/source.*")
        if soundfile.info(p).frames == song["tracks"][0]["timeline"]["frames"]
    )
    plain = soundfile.read(source)[0]
    for at in np.arange(2.0, 36.0, 1.7):
        span = slice(round(at * rate), round((at + 0.02) * rate))
        fallen = 10 * np.log10(np.sum(rendered[span] ** 2) / np.sum(plain[span] ** 2))
        assert fallen == pytest.approx(float(np.mean(curve(at + np.linspace(0, 0.02, 9)))), abs=0.3)


def curve_now(program: Program, song: dict[str, Any]) -> Any:
    """The ride as it is written out."""
    return read_csv(program.get_bytes(f"/api/tracks/{song['tracks'][0]['id']}/lanes/ride.csv"))


def steepest(program: Program, song: dict[str, Any]) -> float:
    """The steepest way of the ride, dB a second."""
    points = ride_of(program, song)["ride"]
    return max(abs(b["db"] - a["db"]) / (b["at"] - a["at"]) for a, b in pairwise(points))


def test_a_ride_is_calm_or_quick_and_keeps_a_natural_fall(page: Page, demo_program: Program, song: dict) -> None:
    status, paces = note(page), page.get_by_role("radiogroup", name="How the ride moves")
    page.keyboard.press("d")
    expect(status).to_contain_text("points.")
    usual = status.inner_text()
    paces.get_by_text("calm", exact=True).click()
    expect(status).not_to_have_text(usual)
    page.get_by_role("button", name=re.compile("Accept the ride")).click()
    eventually(lambda: len(ride_of(demo_program, song)["ride"]) > 0)
    calm = steepest(demo_program, song)
    paces.get_by_text("quick", exact=True).click()
    fall = page.get_by_role("slider", name="Natural fall")
    fall.focus()
    page.keyboard.press("Home")
    expect(page.locator(".slider-row", has_text="Natural fall")).to_contain_text("0.0 LU")
    # the slider gives the keys back; the draft is of what is set
    page.get_by_role("button", name=re.compile("Draft a ride")).click()
    expect(status).to_contain_text("points.")
    page.get_by_role("button", name=re.compile("Accept the ride")).click()
    eventually(lambda: steepest(demo_program, song) > calm + 1)
    assert calm <= 20.1


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


@pytest.mark.parametrize("key", ["Delete", "Backspace"])
def test_a_deleted_span_goes_back_to_0_and_no_further(page: Page, demo_program: Program, song: dict, key: str) -> None:
    """In the middle of a drafted ride: no slope from side to side, nothing moved outside; the step says where it goes."""
    page.keyboard.press("d")
    page.get_by_role("button", name=re.compile("Accept the ride")).click()
    eventually(lambda: len(ride_of(demo_program, song)["ride"]) > 10)
    before = curve_now(demo_program, song)
    select_span(page, song, 9.0, 14.0)
    page.keyboard.press(key)
    eventually(lambda: demo_program.session(SONG)["undo"] == "Delete a range of the ride: back to 0 dB")
    now = curve_now(demo_program, song)
    outside = np.r_[np.linspace(0, 8.9, 200), np.linspace(14.1, 30, 200)]
    assert now(outside) == pytest.approx(before(outside), abs=0.02)
    assert np.abs(now(np.linspace(9.2, 13.8, 50))).max() < 0.01
    page.keyboard.press(key)
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


def test_points_are_made_and_moved_along_one_axis(page: Page, demo_program: Program, song: dict) -> None:
    for at in (4.0, 8.0, 12.0):
        x, _ = place(page, song, at, "gain")
        page.mouse.dblclick(x, gain_height(page, 0))
        expect(page.get_by_test_id("inspector")).to_contain_text("Point")
    eventually(lambda: len(ride_of(demo_program, song)["ride"]) == 3)
    before = ride_of(demo_program, song)["ride"]
    x, _ = place(page, song, before[1]["at"], "gain")
    # up, although the hand slips sideways as well
    drag(page, (x, gain_height(page, 0)), (14, -40))
    eventually(lambda: ride_of(demo_program, song)["ride"][1]["db"] > 2)
    moved = ride_of(demo_program, song)["ride"]
    assert moved[1]["at"] == before[1]["at"]
    exact = page.get_by_label("Gain", exact=True)
    expect(exact).to_have_value(re.compile(r"^[2-9]"))
    exact.fill("-4.25")
    expect(exact).to_have_value("-4.25 dB")
    page.keyboard.press("Enter")
    eventually(lambda: ride_of(demo_program, song)["ride"][1]["db"] == -4.25)
    way = page.get_by_label("Shape to the next point")
    way.select_option("smooth")
    eventually(lambda: ride_of(demo_program, song)["ride"][1]["shape"] == "smooth")
    # told by the server, not as it was chosen: the points are drawn where they are
    expect(way).to_have_value("smooth")
    page.keyboard.down("Control")
    drag(page, (x, gain_height(page, -4.25)), (60, 3))
    page.keyboard.up("Control")
    eventually(lambda: ride_of(demo_program, song)["ride"][1]["at"] > before[1]["at"] + 0.5)
    assert ride_of(demo_program, song)["ride"][1]["db"] == -4.25
    page.get_by_role("button", name="Delete").click()
    eventually(lambda: len(ride_of(demo_program, song)["ride"]) == 2)


def test_the_trim_is_a_lane_of_its_own_and_heard_at_once(page: Page, demo_program: Program, song: dict) -> None:
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


def test_what_a_client_wants_louder_is_level_and_no_draft_undoes_it(page: Page, demo_program: Program, song: dict) -> None:
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


def test_a_curve_is_brought_in_and_a_bad_one_says_why(page: Page, demo_program: Program, song: dict, tmp_path: Path) -> None:
    good, bad = tmp_path / "fader.csv", tmp_path / "bad.csv"
    good.write_text("seconds,dB\n1,0\n10,-6\n")
    bad.write_text("this,is\nno,curve\n")

    def bring_in(path: Path) -> None:
        page.get_by_role("button", name="More about the ride").click()
        with page.expect_file_chooser() as chooser:
            page.get_by_role("menuitem", name="Import a curve (CSV, MIDI)").click()
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


def test_a_line_is_drawn_and_a_span_copied_to_another_time(page: Page, demo_program: Program, song: dict) -> None:
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


def test_a_clip_curve_is_drawn_and_mirrored_into_the_ride(page: Page, demo_program: Program, song: dict) -> None:
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


def test_what_strays_is_stepped_through_and_lifted(page: Page, demo_program: Program, song: dict) -> None:
    strays = sorted(inside(demo_program, song)["strays"], key=lambda s: -abs(s["deviation"]))
    page.keyboard.press(".")
    row = page.locator(".row[aria-pressed='true']")
    expect(row).to_contain_text(f"{abs(strays[0]['deviation']):.1f}")
    expect(page.get_by_test_id("inspector")).to_contain_text("Span")
    page.keyboard.press("Space")
    page.get_by_label("Lift the ride by").fill(f"{-strays[0]['deviation']:.1f}")
    page.keyboard.press("Enter")
    eventually(lambda: len(ride_of(demo_program, song)["ride"]) == 4)
    points = ride_of(demo_program, song)["ride"]
    assert points[1]["at"] == pytest.approx(strays[0]["start"])
    # a draft can be limited to the span
    page.keyboard.press("d")
    expect(page.get_by_role("button", name=re.compile("Accept the ride"))).to_be_visible()
    page.keyboard.press("d")
    eventually(lambda: demo_program.session(SONG)["undo"] == "Draft a ride for a span")
    end = strays[0]["end"]
    assert all(p["db"] == 0 for p in ride_of(demo_program, song)["ride"] if p["at"] > end + 0.061)


def test_edges_are_drawn_softly_to_onsets_and_the_key_lets_go(page: Page, demo_program: Program, song: dict) -> None:
    track = song["tracks"][0]
    answer = page.request.get(f"{demo_program.address}/api/tracks/{track['id']}/onsets?key={track['timeline']['key']}")
    onsets = np.frombuffer(answer.body(), "<f8")
    edges = [t for c in song["clips"] if c["phrase_start"] is not None for t in (c["phrase_start"], c["phrase_end"])]
    alone = next(t for t in onsets[2:] if np.abs(np.array(edges) - t).min() > 1.0 and np.sort(np.abs(onsets - t))[1] > 0.3)
    page.get_by_test_id("wave-overlay").hover()
    x, y = place(page, song, alone, "wave-overlay")
    line = page.get_by_test_id("snap-line")
    page.mouse.move(x + 150, y)
    page.mouse.down()

    # what pulls comes a moment after the picture
    def pulled() -> bool:
        page.mouse.move(x + 60, y)
        page.mouse.move(x + 4, y)
        return line.is_visible()

    eventually(pulled)
    expect(line).to_have_attribute("data-kind", "onset")
    expect(line).to_have_class(re.compile("snap-holds"))
    page.mouse.up()
    expect(line).to_be_hidden()
    begin = re.match(r"Span\s*(\d+):([\d.]+)", page.get_by_test_id("inspector").inner_text())
    assert begin
    assert int(begin[1]) * 60 + float(begin[2]) == pytest.approx(alone, abs=0.002)
    # with the key held nothing pulls
    page.keyboard.down("Control")
    page.mouse.move(x + 150, y)
    page.mouse.down()
    page.mouse.move(x + 60, y)
    page.mouse.move(x + 4, y)
    expect(line).to_be_hidden()
    page.mouse.up()
    page.keyboard.up("Control")
    begin = re.match(r"Span\s*(\d+):([\d.]+)", page.get_by_test_id("inspector").inner_text())
    assert begin
    assert int(begin[1]) * 60 + float(begin[2]) > alone + 0.05


def test_the_working_range_holds_the_hand_and_is_widened(page: Page, demo_program: Program, song: dict) -> None:
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


def test_moves_are_scaled_and_borders_are_made(page: Page, demo_program: Program, song: dict) -> None:
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


def test_a_trim_is_switched_off_and_on(page: Page, demo_program: Program, song: dict) -> None:
    slider = page.get_by_role("slider", name="Trim of the whole track")
    slider.focus()
    page.keyboard.press("ArrowLeft")
    eventually(lambda: ride_of(demo_program, song)["offset"] == -0.5)
    switch = page.get_by_role("switch", name="Trim of the whole track")
    switch.click()
    eventually(lambda: ride_of(demo_program, song)["off"])
    expect(page.locator(".trim-row")).to_contain_text("off")
    expect(page.get_by_role("button", name="fold into the ride")).to_be_disabled()
    expect(page.get_by_role("button", name="Trim layer")).to_contain_text("0.0")
    page.reload()
    expect(page.get_by_role("switch", name="Trim of the whole track")).not_to_be_checked()
    page.keyboard.press("Control+z")
    eventually(lambda: not ride_of(demo_program, song)["off"])


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
