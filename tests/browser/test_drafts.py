"""A draft is of the session as it is when it is seen, however quickly hands follow each other."""

from __future__ import annotations

import re
from typing import Any

import pytest
from playwright.sync_api import Locator, Page, expect

from tests.browser.hands import SONG, HeldAnswer, clip_of, eventually, fresh, note, open_stage, ride_of, row
from tests.browser.riding import hold_still
from tests.helpers.program import Program


@pytest.fixture
def song(page: Page, demo_program: Program) -> dict[str, Any]:
    """The demo's song as it was built, in the stage Phrases."""
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state)
    return state


def accept_button(page: Page) -> Locator:
    return page.get_by_role("button", name=re.compile("^Accept"))


def drafted(page: Page) -> str:
    """Have all phrases drafted; what the draft would do."""
    page.keyboard.press("d")
    expect(accept_button(page)).to_be_visible()
    return note(page).inner_text()


def test_a_draft_waits_for_the_rule_that_was_just_changed(page: Page, song: dict[str, Any]) -> None:
    asked: list[str] = []
    page.on("request", lambda request: asked.append(request.url) if request.url.endswith("/draft") else None)
    strength = page.get_by_role("slider", name="Strength")
    expect(strength).to_have_attribute("aria-valuenow", "100")
    held = HeldAnswer(page, f"/api/sessions/{song['id']}", lambda: strength.press("Home"))
    expect(strength).to_have_attribute("aria-valuenow", "0")
    page.keyboard.press("d")
    assert asked == []
    expect(accept_button(page)).to_have_count(0)
    held.let_go()
    expect(accept_button(page)).to_have_text(re.compile("Accept 0 changes"))
    assert len(asked) == 1


def test_a_draft_on_view_follows_what_is_done_to_its_phrases(page: Page, demo_program: Program, song: dict[str, Any]) -> None:
    before = drafted(page)
    moves = accept_button(page).text_content() or ""
    clip = next(c for c in song["clips"] if c["after"] is not None and abs(c["after"] - song["tracks"][0]["target"]) > 2)
    row(page, clip).click()
    page.keyboard.press("l")
    expect(accept_button(page)).not_to_have_text(moves)
    # it is of all phrases still, not of the one that is selected now
    page.keyboard.press("Control+z")
    expect(accept_button(page)).to_have_text(moves)
    expect(note(page)).to_have_text(before)
    page.keyboard.press("l")
    expect(note(page)).not_to_have_text(before)
    page.keyboard.press("d")
    expect(accept_button(page)).to_have_count(0)
    assert clip_of(demo_program, song, clip)["gain"] == clip["gain"]


def test_a_draft_that_could_not_be_accepted_is_still_there(page: Page, demo_program: Program, song: dict[str, Any]) -> None:
    """Another window was quicker: the draft is of what that one left, and the key accepts it then."""
    before = drafted(page)
    locked, other = [c for c in song["clips"] if c["after"] is not None and abs(c["after"] + 23) > 3][:2]
    track = song["tracks"][0]["id"]
    demo_program.post(
        f"/api/tracks/{track}/flag", {"revision": song["revision"], "clips": [locked["id"]], "flag": "locked", "on": True}
    )
    page.keyboard.press("d")
    expect(page.get_by_role("alert").filter(has_text="another")).to_be_visible()
    expect(accept_button(page)).to_be_visible()
    # what is accepted is what is seen: the one that leaves the locked phrase alone
    expect(note(page)).not_to_have_text(before)
    page.keyboard.press("d")
    expect(accept_button(page)).to_have_count(0)
    eventually(lambda: clip_of(demo_program, song, other)["gain"] != other["gain"])
    assert clip_of(demo_program, song, locked)["gain"] == locked["gain"]


def test_a_draft_on_its_way_does_not_come_into_another_stage(page: Page, song: dict[str, Any]) -> None:
    held = HeldAnswer(page, "/draft", lambda: page.keyboard.press("d"))
    page.keyboard.press("3")
    expect(page).to_have_url(re.compile("/details"))
    page.keyboard.press("2")
    expect(page).to_have_url(re.compile("/phrases"))
    held.let_go()
    hold_still(page, 0)
    expect(accept_button(page)).to_have_count(0)


def test_a_draft_on_its_way_is_dropped_by_the_key(page: Page, song: dict[str, Any]) -> None:
    held = HeldAnswer(page, "/draft", lambda: page.keyboard.press("d"))
    page.keyboard.press("Escape")
    held.let_go()
    hold_still(page, 0)
    expect(accept_button(page)).to_have_count(0)
    drafted(page)


def test_a_draft_is_gone_when_its_session_is_opened_again(page: Page, song: dict[str, Any]) -> None:
    drafted(page)
    page.get_by_role("link", name="Nivelus, all sessions").click()
    expect(page.locator(".card", has_text=SONG)).to_be_visible()
    page.go_back()
    expect(page.get_by_role("button", name="Draft all phrases")).to_be_visible()
    expect(accept_button(page)).to_have_count(0)


def test_a_ride_draft_follows_an_undo(page: Page, demo_program: Program, song: dict[str, Any]) -> None:
    drafted(page)
    page.keyboard.press("d")
    expect(accept_button(page)).to_have_count(0)
    page.keyboard.press("4")
    page.keyboard.press("d")
    expect(accept_button(page)).to_be_visible()
    first = note(page).inner_text()
    page.keyboard.press("Control+z")
    expect(note(page)).not_to_have_text(first)
    page.keyboard.press("Control+Shift+z")
    expect(note(page)).to_have_text(first)


def test_what_is_accepted_is_what_the_hand_has_set_once_it_is_seen(
    page: Page, demo_program: Program, state: dict[str, Any]
) -> None:
    """A slider has moved on, and its draft is on its way: the key means that one, not the one that is still seen."""
    open_stage(page, demo_program, state, "ride")
    page.keyboard.press("d")
    expect(accept_button(page)).to_be_visible()
    before = ride_of(demo_program, state)["ride"]
    slider = page.get_by_role("slider", name="Strength")

    def lower() -> None:
        for _ in range(30):
            slider.press("ArrowLeft")

    held = HeldAnswer(page, "/ride/draft", lower)
    page.keyboard.press("d")
    expect(accept_button(page)).to_be_visible()
    strength = float(slider.get_attribute("aria-valuenow") or 0)
    meant = demo_program.post(f"/api/tracks/{state['tracks'][0]['id']}/ride/draft", {"rule": {"strength": strength}})
    assert ride_of(demo_program, state)["ride"] == before
    held.let_go()
    expect(accept_button(page)).to_have_count(0)
    done = [{name: point[name] for name in ("at", "db", "shape")} for point in ride_of(demo_program, state)["ride"]]
    assert done == meant["points"]
    assert ride_of(demo_program, state)["ride"] != before
