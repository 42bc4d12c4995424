"""Speed beside public tools in the same run: ``python -m bench.speed [--minutes 60]``.

Everything is done on one generated recording of speech-like sound, 48 kHz mono 24-bit. Each figure is the median of
several runs, taken in turns with what it is compared with, so that a busy machine is busy for both; see ``beside`` for the
limits in seconds.
"""

from __future__ import annotations

import argparse
import os
import resource
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from functools import partial
from itertools import pairwise
from pathlib import Path

import numpy as np
import soundfile
from tests.helpers.program import Program

from bench.beside import ROUNDS, Pace, ffmpeg_loudness, line, median, side_by_side, tool
from nivelus.core.deliver.render import render
from nivelus.core.drafts.clip_gain import ClipGainRule, draft_clip_gain
from nivelus.core.drafts.ride import draft_ride
from nivelus.core.drafts.strays import find_strays
from nivelus.core.drafts.wants import RideRule
from nivelus.core.gain.clip_curves import join_clip_curves
from nivelus.core.gain.clips import clip_spans, compile_clip_gains
from nivelus.core.gain.compile import compile_curves
from nivelus.core.gain.compiled import add_curves, frame_gain
from nivelus.core.gain.dips import Dips, compile_dips
from nivelus.core.gain.drawn import EMPTY
from nivelus.core.gain.edits import lift
from nivelus.core.marks.cells import cut_into_cells
from nivelus.core.marks.details import find_marks
from nivelus.core.marks.onsets import find_onsets
from nivelus.core.marks.phrases import find_phrases
from nivelus.core.measure.grid import frame_borders, measure_file
from nivelus.core.measure.loudness import figures
from nivelus.core.measure.waveform import pyramid

RATE = 48_000


def make_recording(path: Path, minutes: int) -> None:
    """Phrases of 1-4 s at uneven levels in a room, of voiced and hissing sound, a minute of it repeated with other levels."""
    random = np.random.default_rng(1)
    t = np.arange(60 * RATE) / RATE
    voice = sum(np.sin(2 * np.pi * 130 * k * t + k) / k for k in range(1, 10)) * (1 + 0.4 * np.sin(2 * np.pi * 4.3 * t))
    hiss = np.diff(random.standard_normal(len(t) + 1)) * (np.sin(2 * np.pi * 1.1 * t) > 0.92)
    with soundfile.SoundFile(path, "w", RATE, 1, subtype="PCM_24") as file:
        for _ in range(minutes):
            gate, at = np.zeros(len(t)), 0
            while at < len(t):
                length = int(random.uniform(1, 4) * RATE)
                gate[at : at + length] = 10 ** (random.uniform(-24, 0) / 20)
                at += length + int(random.uniform(0.4, 1.0) * RATE)
            room = random.standard_normal(len(t)) * 10 ** (-66 / 20)
            file.write(0.12 * gate * (voice + 0.5 * hiss) + room)


def import_in_a_process(path: Path, folder: Path) -> tuple[float, float]:
    """The whole import job in a process of its own: seconds, and the most memory it held in MB."""
    code = f"""
import time
from pathlib import Path
from nivelus.settings import Settings
from nivelus.services.track.workbench import Workbench
from nivelus.services.files import imports
from nivelus.services.sessions import sessions, jobs
bench = Workbench(Settings(data=Path({str(folder)!r})))
session = sessions.create(bench, "Bench")
job = imports.stage_file(bench, session, Path({str(path)!r}))
began = time.perf_counter()
imports.run_import(bench, job.id)
took = time.perf_counter() - began
assert jobs.get(bench, job.id).state == "done", jobs.get(bench, job.id).message
# not what getrusage says, which begins with what the process that started this one holds
print(took, int(Path("/proc/self/status").read_text().split("VmHWM:")[1].split()[0]) / 1024)
"""
    out = subprocess.run([sys.executable, "-c", code], check=True, capture_output=True, text=True).stdout.split()
    shutil.rmtree(folder)
    return float(out[0]), float(out[1])


def measuring(path: Path, pace: Pace) -> None:
    """The measuring pass with true peak of every frame and the waveform pyramid, and what is found in it."""

    def ours() -> None:
        _, grid, wave = measure_file(path)
        pyramid(wave)
        figures(grid)

    mine, theirs = side_by_side(ours, ffmpeg_loudness(path))
    line(
        "measure: grid, true peak of every frame, waveform",
        f"{mine:.2f} s",
        f"ffmpeg ebur128=peak=true {theirs:.2f} s: {mine / theirs:.2f}, at most 0.14",
        mine <= theirs * 0.14,
    )
    _, grid, wave = measure_file(path)
    pace.since()
    pace.line("phrases from the grid", median(lambda: find_phrases(grid)), 2)
    pace.line("phrases, breaths, esses, knocks and gaps from the grid", median(lambda: find_marks(grid)), 1.5)
    cells = [cell for cell in cut_into_cells(grid, find_phrases(grid)) if cell.levels is not None]
    spans = [((c.phrase_start or 0) / RATE, (c.phrase_end or 0) / RATE) for c in cells]
    rooms, flat = np.array([cell.room_tone for cell in cells]), np.ones((len(grid.data), 2))
    took = median(lambda: draft_ride(grid, flat, spans, rooms, RideRule()))
    pace.line(f"a ride for {len(spans)} phrases, from the grid", took, 3)
    power, vowels = (np.asarray(grid.column(name), np.float64) for name in ("k", "voiced"))
    frames = [grid.span(*span) for span in spans]
    pace.line("what strays in them", median(lambda: find_strays(power, vowels, frames, 1.5)), 1)
    pace.line("onsets from the waveform", median(partial(find_onsets, wave, -60.0)), 2)
    del wave
    clips = clip_spans([(0, grid.samples, None, None)])
    borders = frame_borders(grid.samples, RATE)
    curve = compile_clip_gains(clips, np.array([-3.0]), RATE)
    took = median(lambda: figures(grid, frame_gain(curve, borders)))
    pace.line("every figure with a compiled gain, from the grid", took, 0.3)


