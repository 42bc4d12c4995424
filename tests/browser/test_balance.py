"""Stage Balance: tracks heard together, the bed that makes room, the compressor; by mouse and keys, and heard in the mix."""

from __future__ import annotations

import io
import re
from pathlib import Path

import numpy as np
import pyloudnorm
import pytest
import soundfile
from playwright.sync_api import Locator, Page, expect

from tests.browser.hands import GUIDE, REPORTS, SONG, box_of, eventually, fresh, note, open_stage, render_link, wait_past
from tests.conftest import RATE, hum, uneven_voice, write_sound
from tests.helpers.program import Program


def guide(program: Program) -> dict:
    return program.session(GUIDE)


def chip(page: Page, name: str) -> Locator:
    return page.locator(".chip", has=page.get_by_role("tab", name=name))


def levelled(page: Page, program: Program, stage: str = "balance") -> dict:
    """The guide with its voice evened out, in a stage."""
    state = fresh(program, GUIDE)
    state = program.post(f"/api/tracks/{state['tracks'][0]['id']}/draft/accept", {"revision": state["revision"]})
    open_stage(page, program, guide(program), stage)
    return state


def test_the_bed_makes_room_by_keys_and_keeps_its_distance_in_the_mix(page: Page, demo_program: Program) -> None:
    levelled(page, demo_program, "phrases")
    page.keyboard.press("5")
    expect(note(page)).to_contain_text("0 of 84 phrases keep 12.0 LU")
    expect(page.get_by_label("Worklist")).to_contain_text("84 too close")
    page.get_by_text("to a distance").click()
    page.keyboard.press("d")
    expect(note(page)).to_contain_text("84 of 84 phrases keep 12.0 LU, with")
    assert guide(demo_program)["tracks"][1]["lanes"] == []
    page.keyboard.press("d")
    eventually(lambda: guide(demo_program)["tracks"][1]["lanes"] == ["trim"])
    expect(page.get_by_label("Worklist")).to_contain_text("all far enough")
    # what the page says is what is measured of the rendered mix, in a phrase and in the bed alone under it
    state = guide(demo_program)
    page.keyboard.press("6")
    page.get_by_text("The mix", exact=True).click()
    link = render_link(page)
    expect(link).to_have_text(re.compile(rf"{GUIDE} - mix \d{{4}}-\d\d-\d\d \d\d\.\d\d.*\.wav"))
    with page.expect_download() as download:
        link.click()
    mix, rate = soundfile.read(download.value.path(), always_2d=True)
    assert (mix.shape[1], rate) == (2, RATE)
    clip = max(
        (clip for clip in state["clips"] if clip["phrase_start"] is not None), key=lambda c: c["phrase_end"] - c["phrase_start"]
    )
    span = slice(round(clip["phrase_start"] * RATE), round(clip["phrase_end"] * RATE))
    told = demo_program.get(f"/api/sessions/{state['id']}/distance")["phrases"]
    phrase = next(one for one in told if one["clip"] == clip["id"])
    meter = pyloudnorm.Meter(RATE, block_size=0.4)
    # 12 LU and more above the bed, the voice is all of it but 0.3 LU
    assert meter.integrated_loudness(mix[span]) == pytest.approx(phrase["level"], abs=0.6)
    assert phrase["distance"] >= 11.9


