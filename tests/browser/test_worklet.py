"""Playback listened to sample by sample: the worklet, run through OfflineAudioContext, against the render."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page

from nivelus.core.gain.compiled import GainCurve, apply_gain
from nivelus.web.pages import STATIC
from tests.browser.hands import GUIDE, fresh, unpacked
from tests.conftest import write_sound
from tests.helpers.program import Program

RATE = 48_000
DELAY = 63
"""Samples by which the limiter's look-ahead holds the sound back."""

RUN = """
async ([script, tracks, start, count, messages]) => {
  const channels = Math.max(...tracks.map((track) => track.channels));
  const context = new OfflineAudioContext(channels, count, 48000);
  await context.audioWorklet.addModule(script);
  const node = new AudioWorkletNode(context, 'nivelus-player', { outputChannelCount: [channels] });
  node.connect(context.destination);
  const post = (message) => node.port.postMessage(message);
  const curve = (p) => ({ at: new Float64Array(p.map((x) => x[0])), db: new Float64Array(p.map((x) => x[1])) });
  const bytes = async (address) => new Float32Array(await (await fetch(address)).arrayBuffer());
  for (const { id: track, key, channels, frames, points, load, late } of tracks) {
    post({ type: 'track', track, channels, frames, blockFrames: 48000 });
    for (let index = Math.floor(start / 48000); !late && index <= Math.floor((start + count) / 48000); index++) {
      const stretch = `key=${key}&start=${index * 48000}&count=48000&rate=48000`;
      post({ type: 'block', track, index, data: await bytes(`/api/tracks/${track}/samples?${stretch}`) });
      if (!load) continue;
      const pairs = await bytes(`/api/tracks/${track}/reduction?${stretch}`);
      post({ type: 'load', track, index, load: { first: index * 750, pairs } });
    }
    post({ type: 'gain', track, points: curve(points), held: curve([]) });
  }
  for (const message of messages.filter((m) => m.when === undefined)) post(message);
  post({ type: 'play', from: start, to: Math.max(...tracks.map((track) => track.frames)), loopFrom: null });
  for (const { when, ...message } of messages.filter((m) => m.when !== undefined)) {
    context.suspend(when).then(async () => {
      post(message.points ? { ...message, points: curve(message.points), held: curve(message.held ?? []) } : message);
      await new Promise((done) => setTimeout(done, 60));
      context.resume();
    });
  }
  // rendering waits until all of this has arrived on the audio thread
  context.suspend(0).then(() => setTimeout(() => context.resume(), 150));
  const sound = await context.startRendering();
  return Array.from({ length: channels }, (_, c) => packed(sound.getChannelData(c)));
}
"""


@pytest.fixture
def guide(page: Page, demo_program: Program) -> dict[str, Any]:
    state = fresh(demo_program, GUIDE)
    page.goto(demo_program.address)
    return state