def importing(path: Path, folder: Path, pace: Pace) -> None:
    """The whole import job: hash, measure, phrases, vault, rows."""
    pace.since()
    runs = [import_in_a_process(path, folder / "import") for _ in range(ROUNDS)]
    took, memory = (statistics.median(column) for column in zip(*runs, strict=True))
    theirs = pace.since() * soundfile.info(path).duration / 3600
    line(
        "import job: hash, measure, phrases, store",
        f"{took:.2f} s, {memory:.0f} MB",
        f"of ffmpeg's time {took / theirs:.2f}, at most 0.35 and 350 MB",
        took < theirs * 0.35 and memory < 350,
    )


def drafting(pace: Pace) -> None:
    """A draft for 1,000 phrases, and the compiled gain of 10 s out of an hour with 2,000 clips."""
    random = np.random.default_rng(2)
    levels = random.uniform(-40, -10, 1000)
    pace.since()
    pace.line(
        "draft for 1,000 phrases", median(lambda: draft_clip_gain(levels, levels + 14, levels - 40, ClipGainRule()), 9), 0.1
    )
    edge = np.linspace(0, 3600 * RATE, 2001).astype(int)
    gains = random.uniform(-9, 9, 2000)
    clips = clip_spans([(a, b, a + 9000, b - 9000) for a, b in pairwise(edge.tolist())])
    whole = median(lambda: compile_clip_gains(clips, gains, RATE), 9)
    curve = compile_clip_gains(clips, gains, RATE)
    window = median(lambda: curve.sample(1800 * RATE, 48, 10_000), 9)
    words = f"{whole * 1000:.1f} + {window * 1000:.2f} ms"
    pace.line("compile an hour of 2,000 clips, then 10 s of it", whole + window, 0.005, words)
    phrases = zip(clips.phrase_start / RATE, clips.phrase_end / RATE, gains, strict=True)
    owned = [lift(EMPTY, start, end, gain, 0.06, 0.06) for start, end, gain in phrases]
    took = median(lambda: compile_curves([join_clip_curves(clips, owned, RATE)], RATE))
    pace.line("compile 2,000 clip curves of four points", took, 1)
    start = np.sort(random.uniform(0, 3600 * RATE, 10_000))
    ramp = np.full(10_000, 0.02 * RATE)
    dips = Dips(start, start + 0.1 * RATE, random.uniform(-12, -1, 10_000), ramp, ramp, random.random(10_000) < 0.1)
    pace.line("compile 10,000 dips and add them", median(lambda: add_curves([curve, compile_dips(dips, RATE)]), 9), 0.1)


def rendering(path: Path, folder: Path) -> None:
    """A render with gain that moves, to 24-bit WAV, beside ffmpeg's volume filter."""
    frames = soundfile.info(path).frames
    edge = np.linspace(0, frames, 1001).astype(int)
    random = np.random.default_rng(3)
    clips = clip_spans([(a, b, None, None) for a, b in pairwise(edge.tolist())])
    curve = compile_clip_gains(clips, random.uniform(-9, 9, 1000), RATE)
    ours = folder / "ours.wav"
    theirs = folder / "theirs.wav"
    ffmpeg = tool("ffmpeg", "-y", "-nostats", "-i", str(path), "-af", "volume=-3dB", "-c:a", "pcm_s24le", str(theirs))
    mine, other = side_by_side(lambda: render(path, ours, curve), ffmpeg)
    line(
        "render to 24-bit WAV",
        f"{mine:.2f} s",
        f"ffmpeg -af volume {other:.2f} s: {mine / other:.2f} (at most 1.00)",
        mine <= other,
    )


def starting(folder: Path, pace: Pace) -> None:
    """`nivelus measure` on a short file, and the program on an empty folder, everything cached."""
    short = folder / "short.wav"
    make_recording(short, 1)
    command = [str(Path(sys.executable).parent / "nivelus"), "measure", str(short), "--json"]
    tool(*command)()
    pace.since()
    pace.line("warm start of `nivelus measure` on a minute", median(tool(*command), 5), 1.0)
    times = []
    for name in map(str, range(5)):
        began = time.perf_counter()
        program = Program(folder / name, "--no-demo")
        times.append(time.perf_counter() - began)
        program.stop()
    pace.line("from `nivelus serve` to its first answer", statistics.median(times), 3.0)


def main() -> None:
    """Run everything and print a line each."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=int, default=60)
    options = parser.parse_args()
    # the settings that some machines need for old BLAS builds slow a new one; nothing here uses BLAS
    for name in ("OPENBLAS_CORETYPE", "OPENBLAS_L2_SIZE"):
        os.environ.pop(name, None)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        path = folder / "recording.wav"
        print(f"a recording of {options.minutes} minutes, {os.cpu_count()} cores; medians of {ROUNDS}")
        make_recording(path, options.minutes)
        pace = Pace(path)
        measuring(path, pace)
        importing(path, folder, pace)
        drafting(pace)
        rendering(path, folder)
        starting(folder, pace)
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(f"most memory held by this process: {peak:.0f} MB")


if __name__ == "__main__":
    main()
