"""The first real job, done in the real interface on the demo: from an uneven voice to a level render that is listened to."""

from __future__ import annotations

import itertools
import re
from pathlib import Path

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from nivelus.core.measure.grid import measure_file
from nivelus.core.measure.spans import span_levels
from tests.browser.hands import (
    GUIDE,
    SONG,
    box_of,
    capsule,
    clip_of,
    drag,
    eventually,
    fresh,
    gain_told,
    middle,
    open_stage,
    position,
    render_link,
    row,
    wait_past,
)
from tests.helpers.program import Program

SUNG = 6
"""Phrases of the song: two of its four lines are divided where the singer pauses."""


def test_from_the_card_to_a_level_render(quiet_page: Page, demo_program: Program, tmp_path: Path) -> None:
    page, state = quiet_page, fresh(demo_program, GUIDE)
    page.goto(demo_program.address)
    expect(page.locator(".card")).to_have_count(len(demo_program.get("/api/sessions")["items"]))
    card = page.locator(".card", has_text=GUIDE)
    expect(card).to_contain_text("7 of 84 level")
    card.get_by_role("link").click()
    expect(page.get_by_role("button", name=re.compile("2 Phrases"))).to_contain_text("7 of 84 level")

    # a draft is looked at before it is done, with a reason for each value
    page.keyboard.press("d")
    expect(page.get_by_role("button", name=re.compile("Accept 77 changes"))).to_be_visible()
    expect(page.locator(".row-draft").first).to_contain_text("upper limit")
    assert all(clip["gain"] == 0 for clip in demo_program.get(f"/api/sessions/{state['id']}")["clips"])
    page.keyboard.press("d")
    expect(page.get_by_role("button", name=re.compile("2 Phrases"))).to_contain_text("83 of 84 level")
    expect(page.get_by_test_id("figures")).to_contain_text(re.compile(r"level 7 → 83 of 84"))

    # what is left is done by hand: the worklist leads, the hand lowers
    page.keyboard.press("Shift+.")
    worst = page.locator(".row[aria-pressed=true]")
    expect(worst).to_contain_text("You have reached the lamp room.")
    expect(page.get_by_role("button", name="Stop")).to_be_visible()
    page.keyboard.press("Space")
    held = page.locator(".capsule[aria-pressed=true]")
    before = gain_told(held)
    drag(page, middle(held), (20, 25))
    expect(page.locator(".row", has_text="You have reached the lamp room.")).to_have_attribute("data-state", "level")
    assert gain_told(page.locator(".capsule[aria-pressed=true]")) < before - 1
    expect(page.get_by_role("button", name=re.compile("2 Phrases"))).to_contain_text("84 of 84 level")

    # sign off: render, fetch the file, and measure it with the samples
    page.keyboard.press("6")
    expect(page.get_by_test_id("figures-table")).to_contain_text("84 of 84")
    link = render_link(page)
    with page.expect_download() as download:
        link.click()
    path = tmp_path / download.value.suggested_filename
    download.value.save_as(path)
    grid = measure_file(path)[1]
    now = demo_program.get(f"/api/sessions/{state['id']}")
    spoken = [clip for clip in now["clips"] if clip["phrase_start"] is not None]
    for clip in spoken:
        heard = span_levels(grid, clip["phrase_start"], clip["phrase_end"]).loudness
        assert heard == pytest.approx(clip["after"], abs=0.1), clip["label"]
    level = [c for c in spoken if abs(c["after"] + 23) <= 1.5]
    assert len(level) == len(spoken) == 84


def test_a_session_without_gain_renders_to_the_very_bits(page: Page, demo_program: Program, tmp_path: Path) -> None:
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state, "signoff")
    link = render_link(page)
    with page.expect_download() as download:
        link.click()
    download.value.save_as(tmp_path / "song.wav")
    (source,) = (
        p
        for p in demo_program.data.glob("vault/*/*/source.wav")
        if soundfile.info(p).frames == state["tracks"][0]["timeline"]["frames"]
    )
    a, b = (soundfile.read(path, dtype="int32")[0] for path in (source, tmp_path / "song.wav"))
    assert (a == b).all()


@pytest.fixture
def song(page: Page, demo_program: Program) -> dict:
    """The song, open at the stage Phrases, all of it in the window."""
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state)
    page.keyboard.press("Shift+F")
    expect(page.locator(".capsule")).to_have_count(SUNG)
    return state


