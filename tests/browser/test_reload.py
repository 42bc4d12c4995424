"""What a reload keeps: the span, a draft on view, how files belong together; and what it says of a file it cut off."""

from __future__ import annotations

from pathlib import Path

import pytest
from playwright.sync_api import Page, Route, expect

from tests.browser.hands import SONG, eventually, fresh, open_stage
from tests.conftest import uneven_voice, write_sound
from tests.helpers.program import Program


def test_the_span_and_the_draft_on_view_outlive_a_reload(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state, "phrases")
    page.keyboard.press("Shift+F")
    # two phrases are in hand, of which a draft is on view
    page.locator(".capsule").nth(1).click()
    page.locator(".capsule").nth(2).click(modifiers=["Shift"])
    page.keyboard.press("d")
    accept = page.get_by_role("button", name="Accept", exact=False).first
    expect(accept).to_be_visible()
    drafted = page.locator(".row-draft")
    expect(drafted).to_have_count(2)
    page.reload()
    expect(accept).to_be_visible()
    expect(drafted).to_have_count(2)
    page.keyboard.press("d")
    eventually(lambda: demo_program.session(SONG)["undo"] != state["undo"])
    page.keyboard.press("Control+z")
    eventually(lambda: demo_program.session(SONG)["undo"] == state["undo"])
    # in Ride: a span, the rule as it was set, and the draft within that span
    page.keyboard.press("4")
    page.keyboard.press("Shift+F")
    page.get_by_label("Position").fill("9")
    page.get_by_label("Position").press("Enter")
    for _ in range(12):
        page.keyboard.press("Shift+ArrowRight")
    page.get_by_role("slider", name="Strength").focus()
    page.keyboard.press("End")
    page.keyboard.press("d")
    accept = page.get_by_role("button", name="Accept the ride")
    expect(accept).to_be_visible()
    note = page.locator(".rule-foot [role=status]")
    shown = note.inner_text()
    page.wait_for_url("**span=*")
    page.reload()
    expect(accept).to_be_visible()
    expect(note).to_have_text(shown)
    expect(page.get_by_test_id("inspector")).to_contain_text("Span")
    # dropped it stays dropped
    page.keyboard.press("Escape")
    expect(accept).to_be_hidden()
    page.reload()
    expect(page.get_by_role("button", name="Draft", exact=False).first).to_be_visible()
    expect(accept).to_be_hidden()


def test_a_file_that_was_cut_off_is_named(page: Page, own_program: Program, voice_file: Path, tmp_path: Path) -> None:
    state = own_program.brought_in(voice_file)
    open_stage(page, own_program, state, "survey")

    def held(route: Route) -> None:
        """It never arrives."""

    page.route("**/uploads*", held)
    page.get_by_label("Sound files").set_input_files(write_sound(tmp_path / "second.wav", uneven_voice((-20.0,))))
    expect(page.get_by_text("sending")).to_be_visible()
    page.reload()
    words = "“second.wav” was still uploading when the page was closed. Choose it again."
    told = page.get_by_role("alert").filter(has_text=words)
    expect(told).to_be_visible()
    page.reload()
    expect(page.get_by_role("tab")).to_have_count(1)
    expect(told).to_be_hidden()


@pytest.mark.parametrize("answer", ["key", "mouse"])
def test_the_question_how_files_belong_together_has_the_focus_and_waits(
    page: Page, own_program: Program, tmp_path: Path, answer: str
) -> None:
    page.goto(own_program.address)
    files = [write_sound(tmp_path / f"lead {n}.wav", uneven_voice((-20.0 - n, -26.0))) for n in (1, 2)]
    page.get_by_label("Sound files").set_input_files(files)
    main = page.get_by_role("button", name="Lay them out")
    expect(main).to_be_focused(timeout=30_000)
    page.reload()
    expect(page.get_by_label("Lay them out", exact=True)).to_contain_text("2 files were imported together")
    expect(main).to_be_focused()
    if answer == "key":
        page.keyboard.press("Enter")
    else:
        main.click()
    expect(page.get_by_role("tab")).to_have_count(1)
    page.reload()
    expect(page.get_by_label("Takes of lead")).to_be_visible()
    expect(main).to_be_hidden()
    # undone, one of them becomes a take of the other later, from its menu or by name
    page.keyboard.press("Control+z")
    expect(page.get_by_role("tab")).to_have_count(2)
    if answer == "mouse":
        page.get_by_role("button", name="More for lead 2").click()
        page.get_by_role("menuitem", name="Make it a take of “lead 1”").click()
    else:
        page.get_by_role("tab").nth(1).click()
        page.keyboard.press("Control+k")
        page.get_by_placeholder("What to do, or a phrase by its words").fill("take of")
        page.keyboard.press("Enter")
    expect(page.get_by_role("tab")).to_have_count(1)
    expect(page.get_by_label("Takes of lead").get_by_role("radio")).to_have_count(2)


def test_lanes_are_muted_where_clips_lie_under_the_switch(page: Page, own_program: Program, tmp_path: Path) -> None:
    files = [write_sound(tmp_path / f"{name}.wav", uneven_voice((-20.0, -26.0))) for name in ("host", "guest")]
    state = own_program.all_brought_in(files, "Talk")
    open_stage(page, own_program, state, "survey")
    # clips reach from the beginning to the end, and are buttons too
    lane = page.locator("section.lane").first
    expect(lane.locator(".lane-clip").first).to_be_visible()
    lane.get_by_role("button", name="Mute host").click()
    eventually(lambda: own_program.session("Talk")["tracks"][0]["mute"])
    chip = page.locator(".chips").get_by_role("button", name="Solo guest")
    chip.click()
    eventually(lambda: own_program.session("Talk")["tracks"][1]["solo"])
