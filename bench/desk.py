"""Sixteen tracks in a real browser: python -m bench.desk [--minutes 60] [--play 30]

A session of sixteen tracks of an hour - 44.1, 48 and 96 kHz, mono and stereo, all of them moving in gain - is opened and
played for so many seconds. Told are the first picture, from the key to the sound, how often the sound had to wait, and what
the page holds for it.

The first picture may take 1.2 s, and 1.5 s for sixteen tracks; how fast the machine is is asked before and after each.
"""

from __future__ import annotations

import argparse
import statistics
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile
from playwright.sync_api import Browser, Page
from tests.browser.hands import REPORTS
from tests.helpers.program import Program

from bench.beside import Pace, line
from bench.chromium import VIEW, chromium
from bench.speed import RATE, make_recording

BEGUN = """
(() => {
  window.began = null;
  addEventListener('keydown', (event) => { if (event.key === ' ') window.pressed = performance.now(); }, true);
  const own = Object.getOwnPropertyDescriptor(MessagePort.prototype, 'onmessage');
  Object.defineProperty(MessagePort.prototype, 'onmessage', {
    ...own,
    set(listener) {
      own.set.call(this, (event) => {
        const said = event.data;
        if (said?.type === 'at' && said.playing && !said.starving && said.position > 0) window.began ??= performance.now();
        return listener.call(this, event);
      });
    },
  });
})();
"""


def make_files(folder: Path, minutes: int) -> list[Path]:
    """Four recordings of other rates and channels."""
    first = folder / "one.wav"
    make_recording(first, minutes)
    paths = [first]
    minute = soundfile.read(first, frames=60 * RATE, dtype="float32")[0]
    for name, rate, channels in (("two", 44_100, 1), ("three", RATE, 2), ("four", 96_000, 1)):
        # played faster or slower: what it sounds like does not matter here
        with soundfile.SoundFile(folder / f"{name}.wav", "w", rate, channels, subtype="PCM_24") as file:
            for _ in range(minutes * rate // RATE + 1):
                file.write(np.repeat(minute[:, None], channels, axis=1))
        paths.append(folder / f"{name}.wav")
    return paths


def first_picture(page: Page, program: Program, state: dict) -> float:
    """Seconds from the address of a session to its first capsule."""
    begun = time.perf_counter()
    page.goto(f"{program.address}/s/{state['id']}/phrases")
    page.locator(".capsule").first.wait_for()
    return time.perf_counter() - begun


def pictures(browser: Browser, program: Program, name: str, state: dict, most: float, pace: Pace) -> None:
    """Open a session a few times, and tell how long that takes."""
    took, hours = [], [pace.hour()]
    for _ in range(5):
        page = browser.new_page(viewport=VIEW)
        took.append(first_picture(page, program, state))
        page.wait_for_timeout(2500)
        page.close()
        hours.append(pace.hour())
    words = f"{statistics.median(took):.2f} s, {max(took):.2f} at most"
    pace.line(f"first picture of {name}", statistics.median(took), most, words, statistics.mean(hours))


def play(page: Page, program: Program, state: dict, seconds: float) -> None:
    """Open the session, play it, and tell how that went."""
    for script in (REPORTS, BEGUN):
        page.add_init_script(script)
    first_picture(page, program, state)
    # whoever listens has touched the page before: until then a browser lets nothing get ready for sound
    page.locator(".worklist h2").click()
    page.wait_for_timeout(5000)
    page.keyboard.press("Space")
    page.wait_for_timeout(1500)
    waited = page.evaluate("window.began - window.pressed")
    line("from the key to the sound", f"{waited:.0f} ms", "at most 300 ms", waited < 300)
    page.wait_for_timeout(seconds * 1000)
    starved = page.evaluate("window.starved")
    line(f"reports in {seconds:.0f} s in which the sound waited", f"{sum(starved)} of {len(starved)}", "none", not any(starved))
    blocks = sum(track["timeline"]["channels"] for track in state["tracks"]) * 11 * RATE * 4 / 1e6
    line("held for the sound", f"{blocks:.0f} MB", "at most 60 MB", blocks < 60)


def main() -> None:
    """Build the session, play it."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=int, default=60)
    parser.add_argument("--play", type=float, default=30)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        program = Program(folder / "data", "--no-demo")
        try:
            files = make_files(folder, options.minutes)
            alone = program.all_brought_in(files[:1], "Alone")
            state = program.all_brought_in(files * 4, "Desk")
            for track in state["tracks"]:
                lift = {"lane": "ride", "start": 2.0, "end": 20.0, "by": -3.0}
                state = program.post(f"/api/tracks/{track['id']}/lanes/lift", {"revision": state["revision"], **lift})
            with chromium() as browser:
                pace = Pace(files[0])
                pictures(browser, program, "an hour", alone, 1.2, pace)
                pictures(browser, program, "sixteen tracks", state, 1.5, pace)
                play(browser.new_page(viewport=VIEW), program, state, options.play)
        finally:
            program.stop()


if __name__ == "__main__":
    main()
