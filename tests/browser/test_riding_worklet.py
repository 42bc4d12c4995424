"""The hand on the audio thread, sample by sample: a steady sound shows the gain that is heard, and that is what is reported."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from playwright.sync_api import Page

from nivelus.core.gain.drawn import curve_of
from nivelus.core.passes.gesture import gesture_of
from nivelus.core.passes.writing import WriteRule, written
from nivelus.web.pages import STATIC
from tests.browser.hands import unpacked
from tests.helpers.program import Program

RATE = 48_000
DELAY = 63
"""Samples by which the limiter's look-ahead holds the sound back."""
LOUD = 0.1

RUN = """
async ([script, start, count, points, setting, loop, messages]) => {
  const context = new OfflineAudioContext(1, count, 48000);
  await context.audioWorklet.addModule(script);
  const node = new AudioWorkletNode(context, 'nivelus-player', { outputChannelCount: [1] });
  node.connect(context.destination);
  const reports = [];
  node.port.onmessage = ({ data }) => {
    if (data.type === 'ride') reports.push([Array.from(data.pairs.slice(0, 2 * data.count)), data.over]);
  };
  const post = (message) => node.port.postMessage(message);
  const curve = (p) => ({ at: new Float64Array(p.map((x) => x[0])), db: new Float64Array(p.map((x) => x[1])) });
  const seat = (s) => ({ ...s, lane: curve(s.lane), from: s.from ?? -1, to: s.to ?? Number.MAX_VALUE });
  post({ type: 'track', track: 'a', channels: 1, frames: start + 2 * count, blockFrames: 48000 });
  for (let i = Math.floor(start / 48000); i <= Math.floor((start + count) / 48000); i++)
    post({ type: 'block', track: 'a', index: i, data: new Float32Array(48000).fill(0.1) });
  post({ type: 'gain', track: 'a', points: curve(points), held: curve([]) });
  post({ type: 'rider', track: 'a', setting: seat(setting) });
  post({ type: 'play', from: start, to: loop ?? start + 2 * count, loopFrom: loop === null ? null : start });
  const say = (message) => post(message.type === 'rider' ? { ...message, setting: seat(message.setting) } : message);
  for (const { when, ...message } of messages) {
    context.suspend(when).then(async () => {
      say(message);
      await new Promise((done) => setTimeout(done, 40));
      context.resume();
    });
  }
  context.suspend(0).then(() => setTimeout(() => context.resume(), 120));
  const sound = await context.startRendering();
  await new Promise((done) => setTimeout(done, 50));
  return [packed(sound.getChannelData(0)), reports];
}
"""


@pytest.fixture
def page(page: Page, demo_program: Program) -> Page:
    page.goto(demo_program.address)
    return page


def hand(when: float, by: float = 0.0, held: bool = True) -> dict[str, Any]:
    # a suspension lies on a border of a quantum
    return {"type": "hand", "held": held, "by": by, "echo": 0, "when": round(when * RATE / 128) * 128 / RATE}


def ride(
    page: Page,
    messages: list[dict[str, Any]],
    lane: list[list[float]],
    start: float = 0.0,
    seconds: float = 4.0,
    loop: float | None = None,
    **setting: Any,
) -> tuple[np.ndarray, list[tuple[np.ndarray, bool]]]:
    """The gain that is heard, dB a sample from ``start`` on, and what was reported: pairs of seconds and dB, and round ends."""
    (script,) = (path for path in STATIC.glob("assets/worklet*.js"))
    whole = {"offset": False, "latch": False, "armed": True, "glide": 0.3 * RATE, "low": -20, "high": 6} | setting
    points = [[at * RATE, db] for at, db in lane]
    count = round(seconds * RATE)
    end = None if loop is None else round(loop * RATE)
    whole["lane"] = points
    sound, reports = page.evaluate(RUN, [f"/assets/{script.name}", round(start * RATE), count, points, whole, end, messages])
    told = []
    for values, over in reports:
        # numbers that are none arrive as None
        pairs = np.array([np.nan if value is None else value for value in values], np.float64).reshape(-1, 2)
        told.append((pairs / (RATE, 1), over))
    return 20 * np.log10(np.maximum(unpacked(sound)[DELAY:], 1e-9) / LOUD), told


def pairs_of(told: list[tuple[np.ndarray, bool]]) -> np.ndarray:
    return np.vstack([pairs for pairs, _ in told])


LANE = [[0.0, -2.0], [10.0, -2.0], [12.0, -6.0], [4000.0, -6.0]]
GESTURE = [hand(0.5), hand(0.6, -3), hand(1.0, 2), hand(1.3, 5), hand(1.31, 5.5), hand(2.0, held=False)]


