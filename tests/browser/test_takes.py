"""Takes of a track in Survey: laid out from dropped files, heard, matched, and put together phrase by phrase."""

from __future__ import annotations

import io
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from nivelus.core.measure.grid import measure_samples
from nivelus.core.measure.spans import span_levels
from tests.browser.hands import (
    SONG,
    HeldAnswer,
    eventually,
    fresh,
    lane_clip,
    only,
    open_stage,
    phrases,
    press,
    render_link,
)
from tests.conftest import RATE, uneven_voice, write_sound
from tests.helpers.program import Program

LEVELS = ((-30.0, -20.0, -26.0), (-24.0, -34.0, -29.0), (-27.0, -25.0, -18.0))
HEIGHT = """canvas => {
  const { width, height } = canvas;
  const { data } = canvas.getContext('2d').getImageData(0, 0, width, height);
  const middle = Math.floor(height / 2);
  const heights = [];
  for (let x = 0; x < width; x++) {
    let y = 2;
    const isPaper = (at) => data[at + 3] === 0 || data[at + 1] > 190;
    while (y < middle && isPaper(4 * (y * width + x))) y++;
    heights.push(middle - y);
  }
  return heights.sort((a, b) => a - b)[Math.floor(0.95 * width)];
}"""
"""How high the wave of a lane stands over its middle by day; the ends of clips are lines over all of it, but few."""


def rendered(page: Page, program: Program) -> np.ndarray:
    page.keyboard.press("6")
    page.get_by_label("Format").select_option("wav-32")
    link = render_link(page)
    data = page.request.get(program.address + (link.get_attribute("href") or "")).body()
    samples, rate = soundfile.read(io.BytesIO(data), dtype="float64")
    assert rate == RATE
    return samples


def test_three_files_become_takes_and_the_best_of_each_is_put_together(
    quiet_page: Page, own_program: Program, tmp_path: Path
) -> None:
    """From an empty program and dropped files: laid out as takes, matched, one phrase chosen from each, rendered, heard."""
    page = quiet_page
    page.goto(own_program.address)
    voices = [uneven_voice(levels) for levels in LEVELS]
    files = [write_sound(tmp_path / f"lead {n + 1}.wav", voice) for n, voice in enumerate(voices)]
    page.get_by_label("Sound files").set_input_files(files)
    offer = page.get_by_label("Lay them out", exact=True)
    expect(offer).to_contain_text("3 files were imported together", timeout=30_000)
    expect(page.get_by_role("radio", name="As takes of one track")).to_be_checked()
    page.get_by_role("button", name="Lay them out").click()
    expect(page.get_by_role("tab")).to_have_count(1)
    takes = page.get_by_label("Takes of lead")
    expect(takes.get_by_role("radio")).to_have_count(3)
    state = only(own_program)
    first, second, third = phrases(state)
    # the second phrase is louder in this take than in the next: as loud as it, it is heard and then chosen
    press(page, lane_clip(page, second), "k")
    expect(page.get_by_text("take 2, as loud as the phrase in hand")).to_be_visible()
    held = HeldAnswer(page, "/takes/choose", lambda: page.keyboard.press("Shift+K"))
    # whoever goes on before the answer comes has the next phrase in hand; two further on is the last take
    press(page, lane_clip(page, third))
    held.let_go()
    expect(page.get_by_role("button", name="chosen from take 2")).to_have_count(1)
    for _ in range(2):
        page.keyboard.press("k")
    expect(page.get_by_text("take 3, as loud as the phrase in hand")).to_be_visible()
    page.keyboard.press("Shift+K")
    eventually(lambda: len({clip["recording"] for clip in phrases(only(own_program))}) == 3)
    now = phrases(only(own_program))
    # each says where it is from
    for name in ("take 2", "take 3"):
        expect(page.get_by_role("button", name=f"chosen from {name}")).to_have_count(1)
    assert [clip["before"] for clip in now] == pytest.approx(
        [level_of(voices[0], first), level_of(voices[1], now[1]), level_of(voices[2], now[2])], abs=0.1
    )
    # as loud as they were heard: as what lay there before
    assert [clip["after"] for clip in now] == pytest.approx([clip["after"] for clip in (first, second, third)], abs=0.1)
    samples = rendered(page, own_program)
    for clip in now:
        start, end = clip["phrase_start"], clip["phrase_end"]
        heard = span_levels(measure_samples(samples, RATE), start, end).loudness
        assert heard == pytest.approx(clip["after"], abs=0.1)
    # nothing clicks: no step at a join is larger than the voice itself makes
    for one, other in pairwise(now):
        at = slice(round((one["phrase_end"] + 0.05) * RATE), round((other["phrase_start"] - 0.05) * RATE))
        assert np.abs(np.diff(samples[at])).max() < 0.02
    for _ in range(3):
        page.keyboard.press("Control+z")
    expect(page.get_by_role("tab")).to_have_count(3)


def level_of(voice: np.ndarray, clip: dict[str, Any]) -> float:
    return span_levels(measure_samples(voice, RATE), clip["phrase_start"], clip["phrase_end"]).loudness


def test_waves_of_takes_share_one_scale_so_that_matching_is_seen(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state, "survey")
    takes = page.get_by_label("Takes of Singer")
    names = [f"Singer: take {number}" for number in (1, 2, 3)]

    def heights() -> np.ndarray:
        """How high the waves of the takes stand, pixels."""
        return np.array([page.get_by_label(name, exact=True).locator("canvas").evaluate(HEIGHT) for name in names])

    def lower() -> np.ndarray:
        """By how many dB the waves of the other takes are lower than that of the take that is heard."""
        own, *others = 20 * np.log10(heights())
        return own - np.array(others)

    eventually(lambda: (heights() > 5).all())
    before = lower()
    track = state["tracks"][0]["id"]
    ids = [clip["id"] for clip in state["clips"] if clip["track"] == track]
    demo_program.post(f"/api/tracks/{track}/gain", {"revision": state["revision"], "clips": ids, "by": 6.0})
    # a wave is drawn to a pixel
    eventually(lambda: np.abs(lower() - before - 6.0).max() < 1.0)
    takes.get_by_role("button", name="Match levels").click()
    eventually(lambda: np.abs(lower() - before).max() < 2.0)
    fresh(demo_program, SONG)


def test_takes_are_heard_and_matched(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state, "survey")
    takes = page.get_by_label("Takes of Singer")
    takes.get_by_role("button", name="Match levels").click()
    eventually(lambda: demo_program.session(SONG)["undo"] == "Match 2 takes to take 1")
    # the program's own words say the same of all of them
    levels = takes.locator("tbody tr td:nth-child(2)")
    expect(levels.nth(1)).to_have_text(levels.nth(0).inner_text())
    takes.get_by_role("radio", name="take 3").click()
    eventually(lambda: demo_program.session(SONG)["tracks"][0]["take"] == 2)
    expect(page.get_by_label("Singer: take 3")).to_be_visible()
    fresh(demo_program, SONG)
