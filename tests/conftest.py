"""What every test may use: made-up voices, sound files of any kind, and a workbench on an empty data folder."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import numpy.typing as npt
import pytest
import soundfile

from nivelus.services import sessions, work
from nivelus.services.imports import run_import, stage_file
from nivelus.services.workbench import Workbench
from nivelus.settings import Settings

CORPUS = Path(__file__).parent / "corpus"
RATE = 48_000
Sound = npt.NDArray[np.float64]


def sine(level: float, seconds: float, rate: int = RATE, frequency: float = 1000.0) -> Sound:
    """A sine whose peak is ``level`` dBFS, (n,)."""
    t = np.arange(round(seconds * rate)) / rate
    return 10 ** (level / 20) * np.sin(2 * np.pi * frequency * t)


def hum(level: float, seconds: float, rate: int = RATE, seed: int = 0) -> Sound:
    """Something voiced, RMS ``level`` dBFS: harmonics of 140 Hz that swell in syllables, with a soft edge, (n,)."""
    random = np.random.default_rng(seed)
    t = np.arange(round(seconds * rate)) / rate
    sound = sum(np.sin(2 * np.pi * 140 * k * t + random.uniform(0, 6)) / k for k in range(1, 12))
    sound = np.asarray(sound) * (1 + 0.35 * np.sin(2 * np.pi * 4.2 * t))
    edge = np.minimum(1, np.minimum(t, t[::-1]) / 0.02)
    return sound * edge * 10 ** (level / 20) / np.sqrt(np.mean(sound**2))


def room(level: float, seconds: float, rate: int = RATE, seed: int = 1) -> Sound:
    """Room tone, RMS ``level`` dBFS: white noise, (n,)."""
    noise = np.random.default_rng(seed).standard_normal(round(seconds * rate))
    return noise * 10 ** (level / 20)


def uneven_voice(levels: tuple[float, ...] = (-30.0, -16.0, -24.0, -38.0), rate: int = RATE, tone: float = -66.0) -> Sound:
    """A voice of one-second phrases at these levels, 0.7 s apart, in a room, (n,)."""
    parts = [np.zeros(round(0.7 * rate))]
    for number, level in enumerate(levels):
        parts += [hum(level, 1.0, rate, seed=number), np.zeros(round(0.7 * rate))]
    voice = np.concatenate(parts)
    return voice + room(tone, len(voice) / rate, rate)[: len(voice)]


def write_sound(path: Path, samples: Sound, rate: int = RATE, subtype: str = "PCM_24", format: str | None = None) -> Path:
    """Write samples with libsndfile, an encoder that is not ours."""
    soundfile.write(str(path), samples, rate, subtype=subtype, format=format)
    return path


@pytest.fixture
def settings(tmp_path: Path) -> Settings:
    return Settings(data=tmp_path / "data")


@pytest.fixture
def bench(settings: Settings) -> Iterator[Workbench]:
    workbench = Workbench(settings)
    yield workbench
    workbench.close()


def bring_in(bench: Workbench, session_id: str, path: Path) -> str:
    """Import a file as the interface would, without the queue; the id of its track."""
    job = stage_file(bench, session_id, path)
    run_import(bench, job.id)
    done = work.view_job(work.get(bench, job.id))
    assert done.state == "done", done.message
    assert done.track is not None
    return done.track


@pytest.fixture
def voice_file(tmp_path: Path) -> Path:
    """Four phrases, far from level, as a 24-bit WAV."""
    return write_sound(tmp_path / "uneven voice.wav", uneven_voice())


@pytest.fixture
def track(bench: Workbench, voice_file: Path) -> str:
    """A track of four uneven phrases in a session of its own."""
    return bring_in(bench, sessions.create(bench, "Uneven"), voice_file)
