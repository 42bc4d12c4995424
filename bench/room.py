"""What turning breaths and gaps down does to the voice: python -m bench.room FOLDER

The programmes are those of ``bench.marks``. Each is levelled with breaths at -8 and gaps at -20 dB, and the gain that is in
the render is compared with the same gain without those dips:

- *voice lowered*: the share of the labelled voice that goes down by more than 3 dB. It is a breath or a gap for nobody.
- *endings*: the last 80 ms of each labelled phrase, how many lose more than 2 dB, and how much at most.

And without that comparison:

- *pauses*: where the labelled voice rests for 4 s and more, the largest change of the clip gain within 100 ms that lies 0.7 s
  from it.
- *breaths*: how much further labelled breaths stand over the 0.3 s of room before them than they did, where there are 0.35 s.
"""

from __future__ import annotations

import json
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np

from bench.beside import line
from bench.marks import WIDE, programmes
from nivelus.core.chain.state import TrackState
from nivelus.core.deliver.level import level_file
from nivelus.core.rule import with_values

RULE = with_values(
    WIDE,
    {
        "details.breath.on": True,
        "details.breath.deepest": -60.0,
        "details.gap.on": True,
        "details.gap.deepest": -60.0,
    },
)
LOWERED, MOST_LOWERED = 3.0, 0.01
ENDING, LOST, MOST_LOST, DEEPEST = 0.080, 2.0, 0.01, 6.0
PAUSE, FROM_VOICE, MOST_STEP = 4.0, 0.7, 3.0
BEFORE, AWAY, MOST_OUT, FEW_OUT = 0.35, 0.05, 3.0, 6.0
"""Seconds of room before a breath that are looked at, but for the last of them, and dB that it may stand out by more: the
middle of all, and one in ten."""


@dataclass(frozen=True)
class Loss:
    """What a programme loses: of its labelled voice frames those that are ``lowered``, and dB at the ``endings``.

    ``steps`` are dB within 100 ms in its long ``pauses``, and ``out`` dB by which its breaths stand out more.
    """

    frames: int
    lowered: int
    endings: tuple[float, ...]
    steps: tuple[float, ...] = ()
    out: tuple[float, ...] = ()

    def __add__(self, other: Loss) -> Loss:
        return Loss(
            self.frames + other.frames,
            self.lowered + other.lowered,
            self.endings + other.endings,
            self.steps + other.steps,
            self.out + other.out,
        )


def loss_of(sound: Path, folder: Path) -> Loss:
    """Level a programme with dips, and compare the gain in its labelled phrases with that without them."""
    target = folder / "levelled.wav"
    state = level_file(sound, target, RULE).state
    target.unlink()
    still = replace(state, rules=tuple((kind, replace(rule, on=False)) for kind, rule in state.rules))
    down = 10 * np.log10(still.gain_per_frame[:, 0] / np.maximum(state.gain_per_frame[:, 0], 1e-12))
    frames, lowered, endings = 0, 0, []
    labels = json.loads(sound.with_suffix(".json").read_text())
    for phrase in labels["phrases"]:
        start, end = phrase["audible_start"], phrase["audible_end"]
        part = down[state.grid.span(start, end)]
        frames, lowered = frames + len(part), lowered + int((part > LOWERED).sum())
        endings.append(float(down[state.grid.span(end - ENDING, end)].mean()))
    return Loss(frames, lowered, tuple(endings), tuple(_steps(state, labels)), tuple(_out(state, labels)))


def _steps(state: TrackState, labels: dict[str, Any]) -> Iterator[float]:
    """The largest change of the clip gain within 100 ms in each long pause, dB."""
    gain = 10 * np.log10(state.per_frame(state.clip_gain)[:, 0])
    for before, after in pairwise(labels["phrases"]):
        start, end = before["audible_end"], after["audible_start"]
        if end - start >= PAUSE:
            part = gain[state.grid.span(start + FROM_VOICE, end - FROM_VOICE)]
            yield float(np.abs(part[10:] - part[:-10]).max())


def _out(state: TrackState, labels: dict[str, Any]) -> Iterator[float]:
    """By how much more each breath stands out of the room before it, dB."""
    plain, gain = np.asarray(state.grid.column("plain"), np.float64), state.gain_per_frame[:, 0]
    for breath in labels.get("breaths", ()):
        begin = breath.get("support_start", breath["start"])
        voice = max((p["audible_end"] for p in labels["phrases"] if p["audible_end"] <= begin + AWAY), default=0.0)
        if begin - voice < BEFORE:
            continue
        room, own = state.grid.span(begin - BEFORE, begin - AWAY), state.grid.span(breath["start"], breath["end"])
        yield float(sum(sign * 10 * np.log10(p[own].mean() / p[room].mean()) for sign, p in ((1, plain * gain), (-1, plain))))


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
    if total.steps:
        most = max(total.steps)
        line(f"gain within 100 ms in {len(total.steps)} long pauses", f"{most:.1f} dB", "at most 3 dB", most <= MOST_STEP)
    if total.out:
        middle, few = np.percentile(total.out, [50, 90])
        told = f"{middle:+.1f} dB, one in ten {few:+.1f} dB"
        limits = f"at most {MOST_OUT:+.0f} dB, {FEW_OUT:+.0f} dB"
        line(f"{len(total.out)} breaths over the room before them", told, limits, middle <= MOST_OUT and few <= FEW_OUT)


def _figures(loss: Loss) -> str:
    endings = np.array(loss.endings)
    return f"{loss.lowered / loss.frames:20.2%} {np.mean(endings > LOST):24.1%} {endings.max():9.1f} dB"


if __name__ == "__main__":
    if len(sys.argv) != 2:
        raise SystemExit("usage: python -m bench.room FOLDER")
    main(Path(sys.argv[1]))