@pytest.mark.parametrize("start", [0.0, 60.0, 300.0, 3600.0])
def test_what_is_heard_is_what_is_reported_and_written(page: Page, start: float) -> None:
    """At the start, and 1, 5 and 60 minutes into a file: within 0.01 dB and one sample of what sounded."""
    heard, told = ride(page, GESTURE, LANE, start)
    lane = curve_of([(at, db) for at, db in LANE])
    (run,) = gesture_of(pairs_of(told)).runs
    assert run.start - start == pytest.approx(0.5, abs=0.003)
    assert run.end - start == pytest.approx(2.0, abs=0.003)
    at = start + np.arange(len(heard)) / RATE
    inside = (at > run.start + 0.001) & (at < run.end - 0.001)
    np.testing.assert_allclose(heard[inside], np.interp(at[inside], run.at, run.db), atol=2e-3)
    # and the curve that is kept of it, the way back included
    after = written(lane, gesture_of(pairs_of(told)), WriteRule(error=0.01), 7200.0)
    played = at > start + 0.01
    away = np.abs(heard - after.finite_at(at))
    assert away[played].max() < 0.06
    thinned = written(lane, gesture_of(pairs_of(told)), WriteRule(), 7200.0)
    assert np.abs(heard - thinned.finite_at(at))[played].max() <= 0.3


