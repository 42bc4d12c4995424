"""How much a drafted ride evens the inside of phrases: python -m bench.ride FOLDER

Every sound file of the folder is evened phrase by phrase, then ridden at full strength. Told are the spread of 400 ms
loudness inside the phrases before and after (mean of the phrases, LU), how far the mean phrase moved, and the points.
"""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np

from nivelus.core.drafts.ride import RideDraft, RideRule, draft_ride
from nivelus.core.marks.cells import cut_into_cells
from nivelus.core.marks.phrases import find_phrases
from nivelus.core.measure.grid import measure_file


def ride_of(path: Path) -> tuple[RideDraft, float]:
    """The ride of a file as it was recorded, and the length of the file in seconds."""
    _, grid, _ = measure_file(path)
    cells = [cell for cell in cut_into_cells(grid, find_phrases(grid)) if cell.levels is not None]
    spans = [((c.phrase_start or 0) / grid.sample_rate, (c.phrase_end or 0) / grid.sample_rate) for c in cells]
    rooms = np.array([cell.room_tone for cell in cells])
    return draft_ride(grid, np.ones((len(grid.data), 2)), spans, rooms, RideRule()), grid.duration


def main(folder: Path) -> None:
    """Print a line per file and one for all."""
    sounds = [path for path in sorted(folder.iterdir()) if path.suffix in {".flac", ".wav"}]
    if not sounds:
        raise SystemExit(f"No sound files in {folder}.")
    spreads = []
    for path in sounds:
        draft, seconds = ride_of(path)
        phrases = draft.phrases
        before, after = (np.array([getattr(p, side) for p in phrases]) for side in ("spread_before", "spread_after"))
        moved = abs(np.mean([p.after - p.before for p in phrases]))
        spreads.append((before.sum(), after.sum()))
        print(
            f"{path.stem:16} {len(phrases):3} phrases   {before.mean():.2f} -> {after.mean():.2f} LU "
            f"({after.sum() / before.sum() - 1:+.0%})   moved {moved:.2f} LU   {len(draft.curve) / seconds:.2f} points a second"
        )
    total = np.array(spreads).sum(axis=0)
    share = f"{total[1] / total[0] - 1:+.0%}"
    print(f"all: inside the phrases {share}; at least -35 %, moved 0.5 LU and 2 points a second at most")


if __name__ == "__main__":
    if len(sys.argv) != 2:
        raise SystemExit(__doc__)
    main(Path(sys.argv[1]))
