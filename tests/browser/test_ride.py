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
