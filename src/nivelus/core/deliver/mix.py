"""The balanced mix: tracks with their gain and faders, summed. What is heard is what is written.

Conventions
-----------
All parts are read at the rate of the mix. Beside a stereo part, a mono one is heard from both sides.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt

from nivelus.core.dynamics.compressor import Compressor
from nivelus.core.dynamics.detector import STEP, Reduction
from nivelus.core.dynamics.limiter import LOOK_AHEAD, Limiter
from nivelus.core.gain.compiled import DB_TO_LOG, GainCurve, apply_gain
from nivelus.core.sound.bwf import Bext
from nivelus.core.sound.source import SoundSource
from nivelus.core.sound.writer import SoundWriter

BLOCK = 1 << 16


@dataclass(frozen=True, eq=False)
class Part:
    """A track of a mix: what opens its sound at the rate of the mix, its pre-fader gain in samples of that, its fader (dB).

    With a ``compressor`` it goes through it, by the ``reduction`` that it makes (``core.dynamics.detector``).
    """

    open: Callable[[], SoundSource]
    gain: GainCurve
    fader: float = 0.0
    compressor: Compressor | None = None
    reduction: Reduction | None = None


def render_mix(
    parts: Sequence[Part],
    target: Path,
    rate: int,
    *,
    format: str = "wav",
    bits: int = 24,
    limited: bool = False,
    begins: int | None = None,
    progress: Callable[[float], None] | None = None,
    replace_file: bool = True,
) -> float:
    """Write the sum of some parts; how high it goes, as a linear amplitude, before a limiter and any clipping.

    Parameters
    ----------
    parts : what is mixed; silence if there is none
    target : a sound file; it appears when it is whole, or not at all
    rate : Hz
    format, bits : see ``SoundWriter``
    limited : whether the limiter holds it under -1 dBFS
    begins : start stamp in samples since midnight, if it has one
    progress : called with the share done, 0 ... 1; may raise to stop
    replace_file : whether ``target`` may take the place of a file that is there
    """
    late = LOOK_AHEAD - 1 if limited else 0
    with ExitStack() as stack:
        sources = [stack.enter_context(part.open()) for part in parts]
        frames = max((source.info.frames for source in sources), default=0)
        channels = max((source.info.channels for source in sources), default=1)
        bext = None if begins is None else Bext(time_reference=begins)
        limiter = Limiter(channels, rate)
        highest = 0.0
        writer = stack.enter_context(SoundWriter(target, rate, channels, format, bits, bext, replace_file))
        for start in range(0, frames + late, BLOCK):
            block = mixed(parts, sources, start, min(BLOCK, frames + late - start), channels)
            highest = max(highest, float(np.abs(block).max(initial=0.0)))
            if limited:
                # what it holds back is cut off, so that the mix begins when the tracks do
                block = limiter.run(block)[max(late - start, 0) :]
            writer.write(block)
            if progress:
                progress(min(1.0, (start + BLOCK) / max(frames, 1)))
    return highest


def mixed(
    parts: Sequence[Part], sources: Sequence[SoundSource], start: int, count: int, channels: int
) -> npt.NDArray[np.float64]:
    """A stretch of the sum, (count, channels); silence where no part has anything.

    Parameters
    ----------
    parts : what is mixed
    sources : their sounds, opened, in the same order
    start, count : the first sample and how many, at the rate of the mix
    channels : those of the mix
    """
    out = np.zeros((count, channels))
    for part, source in zip(parts, sources, strict=True):
        samples = source.read(start, count).astype(np.float64)
        own = np.asarray(apply_gain(samples, GainCurve(part.gain.at, part.gain.db + part.fader), start), np.float64)
        if part.compressor is not None and part.reduction is not None and len(own):
            place = np.arange(start, start + len(own)) / STEP
            down = np.interp(place, np.arange(len(part.reduction)), part.reduction)
            own = own * np.exp((part.compressor.makeup - down) * DB_TO_LOG)[:, None]
        out[: len(own)] += own
    return out
