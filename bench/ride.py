"""How much a drafted ride evens the inside of phrases: python -m bench.ride FOLDER

Every sound file of the folder, and of the folders in it, is ridden as it was recorded, each phrase around its own level, at
full strength and default limits, as the program does it with phrases that settle. Told are the spread inside the phrases
before and after (of 400 ms loudness, and at the nuclei of the syllables), how far the mean phrase moved without settling,
and the points.

Then the last third of every phrase is turned down by 8 dB and ridden again: how much of the fall the ride gives back, in
phrases of a second or more with two syllables or more in that third; of all of them, and of those that the noise limit does
not hold back.
"""

from __future__ import annotations

import sys
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from nivelus.core.drafts.ride import RideDraft, RideRule, around, draft_ride
from nivelus.core.marks.cells import cut_into_cells
from nivelus.core.marks.details import find_marks
from nivelus.core.marks.nuclei import find_nuclei
from nivelus.core.measure.grid import FRAME, LevelGrid, measure_file
from nivelus.core.measure.loudness import gated_loudness

FALL = -8.0
FALL_FRAMES = 7
"""Frames that the step takes."""
LEAST_FRAMES, LEAST_NUCLEI = 100, 2


@dataclass(frozen=True)
class Voice:
    """A recording as a ride sees it: its grid, the seconds of its phrases and breaths, and the room around each (dBFS)."""

    grid: LevelGrid
    spans: list[tuple[float, float]]
    rooms: np.ndarray
    breaths: np.ndarray

    def ride(self, gain: np.ndarray, settles: bool = True) -> RideDraft:
        """A ride at full strength and default limits over what a gain, (frames, 2), has made of the voice."""
        rises = np.full(len(self.spans), np.inf) if settles else None
        return draft_ride(self.grid, gain, self.spans, self.rooms, RideRule(), rises=rises, breaths=self.breaths)

    @property
    def frames(self) -> list[slice]:
        """The frames of its phrases."""
        return [self.grid.span(start, end) for start, end in self.spans]

    def power(self, column: str) -> np.ndarray:
        """A column of the grid, (frames,) float64."""
        return np.asarray(self.grid.column(column), np.float64)

    def ridden(self, power: np.ndarray, draft: RideDraft) -> np.ndarray:
        """Power with a ride."""
        return power * 10 ** (draft.curve((np.arange(len(power)) + 0.5) * FRAME) / 10)


def voice_of(path: Path) -> Voice:
    """A sound file as it was recorded."""
    _, grid, _ = measure_file(path)
    found = find_marks(grid)
    cells = [cell for cell in cut_into_cells(grid, found.phrases) if cell.levels is not None]
    spans = [((c.phrase_start or 0) / grid.sample_rate, (c.phrase_end or 0) / grid.sample_rate) for c in cells]
    breaths = np.array([(mark.start, mark.end) for mark in found.of("breath")]).reshape(-1, 2)
    return Voice(grid, spans, np.array([cell.room_tone for cell in cells]), breaths)


def fallen(voice: Voice) -> np.ndarray:
    """Gain that turns the last third of every phrase down, (frames, 2)."""
    gain = np.ones((len(voice.grid.data), 2))
    for span in voice.frames:
        count = span.stop - span.start
        down = np.where(np.arange(count) >= count * 2 // 3, FALL, 0.0)
        down = np.convolve(np.pad(down, FALL_FRAMES // 2, mode="edge"), np.ones(FALL_FRAMES) / FALL_FRAMES, "valid")
        gain[span, 0], gain[span, 1] = 10 ** (down / 10), 10 ** (down / 20)
    return gain


def given_back(voice: Voice) -> list[tuple[float, bool]]:
    """The share of the fall that a ride gives back, phrase by phrase, and whether the noise limit lets it."""
    gain = fallen(voice)
    power, vowels = voice.power("k") * gain[:, 0], voice.power("voiced")
    draft = voice.ride(gain)
    ridden = voice.ridden(power, draft)
    shares = []
    for span, phrase in zip(voice.frames, draft.phrases, strict=True):
        count = span.stop - span.start
        third = count * 2 // 3
        if count < LEAST_FRAMES or (find_nuclei(vowels[span]) > third).sum() < LEAST_NUCLEI:
            continue
        early, late = slice(span.start, span.start + third - 3), slice(span.start + third + 3, span.stop)
        before, after = (gated_loudness(p[late]) - gated_loudness(p[early]) for p in (power, ridden))
        shares.append(((after - before) / -FALL, phrase.reason != "noise limit"))
    return shares


def at_nuclei(voice: Voice, draft: RideDraft) -> np.ndarray:
    """Spread of the loudness around the nuclei, LU, before and after a ride, summed over the phrases."""
    power, vowels = voice.power("k"), voice.power("voiced")
    ridden = voice.ridden(power, draft)
    sums = np.zeros(2)
    for span in voice.frames:
        nuclei = find_nuclei(vowels[span])
        if len(nuclei) > 1:
            sums += [around(p[span], 0.4)[nuclei].std() for p in (power, ridden)]
    return sums


def main(folder: Path) -> None:
    """Print a line per file and one for all."""
    sounds = [path for path in sorted(folder.rglob("*")) if path.suffix in {".flac", ".wav"}]
    if not sounds:
        raise SystemExit(f"No sound files in {folder}.")
    spreads, shares, moves, density = [], [], [], []
    for path in sounds:
        voice = voice_of(path)
        flat = np.ones((len(voice.grid.data), 2))
        settled, alone = voice.ride(flat), voice.ride(flat, settles=False)
        before, after = (np.array([getattr(p, f"spread_{side}") for p in settled.phrases]) for side in ("before", "after"))
        moves.append(abs(np.mean([p.after - p.before for p in alone.phrases])))
        density.append(len(settled.curve) / voice.grid.duration)
        nuclei, back = at_nuclei(voice, settled), given_back(voice)
        spreads.append((before.sum(), after.sum(), *nuclei))
        shares += back
        print(
            f"{path.stem:16} {len(voice.spans):3} phrases   {before.mean():.2f} -> {after.mean():.2f} LU "
            f"({after.sum() / before.sum() - 1:+.0%}, nuclei {nuclei[1] / nuclei[0] - 1:+.0%})   moved {moves[-1]:.2f} LU   "
            f"{density[-1]:.2f} points a second"
            + (f"   of a fall of 8 LU {np.median([share for share, _ in back]):.0%} back" if back else "")
        )
    total = np.array(spreads).sum(axis=0)
    inside, nuclei_all = total[1] / total[0] - 1, total[3] / total[2] - 1
    back = float(np.median([share for share, _ in shares]))
    free = [share for share, is_free in shares if is_free]
    _judge(inside <= -0.45, f"spread inside the phrases {inside:+.0%}, at least -45 %")
    _judge(nuclei_all <= -0.45, f"spread at the nuclei {nuclei_all:+.0%}, at least -45 %")
    _judge(max(moves) < 0.5, f"the mean phrase of a file moved {max(moves):.2f} LU at most, less than 0.5")
    _judge(max(density) <= 2, f"{max(density):.2f} points a second at most, no more than 2")
    _judge(
        back >= 0.85,
        f"of a fall of 8 LU over the last third {back:.0%} back (median), at least 85 %"
        + (f"; {np.median(free):.0%} in the {len(free)} of {len(shares)} phrases whose room may come up" if free else ""),
    )


def _judge(holds: bool, what: str) -> None:
    print(f"{'ok  ' if holds else 'MISS'} {what}")


if __name__ == "__main__":
    if len(sys.argv) != 2:
        raise SystemExit(__doc__)
    main(Path(sys.argv[1]))
