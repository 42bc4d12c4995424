"""Recordings of people from Debian packages, and uneven programmes put together from them while tests run.

Sources and licences, as the packages' copyright files have them: prompts in English and Russian,
``asterisk-core-sounds-en-g722`` (CC-BY-SA-3.0) and ``asterisk-core-sounds-ru-g722`` (CC-BY-3.0); sentences of an audio book,
``pocketsphinx-testdata`` (BSD-2-clause). ``make test`` installs them; nothing of them is kept here.
"""

from __future__ import annotations

import subprocess
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np
import scipy.signal

from tests.conftest import Sound

RATE = 16_000
"""Rate in Hz that all of them have."""
PROMPTS = {
    "en": Path("/usr/share/asterisk/sounds/en_US_f_Allison"),
    "ru": Path("/usr/share/asterisk/sounds/ru_RU_f_IvrvoiceRU"),
}
BOOK = Path("/usr/share/pocketsphinx/test/data/librivox")
NO_SPEECH = ("silence", "beep", "tone", "music", "monkeys")
AUDIBLE = 40.0
"""dB under its loudest 10 ms down to which a prompt is audible."""


@dataclass(frozen=True)
class Said:
    """A prompt in a programme: seconds, how many dB it was moved by, and which it is."""

    start: float
    end: float
    offset: float
    name: str


@lru_cache(maxsize=256)
def prompt(path: Path) -> Sound:
    """A prompt from its first to its last audible sample, at -26 dBFS RMS; decoded by ffmpeg."""
    command = ["ffmpeg", "-v", "error", "-f", "g722", "-i", str(path), "-f", "f32le", "-"]
    samples = np.frombuffer(subprocess.run(command, capture_output=True, check=True).stdout, np.float32).astype(np.float64)
    height = np.sqrt(np.convolve(samples**2, np.ones(RATE // 100) / (RATE // 100), "same"))
    audible = np.flatnonzero(height > height.max() * 10 ** (-AUDIBLE / 20))
    samples = samples[audible[0] : audible[-1] + 1]
    return np.asarray(samples * 10 ** (-26 / 20) / np.sqrt(np.mean(samples**2)))


def prompts(language: str, count: int, seed: int, shortest: float = 0.35, longest: float = 4.0) -> list[Path]:
    """Some prompts of a language, in an order by chance."""
    files = sorted(PROMPTS[language].rglob("*.g722"))
    assert files, f"The recordings of {PROMPTS[language]} are not there: make .build/tools installs them."
    random = np.random.default_rng(seed)
    chosen = []
    for index in random.permutation(len(files)):
        path = files[index]
        # one of the Russian files is empty
        if not path.stat().st_size or any(word in str(path) for word in NO_SPEECH):
            continue
        if shortest < len(prompt(path)) / RATE < longest:
            chosen.append(path)
        if len(chosen) == count:
            break
    return chosen


def programme(
    language: str,
    count: int,
    seed: int,
    pauses: tuple[float, float],
    room: float,
    uneven: float = 10.0,
    rate: int = 48_000,
) -> tuple[Sound, list[Said]]:
    """Prompts one after the other, each moved by up to ``uneven`` dB, with ``pauses`` from ... to between them, in a room."""
    random = np.random.default_rng(seed)
    parts, said, at = [np.zeros(RATE)], [], RATE
    for path in prompts(language, count, seed):
        sound = prompt(path)
        offset = float(random.uniform(-uneven, uneven))
        said.append(Said(at / RATE, (at + len(sound)) / RATE, offset, path.stem))
        pause = np.zeros(round(random.uniform(*pauses) * RATE))
        parts += [sound * 10 ** (offset / 20), pause]
        at += len(sound) + len(pause)
    voice = np.concatenate([*parts, np.zeros(RATE)])
    voice = voice + random.standard_normal(len(voice)) * 10 ** (room / 20)
    return (voice if rate == RATE else scipy.signal.resample_poly(voice, rate // 1000, RATE // 1000)), said
