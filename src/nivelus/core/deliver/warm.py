"""Compiling the inner loops once, so that nobody has to wait for it later."""

from __future__ import annotations

from functools import partial

import numpy as np

from nivelus.core.deliver.curve_midi import read_midi, write_midi
from nivelus.core.drafts.ride import draft_ride
from nivelus.core.drafts.slow import SlowRule, draft_slow
from nivelus.core.drafts.wants import RideRule
from nivelus.core.dynamics.compressor import DETECTORS, Compressor
from nivelus.core.dynamics.limiter import Limiter
from nivelus.core.dynamics.load import compare
from nivelus.core.gain.compiled import FloatArray, GainCurve, add_curves, apply_gain, frame_gain
from nivelus.core.gain.drawn import EMPTY, plain
from nivelus.core.marks.details import find_marks
from nivelus.core.measure.compose import Part, compose
from nivelus.core.measure.grid import COLUMNS, LevelGrid, all_borders, frame_borders, measure_samples
from nivelus.core.measure.kernel import faults
from nivelus.core.measure.spans import UNITS, levels_of_spans, moved_by_gain
from nivelus.core.passes.gesture import Gesture, Run
from nivelus.core.passes.writing import WriteRule, written
from nivelus.core.sound.pcm import decode16, decode24, encode24
from nivelus.core.sound.source import Held


def warm_kernels() -> None:
    """Run every compiled loop on a moment of silence, for each type of samples that it meets."""
    for kind in (np.float32, np.float64):
        samples = np.zeros((4800, 1), kind)
        measure_samples(samples, 48_000)
        apply_gain(samples, GainCurve(np.array([0.0, 4800.0]), np.array([1.0, 2.0])), 0)
        faults(samples.T[0])
        faults(np.zeros((4800, 2), kind).T[0])
        encode24(samples.reshape(-1), np.empty(4800 * 3, np.uint8))
    warm_gain()
    stored = np.zeros((10, len(COLUMNS)), np.float32)
    for mapped in (False, True):
        # what is mapped from a file cannot be written to, which is a type of its own
        stored.setflags(write=not mapped)
        grid = LevelGrid(stored, 48_000, 4800, 1)
        compose([Part(0, 4800, 0)], [grid], 48_000, 4800, 1)
        spans, gain = np.array([[0, 10]]), np.ones((10, 2))
        moved_by_gain(grid.column("plain"), spans, gain[:, 0])
        for unit in UNITS:
            levels_of_spans(grid, spans, gain, unit)
    hum = 0.1 * np.sin(0.02 * np.arange(48_000))[:, None] * np.repeat((1.0, 0.1), 24_000)[:, None]
    flat = np.ones((100, 2))
    draft_ride(measure_samples(hum, 48_000), flat, [(0.0, 1.0)], np.array([-90.0]), RideRule())
    draft_slow(measure_samples(hum, 48_000).column("k").astype(np.float64), SlowRule())
    for kind in (np.float32, np.float64):
        opener = partial(Held, hum.astype(kind), 48_000)
        for detector in DETECTORS:
            compare(
                opener, GainCurve(np.array([0.0]), np.array([1.0])), Compressor(detector=detector), np.array([[0.0, 48_000.0]])
            )
    find_marks(measure_samples(_words(), 48_000))
    Limiter(1, 48_000).run(np.zeros((480, 1)))
    read_midi(write_midi(plain(np.array([0.0, 1.0]), np.array([0.0, -1.0]))))
    written(EMPTY, Gesture((Run(np.arange(1.0, 5.0), np.array([0.0, 3.0, -3.0, 0.0])),)), WriteRule(), 10.0)
    out = np.empty(100, np.float32)
    decode16(np.zeros(200, np.uint8), out)
    decode24(np.zeros(300, np.uint8), out)


def warm_gain() -> None:
    """Run the loops that every figure needs: even compiled they take half a second to load."""
    curves = [GainCurve(np.array([0.0, 4800.0]), np.array([1.0, 2.0])), GainCurve(np.array([100.0]), np.array([1.0]))]
    for borders in (frame_borders(4800, 48_000), all_borders(4800, 48_000)):
        frame_gain(add_curves(curves), borders)


def _words() -> FloatArray:
    """Some seconds with all in them that is looked for: voice, hiss, a breath, a knock and pauses. (n, 1)."""
    random, at = np.random.default_rng(1), np.arange(6 * 48_000) / 48_000
    sound = 1e-4 * random.standard_normal(len(at))
    hiss = np.diff(random.standard_normal(len(at) + 1))
    voice = np.sum([np.sin(2 * np.pi * 130 * k * at + k) / k for k in range(1, 10)], axis=0)
    air = np.convolve(hiss, np.hanning(24), "same")
    for start in (0.5, 2.5, 4.5):
        word, ess, breath = ((at >= start + a) & (at < start + b) for a, b in ((0.0, 1.0), (0.5, 0.6), (-0.45, -0.1)))
        sound[word] += 0.1 * voice[word]
        sound[ess] += 0.05 * hiss[ess]
        sound[breath] += 0.003 * air[breath] * np.sin(np.pi * (at[breath] - start + 0.45) / 0.35)
        sound[int((start + 0.3) * 48_000)] += 0.5
    return sound[:, None]
