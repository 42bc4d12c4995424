"""From level phrases to a render with its details down."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from tests.browser.hands import (
    GUIDE,
    fresh,
    render_link,
)
from tests.browser.marks import kind_rule, mark_row, marks_of, only_kind
from tests.helpers.answers import every_mark
from tests.helpers.program import Program


def test_from_level_phrases_to_a_render_with_its_details_down(quiet_page: Page, demo_program: Program, tmp_path: Path) -> None:
    page, state = quiet_page, fresh(demo_program, GUIDE)
    page.goto(f"{demo_program.address}/s/{state['id']}/phrases")
    expect(page.get_by_role("button", name=re.compile("3 Details"))).to_be_visible()
    page.keyboard.press("3")
    breath_rule = kind_rule(page, "breath")
    breaths = marks_of(demo_program, state, "breath")
    expect(breath_rule).to_contain_text(f"0 of {len(breaths)} down")

    # one key turns every kind down by its rule, each with its own switch and undo
    page.keyboard.press("d")
    expect(kind_rule(page, "gap")).to_contain_text(re.compile(r"[1-9]\d* of \d+ down"))
    expect(kind_rule(page, "ess")).to_contain_text("over the usual")
    page.keyboard.press("Control+z")
    expect(kind_rule(page, "gap")).to_contain_text("0 of")
    expect(breath_rule).not_to_contain_text("0 of")

    # the slider moves all of a kind; the worklist leads to one of them, which goes further
    slider = page.get_by_role("slider", name="Breaths: how far down")
    slider.focus()
    for _ in range(4):
        page.keyboard.press("ArrowLeft")
    expect(breath_rule).to_contain_text("−10.0 dB")
    only_kind(page, "Breaths")
    page.get_by_text("by time").click()
    first = mark_row(page, breaths[0])
    expect(first).to_contain_text("−10.0")
    page.keyboard.press(".")
    expect(first).to_have_attribute("aria-pressed", "true")
    expect(page.get_by_role("button", name="Stop")).to_be_visible()
    page.keyboard.press("Space")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("ArrowDown")
    expect(first).to_contain_text("−11.0")
    demo_program.ready()
    page.reload()
    expect(mark_row(page, breaths[0])).to_contain_text("−11.0")

    # the new figures are at Sign off, and they are what is heard in the file
    page.keyboard.press("6")
    table = page.get_by_test_id("figures-table")
    expect(table.get_by_role("row", name=re.compile("Breaths"))).to_be_visible()
    link = render_link(page)
    with page.expect_download() as download:
        link.click()
    path = tmp_path / download.value.suggested_filename
    download.value.save_as(path)
    rendered, rate = soundfile.read(path)
    recording = state["tracks"][0]["timeline"]
    (source,) = (p for p in demo_program.data.glob("vault/*/*/source.*") if soundfile.info(p).frames == recording["frames"])
    plain = soundfile.read(source)[0]

    def fallen(start: float, end: float) -> float:
        span = slice(round(start * rate), round(end * rate))
        return float(10 * np.log10(np.sum(rendered[span] ** 2) / np.sum(plain[span] ** 2)))

    now = marks_of(demo_program, state, "breath")
    for mark in now:
        if mark["on"] and mark["dip_end"] - mark["dip_start"] > 0.05:
            assert fallen(mark["dip_start"], mark["dip_end"]) == pytest.approx(mark["depth"], abs=0.5)
    dips = [m for m in every_mark(demo_program.get(f"/api/sessions/{state['id']}")) if m["on"]]
    for clip in state["clips"][:20]:
        a, b = clip["phrase_start"], clip["phrase_end"]
        near = [m for m in dips if m["dip_start"] - m["ramp_in"] < b and m["dip_end"] + m["ramp_out"] > a]
        if not near:
            span = slice(round(a * rate), round(b * rate))
            assert (rendered[span] == plain[span]).all()
