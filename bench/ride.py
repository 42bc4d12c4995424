"""How much a drafted ride evens the inside of phrases, and how it moves: python -m bench.ride FOLDER

Every sound file of the folder, and of the folders in it, is ridden as it was recorded, each phrase around its own level, as
the program does it with phrases that settle. Told are the spread inside the phrases before and after (of 400 ms loudness, and
at the nuclei of the syllables), how far the mean phrase moved without settling, and the points; the same at full strength
without a natural fall. Of the moves: how many pass 6 dB within 0.3 s, how steep they are inside phrases, the most points
within a second, and what they lift of pauses and breaths.

Then the last third of every phrase is turned down by 8 dB beyond the natural fall and ridden again at full strength: how much
of that the ride gives back, in phrases of a second or more with two syllables or more in that third; of all of them, and of
those that the noise limit does not hold back.
"""

from __future__ import annotations

import sys
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

import numpy as np

from nivelus.core.drafts.ride import RideDraft, draft_ride
from nivelus.core.drafts.wants import RideRule
from nivelus.core.marks.cells import cut_into_cells
from nivelus.core.marks.details import find_marks
from nivelus.core.marks.nuclei import find_nuclei
from nivelus.core.measure.grid import FRAME, LevelGrid, measure_file
from nivelus.core.measure.inside import around
from nivelus.core.measure.loudness import gated_loudness

FALL, NATURAL = -8.0, -1.0
"""dB that the last third falls: what comes back, and what of a natural fall lies between the middles of both parts."""
FALL_FRAMES = 7
"""Frames that the step takes."""
LEAST_FRAMES, LEAST_NUCLEI = 100, 2
FULL = RideRule(strength=1.0, natural_fall=0.0)
BIG, WITHIN = 6.0, 30
"""dB and frames of a move that is heard as one."""
PAUSES, BESIDE = (0.8, 1.3), 0.25
"""Seconds of pauses that must not be lifted, and of what lies beside the phrases in them."""