def test_dragging_up_and_down_is_gain_and_time_cannot_slip(page: Page, demo_program: Program, song: dict) -> None:
    clip = song["clips"][2]
    place = middle(capsule(page, clip))
    drag(page, place, (120, 6))
    drag(page, place, (0, 0))
    assert clip_of(demo_program, song, clip) == clip
    drag(page, place, (40, -60))
    expect(row(page, clip)).not_to_have_accessible_name(re.compile(r"gain 0\.0 dB"))
    now = clip_of(demo_program, song, clip)
    assert now["gain"] > 2
    assert (now["start"], now["end"], now["phrase_start"]) == (clip["start"], clip["end"], clip["phrase_start"])
    assert now["by_hand"]


def test_the_value_is_shown_at_the_hand_and_escape_takes_it_back(page: Page, demo_program: Program, song: dict) -> None:
    clip = song["clips"][3]
    place = middle(capsule(page, clip))
    drag(page, place, (0, 50), release=False)
    label = page.locator(".hand-label")
    expect(label).to_contain_text("gain −")
    expect(label).to_contain_text("LU from target")
    page.keyboard.press("Escape")
    expect(label).to_be_hidden()
    page.mouse.up()
    assert clip_of(demo_program, song, clip) == clip


def test_alt_makes_the_hand_ten_times_finer(page: Page, demo_program: Program, song: dict) -> None:
    rough, fine = song["clips"][2], song["clips"][3]
    # the fine one first: it leaves the scale as it is
    page.keyboard.down("Alt")
    drag(page, middle(capsule(page, fine)), (0, 50))
    page.keyboard.up("Alt")
    expect(row(page, fine)).to_have_accessible_name(re.compile(r"gain −"))
    drag(page, middle(capsule(page, rough)), (0, 50))
    expect(row(page, rough)).to_have_accessible_name(re.compile(r"gain −"))
    a, b = (clip_of(demo_program, song, clip)["gain"] for clip in (rough, fine))
    assert a / b == pytest.approx(10, rel=0.15)


def test_presses_of_one_key_on_one_selection_are_one_step(page: Page, demo_program: Program, song: dict) -> None:
    """Undone and done again at once; another selection, or another kind of edit between them, is another step."""
    first, second = song["clips"][:2]
    start = demo_program.session(SONG)["undo"]
    capsule(page, first).click()
    for _ in range(3):
        page.keyboard.press("ArrowUp")
    page.keyboard.press("Alt+ArrowUp")
    eventually(lambda: demo_program.session(SONG)["undo"] == "1 phrase by +1.6 dB")
    capsule(page, second).click()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("ArrowDown")
    eventually(lambda: demo_program.session(SONG)["undo"] == "1 phrase by -1.0 dB")
    page.keyboard.press("Control+z")
    expect(page.get_by_text("Undone: 1 phrase by -1.0 dB")).to_be_visible()
    assert clip_of(demo_program, song, second)["gain"] == second["gain"]
    assert clip_of(demo_program, song, first)["gain"] == pytest.approx(first["gain"] + 1.6)
    page.keyboard.press("Control+z")
    eventually(lambda: demo_program.session(SONG)["undo"] == start)
    assert clip_of(demo_program, song, first)["gain"] == first["gain"]
    page.keyboard.press("Shift+Control+z")
    eventually(lambda: clip_of(demo_program, song, first)["gain"] == pytest.approx(first["gain"] + 1.6))
    # the steps of a slider are one as well
    slider = page.get_by_role("slider", name="Tolerance")
    slider.focus()
    was = demo_program.session(SONG)["rule"]["tolerance"]
    for _ in range(4):
        page.keyboard.press("ArrowRight")
    eventually(lambda: demo_program.session(SONG)["rule"]["tolerance"] > was + 0.3)
    slider.blur()
    page.keyboard.press("Control+z")
    eventually(lambda: demo_program.session(SONG)["rule"]["tolerance"] == was)
    # everything by the same is the overall gain: no phrase is set by hand for it
    page.keyboard.press("Control+a")
    page.keyboard.press("ArrowUp")
    page.keyboard.press("ArrowUp")
    eventually(lambda: re.fullmatch(r"all \d+ phrases by \+1\.0 dB", demo_program.session(SONG)["undo"] or ""))
    by_hand = {clip["id"] for clip in demo_program.session(SONG)["clips"] if clip["by_hand"]}
    assert by_hand <= {first["id"], *(clip["id"] for clip in song["clips"] if clip["by_hand"])}


