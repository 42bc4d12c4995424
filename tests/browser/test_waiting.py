"""Whoever waits for half a second reads for what, and calls it off where nothing was changed yet."""

from __future__ import annotations

from playwright.sync_api import Page, expect

from tests.browser.hands import SONG, HeldAnswer, eventually, fresh, open_stage, phrases, row
from tests.helpers.program import Program


def test_a_draft_that_takes_long_says_so_and_is_called_off(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state)
    waiting = page.get_by_role("status", name="At work")
    held = HeldAnswer(page, "/draft", lambda: page.keyboard.press("d"))
    expect(waiting).to_contain_text("Drafting clip gain")
    waiting.get_by_role("button", name="Stop").click()
    expect(waiting).to_have_count(0)
    # nothing failed, and nothing is proposed
    expect(page.get_by_role("alert")).to_have_count(0)
    held.let_go()
    assert demo_program.session(SONG)["revision"] == state["revision"]
    # the next one is another question
    page.keyboard.press("d")
    expect(page.get_by_role("button", name="Accept")).to_be_visible()


def test_an_edit_says_so_and_cannot_be_called_off(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state)
    row(page, phrases(state)[0]).click()
    waiting = page.get_by_role("status", name="At work")
    held = HeldAnswer(page, "/flag", lambda: page.keyboard.press("l"))
    expect(waiting).to_contain_text("Making the change")
    expect(waiting.get_by_role("button")).to_have_count(0)
    held.let_go()
    expect(waiting).to_have_count(0)
    eventually(lambda: demo_program.session(SONG)["revision"] > state["revision"])


def test_the_work_of_the_compressor_can_be_called_off_and_asked_for_again(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state, "balance")
    waiting = page.get_by_role("status", name="At work")
    held = HeldAnswer(page, "/load", lambda: page.get_by_text("into the compressor").click(), question=True)
    expect(waiting).to_contain_text("Working out what the compressor has to do")
    waiting.get_by_role("button", name="Stop").click()
    expect(waiting).to_have_count(0)
    held.let_go()
    page.get_by_role("button", name="Calculate them").click()
    expect(page.get_by_role("status").filter(has_text="Quiet half")).to_be_visible()


def test_what_is_worked_out_for_a_stage_is_let_go_with_it(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state, "balance")
    waiting = page.get_by_role("status", name="At work")
    HeldAnswer(page, "/load", lambda: page.get_by_text("into the compressor").click(), question=True)
    expect(waiting).to_contain_text("Working out what the compressor has to do")
    page.keyboard.press("2")
    expect(waiting).to_have_count(0)
    expect(page.get_by_role("alert")).to_have_count(0)
    page.keyboard.press("5")
    expect(page.get_by_role("status").filter(has_text="Quiet half")).to_be_visible()


def test_nothing_moves_for_a_message(page: Page, demo_program: Program) -> None:
    """What is done and what is refused stands under the picture, which keeps its place and size."""
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state)
    picture = page.locator(".picture")
    before = picture.bounding_box()
    page.keyboard.press("Shift+K")
    expect(page.get_by_role("alert")).to_have_text("Select a phrase first.")
    row(page, phrases(state)[0]).click()
    page.keyboard.press("ArrowUp")
    page.keyboard.press("Control+z")
    # the newest act takes the place of the one before
    expect(page.get_by_role("alert")).to_contain_text("Undone: ")
    assert picture.bounding_box() == before
    told = page.get_by_role("alert").bounding_box()
    assert before is not None
    assert told is not None
    assert told["y"] >= before["y"] + before["height"]
    page.get_by_role("button", name="Dismiss this message").click()
    expect(page.get_by_role("alert")).to_have_count(0)
