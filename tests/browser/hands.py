"""What a person's hands do in the picture, for tests."""

from __future__ import annotations

import base64
import re
import time
from collections.abc import Callable
from typing import Any

import numpy as np
from playwright.sync_api import FloatRect, Locator, Page, expect

from tests.helpers.program import Program

SONG, GUIDE, FEATURE = "Corvane shore, sung", "Pellowmere audio guide", "Sallow Mill feature"
GUTTER = 46
"""Pixels on the left of the picture that hold its scales."""
PATIENCE_SECONDS = 20.0
"""How long is waited for what must come to be; a machine that does much else at once may be many times slower than usual."""
REPORTS = """
(() => {
  window.starved = [];
  const own = Object.getOwnPropertyDescriptor(MessagePort.prototype, 'onmessage');
  Object.defineProperty(MessagePort.prototype, 'onmessage', {
    ...own,
    set(listener) {
      own.set.call(this, (event) => {
        if (event.data?.type === 'at' && event.data.playing && event.data.position > 24000)
          window.starved.push(event.data.starving);
        return listener.call(this, event);
      });
    },
  });
})();
"""
"""An init script: has the page note, in ``window.starved``, whether the sound had to wait for anything once it played."""

HOLDING = """
(() => {
  const own = window.fetch;
  window.fetch = async (request, ...more) => {
    const answer = await own(request, ...more);
    const isAsked = window.holdsQuestions || (request.method ?? 'GET') !== 'GET';
    const { pathname } = new URL(request.url ?? request, location);
    if (window.holds && isAsked && pathname.endsWith(window.holds)) {
      window.holds = null;
      window.heldAnswer = await answer.clone().json().catch(() => ({}));
      window.isHolding = true;
      const signal = request.signal ?? more[0]?.signal;
      await new Promise((done, fail) => {
        window.letGo = () => { window.isHolding = false; done(); };
        signal?.addEventListener('abort', () => fail(signal.reason));
      });
    }
    return answer;
  };
})();
"""
"""An init script for ``HeldAnswer``. (A browser that is asked to hold requests back lets some pass at first.)"""

ANSWERED = "() => window.isHolding || !document.documentElement.dataset.edits"
"""Whether all that was done in a page has been answered, but for what is held back."""

PACKED = """
window.packed = (samples) => {
  const bytes = new Uint8Array(samples.buffer, samples.byteOffset, samples.byteLength);
  let text = '';
  for (let i = 0; i < bytes.length; i += 32768) text += String.fromCharCode(...bytes.subarray(i, i + 32768));
  return btoa(text);
};
"""
"""An init script: samples of a Float32Array as text, for ``unpacked``. (A list of a million numbers takes half a minute.)"""

MIDI = """
(() => {
  const ports = new Map();
  const access = { inputs: ports, onstatechange: null };
  window.plug = (id, name) => {
    const port = { id, name, type: 'input', state: 'connected', onmidimessage: null };
    ports.set(id, port);
    access.onstatechange?.({ port });
  };
  window.unplug = (id) => {
    const port = ports.get(id);
    ports.delete(id);
    access.onstatechange?.({ port: { ...port, state: 'disconnected' } });
  };
  window.midi = (id, ...bytes) => ports.get(id)?.onmidimessage?.({ data: new Uint8Array(bytes) });
  navigator.requestMIDIAccess = async () => {
    if (window.refuses) throw new DOMException('no', 'SecurityError');
    return access;
  };
  window.plug('one', 'Bench faders');
})();
"""
"""A browser with MIDI devices that are plugged in, pulled out and played by script; one is there from the start."""


def fresh(program: Program, name: str, until: str | None = None) -> dict[str, Any]:
    """A session as it was built: everything that other tests did to it is undone, and what they rendered is gone.

    What was brought in by hand is kept: ``until`` is the step that is not undone.
    """
    state = program.session(name)
    for job in program.get(f"/api/sessions/{state['id']}/jobs")["items"]:
        program.delete(f"/api/jobs/{job['id']}")
    while state["undo"] not in (None, until):
        program.post(f"/api/sessions/{state['id']}/undo", {"revision": state["revision"]})
        state = program.session(name)
    return state


class HeldAnswer:
    """The answer to an edit, or to a question, that the page does not get before it is let go."""

    def __init__(self, page: Page, address: str, act: Callable[[], object], question: bool = False) -> None:
        """Do something that edits, or asks, at an address that ends like this."""
        self.page = page
        page.evaluate(
            "([end, asks]) => { window.holds = end; window.holdsQuestions = asks; window.heldAnswer = null; }",
            [address, question],
        )
        act()
        for _ in range(250):
            answer: dict[str, Any] | None = page.evaluate("window.heldAnswer")
            if answer is not None:
                self.answer = answer
                return
            page.wait_for_timeout(20)
        focus = page.evaluate("document.activeElement.outerHTML.slice(0, 200)")
        raise AssertionError(f"Nothing was sent to {address}. The keys go to {focus}")

    def let_go(self) -> None:
        self.page.evaluate("window.letGo()")


def unpacked(text: str) -> np.ndarray:
    """The samples that a page has packed, as float64."""
    return np.frombuffer(base64.b64decode(text), "<f4").astype(np.float64)


