"""Playback listened to sample by sample: the worklet, run through OfflineAudioContext, against the render."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page

from nivelus.core.gain.compiled import GainCurve, apply_gain
from nivelus.web.pages import STATIC
from tests.browser.hands import fresh
from tests.helpers.program import Program

RATE = 48_000
DELAY = 63
"""Samples by which the limiter's look-ahead holds the sound back."""

RUN = """
async ([script, track, points, start, count, messages]) => {
  const context = new OfflineAudioContext(1, count, 48000);
  await context.audioWorklet.addModule(script);
  const node = new AudioWorkletNode(context, 'nivelus-player', { outputChannelCount: [1] });
  node.connect(context.destination);
  const post = (message) => node.port.postMessage(message);
  post({ type: 'format', channels: 1, frames: track.timeline.frames, blockFrames: 48000 });
  for (let i = Math.floor(start / 48000); i <= Math.floor((start + count) / 48000); i++) {
    const answer = await fetch(`/api/tracks/${track.id}/samples?key=${track.timeline.key}&start=${i * 48000}&count=48000`);
    post({ type: 'block', index: i, data: new Float32Array(await answer.arrayBuffer()) });
  }
  const curve = (p) => ({ at: new Float64Array(p.map((x) => x[0])), db: new Float64Array(p.map((x) => x[1])) });
  post({ type: 'gain', points: curve(points) });
  for (const message of messages.filter((m) => m.when === undefined)) post(message);
  post({ type: 'play', from: start, to: track.timeline.frames, loopFrom: null });
  for (const { when, ...message } of messages.filter((m) => m.when !== undefined)) {
    context.suspend(when).then(async () => {
      post(message.points ? { ...message, points: curve(message.points) } : message);
      await new Promise((done) => setTimeout(done, 60));
      context.resume();
    });
  }
  // rendering waits until all of this has arrived on the audio thread
  context.suspend(0).then(() => setTimeout(() => context.resume(), 150));
  const sound = await context.startRendering();
  return Array.from(sound.getChannelData(0));
}
"""


@pytest.fixture
def guide(page: Page, demo_program: Program) -> dict[str, Any]:
    state = fresh(demo_program, "Pellowmere audio guide")
    page.goto(demo_program.address)
    return state


def listen(page: Page, state: dict, points: list, start: int, count: int, messages: list | None = None) -> np.ndarray:
    (script,) = (path for path in STATIC.glob("assets/worklet*.js"))
    track = state["tracks"][0]
    return np.array(page.evaluate(RUN, [f"/assets/{script.name}", track, points, start, count, messages or []]))


def source(program: Program, state: dict) -> np.ndarray:
    frames = state["tracks"][0]["timeline"]["frames"]
    (path,) = (p for p in Path(program.data).glob("vault/*/*/source.wav") if soundfile.info(p).frames == frames)
    return soundfile.read(path, dtype="float32")[0]


def test_without_gain_the_very_samples_are_heard(page: Page, demo_program: Program, guide: dict) -> None:
    start, count = 3 * RATE, 4 * RATE
    heard = listen(page, guide, [[0, 0]], start, count)
    played = source(demo_program, guide)[start : start + count]
    # after the 5 ms of fade at the start nothing is touched, while nothing passes the limiter
    assert (heard[DELAY + 240 :] == played[240 : count - DELAY]).all()


def test_what_is_heard_is_what_is_rendered(page: Page, demo_program: Program, guide: dict) -> None:
    start, count = 10 * RATE, 6 * RATE
    points = [[0, -2.0], [11 * RATE, -2.0], [11 * RATE + 1200, -9.5], [14 * RATE, -9.5], [14 * RATE + 240, -3.0]]
    heard = listen(page, guide, points, start, count)
    curve = GainCurve(*np.array(points).T)
    rendered = apply_gain(source(demo_program, guide)[start : start + count, None].astype(np.float64), curve, start)[:, 0]
    np.testing.assert_allclose(heard[DELAY + 240 :], rendered[240 : count - DELAY], atol=2e-7)


def test_before_and_after_switch_without_a_gap_or_a_click(page: Page, demo_program: Program, guide: dict) -> None:
    start, count = 12 * RATE, 3 * RATE
    heard = listen(page, guide, [[0, -6.0]], start, count, [{"type": "switch", "after": False, "when": 1.0}])
    played = source(demo_program, guide)[start : start + count].astype(np.float64)
    loud = np.abs(played[: count - DELAY]) > 1e-3
    ratio = heard[DELAY:][loud] / played[: count - DELAY][loud]
    at = np.flatnonzero(loud)
    assert ratio[(at > 300) & (at < 0.95 * RATE)] == pytest.approx(10 ** (-6 / 20), rel=1e-4)
    assert ratio[at > 1.2 * RATE] == pytest.approx(1.0, rel=1e-6)
    # on the way the gain only ever rises, and takes its 5 ms
    way = ratio[(at > 0.95 * RATE) & (at < 1.2 * RATE)]
    assert (np.diff(way) > -1e-4).all()
    assert ((way > 0.51) & (way < 0.99)).sum() > 20


