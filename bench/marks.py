"""Detection figures on a folder of labelled programmes: ``python bench/marks.py FOLDER``.

A programme is a sound file with a JSON of the same name beside it that holds ``phrases`` with ``audible_start`` and
``audible_end`` in seconds. A phrase is found when a mark has both edges within 100 ms of the label; marks and labels
are matched one to one, best overlap first.
"""

from __future__ import annotations

import json
import sys
import time
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from nivelus.core.marks.phrases import find_phrases
from nivelus.core.measure.grid import measure_file

Span = tuple[float, float]
EDGE = 0.100


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


def score_phrases(labels: list[Span], marks: list[Span]) -> Score:
    """Match marks to labels one to one, greedy by overlap, and judge their edges."""
    pairs = []
    for i, (a, b) in enumerate(labels):
        for j, (c, d) in enumerate(marks):
            overlap = min(b, d) - max(a, c)
            if overlap > 0:
                pairs.append((overlap / (max(b, d) - min(a, c)), i, j))
    taken_labels, taken_marks, errors, found = set(), set(), [], 0
    for _, i, j in sorted(pairs, reverse=True):
        if i in taken_labels or j in taken_marks:
            continue
        taken_labels.add(i)
        taken_marks.add(j)
        edges = [abs(labels[i][0] - marks[j][0]), abs(labels[i][1] - marks[j][1])]
        errors += edges
        found += max(edges) <= EDGE
    return Score(len(labels), len(marks), found, tuple(errors))


def score_programme(sound: Path) -> Score:
    """Measure a programme, find its phrases, and score them against its labels."""
    truth = json.loads(sound.with_suffix(".json").read_text())
    labels = [(p["audible_start"], p["audible_end"]) for p in truth["phrases"]]
    _, grid, _ = measure_file(sound)
    return score_phrases(labels, [(p.start, p.end) for p in find_phrases(grid).phrases])


def main(folder: Path) -> None:
    """Print a line per programme and one for all."""
    sounds = [p for p in sorted(folder.iterdir()) if p.suffix in {".flac", ".wav"} and p.with_suffix(".json").exists()]
    if not sounds:
        raise SystemExit(f"No labelled programmes in {folder}.")
    print(f"{'programme':16} labels marks recall precision    F1  median edge  90 % edge")
    scores, began = [], time.perf_counter()
    for sound in sounds:
        scores.append(score_programme(sound))
        _line(sound.stem, scores[-1])
    errors = tuple(e for s in scores for e in s.edge_errors)
    _line("all", Score(*(sum(getattr(s, n) for s in scores) for n in ("labels", "marks", "found")), errors))
    print(f"measured and marked in {time.perf_counter() - began:.1f} s")


def _line(name: str, s: Score) -> None:
    median, ninety = (np.percentile(s.edge_errors, [50, 90]) * 1000) if s.edge_errors else (0, 0)
    print(
        f"{name:16} {s.labels:6} {s.marks:5} {s.recall:6.1%} {s.precision:9.1%} {s.f1:5.1%} {median:9.0f} ms {ninety:7.0f} ms"
    )


if __name__ == "__main__":
    if len(sys.argv) != 2:
        raise SystemExit("usage: python bench/marks.py FOLDER")
    main(Path(sys.argv[1]))