@dataclass(frozen=True)
class Voice:
    """A recording as a ride sees it: its grid, the seconds of its phrases and breaths, and the room around each (dBFS)."""

    grid: LevelGrid
    spans: list[tuple[float, float]]
    rooms: np.ndarray
    breaths: np.ndarray

    def ride(self, gain: np.ndarray, settles: bool = True, rule: RideRule | None = None) -> RideDraft:
        """A ride over what a gain, (frames, 2), has made of the voice, as it comes or by a rule."""
        rises = np.full(len(self.spans), np.inf) if settles else None
        return draft_ride(self.grid, gain, self.spans, self.rooms, rule or RideRule(), rises=rises, breaths=self.breaths)

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
        down = np.where(np.arange(count) >= count * 2 // 3, FALL + NATURAL, 0.0)
        down = np.convolve(np.pad(down, FALL_FRAMES // 2, mode="edge"), np.ones(FALL_FRAMES) / FALL_FRAMES, "valid")
        gain[span, 0], gain[span, 1] = 10 ** (down / 10), 10 ** (down / 20)
    return gain


def given_back(voice: Voice) -> list[tuple[float, bool]]:
    """The share of the fall that a ride gives back, phrase by phrase, and whether the noise limit lets it."""
    gain = fallen(voice)
    power, vowels = voice.power("k") * gain[:, 0], voice.power("voiced")
    draft = voice.ride(gain, rule=RideRule(strength=1.0))
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


@dataclass(frozen=True)
class Moves:
    """How a ride moves: how many ``big`` moves in so many ``minutes`` of voice, ``slopes`` in phrases (dB/s, one per frame),
    the most points within a ``second``, and by how much it lifts each of the ``pauses`` and ``breaths`` (dB)."""

    big: int
    minutes: float
    slopes: np.ndarray
    second: int
    pauses: list[float]
    breaths: list[float]


def moves_of(voice: Voice, draft: RideDraft) -> Moves:
    """Look at a ride frame by frame."""
    gain = draft.curve((np.arange(len(voice.grid.data)) + 0.5) * FRAME)
    inside = np.zeros(len(gain), bool)
    for span in voice.frames:
        inside[span] = True
    big = np.abs(gain[WITHIN:] - gain[:-WITHIN]) > BIG + 0.01
    at = draft.curve.at
    pauses = [(a[1], b[0]) for a, b in pairwise(voice.spans) if PAUSES[0] <= b[0] - a[1] <= PAUSES[1]]
    breaths = [voice.grid.span(start, end) for start, end in voice.breaths]
    return Moves(
        int(np.count_nonzero(np.diff(big.astype(np.int8)) == 1)),
        inside.sum() * FRAME / 60,
        np.abs(np.diff(gain, append=gain[-1]))[inside] / FRAME,
        int((np.searchsorted(at, at + 1.0) - np.arange(len(at))).max(initial=0)),
        [float(gain[voice.grid.span(start + BESIDE, end - BESIDE)].max()) for start, end in pauses],
        [float(gain[span][~inside[span]].mean()) for span in breaths if not inside[span].all()],
    )


def main(folder: Path) -> None:
    """Print a line per file and one for all."""
    sounds = [path for path in sorted(folder.rglob("*")) if path.suffix in {".flac", ".wav"}]
    if not sounds:
        raise SystemExit(f"No sound files in {folder}.")
    spreads, shares, levels, density, moves = [], [], [], [], []
    for path in sounds:
        voice = voice_of(path)
        flat = np.ones((len(voice.grid.data), 2))
        settled, alone, full = voice.ride(flat), voice.ride(flat, settles=False), voice.ride(flat, rule=FULL)
        before, after = (np.array([getattr(p, f"spread_{side}") for p in settled.phrases]) for side in ("before", "after"))
        levels.append(float(abs(np.mean([p.after - p.before for p in alone.phrases]))))
        density.append(len(settled.curve) / voice.grid.duration)
        moves.append(moves_of(voice, settled))
        nuclei, given = at_nuclei(voice, settled), given_back(voice)
        spreads.append((before.sum(), after.sum(), sum(p.spread_after for p in full.phrases), *nuclei))
        shares += given
        print(
            f"{path.stem:16} {len(voice.spans):3} phrases   {before.mean():.2f} -> {after.mean():.2f} LU "
            f"({after.sum() / before.sum() - 1:+.0%}, nuclei {nuclei[1] / nuclei[0] - 1:+.0%}, "
            f"full {spreads[-1][2] / before.sum() - 1:+.0%})   moved {levels[-1]:.2f} LU   "
            f"{density[-1]:.2f} points a second   {moves[-1].big} of 6 dB"
            + (f"   of a fall of 8 LU {np.median([share for share, _ in given]):.0%} back" if given else "")
        )
    total = np.array(spreads).sum(axis=0)
    inside, at_full, nuclei_all = total[1] / total[0] - 1, total[2] / total[0] - 1, total[4] / total[3] - 1
    back = float(np.median([share for share, _ in shares]))
    free = [share for share, is_free in shares if is_free]
    _judge(bool(inside <= -0.30), f"spread inside the phrases {inside:+.0%} as it comes, at least -30 %")
    _judge(bool(at_full <= -0.40), f"at full strength without natural fall {at_full:+.0%}, at least -40 %")
    _judge(bool(nuclei_all <= -0.30), f"spread at the nuclei {nuclei_all:+.0%}, at least -30 %")
    _judge(max(levels) <= 0.3, f"the mean phrase of a file moved {max(levels):.2f} LU at most, no more than 0.3")
    _judge(max(density) <= 2, f"{max(density):.2f} points a second at most, no more than 2")
    most = max(some.second for some in moves)
    _judge(most <= 4, f"{most} points within a second at most, no more than 4")
    big = sum(some.big for some in moves) / sum(some.minutes for some in moves)
    _judge(big <= 1, f"{big:.1f} moves of more than 6 dB within 0.3 s a minute of voice, no more than 1")
    steep = float(np.percentile(np.concatenate([some.slopes for some in moves]), 99))
    _judge(steep <= 30, f"99 % of the slopes inside phrases under {steep:.0f} dB/s, 30 at most")
    pauses = np.array([db for some in moves for db in some.pauses])
    _judge(
        bool((pauses > 1).mean() <= 0.05),
        f"of {len(pauses)} pauses of 0.8-1.3 s {(pauses > 1).mean():.0%} lifted by 1 dB, 5 % at most",
    )
    lifted = max((db for some in moves for db in some.breaths), default=0.0)
    _judge(lifted <= 0.3, f"breaths lifted by {max(lifted, 0.0):.2f} dB at most, no more than 0.3")
    _judge(
        0.85 <= back <= 1.05,
        f"of a fall of 8 LU beyond the natural one over the last third {back:.0%} back (median), 85 to 105 %"
        + (f"; {np.median(free):.0%} in the {len(free)} of {len(shares)} phrases whose room may come up" if free else ""),
    )


def _judge(holds: bool, what: str) -> None:
    print(f"{'ok  ' if holds else 'MISS'} {what}")


if __name__ == "__main__":
    if len(sys.argv) != 2:
        raise SystemExit(__doc__)
    main(Path(sys.argv[1]))