def test_an_edit_while_playing_is_reached_within_the_declick_time(page: Page, demo_program: Program, guide: dict) -> None:
    start, count = 12 * RATE, 3 * RATE
    edit = {"type": "gain", "points": [[0, -12.0]], "when": 1.0}
    heard = listen(page, guide, [[0, 0.0]], start, count, [edit])
    played = source(demo_program, guide)[start : start + count].astype(np.float64)
    at = np.flatnonzero(np.abs(played[: count - DELAY]) > 1e-3)
    at = at[at > 300]
    ratio = heard[at + DELAY] / played[at]
    assert ratio[(at > 300) & (at < 0.95 * RATE)] == pytest.approx(1.0)
    assert ratio[at > 1.1 * RATE] == pytest.approx(10 ** (-12 / 20), rel=1e-4)
    steps = np.abs(np.diff(20 * np.log10(ratio))) / np.diff(at)
    assert steps.max() <= 12.0 / 240 * 1.2


def test_the_hand_is_heard_at_once_and_hands_over_without_a_step(page: Page, demo_program: Program, guide: dict) -> None:
    """While a phrase is dragged its clip sounds with the movement; when the compiled gain comes, nothing jumps."""
    start, count = 12 * RATE, 3 * RATE
    end = 14.5 * RATE
    line = [[12.0 * RATE, 0.0], [12.0 * RATE, -6.0], [end, -6.0], [end, 0.0]]
    hold = {"type": "hold", "points": line, "when": 0.5}
    there = {"type": "gain", "points": [[0, -6.0], [end, -6.0], [end + 240, 0.0]], "when": 1.5}
    heard = listen(page, guide, [[0, 0.0]], start, count, [hold, there])
    played = source(demo_program, guide)[start : start + count].astype(np.float64)
    at = np.flatnonzero(np.abs(played[: count - DELAY]) > 1e-3)
    at = at[at > 300]
    ratio = 20 * np.log10(heard[at + DELAY] / played[at])
    assert ratio[at < 0.49 * RATE] == pytest.approx(0.0, abs=1e-4)
    # from half a second on, through the hand-over at one and a half, it is 6 dB down and stays there
    assert ratio[(at > 0.6 * RATE) & (at < 2.49 * RATE)] == pytest.approx(-6.0, abs=2e-3)
    assert ratio[at > 2.52 * RATE] == pytest.approx(0.0, abs=1e-3)


def test_the_fader_is_added_and_the_limiter_guards_the_ears(page: Page, demo_program: Program, guide: dict) -> None:
    start, count = 12 * RATE, 2 * RATE
    played = source(demo_program, guide)[start : start + count].astype(np.float64)
    quiet = listen(page, guide, [[0, 0.0]], start, count, [{"type": "fader", "db": -10.0}])
    np.testing.assert_allclose(quiet[DELAY + 240 :], played[240 : count - DELAY] * 10 ** (-10 / 20), atol=2e-7)
    loud = listen(page, guide, [[0, 18.0]], start, count, [{"type": "fader", "db": 12.0}])
    assert np.abs(played * 10 ** (30 / 20)).max() > 2.0
    assert np.abs(loud).max() <= 10 ** (-1 / 20) + 1e-6
    assert np.abs(loud).max() > 0.8


def test_a_missing_block_is_silence_not_noise(page: Page, guide: dict) -> None:
    heard = page.evaluate(
        """async (script) => {
          const context = new OfflineAudioContext(1, 48000, 48000);
          await context.audioWorklet.addModule(script);
          const node = new AudioWorkletNode(context, 'nivelus-player', { outputChannelCount: [1] });
          node.connect(context.destination);
          node.port.postMessage({ type: 'format', channels: 1, frames: 96000, blockFrames: 48000 });
          node.port.postMessage({ type: 'play', from: 0, to: 96000, loopFrom: null });
          return Array.from((await context.startRendering()).getChannelData(0));
        }""",
        f"/assets/{next(STATIC.glob('assets/worklet*.js')).name}",
    )
    assert not np.any(heard)
