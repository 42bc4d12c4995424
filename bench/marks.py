"""How well marks are found on labelled programmes: python -m bench.marks FOLDER

A programme is a sound file with a JSON of the same name beside it, times in seconds: ``phrases`` (``audible_start``,
``audible_end``), ``breaths`` (``start``, ``end``, ``support_start``, ``support_end``, ``snr_db``), ``sibilants``
(``start``, ``end``), ``weak_sibilants`` (too faint to be sure, counted neither way), ``pokes`` (consonants made too
loud). What is absent is not judged.

A phrase is found when a mark has both edges within 100 ms of the label; a breath when intersection over union with its
core or all of it is at least a half, an ess when it is at least a quarter. Marks and labels are matched one to one,
best overlap first.

Every programme is then levelled to -20 LUFS, with limits so wide that only detection decides, and each labelled phrase of
the result is measured by pyloudnorm. Neighbours whose levels differ by 3 dB and more and that came to lie in one phrase
are counted as joined.
"""

from __future__ import annotations

import json
import sys
import tempfile
import time
import warnings
from collections.abc import Callable
from dataclasses import dataclass, replace
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pyloudnorm
import soundfile

from nivelus.core.deliver.level import level_file
from nivelus.core.marks.details import RecordingMarks, find_marks
from nivelus.core.measure.grid import measure_file
from nivelus.core.rule import DEFAULT, with_values

Span = tuple[float, float]
PHRASE_EDGE = 0.100
BREATH_OVERLAP, ESS_OVERLAP = 0.5, 0.25
APART = 3.0
"""dB between neighbours that make them phrases of different level."""
TARGET, WITHIN = -20.0, 2.0
WIDE = with_values(
    DEFAULT,
    {
        "target.level": TARGET,
        "target.tolerance": 0.5,
        "phrases.most_up": 24.0,
        "phrases.most_down": 24.0,
        "phrases.ceiling": 0.0,
        "phrases.noise_limit": -20.0,
    },
)
CLEAR_BREATH = 6.0
"""dB over the room from which a breath ought to be found whatever happens."""


@dataclass(frozen=True)
class Score:
    """How well marks fit labels: counts, and the errors of all matched edges in seconds."""

    labels: int
    marks: int
    found: int
    edge_errors: tuple[float, ...]

    @property
    def recall(self) -> float:
        return self.found / self.labels if self.labels else 1.0

    @property
    def precision(self) -> float:
        return self.found / self.marks if self.marks else 1.0

    @property
    def f1(self) -> float:
        both = self.recall + self.precision
        return 2 * self.recall * self.precision / both if both else 0.0

    def __add__(self, other: Score) -> Score:
        return Score(
            self.labels + other.labels,
            self.marks + other.marks,
            self.found + other.found,
            self.edge_errors + other.edge_errors,
        )


NOTHING = Score(0, 0, 0, ())


@dataclass(frozen=True)
class ProgrammeScore:
    """The scores of a programme: phrases, breaths, the clear ones among them, and esses; its length in seconds.

    ``stray`` is the number of breaths that were found and are not there, ``doubtful`` that of those that are in doubt, whether
    they are there or not (no rule turns them down: they are none of the strays), ``pokes`` how many of the labelled hard
    consonants lie under a knock. Of the ``apart`` neighbours of different level so many are ``joined``; ``levels`` are those
    of the labelled phrases after levelling, LUFS.
    """

    phrases: Score
    breaths: Score
    clear: Score
    esses: Score
    pokes: Score
    stray: int
    doubtful: int
    seconds: float
    apart: int = 0
    joined: int = 0
    levels: tuple[float, ...] = ()


def match(labels: list[list[Span]], marks: list[Span], good: Callable[[Span, Span], float | None]) -> dict[int, int]:
    """Match marks to labels one to one, best first; a label may be given in several ways.

    ``good`` says how good a pair is, None for one that cannot be.
    """
    pairs = []
    for i, ways in enumerate(labels):
        for j, mark in enumerate(marks):
            if mark[1] <= min(w[0] for w in ways) or mark[0] >= max(w[1] for w in ways):
                continue
            fits = [fit for way in ways if (fit := good(way, mark)) is not None]
            if fits:
                pairs.append((max(fits), i, j))
    matched: dict[int, int] = {}
    for _, i, j in sorted(pairs, reverse=True):
        if i not in matched and j not in matched.values():
            matched[i] = j
    return matched