def test_nudges_exact_values_and_back_to_zero(page: Page, demo_program: Program, song: dict) -> None:
    clip = song["clips"][0]
    capsule(page, clip).click()
    for key, expected in (("ArrowUp", 0.5), ("ArrowUp", 1.0), ("Alt+ArrowUp", 1.1), ("ArrowDown", 0.6), ("Alt+ArrowDown", 0.5)):
        page.keyboard.press(key)
        expect(row(page, clip)).to_have_accessible_name(re.compile(rf"gain \+{expected} dB"))
    page.mouse.dblclick(*middle(capsule(page, clip)))
    page.get_by_label("Gain", exact=True).fill("3.25")
    page.get_by_label("Words", exact=True).fill("Home to the shore")
    page.keyboard.press("Enter")
    expect(row(page, clip)).to_contain_text("Home to the shore")
    expect(row(page, clip)).to_have_accessible_name(re.compile(r"gain \+3\.3 dB"))
    assert clip_of(demo_program, song, clip)["gain"] == 3.25
    # more than there is: it goes as far as it can, and says so
    page.keyboard.press("e")
    page.get_by_label("Gain", exact=True).fill("40")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("24 dB: that is the most.")
    assert clip_of(demo_program, song, clip)["gain"] == 24
    page.keyboard.press("0")
    page.keyboard.press("Enter")
    expect(row(page, clip)).to_have_accessible_name(re.compile(r"gain 0\.0 dB"))
    page.keyboard.press("ArrowUp")
    page.keyboard.press("Backspace")
    expect(row(page, clip)).to_have_accessible_name(re.compile(r"gain 0\.0 dB"))


def test_many_at_once_keep_their_differences(page: Page, demo_program: Program, song: dict) -> None:
    first, second, third, *_ = song["clips"]
    capsule(page, second).click()
    page.keyboard.press("ArrowUp")
    capsule(page, first).click()
    capsule(page, third).click(modifiers=["Shift"])
    expect(page.locator(".capsule[aria-pressed=true]")).to_have_count(3)
    page.keyboard.press("ArrowDown")
    expect(row(page, first)).to_have_accessible_name(re.compile(r"gain −0\.5 dB"))
    assert [clip_of(demo_program, song, c)["gain"] for c in (first, second, third)] == [-0.5, 0.0, -0.5]
    # the lasso selects what it holds
    chart = box_of(page.get_by_test_id("chart"))
    drag(page, (chart["x"] + 60, chart["y"] + 30), (chart["width"] - 80, chart["height"] - 40))
    expect(page.locator(".capsule[aria-pressed=true]")).to_have_count(SUNG)


def test_lock_leave_out_and_reference(page: Page, demo_program: Program, song: dict) -> None:
    clip = song["clips"][0]
    capsule(page, clip).click()
    page.keyboard.press("l")
    expect(row(page, clip)).to_have_accessible_name(re.compile("locked"))
    page.keyboard.press("ArrowUp")
    told = page.get_by_role("alert").filter(has_text="locked. Unlock it first.")
    # the server knows no keys: the page adds the one that unlocks
    expect(told.locator("kbd")).to_have_text("L")
    page.keyboard.press("d")
    expect(row(page, clip)).to_contain_text("locked")
    page.keyboard.press("Escape")
    page.keyboard.press("l")
    page.keyboard.press("u")
    expect(row(page, clip)).to_have_accessible_name(re.compile("left out"))
    expect(page.get_by_test_id("figures")).to_contain_text(f"of {SUNG - 1}")
    page.keyboard.press("u")
    page.keyboard.press("r")
    expect(row(page, clip)).to_have_accessible_name(re.compile("reference"))


def test_cut_join_and_move_a_border(page: Page, demo_program: Program, song: dict) -> None:
    first, second = song["clips"][:2]
    wave = box_of(page.get_by_test_id("wave-overlay"))
    x0, x1 = (middle(capsule(page, c))[0] for c in (first, second))
    page.mouse.click(x0, wave["y"] + 60)
    page.keyboard.press("c")
    expect(page.locator(".capsule")).to_have_count(SUNG + 1)
    pieces = page.locator(".capsule")
    pieces.nth(0).click()
    pieces.nth(1).click(modifiers=["Control"])
    page.keyboard.press("Shift+C")
    expect(page.locator(".capsule")).to_have_count(SUNG)
    joined = clip_of(demo_program, song, first)
    assert joined["phrase_start"] == first["phrase_start"]
    assert joined["phrase_end"] == first["phrase_end"]
    # the grip of the border stands at the foot of the wave
    share = (first["end"] - song["clips"][0]["phrase_start"]) / (second["phrase_start"] - first["phrase_start"])
    box0, box1 = box_of(capsule(page, first)), box_of(capsule(page, second))
    at = box0["x"] + 2 + (box1["x"] - box0["x"]) * share
    drag(page, (at, wave["y"] + wave["height"] - 8), (-6, 0))
    expect(page.get_by_role("button", name="Undo")).to_be_visible()
    eventually(lambda: clip_of(demo_program, song, first)["end"] < first["end"])
    assert x1 > x0


