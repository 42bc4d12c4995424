"""The first minutes of a newcomer with voices of people: an empty program, dropped files, no setting touched.

The voices are Debian's recordings of people, see ``tests.helpers.real_voices`` for their sources and licences.
"""

from __future__ import annotations

import re
import time
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from tests.browser.hands import box_of, eventually, note, render_link
from tests.conftest import Sound, write_sound
from tests.helpers.answers import every_mark
from tests.helpers.program import Program
from tests.helpers.real_voices import RATE, programme

STAGES = {"phrases": "2", "details": "3", "ride": "4", "signoff": "6"}


def quiet_voice() -> Sound:
    """A voice that was recorded 20 dB too low, unevenly."""
    return programme("en", 14, 51, (0.5, 0.9), -60.0, uneven=6.0, rate=RATE)[0] * 10 ** (-14 / 20)


def with_a_knock() -> Sound:
    """Even phrases of which one has a knock on the microphone."""
    samples, said = programme("ru", 8, 52, (0.5, 0.9), -66.0, uneven=2.0, rate=RATE)
    at = round((said[3].start + 0.2) * RATE)
    t = np.arange(160) / RATE
    samples[at : at + 160] += 0.6 * np.sin(2 * np.pi * 400 * t) * np.hanning(160)
    return samples


def falling() -> Sound:
    """Phrases of which the last third is turned down by 8 dB."""
    samples, said = programme("en", 8, 53, (0.6, 0.9), -70.0, uneven=4.0, rate=RATE)
    for phrase in said:
        third = (phrase.end - phrase.start) / 3
        samples[round((phrase.end - third) * RATE) : round(phrase.end * RATE)] *= 10 ** (-8 / 20)
    return samples


def dropped(page: Page, program: Program, folder: Path, *voices: tuple[str, Sound]) -> None:
    """Open an empty program and drop files onto it."""
    page.goto(program.address)
    files = [write_sound(folder / f"{name}.wav", samples, RATE) for name, samples in voices]
    page.get_by_label("Sound files").set_input_files(files)
    expect(page.get_by_role("tab")).to_have_count(len(files), timeout=30_000)


def state(program: Program) -> dict:
    (card,) = program.get("/api/sessions")["items"]
    return program.get(f"/api/sessions/{card['id']}")


def level_phrases(program: Program, track: str | None = None) -> tuple[int, int]:
    """How many phrases are level, and how many there are."""
    now = state(program)
    targets = {t["id"]: t["target"] for t in now["tracks"]}
    phrases = [c for c in now["clips"] if c["after"] is not None and (track is None or c["track"] == track)]
    off = [abs(c["after"] - targets[c["track"]]) for c in phrases]
    return sum(d <= now["rule"]["tolerance"] + 1e-6 for d in off), len(off)


def go(page: Page, stage: str) -> None:
    page.keyboard.press(STAGES[stage])
    expect(page).to_have_url(re.compile(f"/{stage}"))


def draft_and_accept(page: Page, program: Program) -> None:
    """The key for a draft, and again to accept it."""
    before = state(program)["revision"]
    page.keyboard.press("d")
    expect(page.get_by_role("button", name=re.compile("^(Accept|Take)"))).to_be_visible()
    page.keyboard.press("d")
    eventually(lambda: state(program)["revision"] > before)


def settled_down(program: Program) -> None:
    """Wait until edits that follow each other are all there."""
    last = -1
    while (now := state(program)["revision"]) != last:
        last = now
        time.sleep(0.4)