def overlap(a: Span, b: Span) -> float:
    """Intersection over union."""
    return max(0.0, min(a[1], b[1]) - max(a[0], b[0])) / (max(a[1], b[1]) - min(a[0], b[0]))


def score_phrases(labels: list[Span], marks: list[Span]) -> Score:
    """Found is what has both edges within 100 ms."""
    pairs = match([[label] for label in labels], marks, overlap)
    edges = [_edges(labels[i], marks[j]) for i, j in pairs.items()]
    found = sum(max(pair) <= PHRASE_EDGE for pair in edges)
    return Score(len(labels), len(marks), found, tuple(e for pair in edges for e in pair))


def score_events(labels: list[list[Span]], marks: list[Span], least: float, unsure: list[Span] | None = None) -> Score:
    """Found is what overlaps by ``least``; marks that touch something ``unsure`` and fit no label are not counted."""
    pairs = match(labels, marks, lambda a, b: overlap(a, b) if overlap(a, b) >= least else None)
    taken = set(pairs.values())
    counted = [j for j, mark in enumerate(marks) if j in taken or not any(a < mark[1] and b > mark[0] for a, b in unsure or [])]
    edges = [error for i, j in pairs.items() for error in _edges(labels[i][0], marks[j])]
    return Score(len(labels), len(counted), len(pairs), tuple(edges))


def score_marks(truth: dict[str, Any], found: RecordingMarks, seconds: float) -> ProgrammeScore:
    """Score everything that was found in a programme against its labels."""
    phrases = [(p["audible_start"], p["audible_end"]) for p in truth["phrases"]]
    breaths = [
        [(b["start"], b["end"]), (b.get("support_start", b["start"]), b.get("support_end", b["end"]))]
        for b in truth.get("breaths", [])
    ]
    esses = [[(s["start"], s["end"])] for s in truth.get("sibilants", [])]
    unsure = [(s["start"], s["end"]) for s in truth.get("weak_sibilants", [])]
    spans = {kind: [(m.start, m.end) for m in found.of(kind)] for kind in ("breath", "ess", "knock")}
    air = score_events(breaths, spans["breath"], BREATH_OVERLAP)
    sure = [(m.start, m.end) for m in found.of("breath") if not m.is_doubtful]
    certain = score_events(breaths, sure, BREATH_OVERLAP)
    clear = [ways for ways, b in zip(breaths, truth.get("breaths", []), strict=True) if b.get("snr_db", 99) >= CLEAR_BREATH]
    pokes = [(p["start"], p["end"]) for p in truth.get("pokes", []) if p.get("kind", "plosive") == "plosive"]
    neighbours = [
        (left["audible_end"], right["audible_start"])
        for left, right in pairwise(truth["phrases"])
        if abs(left.get("offset_db", 0.0) - right.get("offset_db", 0.0)) >= APART
    ]
    joined = sum(any(p.start < end - 0.05 and p.end > start + 0.05 for p in found.phrases.phrases) for end, start in neighbours)
    hit = sum(any(a < d and b > c for c, d in spans["knock"]) for a, b in pokes)
    return ProgrammeScore(
        phrases=score_phrases(phrases, [(p.start, p.end) for p in found.phrases.phrases]) if phrases else NOTHING,
        breaths=air,
        clear=score_events(clear, spans["breath"], BREATH_OVERLAP),
        esses=score_events(esses, spans["ess"], ESS_OVERLAP, unsure) if "sibilants" in truth else NOTHING,
        pokes=Score(len(pokes), len(spans["knock"]), hit, ()) if "pokes" in truth else NOTHING,
        stray=certain.marks - certain.found,
        doubtful=air.marks - certain.marks,
        seconds=seconds,
        apart=len(neighbours),
        joined=joined,
    )


def score_programme(sound: Path) -> ProgrammeScore:
    """Measure a programme, find its marks, and score them against its labels."""
    _, grid, _ = measure_file(sound)
    return score_marks(json.loads(sound.with_suffix(".json").read_text()), find_marks(grid), grid.duration)


