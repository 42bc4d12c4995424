"""What is timed, and the public tool beside which it is judged.

A machine that does something else at once, or is another one, is slow for all. What takes long enough is compared with what a
public tool does of the same; what has no such counterpart is limited in seconds, which are those of a machine on which ffmpeg
measures an hour in ``HOUR`` seconds: ffmpeg runs before and after it, and the limit stretches and shrinks with what it takes.
"""

from __future__ import annotations

import statistics
import subprocess
import time
from collections.abc import Callable, Mapping
from pathlib import Path

import numpy as np
import soundfile

ROUNDS = 3
HOUR = 16.0
"""Seconds in which ffmpeg's ``ebur128=peak=true`` goes through an hour, on the machine that the limits were set on."""
READ = 120.0
"""Seconds of a recording that tell how fast the machine is."""


def seconds(work: Callable[[], object]) -> float:
    """Wall time of one run."""
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def median(work: Callable[[], object], rounds: int = ROUNDS) -> float:
    """Wall time of the run in the middle."""
    return statistics.median(seconds(work) for _ in range(rounds))


def side_by_side(*works: Callable[[], object], rounds: int = ROUNDS) -> list[float]:
    """Medians of works that are run in turns."""
    times = [[seconds(work) for work in works] for _ in range(rounds)]
    return [statistics.median(column) for column in zip(*times, strict=True)]


def tool(*command: str) -> Callable[[], object]:
    """A run of a public tool, quietly."""
    return lambda: subprocess.run(command, check=True, capture_output=True)


def ffmpeg_loudness(path: Path, *limits: str) -> Callable[[], object]:
    """ffmpeg measuring loudness and true peak of a file, or of as much of it as ``limits`` leave."""
    return tool("ffmpeg", "-nostats", *limits, "-i", str(path), "-af", "ebur128=peak=true", "-f", "null", "-")


def line(name: str, ours: str, theirs: str, verdict: bool) -> None:
    """One line of the table."""
    print(f"{'ok  ' if verdict else 'MISS'} {name:58} {ours:>22}   {theirs}", flush=True)


def told(took: float) -> str:
    """A time in words."""
    return f"{took:.2f} s" if took >= 1 else f"{took * 1000:.3g} ms"


class Pace:
    """How fast the machine is at the moment, by what ffmpeg does with a recording that is there as long as this."""

    def __init__(self, path: Path) -> None:
        """``path``: a mono recording of 48 kHz."""
        info = soundfile.info(path)
        self._share = min(READ, info.duration) / 3600
        self._work = ffmpeg_loudness(path, "-t", str(READ))
        start = ffmpeg_loudness(path, "-t", "0.1")
        self._work()
        self._start = min(seconds(start) for _ in range(5))
        self._last = self.hour()

    def hour(self) -> float:
        """Seconds that ffmpeg would take now to go through an hour; of two runs the quicker, which nothing held up."""
        return (min(seconds(self._work) for _ in range(2)) - self._start) / self._share

    def since(self) -> float:
        """Seconds that ffmpeg took for an hour, before and after what was done since this was asked for last."""
        before, self._last = self._last, self.hour()
        return (before + self._last) / 2

    def line(self, name: str, took: float, most: float, words: str = "", hour: float | None = None) -> None:
        """One line of the table: what took so many seconds, and the most that it may take where ffmpeg takes HOUR.

        ``hour`` is what ffmpeg took meanwhile, where several lines were timed together; without it this one just was.
        """
        hour = hour or self.since()
        most_now = most * hour / HOUR
        theirs = f"at most {told(most)}, which is {told(most_now)} where ffmpeg takes {hour:.1f} s for an hour"
        line(name, words or told(took), theirs, took < most_now)

    def each(self, times: Mapping[str, list[float]], most: float) -> None:
        """A line for each kind of work that was done many times since then; nineteen of twenty may take no longer."""
        hour = self.since()
        for kind, took in times.items():
            middle, late = np.percentile(took, (50, 95)).tolist()
            words = f"{middle * 1000:.0f} ms, 95 % {late * 1000:.0f}"
            self.line(f"{kind}, {len(took)} times", late, most, words, hour)
