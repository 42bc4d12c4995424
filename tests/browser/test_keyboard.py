"""The program without a mouse, and as a screen reader meets it."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from tests.browser.hands import FEATURE, GUIDE, SONG, capsule, eventually, fresh, gain_told, open_stage, row
from tests.conftest import uneven_voice, write_sound
from tests.helpers.program import Program

MOST_STOPS = 25
MOST_KEYS = 16
STAGES = ["survey", "phrases", "details", "ride", "balance", "signoff"]
AXE = (Path(__file__).parents[2] / "frontend/node_modules/axe-core/axe.min.js").read_text()
RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice", "experimental"]
FAULTS = """
async (tags) => {
  // an open menu lies outside of the page's landmarks, as in the examples of the ARIA Authoring Practices Guide (W3C)
  axe.configure({ rules: [{ id: 'region', selector: 'body *:not([data-portal], [data-portal] *)' }] });
  const found = await axe.run(document, { runOnly: tags.length ? { type: 'tag', values: tags } : ['color-contrast'] });
  return found.violations.flatMap((rule) => rule.nodes.map((node) => `${rule.id}: ${node.html.slice(0, 160)}`));
}
"""
"""What axe-core (Deque; its rules are those of WCAG 2.2 A and AA, and good practice) finds wrong with a page."""
AT_REST = """
async () => {
  // not a frame: a page that has nothing to draw may never get one
  await new Promise((done) => setTimeout(done, 100));
  return !document.documentElement.dataset.edits && document.getAnimations().every((one) => one.playState !== 'running');
}
"""


IS_NEW = "(on => on !== document.body && !window.met.has(on) && !!window.met.add(on))(document.activeElement)"


def stops(page: Page) -> int:
    """How often Tab is pressed until the focus is where it was first."""
    page.evaluate("document.activeElement.blur(); window.met = new Set()")
    for count in range(200):
        page.keyboard.press("Tab")
        if not page.evaluate(IS_NEW):
            return count
    return 200


@pytest.mark.parametrize("name", [GUIDE, FEATURE, SONG])
def test_tab_is_pressed_a_few_times_at_most_in_every_stage(page: Page, demo_program: Program, name: str) -> None:
    state = fresh(demo_program, name)
    counts = {}
    for stage in STAGES:
        open_stage(page, demo_program, state, stage)
        counts[stage] = stops(page)
        if stage in ("phrases", "details", "ride"):
            page.evaluate("document.activeElement.blur()")
            page.keyboard.press(".")
            page.keyboard.press("Space")
            expect(page.locator(".row[aria-pressed=true]")).to_have_count(1)
            counts[f"{stage}, one chosen"] = stops(page)
    assert {stage: count for stage, count in counts.items() if not 5 < count <= MOST_STOPS} == {}


def test_arrows_go_along_a_list_and_the_picture_and_change_nothing_before_enter(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, GUIDE)
    open_stage(page, demo_program, state)
    first, second = state["clips"][:2]
    capsule(page, first).focus()
    page.keyboard.press("ArrowRight")
    expect(capsule(page, second)).to_be_focused()
    gain = gain_told(capsule(page, second))
    page.keyboard.press("ArrowDown")
    page.keyboard.press("ArrowUp")
    page.keyboard.press("ArrowUp")
    page.keyboard.press("Enter")
    expect(capsule(page, second)).to_have_attribute("aria-pressed", "true")
    assert gain_told(capsule(page, second)) == gain
    assert demo_program.session(GUIDE)["undo"] == state["undo"]
    # what is chosen is what the keys act on, and Escape lets it go
    page.keyboard.press("ArrowUp")
    expect(capsule(page, second)).to_have_accessible_name(re.compile(rf"gain \+?{gain + 0.5:.1f} dB"))
    expect(capsule(page, second)).to_be_focused()
    page.keyboard.press("Escape")
    expect(page.locator(".capsule[aria-pressed=true]")).to_have_count(0)
    page.keyboard.press("ArrowLeft")
    expect(capsule(page, first)).to_be_focused()
    page.keyboard.press("Control+z")
    # past the end of the window the next one comes into it
    page.keyboard.press("End")
    last = page.locator(".capsule:focus").get_attribute("data-clip")
    page.keyboard.press("ArrowRight")
    expect(page.locator(".capsule:focus")).not_to_have_attribute("data-clip", str(last))
    # the same in the list, which holds more than is in sight
    rows = page.locator(".worklist .row")
    rows.first.focus()
    page.keyboard.press("End")
    # the least of what is off comes last
    expect(page.locator(".row:focus")).to_be_in_viewport()
    left = page.locator(".worklist .rows").evaluate("box => box.scrollHeight - box.scrollTop - box.clientHeight")
    assert left < 2
    page.keyboard.press("ArrowUp")
    at = page.locator(".row:focus")
    clip = {"id": at.get_attribute("data-clip")}
    page.keyboard.press("Space")
    expect(row(page, clip)).to_have_attribute("aria-pressed", "true")
    # a key that goes on in the list takes the focus along
    page.keyboard.press(",")
    expect(row(page, clip)).to_have_attribute("aria-pressed", "false")
    expect(page.locator(".row[aria-pressed=true]")).to_be_focused()


def test_a_panel_is_one_stop_and_its_arrows_go_on(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, GUIDE)
    open_stage(page, demo_program, state)
    chips = page.locator(".chip-name")
    chips.first.focus()
    for name in ("Mute Narrator", "Solo Narrator"):
        page.keyboard.press("ArrowRight")
        expect(page.get_by_role("button", name=name)).to_be_focused()
    page.keyboard.press("ArrowRight")
    expect(chips.nth(1)).to_be_focused()
    page.keyboard.press("Enter")
    expect(chips.nth(1)).to_have_attribute("aria-selected", "true")
    # gone and come back, it is where it was
    page.keyboard.press("Tab")
    page.keyboard.press("Shift+Tab")
    expect(chips.nth(1)).to_be_focused()
    # Space turns a switch that Tab went to, and does not play
    open_stage(page, demo_program, state, "details")
    switch = page.get_by_role("switch", name="Breaths down")
    switch.focus()
    page.keyboard.press("ArrowDown")
    expect(page.get_by_role("switch", name="Esses down")).to_be_focused()
    page.keyboard.press("ArrowUp")
    page.keyboard.press("Space")
    expect(switch).to_be_checked()
    expect(page.get_by_role("button", name="Play", exact=True)).to_be_visible()
    page.keyboard.press("Control+z")
    expect(switch).not_to_be_checked()


def press(*keys: str) -> Callable[[Page], None]:
    def do(page: Page) -> None:
        for key in keys:
            page.keyboard.press(key)

    return do


def found(page: Page) -> None:
    """Letters typed into the search, and the second of what has them."""
    page.keyboard.press("Control+k")
    page.get_by_placeholder("What to do, or a phrase by its words").fill("dra")
    page.keyboard.press("ArrowDown")
    expect(page.locator("[data-selected] mark").first).to_be_visible()


VIEWS: dict[str, tuple[str, str, Callable[[Page], None]]] = {
    "survey": (GUIDE, "survey", press()),
    "survey, takes": (SONG, "survey", press()),
    "survey, a clip": (FEATURE, "survey", press(".")),
    "phrases": (GUIDE, "phrases", press()),
    "phrases, one chosen": (GUIDE, "phrases", press(".", "Space")),
    "phrases, a draft": (SONG, "phrases", press("d")),
    "details": (GUIDE, "details", press()),
    "details, one chosen": (GUIDE, "details", press(".", "Space")),
    "ride": (GUIDE, "ride", press()),
    "ride, one chosen": (SONG, "ride", press(".", "Space")),
    "ride, a draft": (SONG, "ride", press("d")),
    "balance": (GUIDE, "balance", press()),
    "balance, no bed": (FEATURE, "balance", press()),
    "balance, the compressor": (GUIDE, "balance", lambda page: page.get_by_text("into the compressor").click()),
    "sign off": (GUIDE, "signoff", press()),
    "keys": (SONG, "phrases", press("?")),
    "everything by name": (SONG, "phrases", press("Control+k")),
    "everything by name, one of it": (SONG, "phrases", found),
    "a menu": (SONG, "phrases", lambda page: page.get_by_label("More", exact=True).click()),
    "the menu of rules": (SONG, "phrases", lambda page: page.get_by_role("button", name="rules", exact=True).click()),
    "a name": (SONG, "phrases", lambda page: page.get_by_title("Rename the session").click()),
    "sessions": ("", "/", press()),
    "the stand-in": ("", "/hand", press()),
}


@pytest.mark.parametrize("view", VIEWS)
def test_nothing_is_wrong_for_a_screen_reader(page: Page, demo_program: Program, view: str) -> None:
    name, where, act = VIEWS[view]
    if name:
        open_stage(page, demo_program, fresh(demo_program, name), where)
    else:
        page.goto(demo_program.address + where)
        expect(page.locator(".card, [role=slider]").first).to_be_visible()
    act(page)
    eventually(lambda: page.evaluate(AT_REST))
    page.evaluate(AXE)
    found = page.evaluate(FAULTS, RULES)
    # by night only the colours are others
    page.emulate_media(color_scheme="dark")
    if where != "/hand":
        expect(page.locator("html")).to_have_attribute("data-mantine-color-scheme", "dark")
    eventually(lambda: page.evaluate(AT_REST))
    found += [f"by night {fault}" for fault in page.evaluate(FAULTS, [])]
    assert found == []


def test_the_first_level_render_takes_few_keys(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    """The walk of the README on an empty program with three dropped files, by keys alone."""
    page = quiet_page
    page.goto(own_program.address)
    levels = [(-20.0, -31.0, -24.0, -36.0), (-22.0, -30.0), (-26.0, -20.0)]
    files = [write_sound(tmp_path / f"{name}.wav", uneven_voice(of)) for name, of in zip("abc", levels, strict=True)]
    page.get_by_label("Sound files").set_input_files(files)
    expect(page.get_by_role("button", name=re.compile("Keep as they are|Lay them out"))).to_be_focused(timeout=30_000)
    keys = 0

    def key(name: str) -> None:
        nonlocal keys
        keys += 1
        page.keyboard.press(name)

    def now() -> dict[str, Any]:
        return own_program.get(f"/api/sessions/{own_program.get('/api/sessions')['items'][0]['id']}")

    key("Enter")
    expect(page.get_by_label("Lay them out")).to_have_count(0)
    key("2")
    key("d")
    expect(page.get_by_role("button", name=re.compile("^Accept"))).to_be_visible()
    key("d")
    eventually(lambda: any(clip["gain"] for clip in now()["clips"]))
    key("3")
    key("d")
    key("6")
    key("d")
    link = page.get_by_label("Renders").get_by_role("link")
    expect(link).to_be_visible(timeout=60_000)
    assert keys <= MOST_KEYS
    state = now()
    shown = page.locator("[role=tab][aria-selected=true]").inner_text()
    track = next(track for track in state["tracks"] if track["name"] == shown)
    own = [clip for clip in state["clips"] if clip["track"] == track["id"] and clip["after"] is not None]
    assert own
    assert all(abs(clip["after"] - track["target"]) <= state["rule"]["tolerance"] for clip in own)


def test_a_choice_made_with_the_mouse_keeps_no_key_however_soon_it_comes(page: Page, demo_program: Program) -> None:
    """The key is pressed while the click is still being told, as on a page that is busy."""
    open_stage(page, demo_program, fresh(demo_program, GUIDE), "ride")
    page.evaluate("""() => window.addEventListener('click', (event) => {
      if (!event.target.matches('input')) return;
      document.activeElement.dispatchEvent(new KeyboardEvent('keydown', { key: 'Home', bubbles: true }));
      window.hasKeys = document.activeElement.outerHTML.slice(0, 100);
    })""")
    page.locator(".hand").get_by_text("touch", exact=True).click()
    expect(page.get_by_role("radio", name="touch")).to_be_checked()
    assert page.evaluate("window.hasKeys").startswith("<body")