def test_the_distance_follows_the_hand_on_a_fader(page: Page, demo_program: Program) -> None:
    levelled(page, demo_program)
    row = page.get_by_label("Worklist").locator(".row").first
    expect(row).to_contain_text("LU")
    value = lambda: float(row.locator(".row-value").inner_text().replace("−", "-").removesuffix(" LU"))  # noqa: E731
    before = value()
    thumb = chip(page, "Sea and harbour").get_by_role("slider", name="Fader of Sea and harbour")
    box = box_of(thumb)
    page.mouse.move(box["x"] + 7, box["y"] + 7)
    page.mouse.down()
    page.mouse.move(box["x"] - 13, box["y"] + 7, steps=4)
    # still in the hand: nothing is written, and the distance has grown all the same
    eventually(lambda: value() > before + 3)
    assert guide(demo_program)["tracks"][1]["fader"] == 0.0
    held = value()
    page.mouse.up()
    eventually(lambda: guide(demo_program)["tracks"][1]["fader"] < -3)
    fader = guide(demo_program)["tracks"][1]["fader"]
    assert held == pytest.approx(before - fader, abs=0.15)
    eventually(lambda: abs(value() - held) < 0.15)
    fresh(demo_program, GUIDE)


def test_mute_solo_and_alone_by_keys(page: Page, demo_program: Program) -> None:
    fresh(demo_program, GUIDE)
    open_stage(page, demo_program, guide(demo_program))
    page.keyboard.press("m")
    expect(page.get_by_role("button", name="Mute Narrator")).to_have_attribute("aria-pressed", "true")
    expect(chip(page, "Narrator")).to_have_attribute("data-silent", "true")
    page.keyboard.press("m")
    page.keyboard.press("Shift+M")
    expect(page.get_by_role("button", name="Solo Narrator")).to_have_attribute("aria-pressed", "true")
    expect(chip(page, "Sea and harbour")).to_have_attribute("data-silent", "true")
    eventually(lambda: guide(demo_program)["undo"] == "Solo Narrator")
    page.keyboard.press("Control+z")
    expect(chip(page, "Sea and harbour")).to_have_attribute("data-silent", "false")
    # only for the ear: no step, and gone with the page
    page.keyboard.press("j")
    expect(chip(page, "Sea and harbour")).to_have_attribute("data-silent", "true")
    assert guide(demo_program)["undo"] != "Solo Narrator"
    fresh(demo_program, GUIDE)


def test_the_threshold_follows_and_the_work_is_steadier(page: Page, demo_program: Program) -> None:
    state = levelled(page, demo_program)
    page.get_by_text("into the compressor").click()
    table = page.get_by_test_id("load-table")
    spread = table.locator("tr", has_text="Spread").locator("td")
    expect(spread).to_have_count(3)
    before, _, equal = (float(text.removesuffix(" dB")) for text in spread.all_inner_texts())
    assert equal < before / 2
    told = demo_program.get(f"/api/tracks/{state['tracks'][0]['id']}/load")
    page.keyboard.press("d")
    eventually(lambda: guide(demo_program)["tracks"][0]["load"]["threshold_after"] == told["proposed"])
    average = table.locator("tr", has_text="Average").locator("td")
    eventually(lambda: np.ptp([float(text.removesuffix(" dB")) for text in average.all_inner_texts()[:2]]) < 0.15)
    page.get_by_text("gain behind it").click()
    expect(page.get_by_label("Rule", exact=True)).to_contain_text("loud half")
    # the hardest phrase comes first, and the next key goes to it
    page.keyboard.press(".")
    first = page.get_by_label("Worklist").locator(".row").first
    expect(first).to_have_attribute("aria-pressed", "true")
    fresh(demo_program, GUIDE)


def test_all_of_it_plays_without_a_gap_through_the_compressor(page: Page, demo_program: Program) -> None:
    page.add_init_script(REPORTS)
    state = levelled(page, demo_program)
    asked: list[str] = []
    page.on("request", lambda request: asked.append(request.url))
    page.keyboard.press("w")
    page.keyboard.press("Space")
    wait_past(page, 6.0)
    page.keyboard.press("b")
    page.keyboard.press("j")
    wait_past(page, 8.0)
    page.keyboard.press("Space")
    starved = page.evaluate("window.starved")
    assert len(starved) > 100
    assert not any(starved)
    voice, bed = (track["id"] for track in state["tracks"])
    assert any(f"{voice}/reduction" in url for url in asked)
    assert any(f"{bed}/samples" in url for url in asked)
    # a bed goes through no compressor
    assert not any(f"{bed}/reduction" in url for url in asked)


