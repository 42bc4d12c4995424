"""The stage Ride, done by hand on the demo: drafted, corrected with spans and points, trimmed, folded, rendered."""

from __future__ import annotations

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
    SONG,
    drag,
    eventually,
    gain_height,
    middle,
    note,
    open_whole,
    place,
    render_link,
    ride_of,
)
from tests.browser.spans import lift_by_three, select_span
from tests.helpers.program import Program


def inside(program: Program, state: dict[str, Any]) -> dict[str, Any]:
    """What goes on inside the phrases, and what strays, as the server has it now."""
    return program.get(f"/api/tracks/{state['tracks'][0]['id']}/ride/inside")


@pytest.fixture
def song(page: Page, demo_program: Program) -> dict[str, Any]:
    """The song, open at the stage Ride, all of it in the window."""
    return open_whole(page, demo_program, SONG, "ride")


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


@pytest.mark.parametrize("key", ["Delete", "Backspace", ""])
def test_a_deleted_span_goes_back_to_0_and_no_further(page: Page, demo_program: Program, song: dict, key: str) -> None:
    """In the middle of a drafted ride: no slope from side to side, nothing moved outside; the step says where it goes."""
    page.keyboard.press("d")
    page.get_by_role("button", name=re.compile("Accept the ride")).click()
    eventually(lambda: len(ride_of(demo_program, song)["ride"]) > 10)
    before = curve_now(demo_program, song)
    select_span(page, song, 9.0, 14.0)

    def delete() -> None:
        page.keyboard.press(key) if key else page.get_by_role("button", name="Clear the span").click()

    delete()
    eventually(lambda: demo_program.session(SONG)["undo"] == "Delete a range of the ride: back to 0 dB")
    now = curve_now(demo_program, song)
    outside = np.r_[np.linspace(0, 8.9, 200), np.linspace(14.1, 30, 200)]
    assert now(outside) == pytest.approx(before(outside), abs=0.02)
    assert np.abs(now(np.linspace(9.2, 13.8, 50))).max() < 0.01
    delete()
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
    # or by the mouse
    select_span(page, song, 26.0, 28.0)
    page.get_by_role("button", name="More about the ride").click()
    page.get_by_role("menuitem", name="Add border points: four").click()
    eventually(lambda: len(ride_of(demo_program, song)["ride"]) == 12)
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
