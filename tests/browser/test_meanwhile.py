"""Hands are quicker than answers: what is taken in hand while an edit is on its way is what is worked on."""

from __future__ import annotations

import re
import time
from collections.abc import Callable
from typing import Any
from urllib.parse import urlsplit

import pytest
from playwright.sync_api import Page, Request, expect

from tests.browser.hands import (
    FEATURE,
    GUIDE,
    SONG,
    HeldAnswer,
    capsule,
    clip_of,
    drag,
    eventually,
    fresh,
    gain_height,
    gain_told,
    middle,
    open_stage,
    phrases,
    place,
    ride_of,
    row,
)
from tests.browser.riding import hold_still
from tests.helpers.program import Program

POINTS = ((4.0, 0.0), (8.0, 3.0), (12.0, -3.0), (16.0, 3.0), (20.0, 0.0))


def drawn(program: Program, state: dict[str, Any]) -> list[tuple[float, float]]:
    return [(point["at"], point["db"]) for point in ride_of(program, state)["ride"]]


def test_a_phrase_that_is_taken_while_others_are_joined_stays_taken(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state)
    row(page, phrases(state)[0]).click()
    row(page, phrases(state)[1]).click(modifiers=["Control"])
    held = HeldAnswer(page, "/join", lambda: page.keyboard.press("Shift+C"))
    row(page, phrases(state)[3]).click()
    held.let_go()
    expect(row(page, phrases(state)[1])).to_have_count(0)
    expect(row(page, phrases(state)[3])).to_have_attribute("aria-pressed", "true")


def test_a_second_drag_counts_while_the_first_is_on_its_way(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state)
    page.keyboard.press("Shift+F")
    first, second = phrases(state)[0], phrases(state)[2]
    held = HeldAnswer(page, "/gain", lambda: drag(page, middle(capsule(page, first)), (0, -20)))
    drag(page, middle(capsule(page, second)), (0, -20), release=False)
    held.let_go()
    # the first phrase is drawn anew, and the hand has not moved since
    eventually(lambda: gain_told(capsule(page, first)) > 0.5)
    page.mouse.up()
    eventually(lambda: clip_of(demo_program, state, second)["gain"] > second["gain"] + 0.5)
    assert clip_of(demo_program, state, first)["gain"] > first["gain"] + 0.5


@pytest.fixture
def riding(page: Page, demo_program: Program) -> dict[str, Any]:
    """The song with five points of a ride, open at the stage Ride with the points in hand."""
    state = fresh(demo_program, SONG)
    track = state["tracks"][0]["id"]
    for at, db in POINTS:
        made = {"revision": state["revision"], "lane": "ride", "at": at, "db": db}
        state |= {"revision": demo_program.post(f"/api/tracks/{track}/lanes/point", made)["revision"]}
    open_stage(page, demo_program, state, "ride")
    page.keyboard.press("Shift+F")
    page.keyboard.press("p")
    expect(page.get_by_test_id("inspector")).to_contain_text("5 points")
    return state


def point(page: Page, state: dict[str, Any], at: float, db: float) -> tuple[float, float]:
    """Where a point of the ride lies on the screen."""
    return place(page, state, at, "gain")[0], gain_height(page, db)


@pytest.mark.parametrize("begun", ["before", "after"])
def test_a_point_that_is_moved_while_another_is_deleted_is_the_one_meant(
    page: Page, demo_program: Program, riding: dict[str, Any], begun: str
) -> None:
    """Whether the drag ends before the answer comes or after: the points behind the deleted one have other places then."""
    page.mouse.click(*point(page, riding, 8, 3))
    held = HeldAnswer(page, "/points", lambda: page.keyboard.press("Delete"))
    drag(page, point(page, riding, 12, -3), (2, 40), release=begun == "after")
    held.let_go()
    if begun == "before":
        hold_still(page, 0)
        page.mouse.up()
    eventually(lambda: dict(drawn(demo_program, riding)).get(12.0, 0) < -4)
    moved = drawn(demo_program, riding)
    assert [at for at, _ in moved] == [4, 12, 16, 20]
    assert [db for _, db in moved[2:]] == [3, 0]
    expect(page.get_by_test_id("inspector")).to_contain_text("Point0:12.000")