def test_three_real_files_from_drop_to_delivery_with_keys(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    """The whole walk with keys; the count of level phrases never falls on the way."""
    page = quiet_page
    voices = [("soft", quiet_voice()), ("falling", falling()), ("knock", with_a_knock())]
    dropped(page, own_program, tmp_path, *voices)
    for name, _ in voices:
        page.get_by_role("tab").filter(has_text=name).click()
        track = next(t["id"] for t in state(own_program)["tracks"] if t["name"] == name)
        counts = [level_phrases(own_program, track)]
        go(page, "phrases")
        draft_and_accept(page, own_program)
        counts.append(level_phrases(own_program, track))
        go(page, "details")
        revision = state(own_program)["revision"]
        page.keyboard.press("d")
        eventually(lambda was: state(own_program)["revision"] > was, revision)
        settled_down(own_program)
        counts.append(level_phrases(own_program, track))
        go(page, "ride")
        draft_and_accept(page, own_program)
        counts.append(level_phrases(own_program, track))
        assert [level for level, _ in counts] == sorted(level for level, _ in counts), (name, counts)
        level, count = counts[-1]
        assert level >= count - 1, (name, counts)
    go(page, "signoff")
    page.get_by_text("Each of 3").click()
    render_link(page)
    eventually(lambda: len(own_program.get(f"/api/sessions/{state(own_program)['id']}/jobs")["items"]) >= 3)
    expect(page.get_by_role("link", name=re.compile("wav"))).to_have_count(3, timeout=30_000)


def test_a_quiet_recording_gets_level_by_its_base(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    page = quiet_page
    dropped(page, own_program, tmp_path, ("soft", quiet_voice()))
    go(page, "phrases")
    rule = page.get_by_label("Rule")
    base = state(own_program)["tracks"][0]["base"]
    assert base > 12
    expect(rule.get_by_text(f"+{base:.1f} dB")).to_be_visible()
    rule.get_by_text("off", exact=True).click()
    page.keyboard.press("d")
    expect(note(page)).to_contain_text("limited by the upper limit")
    rule.get_by_text("automatic", exact=True).click()
    expect(note(page)).not_to_contain_text("limited by the upper limit")
    count = level_phrases(own_program)[1]
    page.keyboard.press("d")
    eventually(lambda: level_phrases(own_program) == (count, count))
    page.keyboard.press("Control+z")
    eventually(lambda: level_phrases(own_program)[0] < count)


def test_a_lower_target_that_frees_every_phrase_is_one_click(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    page = quiet_page
    noisy = programme("en", 12, 55, (0.5, 0.9), -44.0, uneven=2.0, rate=RATE)[0]
    dropped(page, own_program, tmp_path, ("noisy", noisy))
    go(page, "phrases")
    page.keyboard.press("d")
    expect(note(page)).to_contain_text("limited by room tone")
    freeing = page.get_by_role("button", name=re.compile("every phrase becomes level"))
    freeing.click()
    expect(freeing).to_have_count(0)
    count = level_phrases(own_program)[1]
    expect(note(page)).to_contain_text(f"{count} of {count} would be level")


def test_a_knock_that_holds_a_phrase_back_goes_down_with_it(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    page = quiet_page
    dropped(page, own_program, tmp_path, ("knock", with_a_knock()))
    count = level_phrases(own_program)[1]
    go(page, "phrases")
    page.keyboard.press("d")
    expect(note(page)).to_contain_text("1 held back by short peaks")
    expect(note(page)).to_contain_text(f"{count - 1} of {count} would be level")
    page.get_by_role("switch", name=re.compile("Turn down the short peak that holds 1 phrase back")).click()
    expect(note(page)).to_contain_text(f"{count} of {count} would be level")
    page.get_by_role("button", name=re.compile("^Accept")).click()
    eventually(lambda: level_phrases(own_program) == (count, count))
    expect(page.get_by_text(re.compile(r"1 short peak down by \d\.\d dB"))).to_be_visible()
    downs = [m for m in every_mark(state(own_program)) if m["kind"] == "knock" and m["on"]]
    assert len(downs) == 1
    assert downs[0]["depth"] >= -9.0
    page.keyboard.press("Control+z")
    eventually(lambda: level_phrases(own_program)[0] < count)
    assert not [m for m in every_mark(state(own_program)) if m["on"]]


def test_phrases_settle_when_their_details_go_down(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    page = quiet_page
    dropped(page, own_program, tmp_path, ("soft", quiet_voice()))
    go(page, "phrases")
    draft_and_accept(page, own_program)
    level = level_phrases(own_program)
    before = {c["id"]: c["gain"] for c in state(own_program)["clips"]}
    go(page, "details")
    page.keyboard.press("d")
    # every kind that goes down is a step of its own, and is told of
    expect(page.get_by_text(re.compile(r"\d+ phrases? re-levelled, by up to \d\.\d dB\.")).first).to_be_visible()
    eventually(lambda: {c["id"]: c["gain"] for c in state(own_program)["clips"]} != before)
    settled_down(own_program)
    assert level_phrases(own_program)[0] >= level[0]


def test_the_last_word_is_lifted_and_few_words_stray_then(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    page = quiet_page
    dropped(page, own_program, tmp_path, ("falling", falling()))
    go(page, "phrases")
    draft_and_accept(page, own_program)
    go(page, "ride")
    track = state(own_program)["tracks"][0]["id"]
    strays = len(own_program.get(f"/api/tracks/{track}/ride/inside")["strays"])
    assert strays > 0
    # as it comes a ride goes four fifths of the way
    page.get_by_role("slider", name="Strength").focus()
    page.keyboard.press("End")
    draft_and_accept(page, own_program)
    eventually(lambda: len(own_program.get(f"/api/tracks/{track}/ride/inside")["strays"]) <= strays // 3)
    points = own_program.get(f"/api/tracks/{track}/lanes")["ride"]
    assert 3.0 < max(point["db"] for point in points) <= 6.0


def test_before_and_after_are_heard_equally_loud(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    page = quiet_page
    dropped(page, own_program, tmp_path, ("soft", quiet_voice()))
    go(page, "phrases")
    draft_and_accept(page, own_program)
    track = state(own_program)["tracks"][0]["id"]
    figures = own_program.get(f"/api/tracks/{track}/figures")
    louder = figures["after"]["integrated"] - figures["before"]["integrated"]
    assert louder > 5
    equal = page.get_by_role("button", name=re.compile("^equal"))
    page.keyboard.press("q")
    expect(equal).to_have_attribute("aria-pressed", "true")
    expect(equal).to_have_text(f"equal loudness−{louder:.1f}")
    page.keyboard.press("b")
    expect(equal).to_have_text("equal loudness0.0")
    page.keyboard.press("q")
    expect(equal).to_have_text("equal loudness")


def test_an_exact_gain_is_typed_at_the_capsule(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    page = quiet_page
    dropped(page, own_program, tmp_path, ("knock", with_a_knock()))
    go(page, "phrases")
    first = page.locator(".row").first
    # without words, a row shows its time
    expect(first.locator(".row-words")).to_have_text(re.compile(r"^\d:\d\d\.\d+$"))
    first.click()
    page.keyboard.press("e")
    field = page.get_by_role("group", name="Exact gain and words")
    expect(field).to_be_visible()
    assert abs(box_of(field)["y"] - box_of(page.locator(".capsule[aria-pressed='true']"))["y"]) < 70
    field.get_by_label("Gain").fill("-2.5")
    field.get_by_label("Words").fill("number one")
    page.keyboard.press("Enter")
    expect(field).to_have_count(0)
    expect(first.locator(".row-words")).to_have_text("number one")
    eventually(lambda: any(c["gain"] == -2.5 and c["label"] == "number one" for c in state(own_program)["clips"]))


@pytest.mark.parametrize("size", [(1024, 700), (1920, 1080)])
def test_nothing_is_cut_off_in_a_small_window_or_a_large_one(
    quiet_page: Page, own_program: Program, tmp_path: Path, size: tuple[int, int]
) -> None:
    page = quiet_page
    page.set_viewport_size({"width": size[0], "height": size[1]})
    dropped(page, own_program, tmp_path, ("falling", falling()))
    for stage in STAGES:
        go(page, stage)
        for place in ("overview", "live-vial"):
            box = box_of(page.get_by_test_id(place))
            assert box["x"] + box["width"] <= size[0] + 1, (stage, place)
            assert box["y"] + box["height"] <= (size[1] - 56 if place == "overview" else size[1]) + 1, (stage, place)
            assert box["height"] >= 20


def test_a_check_that_does_not_hold_leads_to_what_does_not_hold(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    page = quiet_page
    dropped(page, own_program, tmp_path, ("soft", quiet_voice()))
    go(page, "signoff")
    page.get_by_role("button", name=re.compile(r"phrases are off: go there")).click()
    expect(page).to_have_url(re.compile("/phrases"))
    expect(page.locator(".row[aria-pressed='true']")).to_have_count(1)
    expect(page.locator(".row").first).to_have_attribute("aria-pressed", "true")


def test_a_draft_is_seen_where_it_can_be_accepted(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    page = quiet_page
    dropped(page, own_program, tmp_path, ("soft", quiet_voice()))
    go(page, "phrases")
    page.keyboard.press("d")
    expect(page.get_by_role("button", name=re.compile("^Accept"))).to_be_visible()
    go(page, "details")
    go(page, "phrases")
    expect(page.get_by_role("button", name=re.compile("^Draft all phrases"))).to_be_visible()


def test_long_phrases_are_divided_by_a_setting(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    """A reader without a breath: the longest phrase is drawn shorter, and the phrases are found again; undo takes it back."""
    page = quiet_page
    dropped(page, own_program, tmp_path, ("reader", programme("en", 14, 54, (0.05, 0.1), -60.0, uneven=1.0, rate=RATE)[0]))
    before = level_phrases(own_program)[1]
    go(page, "phrases")
    page.get_by_role("button", name="ceiling, noise, phrase length, by hand").click()
    slider = page.get_by_role("slider", name="Longest phrase")
    slider.focus()
    for _ in range(10):
        page.keyboard.press("ArrowLeft")
    eventually(lambda: state(own_program)["rule"]["longest"] == 3.0)
    page.get_by_role("button", name="Find the phrases again").click()
    eventually(lambda: level_phrases(own_program)[1] > before)
    found = [c for c in state(own_program)["clips"] if c["phrase_start"] is not None]
    assert max(c["phrase_end"] - c["phrase_start"] for c in found) <= 3.0
    expect(page.locator(".message-bar")).to_contain_text("Find the phrases again:")
    page.keyboard.press("Control+z")
    eventually(lambda: level_phrases(own_program)[1] == before)
