"""The program around the job: bringing files in, two windows, restart and SIGKILL, day and night, keyboard and address."""

from __future__ import annotations

import re
import time
from pathlib import Path
from typing import Any
from urllib.error import HTTPError

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from tests.browser.hands import FEATURE, GUIDE, SONG, HeldAnswer, box_of, capsule, clip_of, eventually, fresh, open_stage, row
from tests.conftest import hum, uneven_voice, write_sound
from tests.helpers.program import Program

TOLD = r"^Phrase 1, 0:01\.\d{3} to 0:03\.\d{3}, 4\.\d LU below target, gain 0\.0 dB$"


def test_several_files_are_dropped_and_the_bad_ones_say_why(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    page = quiet_page
    good = [
        write_sound(tmp_path / "guide one.wav", np.tile(uneven_voice(), 10)),
        write_sound(tmp_path / "guide two.flac", uneven_voice((-20, -35))),
    ]
    cut = tmp_path / "cut.wav"
    cut.write_bytes(good[0].read_bytes()[:40_000])
    empty = tmp_path / "empty.wav"
    empty.write_bytes(b"")
    page.goto(own_program.address)
    page.get_by_label("Sound files").set_input_files([*good, cut, empty])
    # in the order of the files, although the first is ten times as long
    expect(page.get_by_role("tab")).to_contain_text(["guide one", "guide two"], timeout=30_000)
    expect(page.get_by_role("alert").filter(has_text="“cut.wav” is cut short")).to_be_visible(timeout=20_000)
    expect(page.get_by_role("alert").filter(has_text="“empty.wav” is empty")).to_be_visible()
    expect(page.get_by_label("Recordings").get_by_text("guide one")).to_be_visible()
    page.get_by_role("button", name="Take cut.wav off the list").click()
    expect(page.get_by_text("cut.wav")).to_have_count(0)


def test_the_first_minute_of_a_newcomer(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    """An empty program and dropped files: the session is called after what came in, and all of the voice is shown."""
    page = quiet_page
    broken = tmp_path / "a broken take.wav"
    broken.write_bytes(b"RIFF but not sound")
    page.goto(own_program.address)
    page.get_by_label("Sound files").set_input_files([broken, write_sound(tmp_path / "the good one.wav", uneven_voice())])
    expect(page.get_by_role("tab")).to_have_count(1, timeout=30_000)
    expect(page.get_by_role("alert").filter(has_text="a broken take.wav")).to_be_visible()
    # every phrase of 7.5 s lies in sight
    expect(page.get_by_role("button", name=re.compile("^Clip [1-4],"))).to_have_count(4)
    for number in range(1, 5):
        expect(page.get_by_role("button", name=re.compile(f"^Clip {number},"))).to_be_in_viewport()
    page.reload()
    expect(page.get_by_role("banner").get_by_text("the good one")).to_be_visible()
    assert [card["name"] for card in own_program.get("/api/sessions")["items"]] == ["the good one"]


def test_a_long_import_shows_how_far_it_is_and_can_be_stopped(page: Page, own_program: Program, tmp_path: Path) -> None:
    long = write_sound(tmp_path / "long.wav", np.tile(hum(-20, 10), 300), subtype="PCM_16")
    session = own_program.post("/api/sessions", {"name": "Long"})["id"]
    page.goto(f"{own_program.address}/s/{session}/survey")
    page.get_by_label("Sound files").set_input_files(long)
    expect(page.get_by_label("Imports").get_by_role("progressbar")).to_be_visible(timeout=30_000)
    expect(page.get_by_text(re.compile(r"(reading|measuring) \d+ %"))).to_be_visible(timeout=60_000)
    page.get_by_role("button", name="Stop long.wav").click()
    expect(page.get_by_text("Stopped. Nothing was imported.")).to_be_visible(timeout=15_000)
    assert own_program.get(f"/api/sessions/{session}")["tracks"] == []
    assert list(own_program.data.glob("incoming/*")) == []
    assert list(own_program.data.glob("vault/*")) == []


def test_undo_survives_a_restart(page: Page, own_program: Program, voice_file: Path) -> None:
    state = own_program.brought_in(voice_file)
    clip = state["clips"][0]
    open_stage(page, own_program, state)
    row(page, clip).click()
    page.keyboard.press("ArrowUp")
    expect(row(page, clip)).to_have_accessible_name(re.compile(r"gain \+0\.5 dB"))
    # what is shown is there at once; what a restart is to find has to be known
    assert clip_of(own_program, state, clip)["gain"] == 0.5
    own_program.stop()
    own_program.start()
    page.reload()
    expect(row(page, clip)).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("Control+z")
    expect(row(page, clip)).to_have_accessible_name(re.compile(r"gain 0\.0 dB"))
    page.keyboard.press("Control+Shift+z")
    expect(row(page, clip)).to_have_accessible_name(re.compile(r"gain \+0\.5 dB"))


def nudged(page: Page, program: Program, voice_file: Path) -> tuple[dict[str, Any], dict[str, Any], HeldAnswer]:
    """A voice as it was brought in, its first phrase, and the answer to half a dB more of it, held back."""
    state = program.brought_in(voice_file)
    clip = state["clips"][0]
    open_stage(page, program, state)
    row(page, clip).click()
    return state, clip, HeldAnswer(page, "/gain", lambda: page.keyboard.press("ArrowUp"))


def test_undo_before_an_edit_was_answered_takes_that_edit_back(page: Page, own_program: Program, voice_file: Path) -> None:
    state, clip, held = nudged(page, own_program, voice_file)
    page.keyboard.press("Control+z")
    label = held.answer["undo"]
    assert label != state["undo"]
    held.let_go()
    expect(page.get_by_text(f"Undone: {label}")).to_be_visible()
    assert clip_of(own_program, state, clip)["gain"] == 0
    assert own_program.session(state["name"])["undo"] == state["undo"]


def test_an_exact_gain_that_was_not_typed_does_not_put_the_gain_back(
    page: Page, own_program: Program, voice_file: Path
) -> None:
    """The field is opened while the answer to an edit is on its way, and closed without a change."""
    _, clip, held = nudged(page, own_program, voice_file)
    page.keyboard.press("e")
    gain = page.get_by_label("Gain", exact=True)
    # what was done is shown, though nobody has confirmed it yet
    expect(gain).to_have_value("0.5 dB")
    held.let_go()
    expect(gain).to_have_value("0.5 dB")
    page.keyboard.press("Enter")
    expect(gain).to_have_count(0)
    page.keyboard.press("ArrowUp")
    expect(row(page, clip)).to_have_accessible_name(re.compile(r"gain \+1\.0 dB"))


@pytest.mark.parametrize("delay", [0.0, 0.4, 1.2])
def test_sigkill_loses_no_edit_and_no_import(own_program: Program, voice_file: Path, tmp_path: Path, delay: float) -> None:
    state = own_program.brought_in(voice_file)
    clip = state["clips"][1]
    long = write_sound(tmp_path / "long.wav", np.tile(uneven_voice(), 25))
    own_program.post(f"/api/sessions/{state['id']}/uploads?name=long.wav", long.read_bytes())
    time.sleep(delay)
    for _ in range(5):
        now = own_program.get(f"/api/sessions/{state['id']}")
        edit = {"revision": now["revision"], "clips": [clip["id"]], "by": 4.5}
        try:
            own_program.post(f"/api/tracks/{clip['track']}/gain", edit)
            break
        except HTTPError as error:
            # the import may end just in between: then the edit was refused, not lost
            assert error.code == 409  # noqa: PT017
    own_program.kill()
    own_program.start()
    assert clip_of(own_program, state, clip)["gain"] == 4.5
    # the import that was cut off is taken up again and ends as a whole track
    for _ in range(300):
        # jobs first: a track that is there when its job has ended was there before
        jobs = own_program.get(f"/api/sessions/{state['id']}/jobs")["items"]
        now = own_program.get(f"/api/sessions/{state['id']}")
        if all(job["state"] == "done" for job in jobs):
            break
        time.sleep(0.1)
    assert [track["name"] for track in now["tracks"]] == ["uneven voice", "long"]
    assert len([c for c in now["clips"] if c["track"] == now["tracks"][1]["id"] and c["before"] is not None]) == 100
    assert list(own_program.data.glob("incoming/*")) == []
    assert len(list(own_program.data.glob("vault/*/*"))) == 2


def test_the_worklist_leads_from_one_phrase_to_the_next(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, GUIDE)
    open_stage(page, demo_program, state)
    rows = page.locator(".row")
    for index in range(3):
        page.keyboard.press(".")
        expect(rows.nth(index)).to_have_attribute("aria-pressed", "true")
    page.keyboard.press(",")
    expect(rows.nth(1)).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("Space")
    page.get_by_text("by time").click()

    def in_order() -> bool:
        labels = rows.evaluate_all("all => all.map((r) => r.textContent)")
        numbers = [int(re.findall(r"Phrase (\d+)", label)[0]) for label in labels]
        return len(numbers) > 8 and numbers == list(range(numbers[0], numbers[0] + len(numbers)))

    eventually(in_order)
    chosen = page.locator(".row[aria-pressed=true]")
    expect(chosen).to_be_visible()
    page.keyboard.press("Shift+.")
    expect(chosen).not_to_have_attribute("data-state", "level")


def test_the_address_brings_back_stage_track_and_selection(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, FEATURE)
    keeper = next(track for track in state["tracks"] if track["name"] == "Mill keeper")
    clip = next(c for c in state["clips"] if c["track"] == keeper["id"])
    open_stage(page, demo_program, state)
    page.get_by_role("tab", name="Mill keeper").click()
    row(page, clip).click()
    page.keyboard.press("6")
    expect(page).to_have_url(re.compile(rf"/signoff\?track={keeper['id']}&phrase={clip['id']}"))
    page.go_back()
    expect(page.get_by_label("Worklist")).to_be_visible()
    page.reload()
    expect(page.get_by_role("tab", name="Mill keeper")).to_have_attribute("aria-selected", "true")
    expect(row(page, clip)).to_have_attribute("aria-pressed", "true")


def test_a_phrase_tells_a_screen_reader_what_it_is(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, GUIDE)
    open_stage(page, demo_program, state)
    first = capsule(page, state["clips"][0])
    expect(first).to_have_attribute("aria-label", re.compile(TOLD))
    first.focus()
    page.keyboard.press("ArrowRight")
    expect(capsule(page, state["clips"][1])).to_be_focused()
    expect(page.locator(".capsule[aria-pressed=true]")).to_have_count(0)


def test_every_key_is_listed_and_everything_can_be_found_by_name(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, GUIDE)
    open_stage(page, demo_program, state)
    page.keyboard.press("?")
    dialog = page.get_by_role("dialog", name="Keys and hands")
    for words in (
        "Play / stop",
        "Next that is off, or not down yet",
        "Cut at the play line",
        "Join the selected phrases",
        "Fit all",
        "Undo",
    ):
        expect(dialog.get_by_text(words, exact=True)).to_be_visible()
    page.keyboard.press("Escape")
    expect(dialog).to_be_hidden()
    page.keyboard.press("Control+k")
    page.get_by_placeholder("What to do, or a phrase by its words").fill("lamp room")
    page.keyboard.press("Enter")
    expect(page.locator(".row[aria-pressed=true]")).to_contain_text("You have reached the lamp room.")


def test_keys_do_nothing_while_a_name_is_typed(page: Page, own_program: Program, voice_file: Path) -> None:
    state = own_program.brought_in(voice_file)
    open_stage(page, own_program, state)
    page.get_by_role("button", name="Own", exact=True).click()
    page.get_by_role("textbox", name="Name").fill("Bells and lamps, 2")
    page.keyboard.press("Enter")
    expect(page.get_by_role("button", name="Bells and lamps, 2")).to_be_visible()
    assert own_program.get(f"/api/sessions/{state['id']}")["undo"] == "Rename the session"
    expect(page.get_by_role("button", name="Play")).to_be_visible()


def test_day_and_night(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, GUIDE)
    open_stage(page, demo_program, state)

    def ground() -> str:
        return page.evaluate("getComputedStyle(document.body).backgroundColor")

    assert ground() == "rgb(247, 244, 236)"
    page.get_by_role("button", name="More", exact=True).click()
    page.get_by_role("menuitem", name="Night").click()
    assert ground() == "rgb(20, 25, 30)"
    page.reload()
    expect(page.get_by_test_id("chart")).to_be_visible()
    assert ground() == "rgb(20, 25, 30)"


def test_the_wheel_scrolls_and_zooms_and_the_overview_leads(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, GUIDE)
    open_stage(page, demo_program, state)
    chart, overview = page.get_by_test_id("chart"), page.get_by_test_id("overview")
    first = capsule(page, state["clips"][0])
    before = box_of(first)
    chart.hover()
    page.mouse.wheel(0, 40)
    eventually(lambda: box_of(first)["x"] == pytest.approx(before["x"] - 40, abs=1.5))
    scrolled = box_of(first)
    page.keyboard.down("Control")
    page.mouse.wheel(0, -300)
    page.keyboard.up("Control")
    eventually(lambda: box_of(page.locator(".capsule").first)["width"] > scrolled["width"])
    box = box_of(overview)
    page.mouse.click(box["x"] + box["width"] * 0.9, box["y"] + 20)
    expect(capsule(page, state["clips"][-6])).to_be_visible()


def test_a_session_that_is_gone_says_so(page: Page, demo_program: Program) -> None:
    page.goto(f"{demo_program.address}/s/nothing/phrases")
    expect(page.get_by_text("This session no longer exists.")).to_be_visible()
    page.get_by_role("link", name="All sessions").click()
    expect(page.locator(".card")).to_have_count(len(demo_program.get("/api/sessions")["items"]))


def test_recordings_that_belong_to_no_session_are_shown_and_brought_back(
    quiet_page: Page, own_program: Program, tmp_path: Path
) -> None:
    """The database is lost: the page says what is still there, and makes a session of each."""
    page = quiet_page
    own_program.brought_in(write_sound(tmp_path / "guide.wav", uneven_voice()))
    own_program.brought_in(write_sound(tmp_path / "song.flac", uneven_voice((-20.0, -28.0))))
    own_program.stop()
    for path in own_program.data.glob("nivelus.sqlite*"):
        path.unlink()
    own_program.start()
    page.goto(own_program.address)
    notice = page.get_by_label("Recordings without a session")
    expect(notice).to_contain_text(re.compile(r"2 recordings belong to no session, \d\.\d MB"))
    notice.get_by_role("button", name="Look at them").click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_text("guide.wav")).to_be_visible()
    expect(dialog.get_by_text("song.flac")).to_be_visible()
    dialog.get_by_role("button", name="Delete…").click()
    dialog.get_by_role("button", name="Keep").click()
    dialog.get_by_role("button", name="Bring back").click()
    expect(page.get_by_text("2 of 4 level").or_(page.get_by_text("1 of 4 level"))).to_be_visible(timeout=30_000)
    expect(notice).to_have_count(0, timeout=30_000)
    page.get_by_role("link", name="song").click()
    expect(page.get_by_role("tab")).to_have_count(1)


def test_a_page_that_breaks_says_so_in_a_sentence(page: Page, demo_program: Program) -> None:
    """An answer that is none of ours breaks the page: a person reads what to do, and loading it again helps."""
    song = demo_program.session(SONG)
    broken = song | {"tracks": [{"id": track["id"]} for track in song["tracks"]]}
    page.route(f"**/api/sessions/{song['id']}?first=*", lambda route: route.fulfill(json=broken))
    page.goto(f"{demo_program.address}/s/{song['id']}/phrases")
    expect(page.get_by_role("alert")).to_contain_text("Nothing is lost")
    page.unroute(f"**/api/sessions/{song['id']}?first=*")
    page.get_by_role("button", name="Load again").click()
    expect(page.get_by_test_id("figures")).to_contain_text("spread")
