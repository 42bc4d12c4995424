"""The stage Ride, done by hand on the demo: drafted, corrected with spans and points, trimmed, folded, rendered."""

from __future__ import annotations

import itertools
import re
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from nivelus.core.deliver.curve_csv import read_csv
from tests.browser.conftest import Program
from tests.browser.hands import drag, eventually, fresh, open_stage, wait_past
from tests.browser.test_details import GUTTER, SONG, place


def ride_of(program: Program, state: dict[str, Any]) -> dict[str, Any]:
    """The lanes as the server has them now."""
    return program.get(f"/api/tracks/{state['tracks'][0]['id']}/ride")


@pytest.fixture
def song(page: Page, demo_program: Program) -> dict[str, Any]:
    """The song, open at the stage Ride, all of it in the window."""
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state, "ride")
    expect(page.locator(".row").first).to_be_visible()
    page.keyboard.press("Shift+F")
    return state


def select_span(page: Page, state: dict[str, Any], start: float, end: float) -> None:
    """Drag across the wave, without snapping."""
    (x0, y), (x1, _) = (place(page, state, at, "wave-overlay") for at in (start, end))
    page.keyboard.down("Control")
    drag(page, (x0, y), (x1 - x0, 0))
    page.keyboard.up("Control")
    expect(page.get_by_test_id("inspector")).to_contain_text("Span")


def test_from_a_draft_to_a_render_that_is_even_inside(page: Page, demo_program: Program, song: dict, tmp_path: Path) -> None:
    status = page.get_by_role("status").filter(has_text="Inside the phrases")
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
    expect(status).to_have_text(shown)
    page.get_by_role("button", name=re.compile("Accept the ride")).click()
    expect(page.get_by_role("button", name=re.compile("4 Ride"))).to_contain_text("ride drawn")
    expect(status).not_to_contain_text("points")
    phrases = ride_of(demo_program, song)["phrases"]
    assert np.mean([p["after"] for p in phrases]) < 0.75 * np.mean([p["before"] for p in phrases])

    # a client's wish is a trim, and is folded in when it is settled
    slider = page.get_by_role("slider", name="Trim of the whole track")
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
        page.get_by_role("menuitem", name="Write it out as CSV").click()
    download.value.save_as(tmp_path / "ride.csv")
    assert download.value.suggested_filename == "Singer ride.csv"
    curve = read_csv((tmp_path / "ride.csv").read_bytes())

    # what is rendered is the recording with that curve
    page.keyboard.press("5")
    page.get_by_role("button", name="Render", exact=True).click()
    with page.expect_download() as download:
        page.get_by_role("link", name=re.compile("Singer levelled.wav")).click(timeout=30_000)
    download.value.save_as(tmp_path / "out.wav")
    rendered, rate = soundfile.read(tmp_path / "out.wav")
    (source,) = (
        p
        for p in demo_program.data.glob("vault/*/*/source.*")
        if soundfile.info(p).frames == song["tracks"][0]["recording"]["frames"]
    )
    plain = soundfile.read(source)[0]
    for at in np.arange(2.0, 36.0, 1.7):
        span = slice(round(at * rate), round((at + 0.02) * rate))
        fallen = 10 * np.log10(np.sum(rendered[span] ** 2) / np.sum(plain[span] ** 2))
        assert fallen == pytest.approx(float(np.mean(curve(at + np.linspace(0, 0.02, 9)))), abs=0.3)


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
    eventually(lambda: {p["db"] for p in ride_of(demo_program, song)["ride"]} == {0})
    page.keyboard.press("Control+z")
    page.keyboard.press("Control+z")
    eventually(lambda: ride_of(demo_program, song)["ride"][1]["db"] == pytest.approx(points[1]["db"] - 0.5))


def test_escape_takes_a_lift_back(page: Page, demo_program: Program, song: dict) -> None:
    select_span(page, song, 5.0, 7.0)
    x, y = place(page, song, 6.0, "gain")
    drag(page, (x, y), (0, -30), release=False)
    expect(page.locator(".hand-label")).to_contain_text("lift")
    page.keyboard.press("Escape")
    expect(page.locator(".hand-label")).to_be_hidden()
    page.mouse.up()
    assert ride_of(demo_program, song)["ride"] == []


def gain_height(page: Page, db: float) -> float:
    """The height of a gain in the strip of the stage Ride, where clips are at 0 dB: from -14 to 11 dB."""
    box = page.get_by_test_id("gain").bounding_box()
    assert box
    return box["y"] + 4 + (box["height"] - 8) * (11 - db) / 25


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
    page.get_by_label("Gain", exact=True).fill("-4.25")
    page.keyboard.press("Enter")
    eventually(lambda: ride_of(demo_program, song)["ride"][1]["db"] == -4.25)
    page.get_by_label("Way to the next").select_option("smooth")
    eventually(lambda: ride_of(demo_program, song)["ride"][1]["shape"] == "smooth")
    page.keyboard.down("Control")
    drag(page, (x, gain_height(page, -4.25)), (60, 3))
    page.keyboard.up("Control")
    eventually(lambda: ride_of(demo_program, song)["ride"][1]["at"] > before[1]["at"] + 0.5)
    assert ride_of(demo_program, song)["ride"][1]["db"] == -4.25
    page.get_by_role("button", name="Delete").click()
    eventually(lambda: len(ride_of(demo_program, song)["ride"]) == 2)


def test_the_trim_is_a_lane_of_its_own_and_heard_at_once(page: Page, demo_program: Program, song: dict) -> None:
    page.get_by_text("Trim", exact=True).click()
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


def test_a_curve_is_brought_in_and_a_bad_one_says_why(page: Page, demo_program: Program, song: dict, tmp_path: Path) -> None:
    good, bad = tmp_path / "fader.csv", tmp_path / "bad.csv"
    good.write_text("seconds,dB\n1,0\n10,-6\n")
    bad.write_text("this,is\nno,curve\n")

    def bring_in(path: Path) -> None:
        page.get_by_role("button", name="More about the ride").click()
        with page.expect_file_chooser() as chooser:
            page.get_by_role("menuitem", name="Bring in a curve (CSV, MIDI)").click()
        chooser.value.set_files(path)

    bring_in(good)
    expect(page.get_by_text("“fader.csv” is the ride now.")).to_be_visible()
    assert [(p["at"], p["db"]) for p in ride_of(demo_program, song)["ride"]] == [(1, 0), (10, -6)]
    bring_in(bad)
    expect(page.get_by_text("“bad.csv”: Line 2 holds no point")).to_be_visible()
    assert len(ride_of(demo_program, song)["ride"]) == 2
    page.keyboard.press("t")
    page.get_by_role("button", name="More about the ride").click()
    page.get_by_role("menuitem", name="Take the ride away").click()
    eventually(lambda: ride_of(demo_program, song)["ride"] == [])
    assert page.get_by_test_id("gain").bounding_box()["width"] > GUTTER


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
    expect(page.get_by_text("of the ride are copied")).to_be_visible()
    x, y = place(page, song, 25.0, "wave-overlay")
    page.mouse.click(x, y)
    page.keyboard.press("Control+v")
    eventually(lambda: len(ride_of(demo_program, song)["ride"]) > len(points))
    later = [p for p in ride_of(demo_program, song)["ride"] if p["at"] > 24]
    assert max(abs(p["db"]) for p in later) == pytest.approx(max(abs(p["db"]) for p in points), abs=0.5)