def test_points_in_hand_stay_the_same_when_others_are_undone(page: Page, demo_program: Program, riding: dict[str, Any]) -> None:
    page.mouse.dblclick(*point(page, riding, 6, 1))
    eventually(lambda: len(drawn(demo_program, riding)) == 6)
    expect(page.get_by_test_id("inspector")).to_contain_text("Point0:0")
    page.mouse.click(*point(page, riding, 12, -3))
    expect(page.get_by_test_id("inspector")).to_contain_text("Point0:12.000")
    page.keyboard.press("Control+z")
    expect(page.get_by_text("Undone")).to_be_visible()
    expect(page.get_by_test_id("inspector")).to_contain_text("Point0:12.000")
    page.keyboard.press("ArrowDown")
    eventually(lambda: (12.0, -3.5) in drawn(demo_program, riding))


def test_a_session_that_is_left_has_its_late_answer_to_itself(page: Page, demo_program: Program) -> None:
    guide, song = fresh(demo_program, GUIDE), fresh(demo_program, SONG)
    open_stage(page, demo_program, guide)
    page.keyboard.press(".")
    expect(page.locator(".row[aria-pressed=true]")).to_have_count(1)
    held = HeldAnswer(page, "/flag", lambda: page.keyboard.press("l"))
    page.get_by_role("link", name="Nivelus, all sessions").click()
    page.get_by_role("link", name=SONG).click()
    expect(page.get_by_test_id("chart")).to_be_visible()
    held.let_go()
    # what is pressed here is meant here
    first = phrases(song)[0]
    row(page, first).click()
    page.keyboard.press("ArrowUp")
    eventually(lambda: clip_of(demo_program, song, first)["gain"] == 0.5)
    expect(page.get_by_role("alert")).to_have_count(0)
    page.keyboard.press("Control+z")
    expect(page.get_by_role("alert")).to_contain_text("Undone: 1 phrase by +0.5 dB")
    assert clip_of(demo_program, song, first)["gain"] == 0
    assert [clip["locked"] for clip in demo_program.session(GUIDE)["clips"]].count(True) == 1


def test_a_stage_is_there_with_its_key_and_the_address_follows(page: Page, demo_program: Program) -> None:
    """What is set next is set in the stage that was gone to: two stages have a strength, and they are not the same."""
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state)
    # asked at once, before anything that waits has had its turn
    stage = page.evaluate(
        """async () => {
            document.body.dispatchEvent(new KeyboardEvent("keydown", { key: "4", code: "Digit4", bubbles: true }));
            await Promise.resolve();
            return [...document.querySelectorAll("[aria-label=Rule] [role=radiogroup]")].map((e) => e.ariaLabel);
        }"""
    )
    assert "Lane in hand" in stage
    expect(page).to_have_url(re.compile("/ride"))
    page.keyboard.press("3")
    page.keyboard.press("5")
    expect(page).to_have_url(re.compile("/balance"))
    for way, name, mark in (
        ("back", "details", "Breaths down"),
        ("back", "ride", "Lane in hand"),
        ("forward", "details", "Breaths down"),
    ):
        page.evaluate("way => history[way]()", way)
        expect(page).to_have_url(re.compile(f"/{name}"))
        expect(page.get_by_label(mark, exact=True)).to_be_visible()


def test_a_key_that_is_held_is_meant_once_but_for_nudges(page: Page, demo_program: Program) -> None:
    song = fresh(demo_program, SONG)
    open_stage(page, demo_program, song)
    for _ in range(4):
        # a key that is down already and goes down again repeats
        page.keyboard.down("d")
        expect(page.get_by_role("button", name="Accept")).to_be_visible()
    page.keyboard.up("d")
    page.keyboard.press("Escape")
    first = phrases(song)[0]
    row(page, first).click()
    for _ in range(3):
        page.keyboard.down("ArrowUp")
    page.keyboard.up("ArrowUp")
    eventually(lambda: clip_of(demo_program, song, first)["gain"] == 1.5)
    changed = [clip["id"] for clip in demo_program.session(SONG)["clips"] if clip["gain"] != 0]
    assert changed == [first["id"]]