def test_nothing_jumps_when_it_is_taken_let_go_or_taken_again(page: Page) -> None:
    again = [*GESTURE, hand(2.1), hand(2.4, -8), hand(2.9, held=False)]
    heard, told = ride(page, again, LANE, seconds=4.0)
    # in a millisecond no more than what a hand that jumps by 5 dB is followed with
    assert np.abs(heard[RATE // 10 + 48 :] - heard[RATE // 10 : -48]).max() < 2.5
    first, second = gesture_of(pairs_of(told)).runs
    # it begins from what is heard on the way back, not from the lane
    assert second.db[0] == pytest.approx(np.interp(2.1, [2.0, 2.3], [first.db[-1], -2.0]), abs=0.1)


def test_listening_writes_nothing_and_is_heard(page: Page) -> None:
    heard, told = ride(page, GESTURE, LANE, armed=False)
    assert sum(len(pairs) for pairs, _ in told) == 0
    assert heard[round(1.2 * RATE)] == pytest.approx(0.0, abs=0.02)
    assert heard[round(2.5 * RATE)] == pytest.approx(-2.0, abs=0.01)


HOUR = """
async ([script, lane]) => {
  const rate = 4000, seconds = 3600, round = 10;
  const context = new OfflineAudioContext(1, seconds * rate, rate);
  await context.audioWorklet.addModule(script);
  const node = new AudioWorkletNode(context, 'nivelus-player', { outputChannelCount: [1] });
  node.connect(context.destination);
  let reported = 0, written = 0;
  node.port.onmessage = ({ data }) => {
    if (data.type === 'at') reported++;
    if (data.type === 'ride') written += data.count;
  };
  const post = (message) => node.port.postMessage(message);
  const points = { at: new Float64Array(lane.map((p) => p[0] * rate)), db: new Float64Array(lane.map((p) => p[1])) };
  post({ type: 'track', track: 'a', channels: 1, frames: round * rate, blockFrames: rate });
  for (let i = 0; i < round; i++) post({ type: 'block', track: 'a', index: i, data: new Float32Array(rate).fill(0.1) });
  post({ type: 'gain', track: 'a', points, held: { at: new Float64Array(0), db: new Float64Array(0) } });
  const setting = { offset: false, latch: false, armed: false, glide: 0.3 * rate, low: -20, high: 6, from: -1 };
  post({ type: 'rider', track: 'a', setting: { ...setting, to: Number.MAX_VALUE, lane: points } });
  post({ type: 'play', from: 0, to: round * rate, loopFrom: 0 });
  const turn = () => new Promise((done) => setTimeout(done, 2));
  let moves = 0;
  for (let when = 2; when < seconds; when += 3) {
    context.suspend(Math.round(when * rate / 128) * 128 / rate).then(async () => {
      post({ type: 'hand', held: moves % 4 < 3, by: 8 * Math.sin(moves++), echo: 0 });
      await turn();
      context.resume();
    });
  }
  context.suspend(0).then(() => setTimeout(() => context.resume(), 120));
  const sound = (await context.startRendering()).getChannelData(0);
  await turn();
  let [low, high] = [1, 0];
  for (let i = rate; i < sound.length; i++) { low = Math.min(low, sound[i]); high = Math.max(high, sound[i]); }
  return [moves, reported, written, low, high];
}
"""


def test_an_hour_of_listening_and_moving_leaves_nothing_to_write(page: Page) -> None:
    """The hand is heard all the while, and of nothing that it does anything is reported that could be written."""
    (script,) = (path for path in STATIC.glob("assets/worklet*.js"))
    moves, reported, written, low, high = page.evaluate(HOUR, [f"/assets/{script.name}", [[0, -2], [10, -2]]])
    assert moves > 1000
    assert reported > 1000
    assert written == 0
    assert 20 * np.log10(high / low) > 12


def test_playing_alone_writes_nothing(page: Page) -> None:
    for latch in (False, True):
        heard, told = ride(page, [], LANE, latch=latch)
        assert sum(len(pairs) for pairs, _ in told) == 0
        np.testing.assert_allclose(heard[2000:], -2.0, atol=1e-3)


def test_in_latch_it_stays_until_the_stop(page: Page) -> None:
    stop = {"type": "stop", "when": round(3.0 * RATE / 128) * 128 / RATE}
    heard, told = ride(page, [*GESTURE, stop], LANE, latch=True)
    (run,) = gesture_of(pairs_of(told)).runs
    assert run.end == pytest.approx(3.0, abs=0.01)
    assert run.db[-1] == pytest.approx(3.5, abs=0.01)
    assert heard[round(2.9 * RATE)] == pytest.approx(3.5, abs=0.01)
    assert told[-1][1]


def test_an_offset_lies_over_what_moves_below(page: Page) -> None:
    lane = [[0.0, 0.0], [1.0, 0.0], [2.0, -8.0], [3.0, 0.0]]
    heard, told = ride(page, [hand(0.8), hand(0.9, 3), hand(2.5, held=False)], lane, offset=True)
    at = np.arange(len(heard)) / RATE
    below = np.interp(at, *np.array(lane).T)
    held = (at > 0.95) & (at < 2.49)
    np.testing.assert_allclose((heard - below)[held], 3.0, atol=0.01)
    (run,) = gesture_of(pairs_of(told)).runs
    assert run.db[0] == pytest.approx(0.0, abs=1e-6)
    assert run.db[-1] == pytest.approx(3.0, abs=1e-3)
    np.testing.assert_allclose((heard - below)[at > 2.85], 0.0, atol=0.01)


def test_outside_of_its_span_the_hand_does_nothing(page: Page) -> None:
    heard, told = ride(page, GESTURE, LANE, **{"from": 0.9 * RATE, "to": 1.5 * RATE})
    at = np.arange(len(heard)) / RATE
    outside = ((at < 0.9) | (at > 1.5)) & (at > 0.05)
    np.testing.assert_allclose(heard[outside], -2.0, atol=1e-3)
    assert heard[(at > 1.1) & (at < 1.4)].max() > 0
    lane = curve_of([(a, db) for a, db in LANE])
    after = written(lane, gesture_of(pairs_of(told)), WriteRule(error=0.01, span=(0.9, 1.5)), 100.0)
    assert np.abs(heard - after.finite_at(at))[at > 0.05].max() < 0.1


def test_it_stays_within_its_range(page: Page) -> None:
    heard, told = ride(page, [hand(0.5), hand(0.6, 40), hand(1.5, -90), hand(2.0, held=False)], LANE, low=-12, high=4)
    db = pairs_of(told)[:, 1]
    assert (np.nanmin(db), np.nanmax(db)) == pytest.approx((-12, 4), abs=0.01)
    assert heard[round(1.4 * RATE)] == pytest.approx(4, abs=0.01)


def test_each_round_of_a_loop_is_a_pass_of_its_own(page: Page) -> None:
    """Held over the end of the loop it goes on in the next round; in latch a round begins with what is drawn."""
    moves = [hand(0.5), hand(0.6, 3), hand(1.8, held=False), hand(2.6), hand(2.7, -4), hand(2.8, held=False)]
    _, told = ride(page, moves, LANE, loop=1.0, seconds=3.6)
    rounds: list[list[np.ndarray]] = [[]]
    for pairs, over in told:
        rounds[-1].append(pairs)
        if over:
            rounds.append([])
    # that playing has begun is told as the end of a round as well, of one in which nothing was held
    gestures = [gesture_of(np.vstack(parts)) for parts in rounds if any(len(pairs) for pairs in parts)]
    spans = [gesture.span for gesture in gestures[:3]]
    assert spans[0] == pytest.approx((0.5, 1.0), abs=0.005)
    assert spans[1] == pytest.approx((0.0, 0.8), abs=0.005)
    assert spans[2] == pytest.approx((0.6, 0.8), abs=0.005)
    assert gestures[1].runs[0].db[0] == pytest.approx(1.0, abs=0.01)


def test_a_thousand_moves_a_second_are_followed(page: Page) -> None:
    """As fast as a flooding controller: one move in every quantum and more, none of them breaks what is reported."""
    moves = [hand(0.5)]
    moves += [hand(0.55 + i * 128 / RATE, 5 * np.sin(i / 30)) for i in range(300)]
    heard, told = ride(page, [*moves, hand(1.6, held=False)], LANE, seconds=2.2)
    (run,) = gesture_of(pairs_of(told)).runs
    at = np.arange(len(heard)) / RATE
    inside = (at > run.start + 0.001) & (at < run.end - 0.001)
    np.testing.assert_allclose(heard[inside], np.interp(at[inside], run.at, run.db), atol=5e-3)
    # 10 ms behind the hand at most
    wanted = -2 + 5 * np.sin((at - 0.55) * RATE / 128 / 30)
    clear = (at > 0.7) & (at < 1.3)
    behind = min(np.abs(np.interp(at[clear] - lag, at, wanted) - heard[clear]).max() for lag in np.arange(0, 0.0101, 0.001))
    assert behind < 0.3
