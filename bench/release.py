"""From the hand to the new figures, in a real browser: python -m bench.release [--minutes 60]

In a session of an hour a phrase is nudged by key in every stage that nudges. Told are, from the key to the answer, when what is
heard and when the figures are there, and how many questions the server was asked: four at most, see ``docs/how-it-works.md``.
"""

from __future__ import annotations

import argparse
import re
import statistics
import tempfile
from pathlib import Path
from typing import Any

from playwright.sync_api import Page
from tests.helpers.program import Program

from bench.beside import Pace, line
from bench.chromium import VIEW, chromium
from bench.speed import make_recording

HEARD, FIGURES = 0.25, 0.5
"""Seconds at most where ffmpeg goes through an hour in ``beside.HOUR`` seconds."""
MOST = 4
ROUNDS = 7
STAGES = {"phrases": "ArrowUp", "details": "ArrowDown", "ride": "ArrowDown"}

WATCH = """
(() => {
  window.pressed = 0;
  window.asked = [];
  addEventListener('keydown', (event) => { if (event.key.startsWith('Arrow')) window.pressed = performance.now(); }, true);
  new PerformanceObserver((list) => {
    for (const { name, startTime, responseEnd } of list.getEntries())
      if (name.includes('/api/')) window.asked.push({ name, began: startTime, ended: responseEnd });
  }).observe({ type: 'resource' });
})();
"""
LEFT_OUT = re.compile(r"/(jobs|samples|wave/.*|reduction|events)(\?|$)")


def nudged(page: Page, key: str) -> list[dict[str, Any]]:
    """What an edit by a key was asked of the server, each with when it was answered, seconds from the key."""
    page.wait_for_timeout(1500)
    page.evaluate("window.asked = []")
    page.keyboard.press(key)
    page.wait_for_timeout(2500)
    pressed, asked = page.evaluate("[window.pressed, window.asked]")
    mine = [one for one in asked if one["began"] >= pressed and not LEFT_OUT.search(one["name"])]
    return [{**one, "after": (one["ended"] - pressed) / 1000} for one in mine]


def measure(page: Page, pace: Pace, program: Program, session: str) -> None:
    """Nudge in each stage, and print a line for what is waited for."""
    for stage, key in STAGES.items():
        page.goto(f"{program.address}/s/{session}/{stage}")
        page.locator(".worklist .row").first.wait_for()
        page.keyboard.press(".")
        hours, counts = [pace.hour()], []
        times: dict[str, list[float]] = {"heard": [], "figures": []}
        for _ in range(ROUNDS):
            asked = nudged(page, key)
            hours.append(pace.hour())
            counts.append(len(asked))
            for name, own in times.items():
                own += [one["after"] for one in asked if f"/{name}" in one["name"]]
        for name, most in (("heard", HEARD), ("figures", FIGURES)):
            if times[name]:
                took = statistics.median(times[name])
                pace.line(f"{stage}: from the key to {name}", took, most, hour=statistics.median(hours))
        line(f"{stage}: questions for an edit", f"{max(counts)}", f"at most {MOST}", 0 < max(counts) <= MOST)


def main() -> None:
    """Build the session, nudge, print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=int, default=60)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "hour.wav"
        make_recording(path, options.minutes)
        program = Program(Path(name) / "data", "--no-demo")
        try:
            pace = Pace(path)
            state = program.brought_in(path)
            track, revision = state["tracks"][0]["id"], state["revision"]
            for kind in ("breath", "gap"):
                rule = {"kind": kind, "rule": {"on": True}, "revision": revision}
                revision = program.post(f"/api/tracks/{track}/details/rule", rule)["revision"]
            program.post(f"/api/tracks/{track}/ride/draft/accept", {"revision": revision})
            with chromium() as browser:
                page = browser.new_page(viewport=VIEW)
                page.add_init_script(WATCH)
                measure(page, pace, program, state["id"])
        finally:
            program.stop()


if __name__ == "__main__":
    main()
