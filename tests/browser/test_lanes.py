"""The lanes of Survey: clips are moved with all that is theirs, takes are chosen phrase by phrase, files land where they are
dropped; by mouse and by keyboard, and heard in what is rendered."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from playwright.sync_api import Locator, Page, expect

from tests.browser.hands import (
    FEATURE,
    REPORTS,
    SONG,
    box_of,
    clip_of,
    drag,
    eventually,
    fresh,
    lane_clip,
    middle,
    only,
    open_stage,
    phrases,
    press,
)
from tests.conftest import RATE, uneven_voice, write_sound
from tests.helpers.answers import every_mark
from tests.helpers.program import Program


def lane(page: Page, track: str) -> Locator:
    return page.get_by_test_id(f"lane-{track}")


def test_a_clip_is_dragged_with_its_dip_and_its_curve(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, SONG)
    track = state["tracks"][0]["id"]
    third = phrases(state)[2]
    base = f"/api/tracks/{track}"
    lift = {"revision": state["revision"], "lane": "curve", "start": third["start"] + 1, "end": third["start"] + 2, "by": 4}
    state = demo_program.post(f"{base}/lanes/lift", lift)
    breath = next(m for m in every_mark(demo_program.session(SONG)) if third["start"] <= m["start"] < third["end"])
    depth = {"revision": state["revision"], "marks": [breath["id"]], "to": -8}
    state = demo_program.post(f"{base}/details/depth", depth)
    before = gain_of(page, demo_program, track)
    open_stage(page, demo_program, state, "survey")
    clip = lane_clip(page, third)
    drag(page, middle(clip), (300, 4), release=False)
    expect(page.locator(".hand-label")).to_contain_text(" s")
    page.mouse.up()
    eventually(lambda: clip_of(demo_program, state, third)["start"] > third["start"] + 5)
    moved = clip_of(demo_program, state, third)
    by = moved["start"] - third["start"]
    after = gain_of(page, demo_program, track)
    at = np.arange(third["start"] + 0.2, third["end"] - 0.2, 0.01)
    assert np.interp((at + by) * RATE, *after) == pytest.approx(np.interp(at * RATE, *before), abs=0.02)
    assert np.interp(at * RATE, *before).max() == pytest.approx(4, abs=0.1)
    now = demo_program.session(SONG)
    assert any(m["depth"] == -8 and m["start"] == pytest.approx(breath["start"] + by, abs=0.01) for m in every_mark(now))
    page.get_by_role("button", name="Undo").click()
    eventually(lambda: clip_of(demo_program, state, third)["start"] == third["start"])


def gain_of(page: Page, program: Program, track: str) -> tuple[np.ndarray, np.ndarray]:
    points = np.frombuffer(page.request.get(f"{program.address}/api/tracks/{track}/gain").body(), "<f8").reshape(-1, 2)
    return points[:, 0], points[:, 1]


def test_all_of_it_is_done_by_keyboard(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state, "survey")
    _, second, third, *_ = phrases(state)

    def now(clip: dict[str, Any]) -> dict[str, Any]:
        return clip_of(demo_program, state, clip)

    lane_clip(page, phrases(state)[0]).focus()
    page.keyboard.press("ArrowRight")
    expect(lane_clip(page, second)).to_be_focused()
    page.keyboard.press("Enter")
    expect(lane_clip(page, second)).to_have_attribute("aria-pressed", "true")
    expect(lane_clip(page, second)).to_have_attribute("aria-label", clip_in_words(second, state))
    page.keyboard.press("ArrowRight")
    eventually(lambda: now(second)["start"] == pytest.approx(second["start"] + 0.1, abs=1e-3))
    page.keyboard.press("Shift+ArrowLeft")
    eventually(lambda: now(second)["start"] == pytest.approx(second["start"] + 0.09, abs=1e-3))
    page.keyboard.press("Home")
    eventually(lambda: now(second)["shift"] == 0)
    for _ in range(3):
        page.keyboard.press("Control+z")
    # what it covered on its way is there again
    eventually(lambda: now(third)["start"] == third["start"])
    # out, and the gap closed; both are steps of their own
    page.keyboard.press("Delete")
    eventually(lambda: second["id"] not in {c["id"] for c in demo_program.session(SONG)["clips"]})
    page.keyboard.press("g")
    eventually(lambda: now(third)["start"] == pytest.approx(second["start"], abs=1e-3))
    page.keyboard.press("Control+z")
    page.keyboard.press("Control+z")
    eventually(lambda: now(third)["start"] == third["start"])
    # on the page as well, or a click would meet what lies there meanwhile
    expect(lane_clip(page, second)).to_be_visible()
    # a copy behind it, and one at the play line behind the end
    press(page, lane_clip(page, third), "Shift+D")
    eventually(lambda: len([c for c in demo_program.session(SONG)["clips"] if c["label"] == third["label"]]) == 2)
    press(page, lane_clip(page, third), "Control+c")
    box = box_of(lane(page, state["tracks"][0]["id"]))
    page.mouse.click(box["x"] + box["width"] - 12, box["y"] + 30)
    page.keyboard.press("Control+v")
    length = state["tracks"][0]["timeline"]["duration"]
    eventually(lambda: demo_program.session(SONG)["tracks"][0]["timeline"]["duration"] > length + 1)
    page.keyboard.press("?")
    for words in ("Play line right; clips by", "Close the gap", "Hear the phrase in the next take", "Drop files on a lane"):
        expect(page.get_by_role("dialog").get_by_text(words)).to_be_visible()


def clip_in_words(clip: dict[str, Any], state: dict[str, Any]) -> Any:
    import re

    number = state["clips"].index(clip) + 1
    return re.compile(rf"Clip {number}, .* gain .*, “{clip['label']}”")


def test_ends_are_trimmed_by_their_foot_and_at_the_play_line(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state, "survey")
    last = phrases(state)[-1]
    box = box_of(lane_clip(page, last))
    drag(page, (box["x"] + box["width"] - 1, box["y"] + box["height"] - 6), (-40, 0))
    eventually(lambda: clip_of(demo_program, state, last)["end"] < last["end"] - 0.5)
    assert demo_program.session(SONG)["undo"].startswith("Trim the end of a phrase")
    press(page, lane_clip(page, last), "[")
    eventually(lambda: clip_of(demo_program, state, last)["start"] > last["start"] + 0.5)


def test_an_exact_time_is_typed_at_the_clip(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, SONG)
    open_stage(page, demo_program, state, "survey")
    last = phrases(state)[-1]
    page.mouse.dblclick(*middle(lane_clip(page, last)))
    page.get_by_label("Begins at").fill("50.25")
    page.keyboard.press("Enter")
    eventually(lambda: clip_of(demo_program, state, last)["start"] == pytest.approx(50.25, abs=1e-3))


def test_a_clip_goes_to_the_lane_it_is_dragged_to(page: Page, demo_program: Program) -> None:
    state = fresh(demo_program, FEATURE)
    narrator, keeper = (track["id"] for track in state["tracks"])
    open_stage(page, demo_program, state, "survey")
    clip = phrases(state, narrator)[0]
    goal = box_of(lane(page, keeper))
    x, y = middle(lane_clip(page, clip))
    drag(page, (x, y), (3, goal["y"] + 40 - y))
    eventually(lambda: clip_of(demo_program, state, clip)["track"] == keeper)
    assert clip_of(demo_program, state, clip)["start"] == pytest.approx(clip["start"], abs=1e-3)
    page.keyboard.press("Control+z")
    eventually(lambda: clip_of(demo_program, state, clip)["track"] == narrator)


DROP = """
([lane, name, bytes, x]) => {
  const target = document.querySelector(`[data-lane="${lane}"]`);
  const box = target.getBoundingClientRect();
  const dataTransfer = new DataTransfer();
  dataTransfer.items.add(new File([new Uint8Array(bytes)], name, { type: 'audio/wav' }));
  const at = { dataTransfer, bubbles: true, cancelable: true, clientX: box.left + x, clientY: box.top + 20 };
  for (const type of ['dragover', 'drop']) target.dispatchEvent(new DragEvent(type, at));
}
"""


def test_a_file_that_is_dropped_on_a_lane_lies_there(page: Page, own_program: Program, tmp_path: Path) -> None:
    state = own_program.brought_in(write_sound(tmp_path / "host.wav", uneven_voice()))
    track = state["tracks"][0]["id"]
    page.goto(f"{own_program.address}/s/{state['id']}/survey")
    expect(lane(page, track)).to_be_visible()
    more = write_sound(tmp_path / "more.wav", uneven_voice((-22.0,), rate=44_100), 44_100)
    box = box_of(lane(page, track))
    page.evaluate(DROP, [track, more.name, list(more.read_bytes()), box["width"] - 4])
    length = state["tracks"][0]["timeline"]["duration"]
    eventually(lambda: only(own_program)["tracks"][0]["timeline"]["duration"] > length + 1)
    now = only(own_program)
    assert len(now["tracks"]) == 1
    assert len(phrases(now)) == len(phrases(state)) + 1


def test_a_track_of_many_pieces_plays_without_a_gap(page: Page, own_program: Program, tmp_path: Path) -> None:
    """Pieces of two recordings of other rates, each a little elsewhere than it was recorded, with silence between them."""
    state = own_program.brought_in(write_sound(tmp_path / "one.wav", uneven_voice((-20.0, -26.0, -23.0, -28.0))))
    other = write_sound(tmp_path / "two.wav", uneven_voice((-22.0, -25.0, -19.0), rate=44_100), 44_100)
    address, track = f"/api/sessions/{state['id']}", state["tracks"][0]["id"]
    own_program.post(f"{address}/uploads?name=two.wav", other.read_bytes())
    eventually(lambda: len(own_program.get(address)["tracks"]) == 2)
    state = own_program.get(address)
    both = {"revision": state["revision"], "tracks": [t["id"] for t in state["tracks"]], "way": "after"}
    state = own_program.post(f"{address}/arrange", both)
    for clip in phrases(own_program.get(address), track)[::2]:
        move = {"revision": state["revision"], "clips": [clip["id"]], "by": 0.123}
        state = own_program.post(f"/api/tracks/{track}/move", move)
    page.add_init_script(REPORTS)
    page.goto(own_program.address)
    page.locator(".card").get_by_role("link").click()
    page.keyboard.press("1")
    expect(lane(page, track)).to_be_visible()
    page.keyboard.press("Space")
    expect(page.get_by_role("button", name="Play")).to_be_visible(timeout=30_000)
    starved = page.evaluate("window.starved")
    assert len(starved) > 100
    assert not any(starved)
