"""The late page: every answer of the program comes up to 0.8 s late, and the hand does not wait for any of them.

At the end the page shows and sounds as one that is loaded anew. The seed of a run that fails is in its name.
"""

from __future__ import annotations

import os
import random
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from tests.browser.hands import eventually, open_stage
from tests.conftest import write_sound
from tests.helpers.program import Program
from tests.helpers.sounds import uneven_voice, wavering

ACTS = 150
SEEDS = [int(seed) for seed in os.environ.get("LATE_SEEDS", "1 2 3").split()]

LATE = """
(() => {
  let state = SEED;
  const random = () => {
    // a generator that is as good as its seed: Park and Miller, Communications of the ACM 31 (1988)
    state = (state * 48271) % 2147483647;
    return state / 2147483647;
  };
  const own = window.fetch;
  window.underWay = 0;
  window.fetch = async (request, ...more) => {
    const isHeld = !/(samples|reduction|wave|hand)/.test(new URL(request.url ?? request, location.href).pathname);
    const late = isHeld ? random() * 800 : 0;
    window.underWay += isHeld;
    try {
      const answer = await own(request, ...more);
      await new Promise((done, fail) => {
        setTimeout(done, late);
        request.signal?.addEventListener('abort', () => fail(request.signal.reason));
      });
      return answer;
    } finally {
      window.underWay -= isHeld;
    }
  };
  window.gains = {};
  window.holds = {};
  const post = MessagePort.prototype.postMessage;
  MessagePort.prototype.postMessage = function (data, ...more) {
    if (data?.type === 'gain') window.gains[data.track] = [Array.from(data.points.at), Array.from(data.points.db)];
    if (data?.type === 'gain') window.holds[data.track] = Array.from(data.held.db);
    if (data?.type === 'hold') window.holds[data.track] = Array.from(data.points.db);
    return post.call(this, data, ...more);
  };
})();
"""
"""An init script: answers come late, by a seed, and what the audio thread is told of gains is noted."""

KEYS = [
    *["ArrowUp", "ArrowDown", "Alt+ArrowUp", "Shift+ArrowDown"] * 3,
    *["l", "u", "Backspace", "Control+z", "Control+Shift+z", "m", "Shift+m", "d", "d", "Escape", "n", "v", "x"],
    *["Control+a", "Control+a", "Control+a", "c", "p", "a"],
    *["2", "2", "3", "3", "4", "4", "1"],
]


@pytest.mark.parametrize("seed", SEEDS)
def test_a_page_whose_answers_are_late_is_the_page_that_is_loaded_anew(
    quiet_page: Page, own_program: Program, tmp_path: Path, seed: int
) -> None:
    page, program, chance = quiet_page, own_program, random.Random(seed)
    files = [write_sound(tmp_path / "low.wav", uneven_voice()), write_sound(tmp_path / "high.wav", wavering())]
    names = ("One", "Other")
    sessions = [prepared(program, files, name) for name in names]
    page.add_init_script(LATE.replace("SEED", str(seed + 1000)))
    open_stage(page, program, sessions[0])
    page.keyboard.press("Space")
    eventually(lambda: page.evaluate("Object.keys(window.gains).length > 0"))
    page.keyboard.press("Space")
    here = 0
    for _ in range(ACTS):
        kind = chance.random()
        if kind < 0.55:
            page.keyboard.press(chance.choice(KEYS))
        elif kind < 0.85:
            click(page, ".worklist .row", chance.randrange(6))
        elif kind < 0.92:
            pull(page, chance)
        elif kind < 0.97:
            click(page, "[role=tab]", chance.randrange(2))
        else:
            here = 1 - here
            page.get_by_role("link", name="Nivelus, all sessions").click()
            page.get_by_role("link", name=names[here], exact=True).first.click()
            page.wait_for_url(f"**/s/{sessions[here]['id']}/**")
        if chance.random() < 0.3:
            page.wait_for_timeout(chance.randrange(120))
    page.keyboard.press("Escape")
    page.keyboard.press("2")
    expect(page.get_by_test_id("chart")).to_be_visible()
    quiet(page)
    shown = looked(page)
    for session in sessions[here : here + 1]:
        now = program.get(f"/api/sessions/{session['id']}")
        sounds_as_it_is(page, program, now)
    page.reload()
    expect(page.get_by_test_id("chart")).to_be_visible()
    quiet(page)
    assert looked(page) == shown


def prepared(program: Program, files: list[Path], name: str) -> dict[str, Any]:
    """A session of two voices, with enough in its history that nobody goes back to before they came in."""
    state = program.all_brought_in(files, name)
    for step in range(12):
        clip = next(clip for clip in state["clips"] if clip["phrase_start"] is not None)
        edit = {"revision": state["revision"], "clips": [clip["id"]], "by": 0.1 * (-1) ** step}
        state = {**state, **program.post(f"/api/tracks/{clip['track']}/gain", edit), "clips": state["clips"]}
    return state


def click(page: Page, what: str, place: int) -> None:
    """Click one of several, if it is there at this moment."""
    page.evaluate("([what, place]) => document.querySelectorAll(what)[place]?.click()", [what, place])


def pull(page: Page, chance: random.Random) -> None:
    """Drag something of the picture up, down or along, wherever the hand falls."""
    strip = f"[data-testid={chance.choice(['chart', 'gain'])}]"
    box = page.evaluate("strip => document.querySelector(strip)?.getBoundingClientRect().toJSON()", strip)
    if not box:
        return
    x, y = box["x"] + chance.uniform(0.1, 0.9) * box["width"], box["y"] + chance.uniform(0.2, 0.8) * box["height"]
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + chance.uniform(-9, 9), y + chance.uniform(-40, 40), steps=3)
    page.mouse.up()


def quiet(page: Page) -> None:
    """Wait until nothing is on its way, and nothing more is asked for."""
    since = time.monotonic()
    until = since + 60
    while time.monotonic() - since < 0.4:
        if not page.evaluate("!document.documentElement.dataset.edits && window.underWay === 0"):
            since = time.monotonic()
        assert since < until, "something is still on its way"
        page.wait_for_timeout(20)


def looked(page: Page) -> dict[str, Any]:
    """What the page says of both tracks: figures, phrases, what can be undone."""
    said: dict[str, Any] = {}
    for tab in range(2):
        page.get_by_role("tab").nth(tab).click()
        quiet(page)
        rows = page.locator(".worklist .row").evaluate_all("rows => rows.map((row) => row.textContent)")
        said[f"rows {tab}"] = rows
        said[f"figures {tab}"] = page.get_by_test_id("figures").inner_text()
    said["undo"] = page.get_by_role("button", name="Undo").first.get_attribute("data-disabled")
    return said


def sounds_as_it_is(page: Page, program: Program, state: dict[str, Any]) -> None:
    """What the audio thread has of each track is what the program has compiled of it, and nothing lies over it."""
    gains, holds = page.evaluate("[window.gains, window.holds]")
    for track in state["tracks"]:
        told = np.frombuffer(program.get_bytes(f"/api/tracks/{track['id']}/gain"), "<f8").reshape(-1, 2)
        at, db = gains[track["id"]]
        np.testing.assert_allclose(at, told[:, 0])
        np.testing.assert_allclose(db, told[:, 1], atol=1e-9)
        assert not any(holds.get(track["id"], []))