def test_the_rule_is_tried_live_and_kept_when_let_go(page: Page, demo_program: Program, song: dict) -> None:
    page.keyboard.press("d")
    expect(page.get_by_role("status").filter(has_text="would be level")).to_contain_text("5 of 6 would be level")
    page.get_by_role("slider", name="Upper limit").focus()
    for _ in range(9):
        page.keyboard.press("ArrowRight")
    expect(page.locator(".slider-row", has_text="Limits, down / up")).to_contain_text("+18 dB")
    expect(page.get_by_role("status").filter(has_text="would be level")).to_contain_text("6 of 6 would be level")
    page.get_by_role("button", name=re.compile("Accept 4 changes")).click()
    expect(page.get_by_test_id("figures")).to_contain_text("level 2 → 6 of 6")
    assert demo_program.get(f"/api/sessions/{song['id']}")["rule"]["most_up"] == 18


def test_undo_and_redo_by_key_and_by_button(page: Page, demo_program: Program, song: dict) -> None:
    clip = song["clips"][1]
    capsule(page, clip).click()
    page.keyboard.press("ArrowUp")
    expect(row(page, clip)).to_have_accessible_name(re.compile(r"gain \+0\.5 dB"))
    page.keyboard.press("Control+z")
    expect(row(page, clip)).to_have_accessible_name(re.compile(r"gain 0\.0 dB"))
    page.get_by_role("button", name="Redo").click()
    expect(row(page, clip)).to_have_accessible_name(re.compile(r"gain \+0\.5 dB"))
    expect(page.get_by_text("Done again: 1 phrase by +0.5 dB")).to_be_visible()


def test_playing_before_and_after_and_the_fader(page: Page, demo_program: Program, song: dict) -> None:
    clip = song["clips"][2]
    capsule(page, clip).click()
    page.keyboard.press("Enter")
    expect(page.get_by_role("button", name="Stop")).to_be_visible()
    there = wait_past(page, clip["phrase_start"] - 0.8)
    page.keyboard.press("b")
    expect(page.get_by_role("radio", name="Before")).to_be_checked()
    page.keyboard.press("ArrowDown")
    wait_past(page, there + 0.1)
    page.keyboard.press("b")
    expect(page.get_by_role("radio", name="After")).to_be_checked()
    expect(page.get_by_test_id("live-vial")).to_contain_text("LU short-term")
    page.keyboard.press("Space")
    expect(page.get_by_role("button", name="Play")).to_be_visible()
    fader = page.get_by_role("slider", name="Fader")
    fader.focus()
    for _ in range(3):
        page.keyboard.press("ArrowLeft")
    expect(page.locator(".fader-value")).to_have_text("−0.3 dB")
    expect(page.get_by_role("button", name="Undo")).to_be_visible()
    address = f"/api/sessions/{song['id']}"
    eventually(lambda: bool(np.isclose(demo_program.get(address)["tracks"][0]["fader"], -0.3)))
    assert [c["gain"] for c in demo_program.get(address)["clips"]] == [0, 0, -0.5, 0, 0, 0]


def test_looping_comes_back_to_the_beginning(page: Page, song: dict) -> None:
    wave = box_of(page.get_by_test_id("wave-overlay"))
    drag(page, (wave["x"] + 200, wave["y"] + 50), (18, 0))
    page.keyboard.press("o")
    page.keyboard.press("Enter")
    seen = [wait_past(page, 1.0)]
    while len(seen) < 80 and not any(b < a for a, b in itertools.pairwise(seen)):
        page.wait_for_timeout(100)
        seen.append(position(page))
    page.keyboard.press("Space")
    assert max(seen) - min(seen) < 1.2
    assert any(b < a for a, b in itertools.pairwise(seen))
