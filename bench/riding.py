"""Riding by hand in a real browser: python -m bench.riding [--minutes 0.5] [--file 12] [--rates 60 1000]

A MIDI controller that an init script puts into the browser moves the hand without a rest, 60 times a second and then a thousand
times: 6 dB up and down in six seconds, with a tremble. Told are: from the controller's byte to the ear by the audio clock, less
what the device takes by itself; when the sound had to wait; what the page holds more afterwards; how long keeping takes, and
how many points are left. And how long it takes to make a curve of ten minutes of it, and to thin that.
"""

from __future__ import annotations

import argparse
import tempfile
from pathlib import Path

import numpy as np
from playwright.sync_api import CDPSession, Page
from tests.browser.hands import MIDI, REPORTS
from tests.browser.riding import open_menu
from tests.helpers.program import Program

from bench.beside import Pace, line, seconds
from bench.chromium import VIEW, chromium
from bench.speed import make_recording
from nivelus.core.deliver.warm import warm_kernels
from nivelus.core.gain.drawn import EMPTY
from nivelus.core.passes.gesture import Gesture, Run, reduced
from nivelus.core.passes.writing import WriteRule, written

QUANTUM = 128 / 48_000
CONTEXT = """
(() => {
  const Own = window.AudioContext;
  window.AudioContext = class extends Own {
    constructor(...given) { super(...given); window.audio = this; }
  };
})();
"""
ECHOES = """
(() => {
  window.echoes = [];
  const sent = new Map();
  let count = 0;
  const post = MessagePort.prototype.postMessage;
  MessagePort.prototype.postMessage = function (message, ...rest) {
    if (message?.type === 'hand' && window.asks) {
      message.echo = ++count;
      sent.set(count, window.asks);
    }
    return post.call(this, message, ...rest);
  };
  const own = Object.getOwnPropertyDescriptor(MessagePort.prototype, 'onmessage');
  Object.defineProperty(MessagePort.prototype, 'onmessage', {
    ...own,
    set(listener) {
      own.set.call(this, (event) => {
        const at = sent.get(event.data?.echo);
        if (at) {
          const { contextTime, performanceTime } = window.audio.getOutputTimestamp();
          // when the first sample that holds it leaves the device, and how long the device takes by itself
          const heard = performanceTime + (event.data.time - contextTime) * 1000;
          const own = (window.audio.baseLatency + window.audio.outputLatency) * 1000;
          window.echoes.push([heard - at, own, performance.now() - at]);
        }
        return listener.call(this, event);
      });
    },
  });
})();
"""
MOVE = """
([seconds, rate, asks]) => new Promise((done) => {
  const began = performance.now();
  let sent = 0;
  window.midi('one', 0x90, 104, 127);
  const timer = setInterval(() => {
    const now = performance.now();
    const due = Math.floor(((now - began) / 1000) * rate);
    for (; sent < due; sent++) {
      const share = 0.6 + (3 * Math.sin(sent / rate) + 0.3 * Math.sin(sent / rate / 0.24)) / 26;
      const value = Math.round(share * 16383);
      if (asks) window.asks = performance.now();
      window.midi('one', 0xb0, 7, value >> 7);
      window.midi('one', 0xb0, 39, value & 127);
    }
    if (now - began < seconds * 1000) return;
    clearInterval(timer);
    window.asks = 0;
    window.midi('one', 0x90, 104, 0);
    done(sent);
  }, 1000 / Math.min(rate, 250));
})
"""


def heap(page: CDPSession) -> float:
    """What the page holds, MB, after a collection."""
    page.send("HeapProfiler.collectGarbage")
    return float(page.send("Runtime.getHeapUsage")["usedSize"]) / 1e6


