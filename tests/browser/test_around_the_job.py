"""What is done around the job: sessions, tracks, targets, the strips of the picture, and what is heard while dragging."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from tests.browser.hands import (
    FEATURE,
    SONG,
    box_of,
    capsule,
    clip_of,
    drag,
    eventually,
    fresh,
    middle,
    open_stage,
    render_link,
    row,
)
from tests.conftest import hum, room, uneven_voice, write_sound
from tests.helpers.program import Program


@pytest.fixture
def song(page: Page, demo_program: Program) -> dict[str, Any]:
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state)
    page.keyboard.press("Shift+F")
    expect(page.locator(".capsule")).to_have_count(6)
    return state


def test_a_session_is_begun_named_and_deleted(page: Page, own_program: Program) -> None:
    page.goto(own_program.address)
    page.get_by_role("button", name="New session").click()
    page.get_by_role("textbox", name="Name").fill("Harbour bells")
    page.get_by_role("button", name="Begin").click()
    expect(page.get_by_text("Import a voice")).to_be_visible()
    page.get_by_role("link", name="Nivelus, all sessions").click()
    card = page.locator(".card", has_text="Harbour bells")
    expect(card).to_contain_text("empty")
    card.get_by_role("button", name="More for Harbour bells").click()
    page.get_by_role("menuitem", name="Delete").click()
    page.get_by_role("button", name="Keep it").click()
    expect(card).to_be_visible()
    card.get_by_role("button", name="More for Harbour bells").click()
    page.get_by_role("menuitem", name="Delete").click()
    page.get_by_role("button", name="Delete", exact=True).click()
    expect(card).to_have_count(0)
    assert own_program.get("/api/sessions")["items"] == []


def test_a_track_is_taken_out_and_comes_back(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, FEATURE)
    open_stage(page, demo_program, state, "survey")
    expect(page.get_by_role("tab")).to_have_count(2)
    page.get_by_role("button", name="More for Mill keeper").click()
    page.get_by_role("menuitem", name="Remove from the session").click()
    expect(page.get_by_role("tab")).to_have_count(1)
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_role("tab")).to_have_count(2)
    assert demo_program.session(FEATURE)["clips"] == state["clips"]


def test_a_track_gets_another_name(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, FEATURE)
    open_stage(page, demo_program, state, "survey")
    page.get_by_role("button", name="More for Mill keeper").click()
    page.get_by_role("menuitem", name="Rename").click()
    page.get_by_role("textbox", name="Name").fill("Jory")
    page.keyboard.press("Enter")
    expect(page.get_by_role("tab", name="Jory")).to_be_visible()


def test_tracks_get_another_order_and_a_copy(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, FEATURE)
    open_stage(page, demo_program, state, "survey")
    chips, lanes = page.get_by_role("tab"), page.locator("section.lane")
    menu = page.get_by_role("button", name="More for Mill keeper")
    menu.click()
    expect(page.get_by_role("menuitem", name="Move down")).to_be_disabled()
    page.get_by_role("menuitem", name="Move up").click()
    expect(chips).to_contain_text(["Mill keeper", "Narrator"])
    expect(lanes.first).to_have_attribute("aria-label", "Mill keeper")
    # by keys it is found by its name, and goes for the track in focus
    chips.nth(0).click()
    page.keyboard.press("Control+k")
    page.get_by_placeholder("What to do, or a phrase by its words").fill("move the track down")
    page.keyboard.press("Enter")
    expect(chips).to_contain_text(["Narrator", "Mill keeper"])
    menu.click()
    page.get_by_role("menuitem", name="Duplicate").click()
    expect(chips).to_contain_text(["Narrator", "Mill keeper", "Mill keeper 2"])
    now = demo_program.session(FEATURE)
    own, copy = ([clip for clip in now["clips"] if clip["track"] == track["id"]] for track in now["tracks"][1:])
    assert [(clip["start"], clip["label"]) for clip in own] == [(clip["start"], clip["label"]) for clip in copy]
    for _ in range(3):
        page.keyboard.press("Control+z")
    expect(chips).to_have_count(2)
    eventually(lambda: demo_program.session(FEATURE)["undo"] == state["undo"])


def test_the_target_in_every_unit_and_kind(page: Page, demo_program: Program, song: dict) -> None:
    page.keyboard.press("1")
    figures = page.get_by_test_id("figures")
    page.get_by_label("Measured as").select_option("rms")
    expect(figures).to_contain_text("−23.0 dBFS RMS")
    page.get_by_label("Preset").select_option(label="−16 LUFS, mobile")
    expect(figures).to_contain_text("−16.0 LUFS")
    page.get_by_label("Target level").fill("-30")
    page.keyboard.press("Enter")
    expect(figures).to_contain_text("−30.0 LUFS")
    page.get_by_label("Target", exact=True).select_option("median")
    levels = [c["before"] for c in demo_program.session(SONG)["clips"]]
    expect(figures).to_contain_text(f"{np.median(levels):.1f} LUFS".replace("-", "−"))
    # named phrases become the measure for all others
    page.keyboard.press("2")
    row(page, song["clips"][3]).click()
    page.keyboard.press("r")
    page.keyboard.press("1")
    page.get_by_label("Target", exact=True).select_option("reference")
    expect(figures).to_contain_text(f"{levels[3]:.1f} LUFS".replace("-", "−"))


def test_a_span_selects_what_lies_in_it_and_a_click_lets_go(page: Page, song: dict) -> None:
    first, second, third, *_, last = song["clips"]
    wave = box_of(page.get_by_test_id("wave-overlay"))
    box0, box1 = box_of(capsule(page, first)), box_of(capsule(page, second))
    start = (box0["x"] - 4, wave["y"] + 70)
    drag(page, start, (box1["x"] + box1["width"] - box0["x"] + 8, 0))
    for clip, chosen in ((first, "true"), (second, "true"), (third, "false")):
        expect(capsule(page, clip)).to_have_attribute("aria-pressed", chosen)
    page.keyboard.press("f")
    expect(capsule(page, last)).to_have_count(0)
    page.mouse.click(wave["x"] + 300, wave["y"] + 70)
    expect(page.locator(".capsule[aria-pressed=true]")).to_have_count(0)


def test_strips_are_dragged_higher_and_folded_away(page: Page, song: dict) -> None:
    wave = page.get_by_test_id("wave-overlay")
    before = box_of(wave)
    drag(page, (before["x"] + 400, before["y"] - 3), (0, -60))
    after = box_of(wave)
    assert after["height"] == pytest.approx(before["height"] + 60, abs=2)
    # what lies over the chart has moved with it: the capsules can still be taken hold of
    clip = song["clips"][2]
    drag(page, middle(capsule(page, clip)), (0, 30))
    expect(row(page, clip)).to_have_accessible_name(re.compile(r"gain −"))
    page.get_by_role("button", name="Fold gain: clips, dips and the sum away").click()
    expect(page.get_by_test_id("gain")).to_have_count(0)
    page.get_by_role("button", name="Unfold gain: clips, dips and the sum").click()
    expect(page.get_by_test_id("gain")).to_be_visible()


def test_clip_gain_is_dragged_in_the_gain_strip_as_well(page: Page, demo_program: Program, song: dict) -> None:
    clip = song["clips"][1]
    gain = box_of(page.get_by_test_id("gain"))
    x, _ = middle(capsule(page, clip))
    # the strip goes from +11 to -14 dB, with 4 pixels of margin
    zero = gain["y"] + 4 + 11 / 25 * (gain["height"] - 8)
    drag(page, (x, zero), (3, -20))
    expect(row(page, clip)).to_have_accessible_name(re.compile(r"gain \+"))
    assert clip_of(demo_program, song, clip)["gain"] == pytest.approx(20 * 25 / (gain["height"] - 8), abs=0.3)


def test_the_hand_is_heard_while_it_moves(page: Page, song: dict) -> None:
    """Every movement reaches the audio thread before the edit is even sent; Escape takes it back there as well."""
    page.evaluate(
        """() => {
          const post = MessagePort.prototype.postMessage;
          window.holds = [];
          MessagePort.prototype.postMessage = function (message, transfer) {
            const line = message?.type === 'hold' && message.points;
            if (line) window.holds.push([Math.min(0, ...line.db), line.at.length]);
            return post.call(this, message, transfer ?? []);
          };
        }"""
    )
    clip = song["clips"][2]
    capsule(page, clip).click()
    page.keyboard.press("Enter")
    expect(page.get_by_role("button", name="Stop")).to_be_visible()
    drag(page, middle(capsule(page, clip)), (0, 40), release=False)
    holds = page.evaluate("window.holds")
    assert len(holds) >= 2
    assert holds[-1][0] < holds[0][0] < 0
    assert holds[-1][1] == 4
    page.keyboard.press("Escape")
    page.mouse.up()
    assert page.evaluate("window.holds.at(-1)") == [0, 0]
    page.keyboard.press("Space")


def test_layers_are_switched_in_the_path(page: Page, song: dict) -> None:
    layer = page.get_by_role("button", name="Clip gain layer")
    expect(layer).to_have_attribute("aria-pressed", "true")
    layer.click()
    expect(layer).to_have_attribute("aria-pressed", "false")
    page.get_by_text("Before", exact=True).click()
    layer.click()
    # Before turns every layer off, whatever its own switch says
    expect(layer).to_have_attribute("aria-pressed", "false")
    page.get_by_text("After", exact=True).click()
    expect(layer).to_have_attribute("aria-pressed", "true")


def test_before_is_left_behind_with_the_session(page: Page, demo_program: Program, song: dict) -> None:
    """The next session opens with After on screen, and that is what is heard in it."""
    page.evaluate(
        """() => {
          const post = MessagePort.prototype.postMessage;
          window.heard = [];
          MessagePort.prototype.postMessage = function (message, transfer) {
            if (message?.type === 'set' && message.what === 'after') window.heard.push(message.value === 1);
            return post.call(this, message, transfer ?? []);
          };
        }"""
    )
    page.keyboard.press("Space")
    expect(page.get_by_role("button", name="Stop")).to_be_visible()
    page.keyboard.press("b")
    eventually(lambda: page.evaluate("window.heard.at(-1) === false"))
    page.get_by_role("link", name="Nivelus, all sessions").click()
    page.locator(".card", has_text=FEATURE).get_by_role("link").click()
    expect(page.get_by_role("radio", name="After")).to_be_checked()
    eventually(lambda: page.evaluate("window.heard.at(-1) === true"))


def test_a_long_render_can_be_stopped_and_leaves_nothing(page: Page, own_program: Program, tmp_path: Path) -> None:
    long = write_sound(tmp_path / "long.wav", np.tile(np.concatenate([hum(-20, 1.6), room(-66, 0.6)]), 700), subtype="PCM_16")
    state = own_program.brought_in(long)
    open_stage(page, own_program, state, "signoff")
    page.get_by_label("Format").select_option("flac-24")
    page.get_by_role("button", name=re.compile("^Render")).click()
    expect(page.get_by_text(re.compile(r"rendering \d+ %"))).to_be_visible(timeout=20_000)
    page.get_by_role("button", name=re.compile("^Stop Own - long levelled .*flac$")).click()
    expect(page.get_by_text("Stopped. Nothing was written.")).to_be_visible(timeout=15_000)
    assert list(own_program.data.glob("renders/*")) == []


def test_renders_say_of_when_and_of_what_state_they_are(page: Page, own_program: Program, voice_file: Path) -> None:
    """Named by session, track and time, the newest first; out of date as soon as something was changed, until it is undone."""
    state = own_program.brought_in(voice_file)
    open_stage(page, own_program, state, "signoff")
    renders = page.get_by_role("list", name="Renders")
    # D is the main act of this stage as well
    page.keyboard.press("d")
    first = renders.get_by_role("listitem").filter(has=page.get_by_role("link"))
    expect(first).to_have_count(1, timeout=30_000)
    name = rf"Own - {voice_file.stem} levelled \d{{4}}-\d\d-\d\d \d\d\.\d\d\.wav"
    expect(first.get_by_role("link")).to_have_text(re.compile(f"^\\s*{name}$"))
    expect(first).to_contain_text(re.compile(r"\d\d:\d\d · WAV 24 bits, pre-fader · up to “Import"))
    expect(first).not_to_contain_text("out of date")
    page.keyboard.press("2")
    capsule(page, state["clips"][0]).click()
    page.keyboard.press("ArrowUp")
    page.keyboard.press("6")
    expect(renders.get_by_role("listitem").last).to_contain_text("out of date")
    page.keyboard.press("Control+z")
    expect(renders.get_by_role("listitem").last).not_to_contain_text("out of date")
    page.keyboard.press("Shift+Control+z")
    expect(renders.get_by_role("listitem").last).to_contain_text("out of date")
    # what is off for the ear only is in it, and that is said where it is asked for
    page.get_by_role("button", name="Dips layer").click()
    expect(page.get_by_text("Switched off for your ears only, and in the render: dips.")).to_be_visible()
    page.get_by_role("switch", name=re.compile("Include the fader")).press("Space")
    render_link(page)
    newest = renders.get_by_role("listitem").first
    expect(newest).to_contain_text("WAV 24 bits, with the fader at +0.0 dB · up to “1 phrase by +0.5 dB”")
    expect(newest).not_to_contain_text("out of date")
    expect(renders.get_by_role("listitem").last).to_contain_text("out of date")


def test_a_lost_sound_file_is_said_and_the_rest_goes_on(page: Page, own_program: Program, voice_file: Path) -> None:
    state = own_program.brought_in(voice_file)
    own_program.stop()
    for sound in own_program.data.glob("vault/*/*/source.wav"):
        sound.unlink()
    own_program.start()
    page.goto(f"{own_program.address}/s/{state['id']}/survey")
    expect(page.get_by_text("The recording's file is missing. Import it again to restore the track.")).to_be_visible()
    page.get_by_label("Sound files").set_input_files(voice_file)
    expect(page.get_by_text("Its sound file is missing")).to_have_count(0, timeout=20_000)


def test_a_file_that_is_too_large_is_named(page: Page, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("NIVELUS_MAX_UPLOAD_MB", "1")
    program = Program(tmp_path / "data", "--no-demo")
    try:
        session = program.post("/api/sessions", {"name": "Small"})["id"]
        page.goto(f"{program.address}/s/{session}/survey")
        for minutes, name in ((0.3, "a little too large.wav"), (1.0, "far too large.wav")):
            sound = write_sound(tmp_path / name, np.tile(hum(-20, 6), round(minutes * 10)), subtype="PCM_16")
            page.get_by_label("Sound files").set_input_files(sound)
            expect(page.get_by_role("alert").filter(has_text=f"“{name}” is larger than")).to_be_visible(timeout=15_000)
        assert program.get(f"/api/sessions/{session}/jobs")["items"] == []
        assert list(program.data.glob("incoming/*")) == []
    finally:
        program.stop()


def test_every_format_and_rate_can_be_brought_in_and_played(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    page = quiet_page
    kinds = {"low.wav": 8_000, "high.flac": 192_000, "odd.aiff": 22_050, "lossy.mp3": 44_100, "small.ogg": 48_000}
    for name, rate in kinds.items():
        voice = uneven_voice((-20.0, -28.0), rate)
        soundfile.write(tmp_path / name, np.stack([voice, voice], axis=1) if name == "lossy.mp3" else voice, rate)
    page.goto(own_program.address)
    page.get_by_label("Sound files").set_input_files([tmp_path / name for name in kinds])
    expect(page.get_by_role("tab")).to_have_count(len(kinds), timeout=60_000)
    for name in kinds:
        page.get_by_role("tab", name=name.split(".")[0]).click()
        expect(page.get_by_test_id("figures")).to_contain_text("of 2")
        page.get_by_role("button", name="Play").click()
        expect(page.get_by_label("Position")).to_have_value(re.compile(r"0:00\.[3-9]|0:0[1-9]"), timeout=10_000)
        page.get_by_role("button", name="Stop").click()
        expect(page.get_by_role("button", name="Play")).to_be_visible()
