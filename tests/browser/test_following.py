"""Several microphones of one voice in the page: dropped as one file or several, levelled once, rendered alike."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from tests.browser.hands import eventually, render_link
from tests.conftest import detailed_voice, write_sound
from tests.helpers.microphones import second_microphone
from tests.helpers.near import near
from tests.helpers.program import Program


def levelled(page: Page) -> None:
    """Even the phrases of the track in focus out, and turn its breaths down."""
    page.keyboard.press("2")
    page.keyboard.press("d")
    page.get_by_role("button", name=re.compile("^Accept")).click()
    expect(page.get_by_role("button", name=re.compile("2 Phrases"))).to_contain_text("3 of 3 level")
    page.keyboard.press("3")
    page.keyboard.press("d")
    expect(page.get_by_role("button", name=re.compile("3 Details"))).to_contain_text(re.compile("[1-9][0-9]* of .* down"))


def rendered(page: Page, track: str, folder: Path) -> np.ndarray:
    """The file that the page renders of a track, as 32-bit float."""
    page.get_by_role("tab", name=track).click()
    page.keyboard.press("6")
    page.get_by_label("Format").select_option("wav-32")
    with page.expect_download() as download:
        render_link(page).click()
    download.value.save_as(folder / f"{track}.wav")
    samples: np.ndarray = soundfile.read(folder / f"{track}.wav", dtype="float32")[0]
    return samples


def test_the_channels_of_a_file_are_levelled_as_one(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    page, voice = quiet_page, detailed_voice()
    channels = np.column_stack([voice, second_microphone(voice), 0.6 * second_microphone(voice)])
    page.goto(own_program.address)
    page.get_by_label("Sound files").set_input_files(write_sound(tmp_path / "take.wav", channels, subtype="FLOAT"))
    microphones = page.get_by_role("button", name="Microphones of one voice")
    expect(microphones).to_have_attribute("data-variant", "filled", timeout=30_000)
    microphones.click()
    tabs = page.get_by_role("tab")
    expect(tabs).to_have_count(3, timeout=30_000)
    expect(tabs.get_by_label("Follows another track")).to_have_count(2, timeout=30_000)
    expect(page.get_by_text("1 of 3 has the phrases, and the others follow it.")).to_be_visible()
    # the first is in hand, with the phrases; another says whose it has
    tabs.first.click()
    levelled(page)
    tabs.nth(1).click()
    expect(page.get_by_role("heading", name="Follows “1 of 3”")).to_be_visible()
    page.get_by_role("button", name="Go to “1 of 3”").click()
    expect(tabs.first).to_have_attribute("aria-selected", "true")
    outs = [rendered(page, f"{number} of 3", tmp_path) for number in (1, 2, 3)]
    sources = [channel.astype(np.float32) for channel in channels.T]
    loud = np.all([np.abs(source) > 1e-3 for source in sources], axis=0)
    gains = [made[loud] / source[loud] for made, source in zip(outs, sources, strict=True)]
    assert np.ptp(20 * np.log10(gains[0])) > 3
    for other in gains[1:]:
        assert other == near(gains[0], rel=3e-7)


@pytest.fixture
def two(page: Page, own_program: Program, tmp_path: Path) -> Page:
    """A program in which the lapel microphone follows the boom, by its menu."""
    voice = detailed_voice()
    page.goto(own_program.address)
    for name, samples in (("boom", voice), ("lapel", second_microphone(voice))):
        page.get_by_label("Sound files").set_input_files(write_sound(tmp_path / f"{name}.wav", samples))
        expect(page.get_by_role("tab", name=name)).to_be_visible(timeout=30_000)
    page.get_by_role("button", name="More for lapel").click()
    page.get_by_role("menuitem", name="Follow “boom”").click()
    expect(page.get_by_test_id("lanes")).to_contain_text("lapel follows boom")
    return page


def test_removing_who_is_followed_asks_first(two: Page, own_program: Program) -> None:
    page = two
    (session,) = own_program.get("/api/sessions")["items"]

    def follows() -> list[str | None]:
        return [track["follows"] for track in own_program.get(f"/api/sessions/{session['id']}")["tracks"]]

    page.get_by_role("tab", name="boom").click()
    levelled(page)
    page.keyboard.press("1")
    page.get_by_role("button", name="More for boom").click()
    page.get_by_role("menuitem", name="Remove from the session").click()
    asked = page.get_by_role("dialog", name="Remove “boom”")
    expect(asked).to_contain_text("“lapel” follows it. What becomes of its gain?")
    page.keyboard.press("Escape")
    expect(asked).to_be_hidden()
    assert follows()[0] is None
    assert len(follows()) == 2
    page.get_by_role("button", name="More for boom").click()
    page.get_by_role("menuitem", name="Remove from the session").click()
    # the first answer has the focus
    page.keyboard.press("Enter")
    expect(page.get_by_role("tab")).to_have_count(1)
    eventually(lambda: follows() == [None])
    page.keyboard.press("4")
    expect(page.get_by_role("button", name=re.compile("4 Ride"))).to_contain_text("ride drawn")
    page.keyboard.press("Control+z")
    expect(page.get_by_role("tab")).to_have_count(2)
    expect(page.get_by_role("tab", name="lapel").get_by_label("Follows another track")).to_be_visible()


def test_its_trim_is_its_own_and_it_can_stand_alone(two: Page, own_program: Program) -> None:
    page = two
    page.get_by_role("tab", name="lapel").click()
    page.keyboard.press("4")
    expect(page.get_by_role("radiogroup", name="Lane in hand").get_by_role("radio")).to_have_count(1)
    trim = page.get_by_role("slider", name="Trim of the whole track")
    trim.focus()
    page.keyboard.press("ArrowRight")
    (session,) = own_program.get("/api/sessions")["items"]
    eventually(lambda: own_program.get(f"/api/sessions/{session['id']}")["tracks"][1]["trim"]["offset"] > 0)
    # what its leader has is not drafted here: it is said why
    page.keyboard.press("2")
    page.keyboard.press("d")
    expect(page.get_by_role("heading", name="Follows “boom”")).to_be_visible()
    page.keyboard.press("1")
    page.get_by_role("button", name="More for lapel").click()
    page.get_by_role("menuitem", name="Stand on its own, with the gain it has").click()
    expect(page.get_by_test_id("lanes")).not_to_contain_text("follows")
    page.keyboard.press("2")
    expect(page.get_by_role("button", name=re.compile("2 Phrases"))).to_contain_text("of 3 level")