def ride(page: Page, state: dict, program: Program, minutes: float, rate: int, pace: Pace) -> None:
    """Ride for some minutes, keep what was written, and tell how that went."""
    watch = page.context.new_cdp_session(page)
    before = heap(watch)
    page.evaluate("window.starved.length = 0; window.echoes.length = 0")
    page.keyboard.press("h")
    page.keyboard.press("Space")
    page.wait_for_timeout(1500)
    moves = page.evaluate(MOVE, [minutes * 60, rate, True])
    page.keyboard.press("Space")
    page.get_by_test_id("pass").get_by_text("points, which may stray by").wait_for(timeout=60_000)
    name = f"{rate} moves a second for {minutes * 60:.0f} s"
    starved, echoes = page.evaluate("[window.starved, window.echoes]")
    line(f"{name}: reports in which the sound waited", f"{sum(starved)} of {len(starved)}", "none", not any(starved))
    ear, own, back = np.array(echoes).T
    slow = float(np.percentile(ear - own, 95))
    words = f"{np.median(ear - own):.1f} ms, {slow:.1f} ms at 95 %"
    line("  from the controller to the ear, beyond the device's own", words, "at most 25 ms at 95 %", slow < 25)
    print(
        f"       ({len(echoes)} of {moves} moves; the device {np.median(own):.1f} ms; there and back {np.median(back):.1f} ms)"
    )
    more = heap(watch) - before
    line("  the page holds more", f"{more:.1f} MB", "at most 60 MB", more < 60)
    track = state["tracks"][0]["id"]
    waiting = program.get(f"/api/tracks/{track}/passes")["items"][0]
    how = {name: waiting[name] for name in ("glide", "lead", "error", "snap")}
    points = len(program.post(f"/api/passes/{waiting['id']}/draft", how)["points"])
    line("  points at 0.25 dB", str(points), "at most 600 in ten minutes", points < max(60 * minutes, 60))
    revision = program.get(f"/api/sessions/{state['id']}")["revision"]
    pace.since()
    took = seconds(lambda: program.post(f"/api/passes/{waiting['id']}/keep", {"revision": revision}))
    pace.line("  keeping it", took, 0.3)


def core(pace: Pace) -> None:
    """What ten minutes of constant movement cost in the core, its loops loaded as they are once the program has started."""
    warm_kernels()
    at = np.arange(0.02, 600, QUANTUM)
    db = -4 + 3 * np.sin(at) + 0.3 * np.sin(at / 0.24)
    whole = Gesture((Run(at, db),))
    pace.since()
    took = seconds(lambda: reduced(whole))
    gesture = reduced(whole)
    words = f"{took * 1000:.0f} ms, {len(gesture.runs[0].at)} moments"
    pace.line("ten minutes reported 375 times a second, put away", took, 0.3, words)
    took = seconds(lambda: written(EMPTY, gesture, WriteRule(), 700.0))
    words = f"{took * 1000:.0f} ms, {len(written(EMPTY, gesture, WriteRule(), 700.0))} points"
    pace.line("  as a curve, thinned to 0.25 dB", took, 0.05, words)


def main() -> None:
    """Build a session of one long file, ride it at each rate."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=float, default=0.5)
    parser.add_argument("--file", type=int, default=12)
    parser.add_argument("--rates", type=int, nargs="+", default=[60, 1000])
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        program = Program(folder / "data", "--no-demo")
        try:
            path = folder / "voice.wav"
            make_recording(path, options.file)
            pace = Pace(path)
            core(pace)
            state = program.brought_in(path)
            with chromium() as browser:
                for rate in options.rates:
                    page = browser.new_page(viewport=VIEW)
                    page.add_init_script(MIDI)
                    for script in (CONTEXT, REPORTS, ECHOES):
                        page.add_init_script(script)
                    page.add_init_script(f"localStorage.setItem('nivelus.hand', JSON.stringify({BOUND}))")
                    page.goto(f"{program.address}/s/{state['id']}/ride")
                    page.get_by_test_id("hand").wait_for()
                    open_menu(page)
                    page.get_by_role("menuitem", name="Listen to MIDI controllers").click()
                    page.keyboard.press("Escape")
                    page.wait_for_timeout(3000)
                    ride(page, state, program, options.minutes, rate, pace)
                    page.close()
        finally:
            program.stop()


BOUND = "{device: null, channel: null, control: 7, touch: 104}"

if __name__ == "__main__":
    main()
