"""What turning breaths and gaps down does to the voice: python -m bench.room FOLDER

The programmes are those of ``bench.marks``. Each is levelled with breaths at -8 and gaps at -20 dB, and the gain that is in
the render is compared with the same gain without those dips:

- *voice lowered*: the share of the labelled voice that goes down by more than 3 dB. It is a breath or a gap for nobody.
- *endings*: the last 80 ms of each labelled phrase, how many lose more than 2 dB, and how much at most.
"""

from __future__ import annotations

import json
import sys
import tempfile
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from bench.marks import WIDE, programmes
from nivelus.core.deliver.level import level_file
from nivelus.core.drafts.dips import DipRule

RULES = {"breath": DipRule(-8.0, 0.0, -60.0), "gap": DipRule(-20.0, 0.0, -60.0)}
LOWERED, MOST_LOWERED = 3.0, 0.01
ENDING, LOST, MOST_LOST, DEEPEST = 0.080, 2.0, 0.01, 6.0


@dataclass(frozen=True)
class Loss:
    """What a programme loses: of its labelled voice frames those that are ``lowered``, and dB at the ``endings``."""

    frames: int
    lowered: int
    endings: tuple[float, ...]

    def __add__(self, other: Loss) -> Loss:
        return Loss(self.frames + other.frames, self.lowered + other.lowered, self.endings + other.endings)


def loss_of(sound: Path, folder: Path) -> Loss:
    """Level a programme with dips, and compare the gain in its labelled phrases with that without them."""
    target = folder / "levelled.wav"
    state = level_file(sound, target, WIDE, dips=RULES).state
    target.unlink()
    still = replace(state, rules=tuple((kind, replace(rule, on=False)) for kind, rule in state.rules))
    down = 10 * np.log10(still.gain_per_frame[:, 0] / np.maximum(state.gain_per_frame[:, 0], 1e-12))
    frames, lowered, endings = 0, 0, []
    for phrase in json.loads(sound.with_suffix(".json").read_text())["phrases"]:
        start, end = phrase["audible_start"], phrase["audible_end"]
        part = down[state.grid.span(start, end)]
        frames, lowered = frames + len(part), lowered + int((part > LOWERED).sum())
        endings.append(float(down[state.grid.span(end - ENDING, end)].mean()))
    return Loss(frames, lowered, tuple(endings))


def main(folder: Path) -> None:
    """Print a line per programme, and one for all that says whether the limits hold."""
    sounds = [sound for sound in programmes(folder) if json.loads(sound.with_suffix(".json").read_text())["phrases"]]
    if not sounds:
        raise SystemExit(f"No labelled programmes in {folder}.")
    print(f"{'programme':20} voice lowered by {LOWERED:.0f} dB   endings that lose {LOST:.0f} dB   most")
    total = Loss(0, 0, ())
    with tempfile.TemporaryDirectory() as scratch:
        for sound in sounds:
            loss = loss_of(sound, Path(scratch))
            total += loss
            print(f"{sound.stem:20} {_figures(loss)}")
    good = (
        total.lowered <= MOST_LOWERED * total.frames
        and np.mean(np.array(total.endings) > LOST) <= MOST_LOST
        and max(total.endings) <= DEEPEST
    )
    print(f"{'all':20} {_figures(total)}  {'ok' if good else 'MISS'} (1 %, 1 %, {DEEPEST:.0f} dB)")


def _figures(loss: Loss) -> str:
    endings = np.array(loss.endings)
    return f"{loss.lowered / loss.frames:20.2%} {np.mean(endings > LOST):24.1%} {endings.max():9.1f} dB"


if __name__ == "__main__":
    if len(sys.argv) != 2:
        raise SystemExit("usage: python -m bench.room FOLDER")
    main(Path(sys.argv[1]))
