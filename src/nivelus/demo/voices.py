"""Laying voice lines on a timeline: room tone, breaths, distance, harsh esses and thumps, all from a fixed seed."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from nivelus.core.sound.reader import SoundReader
from nivelus.demo.scenario import SONG_TAKES, Line, Scene, Sung

FOLDER = Path(__file__).parent / "voices"
RATE = 48_000
Sound = npt.NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Words:
    """What is said from ``start`` to ``end`` (seconds)."""

    start: float
    end: float
    text: str


def speak(scene: Scene) -> tuple[Sound, list[Words]]:
    """A scene of lines one after the other, and what is said where."""
    turns = [(line, scene.name) for line in scene.lines]
    tracks, words = speak_turns(turns, {scene.name: (scene.room, scene.seed)})
    return tracks[scene.name], words[scene.name]


def speak_turns(
    turns: list[tuple[Line, str]], rooms: dict[str, tuple[float, int]]
) -> tuple[dict[str, Sound], dict[str, list[Words]]]:
    """Speakers who take turns on one timeline, each in a room of their own (RMS dBFS, seed); a track for each."""
    texts = {entry["id"]: entry["text"] for entry in _json("lines.json")}
    random = np.random.default_rng(sum(seed for _, seed in rooms.values()))
    placed: list[tuple[str, float, Sound, Words]] = []
    at = 0.4
    for line, speaker in turns:
        voice = _treated(_load(f"{line.voice}.flac"), line)
        start = at + line.pause
        placed.append((speaker, start, voice, Words(start, start + len(voice) / RATE, texts[line.voice])))
        breath = _breath(0.25 + 0.15 * random.random(), random) * _amplitude(-46.0 + 0.4 * line.lift)
        placed.append((speaker, start - len(breath) / RATE - 0.06, breath, Words(0, 0, "")))
        at = start + len(voice) / RATE
    length = round((at + 1.2) * RATE)
    tracks = {name: _room(length, level, np.random.default_rng(seed)) for name, (level, seed) in rooms.items()}
    words: dict[str, list[Words]] = {name: [] for name in rooms}
    for speaker, start, sound, said in placed:
        first = round(start * RATE)
        tracks[speaker][first : first + len(sound)] += sound
        if said.text:
            words[speaker].append(said)
    return tracks, words


def sing(take: Sung = SONG_TAKES[0]) -> tuple[Sound, list[Words]]:
    """A take of the song: a verse and a refrain that lie far apart, with its breaths."""
    sung, notes = _load("sung_pellowmere.flac"), _json("sung_pellowmere.json")
    random = np.random.default_rng(take.seed)
    # one gain for each line, changing in the middle of the pause between two
    middles = [(left["end"] + right["start"]) / 2 for left, right in zip(notes["phrases"], notes["phrases"][1:], strict=False)]
    at = np.repeat(middles, 2) + np.tile([-0.02, 0.02], len(middles))
    gain = np.interp(np.arange(len(sung)) / RATE, at, np.repeat(take.lifts, 2)[1:-1])
    out = sung * 10 ** ((gain - 9.0) / 20) + _room(len(sung), take.room, random)
    for span in notes["breaths"]:
        breath = _breath(span["end"] - span["start"], random) * _amplitude(-45.0)
        first = round(span["start"] * RATE)
        out[first : first + len(breath)] += breath
    lead = _room(round(take.late * RATE), take.room, random) if take.late else np.zeros(0)
    words = [Words(p["start"] + take.late, p["end"] + take.late, p["text"]) for p in notes["phrases"]]
    return np.concatenate([lead, out]), words


def _treated(voice: Sound, line: Line) -> Sound:
    if line.harsh:
        voice = _harsh(voice)
    if line.distance:
        # turning away from the microphone loses the treble before it loses the rest
        voice = _shelf_down(voice, 5.0 * line.distance)
    voice = _soft(voice * _amplitude(line.lift - 4.0))
    if line.knock:
        start = int(np.argmax(np.abs(voice) > 0.02 * np.abs(voice).max()))
        t = np.arange(round(0.05 * RATE)) / RATE
        thump = 0.9 * np.abs(voice).max() * np.sin(2 * np.pi * 70 * t) * np.exp(-t / 0.014)
        voice = voice.copy()
        voice[start : start + len(thump)] += thump
    return voice


def _soft(voice: Sound) -> Sound:
    """Bend what passes -6 dBFS, so that a loud line does not clip: the knee of a console that is driven."""
    over = np.abs(voice) > 0.5
    return np.where(over, np.sign(voice) * (0.5 + 0.45 * np.tanh((np.abs(voice) - 0.5) / 0.45)), voice)


def _harsh(voice: Sound) -> Sound:
    """Lift what lies above 5 kHz by 8 dB where it stands out already."""
    length = _quick(len(voice))
    spectrum = np.fft.rfft(voice, length)
    spectrum[: round(5000 * length / RATE)] = 0
    high = np.fft.irfft(spectrum, length)[: len(voice)]
    window = round(0.012 * RATE)
    kernel = np.hanning(window) / np.hanning(window).sum()
    strength = np.sqrt(np.convolve(high**2, kernel, "same"))
    rest = np.sqrt(np.convolve((voice - high) ** 2, kernel, "same")) + 1e-5
    amount = np.clip(strength / rest - 0.5, 0, 1)
    return voice + 1.5 * np.convolve(amount, kernel, "same") * high


def _shelf_down(voice: Sound, db: float) -> Sound:
    length = _quick(len(voice))
    frequency = np.fft.rfftfreq(length, 1 / RATE)
    share = frequency**2 / (frequency**2 + 2500.0**2)
    return np.asarray(np.fft.irfft(np.fft.rfft(voice, length) * 10 ** (-db * share / 20), length)[: len(voice)])


def _quick(length: int) -> int:
    """A length that the transform is quick at, a little longer: what lies behind it is silence."""
    return -(-length // (1 << 13)) * (1 << 13)


def _breath(seconds: float, random: np.random.Generator) -> Sound:
    """An intake of air, RMS about 1: noise through a few broad resonances, swelling and breaking off."""
    length = round(seconds * RATE)
    frequency = np.fft.rfftfreq(length, 1 / RATE)
    shape = sum(np.exp(-(((frequency - f) / w) ** 2)) for f, w in ((1100, 350), (2300, 600), (4200, 1200)))
    noise = np.fft.irfft(np.fft.rfft(random.standard_normal(length)) * shape, length)
    t = np.linspace(0, 1, length)
    swell = np.sin(np.pi * t**0.7) ** 1.5
    return np.asarray(noise * swell / np.sqrt(np.mean(noise**2)))


def _room(length: int, level: float, random: np.random.Generator) -> Sound:
    """Room tone at ``level`` dBFS RMS: noise that falls with frequency."""
    # a length that the transform is quick at; the rest is cut off
    long = -(-length // (1 << 17)) * (1 << 17)
    frequency = np.fft.rfftfreq(long, 1 / RATE)
    noise = np.fft.irfft(np.fft.rfft(random.standard_normal(long)) / (1 + frequency / 400.0), long)
    return np.asarray(noise[:length] * _amplitude(level) / np.sqrt(np.mean(noise**2)))


def _load(name: str) -> Sound:
    with SoundReader(FOLDER / name) as reader:
        return np.concatenate(list(reader.blocks()))[:, 0].astype(np.float64)


def _json(name: str) -> Any:
    return json.loads((FOLDER / name).read_text(encoding="utf-8"))


def _amplitude(db: float) -> float:
    return float(10 ** (db / 20))