def heard_track(track: dict, points: list, load: bool = False) -> dict:
    """A track as the worklet is told of it, at 48 kHz, with a gain in samples of that."""
    timeline = track["timeline"]
    frames = -(-timeline["frames"] * RATE // timeline["sample_rate"])
    return {
        "id": track["id"],
        "key": timeline["key"],
        "channels": timeline["channels"],
        "frames": frames,
        "points": points,
        "load": load,
    }


def play(page: Page, tracks: list[dict], start: int, count: int, messages: list | None = None) -> np.ndarray:
    """What comes out of the worklet, (n, channels)."""
    (script,) = (path for path in STATIC.glob("assets/worklet*.js"))
    told = page.evaluate(RUN, [f"/assets/{script.name}", tracks, start, count, messages or []])
    return np.column_stack([unpacked(channel) for channel in told])


def listen(page: Page, state: dict, points: list, start: int, count: int, messages: list | None = None) -> np.ndarray:
    """What is heard of the first track alone; messages are for it."""
    track = state["tracks"][0]
    own = [{"track": track["id"], **message} for message in messages or []]
    return play(page, [heard_track(track, points)], start, count, own)[:, 0]


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
    heard = listen(page, guide, [[0, -6.0]], start, count, [{"type": "set", "what": "after", "value": 0, "when": 1.0}])
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
    quiet = listen(page, guide, [[0, 0.0]], start, count, [{"type": "set", "what": "fader", "value": -10.0}])
    np.testing.assert_allclose(quiet[DELAY + 240 :], played[240 : count - DELAY] * 10 ** (-10 / 20), atol=2e-7)
    loud = listen(page, guide, [[0, 18.0]], start, count, [{"type": "set", "what": "fader", "value": 12.0}])
    assert np.abs(played * 10 ** (30 / 20)).max() > 2.0
    assert np.abs(loud).max() <= 10 ** (-1 / 20) + 1e-6
    assert np.abs(loud).max() > 0.8


def test_a_missing_block_is_silence_not_noise(page: Page, guide: dict) -> None:
    sounds = page.evaluate(
        """async (script) => {
          const context = new OfflineAudioContext(1, 48000, 48000);
          await context.audioWorklet.addModule(script);
          const node = new AudioWorkletNode(context, 'nivelus-player', { outputChannelCount: [1] });
          node.connect(context.destination);
          node.port.postMessage({ type: 'track', track: 'a', channels: 1, frames: 96000, blockFrames: 48000 });
          node.port.postMessage({ type: 'play', from: 0, to: 96000, loopFrom: null });
          return (await context.startRendering()).getChannelData(0).some((sample) => sample !== 0);
        }""",
        f"/assets/{next(STATIC.glob('assets/worklet*.js')).name}",
    )
    assert sounds is False


# --- several tracks


@pytest.fixture
def desk(page: Page, tmp_path: Path, demo_program: Program) -> dict[str, Any]:
    """A session of three tracks: a voice, one of another rate, and a stereo bed."""
    page.goto(demo_program.address)
    t = np.arange(6 * RATE) / RATE
    voice = 0.2 * np.sin(2 * np.pi * 210 * t) * (np.sin(2 * np.pi * 0.8 * t) > 0)
    other = 0.15 * np.sin(2 * np.pi * 330 * np.arange(5 * 44_100) / 44_100)
    bed = 0.1 * np.random.default_rng(3).standard_normal((5 * RATE, 2))
    sounds = {"voice": (voice, RATE), "other": (other, 44_100), "bed": (bed, RATE)}
    paths = [write_sound(tmp_path / f"{name}.wav", sound, rate) for name, (sound, rate) in sounds.items()]
    known = any(card["name"] == "Desk" for card in demo_program.get("/api/sessions")["items"])
    return fresh(demo_program, "Desk", "Import bed.wav") if known else demo_program.all_brought_in(paths, "Desk")


def rendered_mix(program: Program, state: dict, **asked: Any) -> np.ndarray:
    job = program.post(f"/api/sessions/{state['id']}/mix", {"format": "wav", "bits": 32, **asked})
    done = program.finished(state["id"], job["id"])
    assert done["state"] == "done", done
    return soundfile.read(io.BytesIO(program.get_bytes(f"/api/jobs/{job['id']}/file")), dtype="float64", always_2d=True)[0]


def change(program: Program, state: dict, name: str, **values: Any) -> dict:
    track = next(one for one in state["tracks"] if one["name"] == name)
    revision = program.get(f"/api/sessions/{state['id']}")["revision"]
    return program.patch(f"/api/tracks/{track['id']}", {"revision": revision, **values})


def test_the_mix_that_is_heard_is_the_mix_that_is_rendered(page: Page, demo_program: Program, desk: dict) -> None:
    """Moving gains, faders, another rate, stereo beside mono, a muted track."""
    for name, values in {"voice": {"fader": -3.0}, "other": {"fader": 2.0}, "bed": {"fader": -6.0}}.items():
        state = change(demo_program, desk, name, **values)
    by_name = {track["name"]: track for track in state["tracks"]}
    lift = {"lane": "ride", "start": 1.0, "end": 2.0, "by": 5.0}
    for name in ("voice", "bed"):
        state = demo_program.post(f"/api/tracks/{by_name[name]['id']}/lanes/lift", {"revision": state["revision"], **lift})

    def as_heard(state: dict) -> tuple[list[dict], list[dict]]:
        tracks, messages = [], []
        soloed = any(track["solo"] for track in state["tracks"])
        for track in state["tracks"]:
            gain = np.frombuffer(demo_program.get_bytes(f"/api/tracks/{track['id']}/gain"), np.float64).reshape(-1, 2).copy()
            gain[:, 0] *= RATE / track["timeline"]["sample_rate"]
            tracks.append(heard_track(track, gain.tolist()))
            sounds = not track["mute"] and (track["solo"] or not soloed)
            messages.append({"type": "set", "track": track["id"], "what": "fader", "value": track["fader"]})
            messages.append({"type": "set", "track": track["id"], "what": "heard", "value": int(sounds)})
        return tracks, messages

    ways: tuple[tuple[str, dict[str, Any]], ...] = (("", {}), ("other", {"mute": True}), ("bed", {"solo": True}))
    for name, way in ways:
        if name:
            state = change(demo_program, state, name, **way)
        tracks, messages = as_heard(state)
        heard = play(page, tracks, 0, 6 * RATE, messages)
        mix = rendered_mix(demo_program, state)
        count = min(len(mix), len(heard) - DELAY)
        assert mix.shape[1] == 2 or not any(t["channels"] == 2 for t in tracks)
        np.testing.assert_allclose(
            heard[DELAY + 240 : count - 240 + DELAY], np.broadcast_to(mix, (len(mix), 2))[240 : count - 240], atol=1e-6
        )


def test_through_the_compressor_what_is_heard_is_what_is_rendered(page: Page, demo_program: Program, desk: dict) -> None:
    state = change(demo_program, desk, "voice", solo=True)
    voice = state["tracks"][0]
    assert voice["kind"] == "voice"
    state = demo_program.post(
        f"/api/tracks/{voice['id']}/load", {"revision": state["revision"], "threshold": -30.0, "makeup": 3.0}
    )
    messages = [{"type": "set", "track": voice["id"], "what": "load", "value": 1}]
    heard = play(page, [heard_track(voice, [[0, 0.0]], load=True)], 0, 5 * RATE, messages)[:, 0]
    mix = rendered_mix(demo_program, state, compressed=True)[:, 0]
    np.testing.assert_allclose(heard[DELAY + 240 : 5 * RATE - 240], mix[240 : 5 * RATE - 240 - DELAY], atol=1e-6)
    plain = rendered_mix(demo_program, state)[:, 0]
    assert np.abs(mix - plain).max() > 0.01


def test_mute_and_solo_do_not_click(page: Page, demo_program: Program, desk: dict) -> None:
    """No step over that of a 5 ms ramp: of a steady tone the amplitude never changes faster than that."""
    other = desk["tracks"][1]
    tracks = [heard_track(other, [[0, 0.0]])]
    messages = [
        {"type": "set", "track": other["id"], "what": "heard", "value": 0, "when": 1.0},
        {"type": "set", "track": other["id"], "what": "heard", "value": 1, "when": 2.0},
    ]
    heard = play(page, tracks, 0, 3 * RATE, messages)[:, 0]
    steepest = 2 * np.pi * 330 / RATE * 0.15 + 0.15 / 240
    assert np.abs(np.diff(heard[300:])).max() <= steepest * 1.01
    assert not heard[int(1.1 * RATE) : int(1.9 * RATE)].any()
    assert np.abs(heard[int(2.2 * RATE) :]).max() == pytest.approx(0.15, rel=1e-3)


def test_all_wait_for_a_track_that_has_no_sound_yet(page: Page, demo_program: Program, desk: dict) -> None:
    voice, other = (heard_track(track, [[0, 0.0]]) for track in desk["tracks"][:2])
    late = {**other, "late": True}
    heard = play(page, [voice, late], 0, RATE)
    assert not heard.any()
    # unless it is muted
    mute = [{"type": "set", "track": late["id"], "what": "heard", "value": 0}]
    assert play(page, [voice, late], 0, RATE, mute).any()