def eventually(check: Callable[..., object], *given: Any) -> None:
    """Wait until something holds at the server, which an edit reaches a moment after the hand."""
    until = time.monotonic() + PATIENCE_SECONDS
    while time.monotonic() < until:
        if check(*given):
            return
        time.sleep(0.05)
    assert check(*given)


def render_link(page: Page) -> Locator:
    """Render what is chosen in Sign off; the link to the file, once that is whole."""
    with page.expect_response(lambda answer: re.search(r"/(render|mix)$", answer.url) is not None) as asked:
        page.get_by_role("button", name=re.compile("^Render")).click()
    link = page.locator(f"a[href*='{asked.value.json()['id']}']")
    expect(link).to_be_visible(timeout=60_000)
    return link


def open_stage(page: Page, program: Program, state: dict[str, Any], stage: str = "phrases") -> None:
    page.goto(f"{program.address}/s/{state['id']}/{stage}")
    expect(page.get_by_test_id("lanes" if stage == "survey" else "chart")).to_be_visible()
    expect(page.get_by_test_id("figures")).to_contain_text("target" if stage == "balance" else "spread")


def open_whole(page: Page, program: Program, name: str, stage: str) -> dict[str, Any]:
    """A session of the demo as it comes, open at a stage, all of it in the window."""
    state = fresh(program, name)
    open_stage(page, program, state, stage)
    expect(page.locator(".row").first).to_be_visible()
    page.keyboard.press("Shift+F")
    return state


def note(page: Page) -> Locator:
    """What the rule of a stage says of its draft."""
    return page.get_by_label("Rule", exact=True).get_by_role("status").first


def capsule(page: Page, clip: dict[str, Any]) -> Locator:
    return page.locator(f".capsule[data-clip='{clip['id']}']")


def row(page: Page, clip: dict[str, Any]) -> Locator:
    return page.locator(f".row[data-clip='{clip['id']}']")


def box_of(target: Locator) -> FloatRect:
    """Where something lies on the screen."""
    box = target.bounding_box()
    assert box is not None
    return box


def middle(target: Locator) -> tuple[float, float]:
    box = box_of(target)
    return box["x"] + box["width"] / 2, box["y"] + box["height"] / 2


def drag(page: Page, start: tuple[float, float], by: tuple[float, float], *, release: bool = True) -> None:
    page.mouse.move(*start)
    page.mouse.down()
    for share in (0.15, 0.5, 1.0):
        page.mouse.move(start[0] + by[0] * share, start[1] + by[1] * share)
    if release:
        page.mouse.up()


def gain_told(target: Locator) -> float:
    """The gain that a phrase's label tells a screen reader."""
    label = (target.get_attribute("aria-label") or "").replace("−", "-")
    found = re.search(r"gain ([+-]?\d+\.\d) dB", label)
    assert found, label
    return float(found[1])


def clip_of(program: Program, state: dict[str, Any], clip: dict[str, Any]) -> dict[str, Any]:
    """The clip as the server has it now."""
    now = program.get(f"/api/sessions/{state['id']}")
    return next(c for c in now["clips"] if c["id"] == clip["id"])


def position(page: Page) -> float:
    minutes, seconds = page.get_by_label("Position").input_value().split(":")
    return int(minutes) * 60 + float(seconds)


def wait_past(page: Page, seconds: float) -> float:
    """Wait until playback has gone past a moment, however slowly the machine begins; where it is then."""
    for _ in range(500):
        at = position(page)
        if at > seconds:
            return at
        page.wait_for_timeout(50)
    raise AssertionError(f"playback stands at {at}")


def play_on(page: Page, seconds: float) -> float:
    """Let it play for so long, by its own clock; where it is then."""
    return wait_past(page, position(page) + seconds)


def place(page: Page, state: dict[str, Any], seconds: float, strip: str) -> tuple[float, float]:
    """Where a moment lies on the screen, in the middle of a strip of the whole recording."""
    box = box_of(page.get_by_test_id(strip))
    duration = state["tracks"][0]["timeline"]["duration"]
    return box["x"] + GUTTER + (box["width"] - GUTTER) * seconds / duration, box["y"] + box["height"] / 2


def gain_height(page: Page, db: float) -> float:
    """The height of a gain in the strip of the stage Ride: the working range of -20 to 6 dB and a dB around it."""
    box = box_of(page.get_by_test_id("gain"))
    return box["y"] + 4 + (box["height"] - 8) * (7 - db) / 28


def ride_of(program: Program, state: dict[str, Any]) -> dict[str, Any]:
    """The lanes as the server has them now."""
    return program.get(f"/api/tracks/{state['tracks'][0]['id']}/lanes")


def phrases(state: dict[str, Any], track: str | None = None) -> list[dict[str, Any]]:
    """The clips of a track that hold a phrase; of the first track if none is named."""
    own = track or state["tracks"][0]["id"]
    return [clip for clip in state["clips"] if clip["track"] == own and clip["phrase_start"] is not None]


def lane_clip(page: Page, clip: dict[str, Any]) -> Locator:
    return page.locator(f".lane-clip[data-clip='{clip['id']}']")


def only(program: Program) -> dict[str, Any]:
    (card,) = program.get("/api/sessions")["items"]
    return program.get(f"/api/sessions/{card['id']}")


def press(page: Page, target: Locator, *keys: str) -> None:
    """Select a clip by a click in its middle, and press keys."""
    page.mouse.click(*middle(target))
    for key in keys:
        page.keyboard.press(key)