def test_figures_of_another_track_do_not_stand_for_this_one(page: Page, demo_program: Program) -> None:
    feature = fresh(demo_program, FEATURE)
    open_stage(page, demo_program, feature)
    figures = page.get_by_test_id("figures")
    narrated = f"of {len(phrases(feature, feature['tracks'][0]['id']))}"
    expect(figures).to_contain_text(narrated)
    held = HeldAnswer(page, "/figures", lambda: page.get_by_role("tab", name="Mill keeper").click(), question=True)
    expect(figures).not_to_contain_text(narrated)
    held.let_go()
    expect(figures).to_contain_text("spread")


def test_a_switch_that_is_pressed_twice_at_once_is_there_and_back(page: Page, demo_program: Program) -> None:
    song = fresh(demo_program, SONG)
    open_stage(page, demo_program, song)
    first, track = phrases(song)[0], song["tracks"][0]["id"]
    row(page, first).click()
    began = song["revision"]

    def twice(address: str, press: Callable[[], None]) -> None:
        nonlocal began
        held = HeldAnswer(page, address, press)
        press()
        held.let_go()
        began += 2
        eventually(lambda: demo_program.session(SONG)["revision"] == began)

    for key in ("l", "u", "r"):
        twice("/flag", lambda key=key: page.keyboard.press(key))  # type: ignore[misc]
    clip = clip_of(demo_program, song, first)
    assert not any(clip[flag] for flag in ("locked", "left_out", "reference"))
    for key in ("m", "Shift+M"):
        twice(f"/tracks/{track}", lambda key=key: page.keyboard.press(key))  # type: ignore[misc]
    now = demo_program.session(SONG)["tracks"][0]
    assert not any(now[flag] for flag in ("mute", "solo"))
    page.keyboard.press("3")
    switch = page.get_by_role("switch", name="Breaths down")
    before = now["rules"]["breath"]["on"]
    twice("/details/rule", lambda: switch.click(force=True))
    assert demo_program.session(SONG)["tracks"][0]["rules"]["breath"]["on"] == before


def test_an_edit_asks_for_four_things_at_most(page: Page, demo_program: Program) -> None:
    """Itself, what is heard, the figures, and what the stage that is open shows alone."""
    song = fresh(demo_program, SONG)
    asked: list[str] = []
    open_ones: set[Request] = set()

    def begun(request: Request) -> None:
        path = urlsplit(request.url).path
        asked.append(f"{request.method} {path}")
        # news are listened to for as long as the page is there
        if path != "/api/news":
            open_ones.add(request)

    page.on("request", begun)
    for over in ("requestfinished", "requestfailed"):
        page.on(over, lambda request: open_ones.discard(request))

    def quiet() -> list[str]:
        """Wait until all that was asked for is answered, and nothing more is; what was since the last time."""
        since, known = time.monotonic(), len(asked)
        while time.monotonic() - since < 0.6:
            page.wait_for_timeout(50)
            if len(asked) != known or open_ones:
                since, known = time.monotonic(), len(asked)
        wanted = [one for one in asked if "/api/" in one and not re.search("/(jobs|samples|wave/.*|reduction)$", one)]
        asked.clear()
        return wanted

    for stage in ("survey", "phrases", "details", "ride", "balance", "signoff"):
        open_stage(page, demo_program, song, stage)
        if stage in ("phrases", "details", "ride"):
            page.locator(".worklist .row").first.click()
        quiet()
        page.keyboard.press("Shift+m")
        assert 1 <= len(quiet()) <= 4
        if stage in ("phrases", "details", "ride"):
            page.keyboard.press("ArrowUp")
            wanted = quiet()
            assert {one.rsplit("/", 1)[1] for one in wanted} >= {"heard", "figures"}
            assert len(wanted) <= 4, wanted
