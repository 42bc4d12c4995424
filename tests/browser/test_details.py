"""The stage Details, done by hand on the demo: from a voice whose breaths and esses poke out to a render without them."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from tests.browser.hands import (
    GUTTER,
    SONG,
    HeldAnswer,
    box_of,
    drag,
    eventually,
    open_stage,
    open_whole,
    place,
    position,
    wait_past,
)
from tests.browser.marks import kind_rule, mark_now, mark_row, marks_of, only_kind
from tests.conftest import write_sound
from tests.helpers.program import Program
from tests.helpers.sounds import with_a_doubtful_breath


@pytest.fixture
def song(page: Page, demo_program: Program) -> dict[str, Any]:
    """The song, open at the stage Details, all of it in the window."""
    return open_whole(page, demo_program, SONG, "details")


def test_a_slider_shows_what_it_would_do_while_it_is_held(page: Page, demo_program: Program, song: dict) -> None:
    page.get_by_role("switch", name="Breaths down").click(force=True)
    expect(kind_rule(page, "breath")).to_contain_text("4 of 4 down")
    thumb = page.get_by_role("slider", name="Breaths: how far down")
    box = box_of(thumb)
    before = page.get_by_test_id("gain").screenshot()
    drag(page, (box["x"] + 7, box["y"] + 7), (-20, 0), release=False)
    expect(kind_rule(page, "breath")).not_to_contain_text("−8.0 dB")
    eventually(lambda: page.get_by_test_id("gain").screenshot() != before)
    assert {m["depth"] for m in marks_of(demo_program, song, "breath")} == {-8.0}
    page.mouse.up()
    expect(page.get_by_role("button", name="Undo")).to_be_enabled()
    eventually(lambda: marks_of(demo_program, song, "breath")[0]["depth"] < -8.0)
    assert len({m["depth"] for m in marks_of(demo_program, song, "breath")}) == 1


def test_a_slider_that_was_dragged_leaves_the_arrows_to_what_is_selected(page: Page, demo_program: Program, song: dict) -> None:
    only_kind(page, "Breaths")
    thumb = page.get_by_role("slider", name="Breaths: how far down")
    box = box_of(thumb)
    drag(page, (box["x"] + 7, box["y"] + 7), (-12, 0))
    page.keyboard.press(".")
    page.keyboard.press("ArrowDown")
    expect(page.locator(".row[aria-pressed=true]").get_by_label("touched by hand")).to_be_visible()


def test_keys_work_on_one_mark(page: Page, demo_program: Program, song: dict) -> None:
    only_kind(page, "Breaths")
    breath = marks_of(demo_program, song, "breath")[1]
    line, inspector = mark_row(page, breath), page.get_by_test_id("inspector")
    line.click()
    page.keyboard.press("ArrowDown")
    expect(line).to_contain_text("−8.0")
    page.keyboard.press("Alt+ArrowDown")
    expect(line).to_contain_text("−8.1")
    page.keyboard.press("v")
    expect(inspector.get_by_role("button", name=re.compile("notch"))).to_have_attribute("aria-pressed", "true")
    eventually(lambda: mark_now(demo_program, song, breath)["notch"])
    page.keyboard.press("u")
    expect(inspector).to_contain_text("Kept out.")
    page.keyboard.press("u")
    inspector.get_by_role("button", name="Back to the rule").click()
    expect(inspector).to_contain_text("Not turned down")
    eventually(lambda: not mark_now(demo_program, song, breath)["by_hand"])
    inspector.get_by_label("Depth").fill("-5")
    page.keyboard.press("Enter")
    expect(line).to_contain_text("−5.0")
    inspector.get_by_label("Kind").select_option("knock")
    only_kind(page, "Knocks")
    expect(line).to_have_attribute("data-kind", "knock")
    page.keyboard.press("x")
    expect(line).to_have_count(0)
    page.keyboard.press("Control+z")
    expect(line).to_have_count(1)


def test_what_is_being_typed_outlives_an_answer(page: Page, demo_program: Program, song: dict) -> None:
    only_kind(page, "Breaths")
    breath = marks_of(demo_program, song, "breath")[1]
    line, field = mark_row(page, breath), page.get_by_test_id("inspector").get_by_label("Depth")
    line.click()
    held = HeldAnswer(page, "/details/depth", lambda: page.keyboard.press("ArrowDown"))
    field.fill("-5")
    held.let_go()
    expect(line).to_contain_text("−8.0")
    expect(field).to_have_value("-5 dB")
    page.keyboard.press("Enter")
    expect(line).to_contain_text("−5.0")
    page.keyboard.press("Control+z")
    expect(field).to_have_value("-8 dB")


def test_each_mark_is_played_with_a_second_around_it_before_and_after(page: Page, demo_program: Program, song: dict) -> None:
    only_kind(page, "Breaths")
    page.get_by_text("by time").click()
    breath = marks_of(demo_program, song, "breath")[1]
    page.get_by_role("button", name="Play before, then after").click()
    mark_row(page, breath).click()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    expect(page.get_by_role("radio", name="Before")).to_be_checked()
    wait_past(page, breath["start"] - 1)
    expect(page.get_by_role("radio", name="After")).to_be_checked(timeout=8_000)
    expect(page.get_by_role("button", name="Play", exact=True)).to_be_visible(timeout=8_000)
    assert position(page) <= breath["end"] + 1.1


def test_a_dip_has_handles_for_depth_edges_and_ramps(page: Page, demo_program: Program, song: dict) -> None:
    only_kind(page, "Breaths")
    breath = marks_of(demo_program, song, "breath")[1]
    mark_row(page, breath).click()
    page.keyboard.press("ArrowDown")
    expect(mark_row(page, breath)).to_contain_text("−8.0")
    page.keyboard.press("f")
    page.wait_for_timeout(200)
    dip = mark_now(demo_program, song, breath)
    box = box_of(page.get_by_test_id("gain"))
    x = box["x"] + GUTTER + (box["width"] - GUTTER) / 2
    zero = find_zero(page, x)
    label = page.locator(".hand-label")
    drag(page, (x, zero + 12), (0, 20), release=False)
    expect(label).to_contain_text("Breath −")
    expect(label).to_contain_text("dB to its phrase")
    page.mouse.up()
    expect(mark_row(page, breath)).not_to_contain_text("−8.0")
    deeper = mark_now(demo_program, song, breath)
    assert deeper["depth"] < dip["depth"] - 0.5
    assert (deeper["dip_start"], deeper["dip_end"]) == (dip["dip_start"], dip["dip_end"])


def find_zero(page: Page, x: float) -> float:
    """The height of 0 dB in the gain strip: the first at which the hand finds a dip there."""
    box = box_of(page.get_by_test_id("gain"))
    for y in range(int(box["y"]) + 2, int(box["y"] + box["height"])):
        page.mouse.move(x, y)
        if page.get_by_test_id("gain").evaluate("e => e.style.cursor") == "ns-resize":
            return float(y + 3)
    raise AssertionError("there is no dip to hold")


def test_an_edge_of_a_mark_is_dragged_in_the_ribbon(page: Page, demo_program: Program, song: dict) -> None:
    only_kind(page, "Breaths")
    breath = marks_of(demo_program, song, "breath")[1]
    x, y = place(page, song, breath["end"], "ribbon")
    middle, _ = place(page, song, (breath["start"] + breath["end"]) / 2, "ribbon")
    page.mouse.click(middle, y)
    expect(mark_row(page, breath)).to_have_attribute("aria-pressed", "true")
    page.keyboard.down("Control")
    drag(page, (x, y), (8, 0))
    page.keyboard.up("Control")
    expect(mark_row(page, breath).get_by_label("touched by hand")).to_be_visible()
    moved = mark_now(demo_program, song, breath)
    assert moved["start"] == breath["start"]
    assert moved["end"] > breath["end"] + 0.02
    # a new search does not take it back
    page.get_by_role("button", name="More about details").click()
    page.get_by_role("menuitem", name="Find the details again").click()
    expect(page.get_by_text("The details were found again")).to_be_visible()
    assert mark_now(demo_program, song, breath)["end"] == moved["end"]


def test_a_dip_is_made_of_any_span(page: Page, demo_program: Program, song: dict) -> None:
    wave = box_of(page.get_by_test_id("wave-overlay"))
    drag(page, (wave["x"] + 300, wave["y"] + 50), (40, 0))
    page.keyboard.press("i")
    expect(page.get_by_test_id("inspector")).to_contain_text("Dip by hand")
    (made,) = marks_of(demo_program, song, "dip")
    assert made["depth"] == -6.0
    page.keyboard.press("ArrowDown")
    expect(mark_row(page, made)).to_contain_text("−6.5")
    page.get_by_role("button", name="Dips layer").click()
    expect(page.get_by_role("button", name="Dips layer")).to_have_attribute("aria-pressed", "false")
    page.get_by_role("button", name="Not a mark").click()
    expect(mark_row(page, made)).to_have_count(0)
    assert marks_of(demo_program, song, "dip") == []


def test_limits_and_silence_are_part_of_the_rule(page: Page, demo_program: Program, song: dict) -> None:
    page.get_by_role("button", name="limits, gaps").click()
    page.get_by_role("radiogroup", name="How gaps go down").get_by_text("to silence").click()
    page.get_by_role("switch", name="Gaps down").click(force=True)
    expect(kind_rule(page, "gap")).to_contain_text("silence")
    expect(kind_rule(page, "gap")).to_contain_text(re.compile(r"[1-9] of 8 down"))
    assert min(m["depth"] for m in marks_of(demo_program, song, "gap")) < -100
    deepest = page.get_by_role("slider", name="Breaths: deepest")
    deepest.focus()
    for _ in range(19):
        page.keyboard.press("ArrowRight")
    expect(page.locator(".slider-row", has_text="Breaths keep to")).to_contain_text("−5 … 0 dB")
    eventually(lambda: {m["depth"] for m in marks_of(demo_program, song, "breath")} == {-5.0})
    assert {m["reason"] for m in marks_of(demo_program, song, "breath")} == {"deepest"}


def test_gaps_go_to_one_level_and_close_as_they_are_told(page: Page, demo_program: Program, song: dict) -> None:
    page.get_by_role("switch", name="Gaps down").click(force=True)
    page.get_by_role("button", name="limits, gaps").click()
    gap = max(marks_of(demo_program, song, "gap"), key=lambda m: m["end"] - m["start"])
    assert gap["ramp_in"] == pytest.approx(0.4, abs=0.01)
    page.get_by_role("radiogroup", name="How gaps go down").get_by_text("to one level").click()
    expect(kind_rule(page, "gap")).to_contain_text("≤ 20.0 dB")
    eventually(lambda: "one level" in {m["reason"] for m in marks_of(demo_program, song, "gap")})
    within = page.get_by_role("slider", name="Gaps close within")
    within.focus()
    page.keyboard.press("Home")
    eventually(lambda: mark_now(demo_program, song, gap)["ramp_in"] == pytest.approx(0.06, abs=0.01))


def test_a_gap_or_a_span_is_silenced_by_a_key(page: Page, demo_program: Program, song: dict) -> None:
    gap = max(marks_of(demo_program, song, "gap"), key=lambda m: m["end"] - m["start"])
    only_kind(page, "Gaps")
    mark_row(page, gap).click()
    page.keyboard.press("Shift+X")
    eventually(lambda: mark_now(demo_program, song, gap)["depth"] < -100)
    expect(mark_row(page, gap)).to_contain_text("silent")
    page.keyboard.press("Control+z")
    eventually(lambda: mark_now(demo_program, song, gap)["depth"] > -100)
    mark_row(page, gap).click()
    page.get_by_test_id("inspector").get_by_role("button", name=re.compile("silence")).click()
    eventually(lambda: mark_now(demo_program, song, gap)["depth"] < -100)


def test_what_is_in_doubt_stands_first_and_one_key_says_what_it_is(page: Page, own_program: Program, tmp_path: Path) -> None:
    state = own_program.brought_in(write_sound(tmp_path / "doubt.wav", with_a_doubtful_breath()))
    sure, doubtful = marks_of(own_program, state, "breath")
    assert doubtful["reason"] == "in doubt"
    open_stage(page, own_program, state, "details")
    only_kind(page, "Breaths")
    page.keyboard.press("d")
    expect(mark_row(page, sure)).to_have_attribute("data-on", "true")
    first = page.locator(".worklist .row").first
    expect(first).to_have_attribute("data-mark", doubtful["id"])
    expect(first).to_have_accessible_name(re.compile("as it is, in doubt"))
    assert not mark_now(own_program, state, doubtful)["on"]
    page.keyboard.press(".")
    expect(page.get_by_test_id("inspector")).to_contain_text("it may be a word")
    page.keyboard.press("n")
    expect(mark_row(page, doubtful)).to_have_attribute("data-on", "true")
    expect(mark_row(page, doubtful)).not_to_have_accessible_name(re.compile("in doubt"))
    # undone, it is in doubt again, and by mouse the same is said
    page.keyboard.press("Control+z")
    expect(mark_row(page, doubtful)).to_have_accessible_name(re.compile("in doubt"))
    page.get_by_role("button", name=re.compile("it is a breath")).click()
    expect(mark_row(page, doubtful)).to_have_attribute("data-on", "true")
    page.keyboard.press("n")
    expect(page.get_by_text("Nothing that is selected is in doubt.")).to_be_visible()
