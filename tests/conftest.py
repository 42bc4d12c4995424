"""What every test may use: made-up voices, sound files of any kind, and a workbench on an empty data folder."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import hypothesis
import numpy as np
import numpy.typing as npt
import pytest
import soundfile

from nivelus.services.files.imports import run_import, stage_file
from nivelus.services.sessions import jobs, sessions
from nivelus.services.track.workbench import Workbench
from nivelus.settings import Settings

# how long an example takes says something of the machine, not of the program; and whether a change is good does not hang on
# what is drawn today. ``pytest --hypothesis-profile=search`` looks for more
hypothesis.settings.register_profile("nivelus", deadline=None, derandomize=True)
hypothesis.settings.register_profile("search", deadline=None)
hypothesis.settings.load_profile("nivelus")


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--attack", default=1, type=int, help="How many times as many attacks are made as usual.")


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """Name the tests that passed only when they were run again, which CI does once (``.ci/run``)."""
    failed = {report.nodeid for name in ("failed", "error") for report in terminalreporter.stats.get(name, [])}
    rerun = {report.nodeid: report for report in terminalreporter.stats.get("rerun", [])}
    for name in sorted(rerun.keys() - failed):
        why = [line for line in rerun[name].longreprtext.splitlines() if line.startswith("E ")]
        terminalreporter.write_line(f"UNSTEADY: {name}: {why[0][1:].strip() if why else '?'}")


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


def hiss(level: float, seconds: float, low: float, high: float, rate: int = RATE, seed: int = 5) -> Sound:
    """Noise between two frequencies, RMS ``level`` dBFS, with soft ends, (n,)."""
    count = round(seconds * rate)
    spectrum = np.fft.rfft(np.random.default_rng(seed).standard_normal(count))
    frequency = np.fft.rfftfreq(count, 1 / rate)
    noise = np.fft.irfft(spectrum * ((frequency >= low) & (frequency < high)), count)
    t = np.arange(count) / rate
    noise *= np.minimum(1, np.minimum(t, t[::-1]) / 0.01)
    return noise * 10 ** (level / 20) / np.sqrt(np.mean(noise**2))


BREATHS = ((0.5, 0.85), (2.55, 2.9), (4.6, 4.95))
ESSES = ((1.4, 1.5), (3.45, 3.55), (3.9, 4.0), (5.5, 5.6))
HARSH = 3
"""Which of ESSES sticks out, by 9 dB."""
KNOCK = (5.15, 5.2)


def thump(rate: int = RATE) -> Sound:
    """The breath of a plosive on a microphone: 70 Hz that die away within 50 ms, (n,)."""
    t = np.arange(round((KNOCK[1] - KNOCK[0]) * rate)) / rate
    return 0.5 * np.sin(2 * np.pi * 70 * t) * np.exp(-t / 0.015)


def detailed_voice(rate: int = RATE) -> Sound:
    """Three phrases of 1.2 s, 0.85 s apart, each with a breath before it and with esses in it; one ess is harsh, and the
    last phrase has a thump. Spans as in BREATHS, ESSES and KNOCK, seconds; (n,)."""
    voice = room(-66.0, 7.0, rate)

    def put(sound: Sound, start: float) -> None:
        first = round(start * rate)
        voice[first : first + len(sound)] += sound

    for number, start in enumerate((0.95, 3.0, 5.05)):
        put(hum(-22.0, 1.2, rate, seed=number), start)
    for number, (start, end) in enumerate(BREATHS):
        put(hiss(-46.0, end - start, 900, 3600, rate, seed=number), start)
    for number, (start, end) in enumerate(ESSES if rate >= 12_000 else ()):
        first, last = round(start * rate), round(end * rate)
        voice[first:last] *= 0.02
        level = -33.0 + 9.0 * (number == HARSH)
        put(hiss(level, end - start, 5200, min(9000, 0.45 * rate), rate, seed=9 + number), start)
    put(thump(rate), KNOCK[0])
    return voice


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
    done = jobs.view_job(jobs.get(bench, job.id))
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


@pytest.fixture
def detailed(bench: Workbench, tmp_path: Path) -> str:
    """A track of three phrases with breaths, esses and a knock, as ``detailed_voice`` says."""
    return bring_in(bench, sessions.create(bench, "Details"), write_sound(tmp_path / "details.wav", detailed_voice()))