def test_a_clip_moved_while_it_plays_does_not_stop_the_sound(page: Page, demo_program: Program) -> None:
    """What is asked for of a timeline that is another by now, moved by another window, is asked for again of that one."""
    state = levelled(page, demo_program)
    voice = state["tracks"][0]["id"]
    page.keyboard.press("Space")
    wait_past(page, 1.0)
    now = guide(demo_program)
    last = [clip for clip in now["clips"] if clip["track"] == voice and clip["phrase_start"] is not None][-1]
    move = {"revision": now["revision"], "clips": [last["id"]], "by": 5.0}
    demo_program.post(f"/api/tracks/{voice}/move", move)
    # far enough for samples that had not been fetched then
    wait_past(page, 3.0)
    with page.expect_response(lambda answer: f"{voice}/samples" in answer.url and answer.ok):
        pass
    wait_past(page, 5.0)
    expect(page.get_by_role("alert")).to_have_count(0)
    page.keyboard.press("Space")
    fresh(demo_program, GUIDE)


def test_an_edit_of_one_track_does_not_fetch_the_gain_of_the_others(page: Page, demo_program: Program) -> None:
    state = levelled(page, demo_program)
    voice, bed = (track["id"] for track in state["tracks"])
    state = guide(demo_program)
    clip = next(clip for clip in state["clips"] if clip["phrase_start"] is not None)
    with page.expect_request(lambda request: f"{bed}/gain" in request.url):
        page.goto(f"{demo_program.address}/s/{state['id']}/phrases?phrase={clip['id']}")
    expect(page.get_by_test_id("figures")).to_contain_text("spread")
    page.wait_for_load_state("networkidle")
    asked: list[str] = []
    page.on("request", lambda request: asked.append(request.url))
    # what is shown comes last
    with page.expect_response(lambda answer: f"{voice}/figures" in answer.url):
        page.keyboard.press("ArrowUp")
    assert not any(f"{bed}/gain" in url for url in asked)
    fresh(demo_program, GUIDE)