def levels_after(sound: Path, folder: Path) -> tuple[float, ...]:
    """The labelled phrases of a programme after levelling it, in LUFS by a meter that is not ours."""
    levelled = folder / "levelled.wav"
    level_file(sound, levelled, WIDE)
    samples, rate = soundfile.read(levelled)
    levelled.unlink()
    truth = json.loads(sound.with_suffix(".json").read_text())
    return tuple(loudness(samples, rate, (p["audible_start"], p["audible_end"])) for p in truth["phrases"])


def loudness(samples: np.ndarray, rate: int, span: Span) -> float:
    """Integrated loudness of a span by pyloudnorm; one block where it is shorter than the blocks of BS.1770."""
    part = samples[round(span[0] * rate) : round(span[1] * rate)]
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return float(pyloudnorm.Meter(rate, block_size=min(0.4, (len(part) - 1) / rate)).integrated_loudness(part))


def programmes(folder: Path) -> list[Path]:
    """The labelled sound files of a folder and of the folders in it."""
    return [p for p in sorted(folder.rglob("*")) if p.suffix in {".flac", ".wav"} and p.with_suffix(".json").exists()]


def main(folder: Path) -> None:
    """Print a line per programme and kind, and one for all."""
    sounds = programmes(folder)
    if not sounds:
        raise SystemExit(f"No labelled programmes in {folder}.")
    print(f"{'programme':16} {'kind':14} labels marks recall precision    F1  median edge  90 % edge")
    began = time.perf_counter()
    scores = []
    with tempfile.TemporaryDirectory() as scratch:
        for sound in sounds:
            scores.append(replace(score_programme(sound), levels=levels_after(sound, Path(scratch))))
            _lines(sound.stem, [scores[-1]])
    spent = time.perf_counter() - began
    _lines("all", scores)
    minutes = sum(s.seconds for s in scores) / 60
    without = [s for s in scores if not s.breaths.labels]
    stray = sum(s.stray for s in scores) / minutes
    print(f"breaths that are not there: {stray:.2f} a minute", end="")
    if without:
        print(f", {sum(s.stray for s in without) * 60 / sum(s.seconds for s in without):.2f} where there are none", end="")
    print(f"\n{minutes:.1f} minutes measured, marked and levelled in {spent:.1f} s")


def _lines(name: str, scores: list[ProgrammeScore]) -> None:
    for kind in ("phrases", "breaths", "clear", "esses", "pokes"):
        s = sum((getattr(score, kind) for score in scores), NOTHING)
        if not s.labels and not s.marks:
            continue
        line = f"{name:16} {TITLES[kind]:14} {s.labels:6} "
        if kind == "clear":
            print(f"{line}{'':5} {s.recall:6.1%}")
        elif kind == "pokes":
            print(f"{line}{s.marks:5} {s.recall:6.1%}")
        else:
            median, ninety = (np.percentile(s.edge_errors, [50, 90]) * 1000) if s.edge_errors else (0, 0)
            edges = f"{median:9.0f} ms {ninety:7.0f} ms"
            print(f"{line}{s.marks:5} {s.recall:6.1%} {s.precision:9.1%} {s.f1:5.1%} {edges}")
        name = ""
    apart, joined = sum(score.apart for score in scores), sum(score.joined for score in scores)
    levels = np.array([level for score in scores for level in score.levels])
    if len(levels):
        within = np.mean(np.abs(levels - TARGET) <= WITHIN)
        spread = max(float(np.std(score.levels)) for score in scores if score.levels)
        most = "at most " if len(scores) > 1 else ""
        print(f"{'':16} joined {joined} of {apart} apart; after levelling {within:.1%} within {WITHIN:.0f} LU, ", end="")
        print(f"spread {most}{spread:.2f} LU")
    stray, minutes = sum(score.stray for score in scores), sum(score.seconds for score in scores) / 60
    doubtful = sum(score.doubtful for score in scores)
    if stray or doubtful:
        print(f"{'':16} breaths that are not there: {stray / minutes:.2f} a minute, {doubtful} more breaths in doubt")


TITLES = {
    "phrases": "phrases",
    "breaths": "breaths",
    "clear": "- clear ones",
    "esses": "esses",
    "pokes": "thumps",
}


def _edges(label: Span, mark: Span) -> tuple[float, float]:
    return abs(label[0] - mark[0]), abs(label[1] - mark[1])


if __name__ == "__main__":
    if len(sys.argv) != 2:
        raise SystemExit("usage: python -m bench.marks FOLDER")
    main(Path(sys.argv[1]))
