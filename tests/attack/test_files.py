"""Mutated sound and curve files: every one ends in figures that are finite, or in a sentence of ours."""

from __future__ import annotations

import math
import multiprocessing
import resource
import time
from multiprocessing.connection import Connection
from pathlib import Path

import numpy as np
import pytest

from nivelus.core.deliver.curve_csv import write_csv
from nivelus.core.deliver.curve_formats import parse_curve
from nivelus.core.deliver.curve_midi import write_midi
from nivelus.core.errors import NivelusError
from nivelus.core.gain.drawn import Shape, curve_of
from nivelus.core.marks.details import find_marks
from nivelus.core.measure.grid import measure_file
from nivelus.core.measure.loudness import figures
from tests.attack.mutants import LONG, mutant, originals

FILES, CURVES = 700, 1500
MOST_SECONDS, MOST_MB = 5.0, 400


def told(error: NivelusError) -> str:
    """The sentence of an error, which is one."""
    assert error.sentence.endswith((".", "!", "?")), error.sentence
    return error.sentence


def measure(path: Path) -> str:
    """What becomes of a file: "measured", or the sentence that refuses it."""
    try:
        _, grid, wave = measure_file(path)
        found = figures(grid)
        marks = find_marks(grid)
    except NivelusError as error:
        return told(error)
    assert np.isfinite(grid.data).all()
    assert np.isfinite(wave.astype(np.float32)).all()
    values = [found.integrated, found.loudness_range, found.true_peak, found.sample_peak, marks.phrases.room_tone]
    assert not any(math.isnan(value) for value in values)
    return "measured"


def work(seed: int, first: int, last: int, folder: str, answer: Connection) -> None:
    """Measure some mutants in a process of its own; tells of each before it is begun and when it is over."""
    whole = originals(Path(folder))
    for data in whole.values():
        (Path(folder) / "warm").write_bytes(data)
        measure(Path(folder) / "warm")
    begun = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    for number in range(first, last):
        random = np.random.default_rng([seed, number])
        name = sorted(whole)[number % len(whole)]
        path = Path(folder) / "mutant"
        path.write_bytes(mutant(whole[name], random))
        answer.send(("begin", number, name))
        start = time.monotonic()
        try:
            said = measure(path)
        except BaseException as error:
            said = f"BROKEN {type(error).__name__}: {error}"
        grown = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024 - begun
        answer.send((said, time.monotonic() - start, grown))
    answer.send(None)


def test_mutated_sound_files(tmp_path: Path, times: int) -> None:
    seed, count = 20261126, FILES * times
    print(f"seed {seed}, {count} files")
    faults, measured, at = [], 0, 0
    slowest, most = 0.0, 0.0
    context = multiprocessing.get_context("spawn")
    while at < count:
        near, far = context.Pipe()
        process = context.Process(target=work, args=(seed, at, count, str(tmp_path), far))
        process.start()
        far.close()
        try:
            while (begun := near.recv()) is not None:
                _, at, name = begun
                said, seconds, grown = near.recv()
                slowest, most = max(slowest, seconds), max(most, grown)
                measured += said == "measured"
                if said.startswith("BROKEN") or seconds > MOST_SECONDS or grown > MOST_MB:
                    faults.append((at, name, said, round(seconds, 2), round(grown)))
            at = count
        except EOFError:
            # the decoder took the process with it: in the program that costs a job its worker, which is made anew
            process.join()
            faults.append((at, name, f"the process ended with {process.exitcode}", 0, 0))
            at += 1
        process.join()
    print(f"{measured} measured, {count - measured} refused, slowest {slowest:.2f} s, {most:.0f} MB at most over the start")
    assert faults == []
    # a test in which nothing, or everything, is refused tests nothing
    assert 0.1 < measured / count < 0.9
    assert LONG == 60


@pytest.mark.parametrize("kind", ["csv", "mid"])
def test_mutated_curves(kind: str, times: int) -> None:
    points = [(0.1 * i, (-1.0) ** i * (i % 9), Shape(i % 3)) for i in range(300)]
    curve = curve_of(points)
    whole = write_csv(curve) if kind == "csv" else write_midi(curve)
    read = 0
    for number in range(CURVES * times):
        data = mutant(whole, np.random.default_rng([7, number]))
        try:
            found = parse_curve(Path(f"a.{kind}"), data)
        except NivelusError as error:
            told(error)
            continue
        assert np.isfinite(found.at).all(), number
        assert not np.isnan(found.db).any(), number
        read += 1
    assert 0.02 < read / (CURVES * times) < 0.98