def test_a_bed_is_dropped_onto_an_empty_program_and_makes_room(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    """The newcomer: own files, no setting touched."""
    page = quiet_page
    random = np.random.default_rng(2)
    write_sound(tmp_path / "speaker.wav", uneven_voice((-26.0, -18.0, -22.0, -30.0) * 3))
    write_sound(tmp_path / "rain.wav", random.standard_normal((24 * RATE, 2)) * 10 ** (-34 / 20))
    page.goto(own_program.address)
    page.get_by_label("Sound files").set_input_files([tmp_path / "speaker.wav", tmp_path / "rain.wav"])
    expect(page.get_by_text("“rain” does not pause as a voice does").first).to_be_visible(timeout=60_000)
    expect(page.get_by_role("tab", name="rain")).to_be_visible()
    # one voice and its bed are no takes of each other
    expect(page.get_by_label("Lay them out")).to_have_count(0)
    page.get_by_role("tab", name="rain").click()
    page.keyboard.press("1")
    expect(page.get_by_role("button", name="Survey")).to_contain_text("range")
    page.keyboard.press("5")
    page.get_by_text("to a distance").click()
    page.keyboard.press("d")
    expect(note(page)).to_contain_text("of 12 phrases keep 12.0 LU, with")
    page.keyboard.press("d")
    card = own_program.get("/api/sessions")["items"][0]

    def bed() -> dict:
        tracks = own_program.get(f"/api/sessions/{card['id']}")["tracks"]
        return next(track for track in tracks if track["kind"] == "bed")

    eventually(lambda: bed()["lanes"] == ["trim"])
    page.keyboard.press("Control+z")
    expect(page.get_by_text("Undone: Make room for the voice").first).to_be_visible()


def test_a_session_of_one_track_has_no_switches_of_a_desk(page: Page, demo_program: Program) -> None:
    state = demo_program.session(SONG)
    open_stage(page, demo_program, state)
    expect(page.get_by_role("button", name="Mute Singer")).to_have_count(0)
    page.keyboard.press("5")
    expect(page.get_by_label("Rule", exact=True)).to_contain_text("No track is a bed")


def test_what_is_soloed_is_what_is_in_the_mix(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, GUIDE)
    open_stage(page, demo_program, state, "signoff")
    page.get_by_role("button", name="Solo Narrator").click()
    page.get_by_text("The mix", exact=True).click()
    expect(page.get_by_text("Left out (solo is on): Sea and harbour.")).to_be_visible()
    job = demo_program.post(f"/api/sessions/{state['id']}/mix", {"format": "wav", "bits": 32})
    assert demo_program.finished(state["id"], job["id"])["state"] == "done"
    mix = soundfile.read(io.BytesIO(demo_program.get_bytes(f"/api/jobs/{job['id']}/file")), always_2d=True)[0]
    assert mix.shape[1] == 1
    fresh(demo_program, GUIDE)


def test_a_bed_alone_is_spoken_of_as_what_it_is(page: Page, own_program: Program, tmp_path: Path) -> None:
    """Music without a voice: its slow ride says what it does, and nothing speaks of phrases that it cannot have."""
    music = np.concatenate([hum(level, 8.0, seed=k) for k, level in enumerate((-20.0, -34.0, -24.0, -38.0))])
    state = own_program.brought_in(write_sound(tmp_path / "music.wav", music), "Music")
    page.goto(f"{own_program.address}/s/{state['id']}/survey")
    expect(page.get_by_test_id("figures")).to_contain_text("range")
    stages = page.get_by_role("navigation", name="Stages")
    expect(stages).to_contain_text("a bed has none")
    expect(stages).to_contain_text(re.compile(r"range \d+\.\d LU"))
    page.keyboard.press("4")
    page.get_by_role("button", name="Even out music slowly").click()
    told = page.get_by_role("status").filter(has_text="Range")
    expect(told).to_contain_text(
        re.compile(r"^Range (\d+\.\d) → \d+\.\d LU, moves from −\d+\.\d to \+\d+\.\d dB, with \d+ points\.")
    )
    before, after = (float(value) for value in re.findall(r"(\d+\.\d)", told.inner_text())[:2])
    assert after < before - 3
    # as far up as down, and no further than it may
    low, high = (float(value) for value in re.findall(r"from −(\d+\.\d) to \+(\d+\.\d)", told.inner_text())[0])
    assert max(low, high) <= 12
    page.get_by_role("slider", name="Slow ride limit").focus()
    for _ in range(8):
        page.keyboard.press("ArrowLeft")
    expect(told).to_contain_text(re.compile(r"from −[0-4]\.\d to \+[0-4]\.\d dB"))
    page.get_by_role("button", name="Accept the slow ride").click()
    eventually(lambda: own_program.session("Music")["tracks"][0]["lanes"] == ["ride"])
    # by keys: undone, drafted again and accepted
    page.keyboard.press("Control+z")
    eventually(lambda: own_program.session("Music")["tracks"][0]["lanes"] == [])
    page.keyboard.press("d")
    expect(told).to_be_visible()
    page.keyboard.press("d")
    eventually(lambda: own_program.session("Music")["tracks"][0]["lanes"] == ["ride"])
    page.keyboard.press("6")
    checks = page.get_by_label("Check list")
    expect(checks).to_contain_text("True peak is below full scale")
    expect(checks).to_contain_text("Range")
    for word in ("phrase", "Room tone", "ess", "Level"):
        expect(checks).not_to_contain_text(word)
    page.get_by_role("link", name="Nivelus, all sessions").click()
    expect(page.locator(".card", has_text="Music")).to_contain_text("1 bed")
