"""Rendering: a track with its pre-fader gain, block by block.

The result has the length, rate, channels and start stamp of the source, and a WAV file what a WAV source says besides its
sound. Where all gain is 0 dB the samples are passed on untouched, so a 24-bit source renders to the same bits and a float
source to the same values.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from nivelus.core.gain.compiled import GainCurve, apply_gain
from nivelus.core.measure.loudness import Figures
from nivelus.core.sound.bwf import with_history
from nivelus.core.sound.timeline import Composed, open_track
from nivelus.core.sound.writer import SoundWriter

BLOCK = 1 << 18


def render(
    source: Path | Composed,
    target: Path,
    curve: GainCurve,
    *,
    format: str = "wav",
    bits: int = 24,
    fader: float = 0.0,
    figures: Figures | None = None,
    progress: Callable[[float], None] | None = None,
    replace_file: bool = True,
) -> None:
    """Render a recording to a file.

    Parameters
    ----------
    source : a sound file, or a track of several recordings
    target : a sound file; it appears when it is whole, or not at all
    curve : pre-fader gain, in samples of the source
    format, bits : see ``SoundWriter``
    fader : dB added throughout; 0 for a pre-fader render
    figures : loudness of the result, for the broadcast chunk of a BWF source
    progress : called with the share done, 0 ... 1; may raise to stop, which leaves nothing behind
    replace_file : whether ``target`` may take the place of a file that is there
    """
    total = GainCurve(curve.at, curve.db + fader)
    with open_track(source) as reader:
        info = reader.info
        bext = info.bext
        if bext is not None and figures is not None:
            bext = replace(
                bext,
                loudness=figures.integrated,
                loudness_range=figures.loudness_range,
                true_peak=figures.true_peak,
                momentary_max=figures.momentary_max,
                short_term_max=figures.short_term_max,
            )
        if bext is not None:
            bext = with_history(bext, info.sample_rate, bits, info.channels)
        chunks = reader.chunks()
        with SoundWriter(target, info.sample_rate, info.channels, format, bits, bext, replace_file, chunks) as writer:
            for start in range(0, info.frames, BLOCK):
                writer.write(apply_gain(reader.read(start, BLOCK), total, start))
                if progress:
                    progress(min(1.0, (start + BLOCK) / info.frames))
