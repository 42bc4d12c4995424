"""Recordings of people from Debian packages, and uneven programmes put together from them while tests run.

Sources and licences, as the packages' copyright files have them: prompts in English and Russian,
``asterisk-core-sounds-en-g722`` (CC-BY-SA-3.0) and ``asterisk-core-sounds-ru-g722`` (CC-BY-3.0); sentences of an audio book,
``pocketsphinx-testdata`` (BSD-2-clause). ``make test`` installs them; nothing of them is kept here.
"""

from __future__ import annotations

import subprocess
import tempfile
from collections.abc import Sequence
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
AT_ONCE = 40
"""How many files ffmpeg decodes in one run."""
AUDIBLE = 40.0
"""dB under its loudest 10 ms down to which a prompt is audible."""


@dataclass(frozen=True)
class Said:
    """A prompt in a programme: seconds, how many dB it was moved by, and which it is."""

    start: float
    end: float
    offset: float
    name: str


_decoded: dict[Path, Sound] = {}


def decode(paths: Sequence[Path]) -> list[Sound]:
    """Recordings in G.722 as samples; decoded by ffmpeg, those that are new in one run: to start it takes longest."""
    new = [path for path in paths if path not in _decoded]
    for at in range(0, len(new), AT_ONCE):
        some = new[at : at + AT_ONCE]
        with tempfile.TemporaryDirectory() as folder:
            outs = [Path(folder) / f"{number}.f32" for number in range(len(some))]
            inputs = [word for path in some for word in ("-f", "g722", "-i", str(path))]
            mapped = [word for number, out in enumerate(outs) for word in ("-map", f"{number}:a", "-f", "f32le", str(out))]
            subprocess.run(["ffmpeg", "-v", "error", *inputs, *mapped], check=True)
            for path, out in zip(some, outs, strict=True):
                _decoded[path] = np.fromfile(out, np.float32).astype(np.float64)
    return [_decoded[path] for path in paths]


@lru_cache(maxsize=512)
def prompt(path: Path) -> Sound:
    """A prompt from its first to its last audible sample, at -26 dBFS RMS."""
    (samples,) = decode([path])
    height = np.sqrt(np.convolve(samples**2, np.ones(RATE // 100) / (RATE // 100), "same"))
    audible = np.flatnonzero(height > height.max() * 10 ** (-AUDIBLE / 20))
    samples = samples[audible[0] : audible[-1] + 1]
    return np.asarray(samples * 10 ** (-26 / 20) / np.sqrt(np.mean(samples**2)))


def prompts(language: str, count: int, seed: int, shortest: float = 0.35, longest: float = 4.0) -> list[Path]:
    """Some prompts of a language, in an order by chance."""
    files = sorted(PROMPTS[language].rglob("*.g722"))
    assert files, f"The recordings of {PROMPTS[language]} are not there: make .build/tools installs them."
    random = np.random.default_rng(seed)
    mixed = [files[index] for index in random.permutation(len(files))]
    # one of the Russian files is empty
    spoken = [path for path in mixed if path.stat().st_size and not any(word in str(path) for word in NO_SPEECH)]
    chosen: list[Path] = []
    for number, path in enumerate(spoken):
        if number % AT_ONCE == 0:
            decode(spoken[number : number + AT_ONCE])
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
