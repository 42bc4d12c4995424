"""Bed and compressor: python -m bench.balance FOLDER [--minutes 60]

Every sound file of the folder, and of the folders in it, is levelled and ridden with limits wide enough; told is how evenly a
reference compressor works from phrase to phrase at an equal average, before and after, and how many phrases keep a distance of
12 LU to a made-up bed that makes room for them. Then the times of an hour. The seconds are of this machine.
"""

from __future__ import annotations

import argparse
import tempfile
from functools import partial
from pathlib import Path

import numpy as np

from bench.beside import Pace, line, seconds
from bench.speed import make_recording
from nivelus.core.deliver.level import level_file
from nivelus.core.drafts.duck import KEPT, DuckRule, draft_duck
from nivelus.core.dynamics.compressor import Compressor
from nivelus.core.dynamics.detector import whole_reduction
from nivelus.core.dynamics.load import compare
from nivelus.core.measure.distance import phrase_levels
from nivelus.core.measure.grid import measure_samples
from nivelus.core.rule import DEFAULT, with_values
from nivelus.core.sound.timeline import open_sound
from nivelus.demo.bed import make_bed

RULE = with_values(
    DEFAULT,
    {
        "target.level": -20.0,
        "target.tolerance": 0.5,
        "phrases.most_up": 24.0,
        "phrases.most_down": 24.0,
        "phrases.ceiling": 0.0,
        "phrases.noise_limit": -20.0,
        "ride.on": True,
    },
)
DISTANCE = 12.0


def corpus(folder: Path, scratch: Path) -> None:
    """Load and distance on labelled programmes."""
    bed = measure_samples(make_bed(120.0).astype(np.float32), 48_000)
    under = np.asarray(bed.column("k"), np.float64)
    falls, kept, count, rates, early = [], 0, 0, [], 0
    for path in sorted(p for p in folder.rglob("*") if p.suffix in (".flac", ".wav")):
        state = level_file(path, scratch / "out.wav", RULE).state
        work = compare(partial(open_sound, path), state.gain, Compressor(), state.clips.phrases)
        falls.append(1 - work.at_proposed.spread / max(work.before.spread, 1e-9))
        grid = state.grid
        assert grid is not None
        power = np.asarray(grid.column("k"), np.float64) * state.gain_per_frame[:, 0]
        levels = phrase_levels(power, state.clips.phrase_slices(grid))
        spans = state.clips.phrases / state.rate
        draft = draft_duck(spans, levels, np.resize(under, len(power)), DuckRule("distance", distance=DISTANCE))
        kept += int((draft.after >= DISTANCE - KEPT).sum())
        count += len(levels)
        at = draft.curve.at
        rates.append(len(at) / max(float(at[-1] - at[0]), 1.0) if len(at) else 0.0)
        # where it has to go down it is down when the phrase begins, and was higher a moment before
        early += sum(
            draft.curve.finite_at(np.array([start]))[0] <= draft.before[i] - DISTANCE + KEPT
            for i, (start, _) in enumerate(spans)
        )
        print(
            f"     {path.stem:20} reduction {work.before.average:4.1f} dB, from phrase to phrase {work.before.spread:4.1f} -> "
            f"{work.at_proposed.spread:4.1f} dB at equal work"
        )
    fall = float(np.mean(falls))
    line("spread of the reduction at equal work falls by", f"{100 * fall:.0f} %", "at least 75 %", fall >= 0.75)
    line("phrases that keep 12 LU to the bed", f"{kept} of {count}", "at least 95 %", kept >= 0.95 * count)
    line("phrases that begin with the bed down", f"{early} of {count}", "all", early == count)
    line("points of the duck", f"{max(rates):.2f} a second", "at most 1", max(rates) <= 1)


def hour(minutes: int, scratch: Path) -> None:
    """How long an hour takes."""
    path = scratch / "hour.wav"
    make_recording(path, minutes)
    pace = Pace(path)
    opener = partial(open_sound, path)
    whole_reduction(opener, None, Compressor(), threads=1)
    for detector in ("peak", "rms"):
        took = seconds(partial(whole_reduction, opener, None, Compressor(detector=detector)))
        pace.line(f"reduction of {minutes} minutes, {detector}", took, 3)
    random, at, phrases = np.random.default_rng(3), 0.0, []
    while at < minutes * 60 - 10:
        at += random.choice([0.2, 0.4, 0.7, 1.2, 2.5])
        phrases.append((at, at + random.uniform(0.6, 5)))
        at = phrases[-1][1]
    bed = 10 ** ((-26 + 5 * np.sin(np.arange(minutes * 6000) / 700)) / 10)
    levels = random.normal(-20, 1, len(phrases))
    took = seconds(lambda: draft_duck(np.array(phrases), levels, bed, DuckRule("distance")))
    pace.line(f"a duck for {len(phrases)} phrases", took, 0.5)


def main() -> None:
    """Run everything and print a line each."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--minutes", type=int, default=60)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        corpus(options.folder, Path(name))
        hour(options.minutes, Path(name))


if __name__ == "__main__":
    main()
