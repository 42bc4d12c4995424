"""A memo and a video, dropped on an empty program: they come in, are asked about where that is needed, and go out level."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from nivelus.core.measure.grid import measure_file
from nivelus.core.measure.spans import span_levels
from nivelus.core.sound.riff import Chunk
from tests.browser.hands import render_link
from tests.conftest import RATE, uneven_voice, write_sound
from tests.helpers.files import say
from tests.helpers.media import encoded, ffmpeg
from tests.helpers.program import Program


def test_a_memo_of_a_telephone_is_dropped_levelled_and_rendered(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    page = quiet_page
    memo = encoded(write_sound(tmp_path / "v.wav", uneven_voice((-26, -19, -23, -29))), tmp_path / "New memo 7.m4a")
    page.goto(own_program.address)
    expect(page.get_by_text(re.compile("M4A, MP4, MOV, MKV, WebM and the like"))).to_be_visible()
    page.get_by_label("Sound files").set_input_files(memo)
    expect(page.get_by_role("tab")).to_have_count(1, timeout=30_000)
    expect(page.get_by_role("banner").get_by_text("New memo 7")).to_be_visible()
    page.keyboard.press("2")
    page.keyboard.press("d")
    page.get_by_role("button", name=re.compile("^Accept")).click()
    expect(page.get_by_role("button", name=re.compile("2 Phrases"))).to_contain_text("4 of 4 level")
    page.keyboard.press("6")
    link = render_link(page)
    with page.expect_download() as download:
        link.click()
    download.value.save_as(tmp_path / "out.wav")
    _, grid, _ = measure_file(tmp_path / "out.wav")
    (session,) = own_program.get("/api/sessions")["items"]
    phrases = [clip for clip in own_program.get(f"/api/sessions/{session['id']}")["clips"] if clip["phrase_start"] is not None]
    levels = [span_levels(grid, clip["phrase_start"], clip["phrase_end"]).loudness for clip in phrases]
    assert len(levels) == 4
    assert np.ptp(levels) < 1.0


def test_a_video_with_several_sound_tracks_asks_which_and_waits(own_program: Program, page: Page, tmp_path: Path) -> None:
    voice = write_sound(tmp_path / "voice.wav", uneven_voice())
    other = write_sound(tmp_path / "other.wav", uneven_voice((-20.0,)))
    film = tmp_path / "interview.mkv"
    said = ("-metadata:s:a:0", "title=Atmosphere", "-metadata:s:a:1", "title=Lapel <microphone>")
    ffmpeg("-i", other, "-i", voice, "-map", "0:a", "-map", "1:a", "-c:a", "flac", *said, film)
    page.goto(own_program.address)
    page.get_by_label("Sound files").set_input_files(film)
    choice = page.get_by_role("group", name="Choose for interview.mkv")
    expect(choice.get_by_role("button")).to_have_text(
        ["1 · Atmosphere · mono, flac", "2 · Lapel <microphone> · mono, flac"], timeout=30_000
    )
    expect(page.get_by_role("alert").filter(has_text="“interview.mkv” has 2 sound tracks.")).to_be_visible()
    # it waits as long as it takes, also for another start
    own_program.stop()
    own_program.start()
    page.goto(own_program.address)
    card = page.locator(".card", has_text="interview")
    expect(card).to_contain_text("asks something")
    card.get_by_role("link").click()
    choice.get_by_role("button", name=re.compile("Lapel")).click()
    expect(page.get_by_role("tab")).to_have_count(1, timeout=30_000)
    expect(choice).to_have_count(0)
    page.keyboard.press("2")
    expect(page.get_by_role("button", name=re.compile("2 Phrases"))).to_contain_text("of 4 level")


def test_a_file_of_a_field_recorder_opens_into_its_tracks(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    page, one = quiet_page, uneven_voice()
    # speaks while the other one is silent
    two = np.roll(uneven_voice((-20.0, -30.0, -25.0, -28.0)), round(0.85 * RATE))
    names = b"".join(
        b"<TRACK><INTERLEAVE_INDEX>%d</INTERLEAVE_INDEX><NAME>%s</NAME></TRACK>" % (number, name)
        for number, name in enumerate((b"Boom", b"Keeper &lt;lapel&gt;", b"Spare"), 1)
    )
    recording = write_sound(tmp_path / "A001.wav", np.column_stack([one, two, 0 * one]))
    say(recording, [Chunk(b"iXML", b"<BWFXML><TRACK_LIST>%s</TRACK_LIST></BWFXML>" % names)])
    page.goto(own_program.address)
    page.get_by_label("Sound files").set_input_files(recording)
    expect(page.get_by_text("“A001.wav” has 3 channels. Choose one.")).to_be_visible(timeout=30_000)
    # the likely one is filled: two voices do not rise and fall together
    own = page.get_by_role("button", name="Voices of their own")
    expect(own).to_have_attribute("data-variant", "filled")
    own.click()
    expect(page.get_by_role("tab")).to_have_count(2, timeout=30_000)
    expect(page.get_by_role("tab")).to_contain_text(["Boom", "Keeper <lapel>"])
    expect(
        page.get_by_text("“A001.wav” has 3 channels: each is a track of its own. Spare is silent and left out.")
    ).to_be_visible()
    expect(page.get_by_role("banner").get_by_text("A001")).to_be_visible()
    page.keyboard.press("2")
    page.keyboard.press("d")
    page.get_by_role("button", name=re.compile("^Accept")).click()
    expect(page.get_by_role("button", name=re.compile("2 Phrases"))).to_contain_text(re.compile("[34] of 4 level"))


def test_many_files_that_ask_the_same_are_answered_once(own_program: Program, page: Page, tmp_path: Path) -> None:
    """Takes of a field recorder, dropped together."""
    takes = [
        write_sound(
            tmp_path / f"T{number}.wav", np.column_stack([uneven_voice((level - number,)) for level in (-20.0, -26.0, -30.0)])
        )
        for number in (1, 2, 3)
    ]
    film = tmp_path / "two.mka"
    ffmpeg("-i", takes[0], "-i", takes[1], "-map", "0:a", "-map", "1:a", "-c:a", "flac", film)
    page.goto(own_program.address)
    page.get_by_label("Sound files").set_input_files([*takes, film])
    expect(page.get_by_role("group", name=re.compile("^Choose for"))).to_have_count(4, timeout=30_000)
    # what asks something else is not meant
    expect(page.get_by_role("group", name="Choose for two.mka").get_by_role("checkbox")).to_have_count(0)
    first = page.get_by_role("group", name="Choose for T1.wav")
    first.get_by_role("checkbox", name="The same for the other 2 files").check()
    first.get_by_role("button", name="Voices of their own").click()
    expect(page.get_by_role("tab")).to_have_count(9, timeout=30_000)
    expect(page.get_by_role("group", name=re.compile("^Choose for"))).to_have_count(1)
    page.get_by_role("button", name="Stop two.mka").click()


@pytest.mark.parametrize("way", ["mouse", "keys"])
def test_a_question_is_left_by_stopping(own_program: Program, page: Page, tmp_path: Path, way: str) -> None:
    voice = write_sound(tmp_path / "voice.wav", uneven_voice())
    ffmpeg("-i", voice, "-i", voice, "-map", "0:a", "-map", "1:a", "-c:a", "flac", tmp_path / "two.mka")
    page.goto(own_program.address)
    page.get_by_label("Sound files").set_input_files(tmp_path / "two.mka")
    stop = page.get_by_role("button", name="Stop two.mka")
    expect(page.get_by_role("group", name="Choose for two.mka")).to_be_visible(timeout=30_000)
    if way == "mouse":
        stop.click()
    else:
        stop.focus()
        page.keyboard.press("Enter")
    expect(page.get_by_text("Stopped. Nothing was imported.")).to_be_visible()
